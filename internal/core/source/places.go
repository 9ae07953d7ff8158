package source

import (
	"math/bits"
	"sync"

	"ladle/internal/core/source/mark"
)

// places are where the delimiters, ends of lines and quotes of a text stand, found a piece at a time.
type places struct {
	all    []uint32 // those of the last pieces
	passed int      // how many of all were passed; one at least, which is none at the start of the text
	found  int      // bytes of the text that were looked through
}

const piece = 16 << 10 // bytes of text that are looked through in one go

var placesPool = sync.Pool{New: func() any { return new([]uint32) }}

// more finds the places of another piece, and forgets those that were passed but for the last; false at the end of the text.
func (l *lines) more() bool {
	if l.found >= len(l.raw) {
		return false
	}
	if l.all == nil {
		l.all, l.passed = append((*placesPool.Get().(*[]uint32))[:0], 0), 1
	}
	l.all, l.passed = l.all[:copy(l.all, l.all[l.passed-1:])], 1
	set := l.marks()
	known := len(l.all)
	for len(l.all) == known && l.found < len(l.raw) {
		l.look(&set)
	}
	return len(l.all) > known
}

// look adds the places of the next piece.
func (l *lines) look(set *mark.Set) {
	var words [piece / mark.Width]uint64
	text := l.raw[l.found:min(len(l.raw), l.found+piece)]
	mark.Find(words[:], text, set)
	n := len(l.all)
	for i := range (len(text) + mark.Width - 1) / mark.Width {
		if cap(l.all) < n+mark.Width {
			l.all = append(l.all[:n], make([]uint32, n+piece/8)...)
		}
		word, base := words[i], l.found+mark.Width*i
		count := bits.OnesCount64(word)
		for to := l.all[n : n+mark.Width]; word != 0; to = to[8:] { // eight at a time: few branches depend on how many there are
			for k := range to[:8] {
				to[k] = uint32(base + bits.TrailingZeros64(word))
				word &= word - 1
			}
		}
		n += count
	}
	l.all = l.all[:n]
	l.found += len(text)
}

// marks are the bytes that mean something.
func (l *lines) marks() mark.Set {
	others := make([]byte, 0, len(mark.Set{}))
	others = append(others, '\n')
	if l.quotes {
		others = append(others, l.Quote)
	}
	if l.returns {
		others = append(others, '\r')
	}
	return mark.NewSet(l.Delimiter, others...)
}

// skip passes over all places before raw[at].
func (l *lines) skip(at int) {
	for {
		for l.passed < len(l.all) && int(l.all[l.passed]) < at {
			l.passed++
		}
		if l.passed < len(l.all) || at < l.found {
			return
		}
		l.found = max(l.found, at)
		if !l.more() {
			return
		}
	}
}

// letGo gives the memory of the places back.
func (l *lines) letGo() {
	if all := l.all; all != nil {
		l.places = places{}
		placesPool.Put(&all)
	}
}
