package logbook

import (
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// KeySet is rows of a table, by their keys: runs of numbers, and names of others. A nil KeySet is empty.
type KeySet struct {
	runs  [][2]int64 // the first, and the one behind the last
	names map[string]bool
}

// Add adds rows of t by the keys in columns by.
func (s *KeySet) Add(t *schema.Table, by []string, keys *value.Batch) {
	if first, last, run := engine.Run(t, by, keys); run {
		s.addRun(first, last+1)
		return
	}
	if s.names == nil {
		s.names = map[string]bool{}
	}
	for row := range keys.Len() {
		s.names[value.Identity(keys.Columns, row)] = true
	}
}

// addRun adds a run of numbers, from first to the one before end.
func (s *KeySet) addRun(first, end int64) {
	if n := len(s.runs); n > 0 && s.runs[n-1][1] == first {
		s.runs[n-1][1] = end
		return
	}
	s.runs = append(s.runs, [2]int64{first, end})
}

// Has reports whether the row with a key is in the set.
func (s *KeySet) Has(key []value.Column, row int) bool {
	if s == nil {
		return false
	}
	in := func(run [2]int64) bool { return run[0] <= key[0].Nums[row] && key[0].Nums[row] < run[1] }
	return len(key) == 1 && key[0].Kind == value.Int && slices.ContainsFunc(s.runs, in) ||
		s.names[value.Identity(key, row)]
}
