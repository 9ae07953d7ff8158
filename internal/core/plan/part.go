package plan

import (
	"fmt"
	"slices"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
)

// Only is the plan with one of its steps alone: what it looks up, and the row that a second half completes, is looked for in
// the database.
func (p *Plan) Only(s *Step) *Plan {
	alone, step := *p, *s
	if s.First != nil {
		step = *s.completing()
	}
	step.Number = 0
	alone.Steps, alone.Totals, alone.Claims = []*Step{&step}, nil, nil
	return &alone
}

// completing is a second half as a step by itself, once all rows that it completes are in the table: it finds them by the
// key of the first half, and changes them whatever becomes of rows that are there.
func (s *Step) completing() *Step {
	step, key := *s, s.First.KeyNames()
	step.First, step.Columns, step.Key = nil, nil, nil
	for i, k := range s.First.Key {
		step.Columns, step.Key = append(step.Columns, s.First.Columns[k]), append(step.Key, i)
	}
	for _, c := range s.Columns {
		if !slices.Contains(key, c.Column.Name) {
			c.OnUpdate = ""
			step.Columns = append(step.Columns, c)
		}
	}
	step.Policy.AlreadyThere, step.Policy.NotThere = ladlefile.UpdateThere, ladlefile.SetAsideNotThere
	step.Policy.Writes, step.Policy.HoldsNames = true, false
	return &step
}

// Divisible is an error where some of the lines can't be loaded by themselves, since what becomes of them depends on
// others that are loaded before or later.
func (p *Plan) Divisible() error {
	var problems []fault.Problem
	for _, s := range p.Steps {
		for _, why := range s.bonds() {
			x := fault.Problem{File: p.File.Path, Line: s.Block.Name.Line, Column: s.Block.Name.Column,
				What: fmt.Sprintf("the block %s can't be loaded in parts: %s", s.Block.Name.Value, why),
				Do:   "load it in one transaction"}
			if !slices.Contains(problems, x) {
				problems = append(problems, x)
			}
		}
	}
	for _, i := range p.File.Inputs {
		if i.FromDatabase() && !i.Database.Given() {
			problems = append(problems, fault.Problem{File: p.File.Path, Line: i.Name.Line, Column: i.Name.Column,
				What: fmt.Sprintf("the input %s can't be loaded in parts: its query may read rows that parts add", i.Name.Value),
				Do:   "write what it returns to a file, and load that"})
		}
	}
	if problems != nil {
		return fault.At(fault.Wrong, problems...)
	}
	return nil
}

// bonds say why the lines of a step can't be loaded some at a time.
func (s *Step) bonds() (all []string) {
	if s.First != nil && len(s.First.Key) == 0 {
		all = append(all, fmt.Sprintf("%s is filled once all rows are there, and without a key they can't be found again",
			s.Columns[0].Column.Name))
	}
	if g := s.Policy.Gone; g != nil && g.Does != CountGone {
		all = append(all, "gone_from_file: needs all lines at once")
	}
	if s.Policy.Contradictions == ladlefile.MostOfContradictions {
		all = append(all, "contradictions: most joins lines that may stand far apart")
	}
	if s.Pairs {
		all = append(all, "each row stands for one line that is equal to it, so the rows of one part would stand for the lines of another")
	}
	if len(s.InOrderOf) > 0 {
		all = append(all, "in_order_of: needs all lines at once")
	}
	s.Lookups(func(l *Lookup) {
		if l.Makers != nil {
			all = append(all, "it looks rows up by their old ids, which the database doesn't keep")
		}
	})
	return all
}
