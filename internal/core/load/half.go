package load

import (
	"slices"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// forget drops what an earlier judgement found out behind the rows.
func (r *run) forget() {
	for _, logs := range r.carried {
		for _, log := range logs {
			_ = log.Close() // a temporary file without a name
		}
	}
	r.carried, r.halved, r.unlike = map[int][]*spool.Log{}, map[*ladlefile.Block]rowSet{}, map[refusal]string{}
}

// halve finds rows of which a second half is set aside, but not the first. It tells whether there are any: they are set
// aside as a whole when all is judged again. What is wrong with them stays told.
func (r *run) halve(j *judgement) bool {
	found := false
	for _, s := range j.steps {
		if s.first == nil {
			continue
		}
		for i := range s.found.Batches() {
			first := s.found.First(i)
			if !s.aside.any(first, s.found.Len(i)) {
				continue
			}
			for row := first; row < first+int64(s.found.Len(i)); row++ {
				if halved := r.halved[s.Block]; s.aside.has(row) && !s.first.aside.has(row) && !halved.has(row) {
					halved.add(row)
					r.halved[s.Block] = halved
					found = true
				}
			}
		}
	}
	return found
}

// carry keeps the logs of second halves for the next judgement.
func (r *run) carry(j *judgement) {
	for _, s := range j.steps {
		if s.first != nil {
			r.carried[s.number], s.problems = s.problems, nil
		}
	}
}

// spoil marks the rows of which a second half is set aside.
func (s *judged) spoil(v *view, standing []int64, halved rowSet) {
	if !halved.any(v.first, v.n) {
		return
	}
	for row := range standing {
		if halved.has(v.first+int64(row)) && standing[row] != out {
			standing[row] = bad
		}
	}
}

// silence drops the problems that were told by an earlier judgement.
func (s *judged) silence(v *view, problems []rowProblem, halved rowSet) []rowProblem {
	if s.first == nil {
		return problems
	}
	return slices.DeleteFunc(problems, func(p rowProblem) bool { return halved.has(v.first + int64(p.row)) })
}

// appendFinal adds a value as it is sent: an addition by its id.
func (j *judgement) appendFinal(to, c *value.Column, row int) {
	if c.States[row] == value.New {
		to.AppendNum(j.additions[c.Nums[row]].id)
		return
	}
	to.AppendFrom(c, row)
}
