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

// turn turns the letters of ASCII from first to last into capital or small ones, their bit 5, and reports whether there were any.
func turn(cell []byte, first, last byte) bool {
	seen := uint64(0)
	for ; len(cell) >= 8; cell = cell[8:] {
		word := binary.LittleEndian.Uint64(cell)
		in := amid(word, first, last)
		seen |= in
		binary.LittleEndian.PutUint64(cell, word^in>>2)
	}
	for i, b := range cell {
		if first <= b && b <= last {
			cell[i], seen = b^0x20, 1
		}
	}
	return seen != 0
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

// picked keeps the characters of ASCII of a cell that are in a set, or, where in is 0, those that are not.
func picked(to, cell []byte, s *set, in uint8) []byte {
	to = append(to[:0], cell...)
	n := pick(to, to, s, in)
	if n == len(cell) {
		return cell
	}
	return to[:n]
}

// pick writes what picked keeps to to, which may begin in the cell, or before it.
func pick(to, cell []byte, s *set, in uint8) (n int) {
	for _, b := range cell {
		to[n] = b
		n += int(s[b] ^ in ^ 1)
	}
	return n
}

// The blanks, digits and letters of ASCII.
var (
	blankSet  = setOf("\t\n\v\f\r ")
	digitSet  = setOf("0123456789")
	letterSet = setOf("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
)

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
