package text

import (
	"hash/maphash"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

const (
	leastAlike = 5  // letters of names that may differ in one of them; in shorter ones that is another word
	longAlike  = 12 // letters of names that may differ in two places near each other
)

// Near finds names that look like a given one: that differ in case, accents, punctuation and blanks only, or, where
// they are not short, in one letter that is missing, too much, another one or swapped with the next. Names with other
// digits are other names. The time for a name grows with its length alone, not with the number of names.
//
// Two names with such a difference share what is left of one of them with a letter taken out, so each name is kept
// under all that it leaves so (symmetric deletion).
type Near struct {
	seed   maphash.Seed
	fold   cases.Caser
	places map[uint64][]int32
	names  []letters
}

// letters is a name without what does not count.
type letters struct {
	given  string
	runes  []rune
	digits string
}

// NewNear returns an empty set of names.
func NewNear() *Near {
	return &Near{seed: maphash.MakeSeed(), fold: cases.Fold(), places: map[uint64][]int32{}}
}

// Add adds a name. Names are numbered from 0 as they come.
func (n *Near) Add(name string) {
	l, at := n.letters(name), int32(len(n.names))
	n.names = append(n.names, l)
	n.leaves(l.runes, func(h uint64) {
		if all := n.places[h]; len(all) == 0 || all[len(all)-1] != at {
			n.places[h] = append(all, at)
		}
	})
}

// Each calls visit for each name that looks like the given one without being the same, in the order of their coming,
// until it says false.
func (n *Near) Each(name string, visit func(i int) bool) {
	l := n.letters(name)
	var found []int32
	n.leaves(l.runes, func(h uint64) { found = append(found, n.places[h]...) })
	slices.Sort(found)
	for _, i := range slices.Compact(found) {
		if n.names[i].given != name && alike(l, n.names[i]) && !visit(int(i)) {
			return
		}
	}
}

// letters leaves the letters and digits of a name, without case and accents.
func (n *Near) letters(name string) letters {
	l := letters{given: name}
	var digits strings.Builder
	for _, r := range norm.NFKD.String(n.fold.String(name)) {
		switch {
		case unicode.IsDigit(r):
			digits.WriteRune(r)
			l.runes = append(l.runes, r)
		case unicode.IsLetter(r):
			l.runes = append(l.runes, r)
		}
	}
	l.digits = digits.String()
	return l
}

// leaves returns the hash of the letters, and of what is left of them without each one of them.
func (n *Near) leaves(runes []rune, take func(uint64)) {
	buf := make([]byte, 0, 64)
	for without := -1; without < len(runes); without++ {
		if without >= 0 && len(runes) < leastAlike {
			return
		}
		buf = buf[:0]
		for i, r := range runes {
			if i != without {
				buf = append(buf, byte(r), byte(r>>8), byte(r>>16))
			}
		}
		take(maphash.Bytes(n.seed, buf))
	}
}

// alike reports whether names differ in so little that one may be meant for the other.
func alike(a, b letters) bool {
	if a.digits != b.digits || len(a.runes) == 0 {
		return false
	}
	if slices.Equal(a.runes, b.runes) {
		return true
	}
	short := min(len(a.runes), len(b.runes))
	most := 1
	if short >= longAlike {
		most = 2
	}
	return short >= leastAlike-1 && max(len(a.runes), len(b.runes)) >= leastAlike &&
		within(a.runes, b.runes, most)
}
