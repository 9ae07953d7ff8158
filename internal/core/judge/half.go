package judge

import (
	"slices"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/spool"
)

// insight is what one round of judging found out only after all lines had been judged, for the rounds that follow.
type insight struct {
	halved  map[*ladlefile.Block]spool.RowSet // lines of which a second half is set aside
	carried map[int][]*spool.Problems         // what was told of them, by the step of the second half
	unlike  map[newName]reason.Cause          // names that look too much like others to be added
	spoilt  map[int]spool.RowSet              // lines whose rows must not change as they say, by the step
}

func newInsight() *insight {
	return &insight{map[*ladlefile.Block]spool.RowSet{}, map[int][]*spool.Problems{}, map[newName]reason.Cause{},
		map[int]spool.RowSet{}}
}

// close frees what no round has taken.
func (i *insight) close() {
	for _, logs := range i.carried {
		for _, log := range logs {
			_ = log.Close() // a temporary file without a name
		}
	}
}

// carry keeps the problems of second halves for the next round.
func (i *insight) carry(steps []*Step) {
	for _, s := range steps {
		if s.first != nil {
			i.carried[s.Number], s.Problems = s.Problems, nil
		}
	}
}

// halve finds lines of which a second half is set aside, but not the first. It reports whether there are any: they are
// set aside as a whole when all is judged again. What is wrong with them stays told.
func (r *round) halve() bool {
	found := false
	for _, s := range r.Steps {
		if s.first == nil {
			continue
		}
		for i := range s.rows.Batches() {
			first, n := s.rows.Span(i)
			if !s.SetAside.Any(first, n) {
				continue
			}
			for line := first; line < first+int64(n); line++ {
				if halved := r.halved[s.Block]; s.SetAside.Has(line) && !s.first.SetAside.Has(line) &&
					!halved.Has(line) {
					halved.Add(line)
					r.halved[s.Block] = halved
					found = true
				}
			}
		}
	}
	return found
}

// spoilHalved marks the lines of which a second half is set aside.
func (s *Step) spoilHalved(first int64, rowState []int64, halved spool.RowSet) {
	if !halved.Any(first, len(rowState)) {
		return
	}
	for line := range rowState {
		if halved.Has(first+int64(line)) && rowState[line] != out {
			rowState[line] = bad
		}
	}
}

// silence leaves out the problems that an earlier round has told.
func (s *Step) silence(first int64, problems []problem, halved spool.RowSet) []problem {
	if s.first == nil {
		return problems
	}
	return slices.DeleteFunc(problems, func(p problem) bool { return halved.Has(first + int64(p.line)) })
}
