package mark

// find sets to[i] for text[Width*i:][:Width], sixteen bytes at a time. The instructions are SSE2, which each such processor has.
//
//go:noescape
func find(to []uint64, text []byte, s *Set)
