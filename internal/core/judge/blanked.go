package judge

import (
	"cmp"
	"maps"
	"slices"

	"ladle/internal/core/value"
)

// blanked is a cell of a batch that a lookup leaves blank, since it finds no row for it, or several.
type blanked struct {
	line    int
	cell    string
	several bool
}

// LeftBlank is a cell that a lookup of a step found no row for, or several, and left blank.
type LeftBlank struct {
	Column  int // of the step
	Cell    string
	Several bool // there are several rows; else none
}

// mostLeftBlank is the number of distinct cells that are counted each; the others are counted together, as "".
const mostLeftBlank = 10_000

// leftBlank counts cells that lookups leave blank in the good lines of a batch.
func (s *Step) leftBlank(columns []*value.Column, rowState []int64) {
	for i, e := range s.sources {
		if columns[i] == nil {
			continue
		}
		for _, l := range lookupsIn([]*evaluator{e}) {
			for _, b := range l.blanked {
				if rowState[b.line] < 0 || columns[i].States[b.line] != value.Null {
					continue
				}
				key := LeftBlank{i, b.cell, b.several}
				if s.unresolved == nil {
					s.unresolved = map[LeftBlank]int64{}
				}
				if _, known := s.unresolved[key]; !known && len(s.unresolved) >= mostLeftBlank {
					key.Cell = ""
				}
				s.unresolved[key]++
			}
		}
	}
}

// EachLeftBlank gives take the cells that lookups left blank, with the number of their lines, the most frequent first.
func (s *Step) EachLeftBlank(take func(LeftBlank, int64)) {
	all := slices.SortedFunc(maps.Keys(s.unresolved), func(a, b LeftBlank) int {
		return cmp.Or(cmp.Compare(s.unresolved[b], s.unresolved[a]), cmp.Compare(a.Column, b.Column),
			cmp.Compare(a.Cell, b.Cell))
	})
	for _, b := range all {
		take(b, s.unresolved[b])
	}
}
