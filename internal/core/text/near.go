package text

import (
	"math/rand/v2"
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
	base   uint64 // of hashes
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
	return &Near{base: rand.Uint64() | 1, fold: cases.Fold(), places: map[uint64][]int32{}}
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
	l := letters{given: name, runes: make([]rune, 0, len(name))}
	if !Plain([]byte(name)) {
		name = norm.NFKD.String(n.fold.String(name))
	}
	digits := 0
	for _, r := range name {
		switch {
		case r >= 'A' && r <= 'Z':
			l.runes = append(l.runes, r+'a'-'A')
		case unicode.IsDigit(r):
			digits++
			l.runes = append(l.runes, r)
		case unicode.IsLetter(r):
			l.runes = append(l.runes, r)
		}
	}
	if digits > 0 {
		l.digits = strings.Map(func(r rune) rune {
			if unicode.IsDigit(r) {
				return r
			}
			return -1
		}, name)
	}
	return l
}

// leaves gives take the hash of the letters, and of what is left of them without each one of them. A hash is the
// polynomial of the letters at the base, so that each of them follows from those of the letters before and behind.
func (n *Near) leaves(runes []rune, take func(uint64)) {
	var few [64]uint64
	before := few[:0] // the hashes of the letters before each
	whole := uint64(0)
	for _, r := range runes {
		before = append(before, whole)
		whole = whole*n.base + uint64(r)
	}
	take(whole)
	if len(runes) < leastAlike {
		return
	}
	behind, power := uint64(0), uint64(1)
	for i := len(runes) - 1; i >= 0; i-- {
		take(before[i]*power + behind)
		behind += uint64(runes[i]) * power
		power *= n.base
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
