package spool

import (
	"slices"
	"unsafe"
)

// octets is the memory of s, which must have no pointers, as bytes, in the machine's own order: a spool is read by the
// process that wrote it.
func octets[T any](s []T) []byte {
	if len(s) == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Pointer(&s[0])), len(s)*int(unsafe.Sizeof(s[0])))
}

// sized returns s the length n, with memory of its own where it has not enough.
func sized[T any](s []T, n int) []T {
	return slices.Grow(s[:0], n)[:n]
}
