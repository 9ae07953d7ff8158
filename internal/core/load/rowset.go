package load

import "math/bits"

// rowSet is a set of row numbers, a bit each.
type rowSet []uint64

func (s *rowSet) add(row int64) {
	for int64(len(*s)) <= row/64 {
		*s = append(*s, 0)
	}
	(*s)[row/64] |= 1 << (row % 64)
}

func (s rowSet) has(row int64) bool {
	return row/64 < int64(len(s)) && s[row/64]&(1<<(row%64)) != 0
}

func (s rowSet) len() (n int64) {
	for _, word := range s {
		n += int64(bits.OnesCount64(word))
	}
	return n
}

// any tells whether one of n rows from first on is in the set.
func (s rowSet) any(first int64, n int) bool {
	for row := first; row < first+int64(n); row++ {
		if s.has(row) {
			return true
		}
	}
	return false
}
