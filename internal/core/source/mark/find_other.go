//go:build !amd64

package mark

func find(to []uint64, text []byte, s *Set) { findByWords(to, text, s) }
