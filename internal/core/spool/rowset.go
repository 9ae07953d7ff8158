package spool

import (
	"iter"
	"math/bits"
	"slices"
)

// RowSet is a set of rows of a spool by their numbers, a bit each. The zero RowSet is empty.
type RowSet []uint64

// Add adds a row.
func (s *RowSet) Add(row int64) {
	for int64(len(*s)) <= row/64 {
		*s = append(*s, 0)
	}
	(*s)[row/64] |= 1 << (row % 64)
}

// Has reports whether a row is in the set.
func (s RowSet) Has(row int64) bool {
	return row/64 < int64(len(s)) && s[row/64]&(1<<(row%64)) != 0
}

// Len is the number of rows in the set.
func (s RowSet) Len() (n int64) {
	for _, word := range s {
		n += int64(bits.OnesCount64(word))
	}
	return n
}

// All are the rows in the set, in ascending order.
func (s RowSet) All() iter.Seq[int64] {
	return func(yield func(int64) bool) {
		for i, word := range s {
			for ; word != 0; word &= word - 1 {
				if !yield(int64(i)*64 + int64(bits.TrailingZeros64(word))) {
					return
				}
			}
		}
	}
}

// Without are the rows that are not in another set.
func (s RowSet) Without(o RowSet) RowSet {
	left := slices.Clone(s)
	for i := range min(len(s), len(o)) {
		left[i] &^= o[i]
	}
	return left
}

// With are the rows that are in one of both sets, or in both.
func (s RowSet) With(o RowSet) RowSet {
	if len(s) < len(o) {
		s, o = o, s
	}
	all := slices.Clone(s)
	for i := range o {
		all[i] |= o[i]
	}
	return all
}

// Any reports whether one of n rows from first on is in the set.
func (s RowSet) Any(first int64, n int) bool {
	for row := first; row < first+int64(n); row++ {
		if s.Has(row) {
			return true
		}
	}
	return false
}
