package text

import (
	"encoding/binary"
	"unicode/utf8"
	"unsafe"
)

// What is done with a cell of ASCII, mostly eight characters at a time or without a branch for each: most cells are such.

const (
	ones  = 0x0101010101010101
	highs = 0x8080808080808080
)

// Plain reports whether the cell has ASCII only.
func Plain(cell []byte) bool {
	for ; len(cell) >= 8; cell = cell[8:] {
		if binary.LittleEndian.Uint64(cell)&highs != 0 {
			return false
		}
	}
	for _, c := range cell {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// amid has the high bit of each of eight characters of ASCII from first to last.
func amid(word uint64, first, last byte) uint64 {
	return (word + (0x80-uint64(first))*ones) &^ (word + (0x7f-uint64(last))*ones) & highs
}

// turned copies a cell and turns the letters from first to last into capital or small ones: their bit 5. It reports whether
// the cell is of ASCII, and whether there were any.
func turned(to, cell []byte, first, last byte) (made []byte, plain, any bool) {
	to = append(to[:0], cell...)
	seen, at := uint64(0), 0
	for ; at+8 <= len(to); at += 8 {
		word := binary.LittleEndian.Uint64(to[at:])
		if word&highs != 0 {
			return to, false, false
		}
		in := amid(word, first, last)
		seen |= in
		binary.LittleEndian.PutUint64(to[at:], word^in>>2)
	}
	for ; at < len(to); at++ {
		switch c := to[at]; {
		case c >= utf8.RuneSelf:
			return to, false, false
		case first <= c && c <= last:
			to[at], seen = c^0x20, 1
		}
	}
	return to, true, seen != 0
}

// A set has 1 for each of some characters of ASCII, and 0 for others.
type set [1 << 8]uint8

func setOf(characters string) (s set) {
	for _, r := range characters {
		if r < utf8.RuneSelf {
			s[r] = 1
		}
	}
	return s
}

// has is 1 for a character that is in the set, else 0.
func (s *set) has(c byte) uint64 { return uint64(s[c]) }

// picked keeps the characters of a cell of ASCII that are in a set, or, where in is 0, those that are not.
func picked(to, cell []byte, s *set, in uint64) []byte {
	to = append(to[:0], cell...)
	n := 0
	for _, c := range cell {
		to[n] = c
		n += int(s.has(c) ^ in ^ 1)
	}
	if n == len(cell) {
		return cell
	}
	return to[:n]
}

// The blanks, digits and letters of ASCII.
var (
	blankSet  = setOf("\t\n\v\f\r ")
	digitSet  = setOf("0123456789")
	letterSet = setOf("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
)

// singleBlanks makes one blank of each run of blanks, in a cell of ASCII.
func singleBlanks(to, cell []byte) []byte {
	to = append(to[:0], cell...)
	n, before, changed := 0, uint64(0), byte(0)
	for _, c := range cell {
		blank := blankSet.has(c)
		to[n] = c&byte(blank-1) | ' '&-byte(blank)
		changed |= to[n] ^ c
		n += int(1 - blank&before)
		before = blank
	}
	if n == len(cell) && changed == 0 {
		return cell
	}
	return to[:n]
}

// Inside reports whether part stands in the memory of whole, or nowhere.
func Inside(part, whole []byte) bool {
	if len(part) == 0 || len(whole) == 0 {
		return len(part) == 0
	}
	p, w := uintptr(unsafe.Pointer(unsafe.SliceData(part))), uintptr(unsafe.Pointer(unsafe.SliceData(whole)))
	return p >= w && p < w+uintptr(len(whole))
}

// Of is b as a string in the same memory, which must not change as long as that is used.
func Of(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// Bytes are those of s, in its memory. They must not be changed.
func Bytes(s string) []byte { return unsafe.Slice(unsafe.StringData(s), len(s)) }
