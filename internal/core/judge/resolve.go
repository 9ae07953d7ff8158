package judge

import (
	"context"
	"slices"

	"ladle/internal/core/ahead"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// problem is something wrong with a line in a step.
type problem struct {
	line   int // in the batch
	column int // of the step
	cell   string
	why    reason.Cause
}

// resolve is the first pass of a step: lookups, and what is wrong with a line by itself. The keys of good lines go to
// keys.
func (r *round) resolve(ctx context.Context, s *Step, keys *match) error {
	s.findings = newFindings(s.Step, r.Dir)
	log := spool.NewProblems(r.Dir)
	s.Problems = append(s.Problems, log)
	s.oldIDs = r.oldIDCells(s)
	return ahead.Of(func(give func(*resolved) error) error { return r.resolveLines(ctx, s, log, give) },
		func(b *resolved) error {
			if err := r.addKeys(ctx, keys, b); err != nil {
				return err
			}
			return s.findings.add(b.rowState, b.columns)
		})
}

// resolved is a batch of lines that were judged by themselves; the columns are good until the next but one.
type resolved struct {
	first    int64
	columns  []*value.Column // of the step
	later    []*value.Column // that its second halves read
	rowState []int64
	nothing  []int  // the lines that have nothing for the step, ascending
	breaks   []bool // a new row would break a constraint; nil where none would
}

// hasNothing reports whether a line has nothing for the step.
func (b *resolved) hasNothing(line int) bool {
	_, found := slices.BinarySearch(b.nothing, line)
	return found
}

// resolveLines gives the lines of a step, batch by batch, once they were judged by themselves. What is asked of the database,
// but for what collations hold equal, is asked here.
func (r *round) resolveLines(ctx context.Context, s *Step, log *spool.Problems, give func(*resolved) error) error {
	lines, err := r.pass(s.rows, s.sources, slices.Concat(s.conditions(), s.later, s.oldIDs)...)
	if err != nil {
		return err
	}
	for {
		if more, err := lines.next(ctx); err != nil || !more {
			return err
		}
		columns, err := s.evaluate(ctx, lines.Batch)
		if err != nil {
			return err
		}
		b, problems := r.stand(s, lines, columns)
		halved := r.halved[s.Block]
		s.spoilHalved(lines.First, b.rowState, halved)
		for _, p := range s.silence(lines.First, problems, halved) {
			if err := log.Append(spool.Problem{Row: lines.First + int64(p.line), Column: p.column, Cell: p.cell,
				Why: p.why}); err != nil {
				return err
			}
		}
		s.leftBlank(columns, b.rowState)
		s.countTypeless(columns, b.rowState)
		if err := r.constrain(ctx, s, lines, columns, b.rowState); err != nil {
			return err
		}
		b.breaks = s.breaking(lines.First, lines.Len())
		for _, c := range s.later {
			b.later = append(b.later, lines.Cell(c))
		}
		if err := give(b); err != nil {
			return err
		}
	}
}

// stand judges each line by itself: its state is 0 for a good one, bad or out for others. Cells that could not be read have
// been told.
func (r *round) stand(s *Step, lines *pass, columns []*value.Column) (*resolved, []problem) {
	rowState := make([]int64, lines.Len())
	for line := range rowState {
		if number := lines.First + int64(line); s.rows.Dropped.Has(number) || r.Loaded[s.Number].Has(number) {
			rowState[line] = out
		}
	}
	s.leaveOut(lines, rowState)
	nothing := s.leaveOutBlank(lines, rowState)
	var problems []problem
	for i, c := range columns {
		problems = append(problems, s.blanks(i, c, lines.First, rowState)...)
	}
	for i, e := range s.sources {
		for _, l := range lookupsIn([]*evaluator{e}) {
			for _, f := range l.failures {
				if f.own && s.first != nil && s.first.SetAside.Has(lines.First+int64(f.line)) {
					rowState[f.line] = bad // the line itself, or another one with its key: that was told
					continue
				}
				problems = append(problems, problem{f.line, i, f.cell, f.why})
			}
		}
	}
	problems = append(problems, r.Rejected.in(s, columns, lines.First, lines.Len())...)
	problems = slices.DeleteFunc(problems, func(p problem) bool { return rowState[p.line] == out })
	slices.SortStableFunc(problems, func(a, b problem) int { return a.line - b.line })
	for _, p := range problems {
		rowState[p.line] = bad
	}
	return &resolved{first: lines.First, columns: columns, rowState: rowState, nothing: nothing}, problems
}

// leaveOut marks the lines for which a condition of the step doesn't hold, or can't be told.
func (s *Step) leaveOut(lines *pass, rowState []int64) {
	for _, only := range s.Only {
		c := lines.Cell(only)
		for line, state := range c.States {
			switch {
			case state == value.Bad && rowState[line] != out:
				rowState[line] = bad
			case state == value.Null && rowState[line] != out:
				rowState[line] = out
				s.BlankConditions++
			case state == value.Null, state == value.Given && c.Nums[line] == 0:
				rowState[line] = out
			}
		}
	}
}

// oldIDCells are the cells of a step's lines by which lookups of other steps find its rows.
func (r *round) oldIDCells(s *Step) (all []int) {
	for _, other := range r.Plan.Steps {
		other.Lookups(func(l *plan.Lookup) {
			for _, m := range l.Makers {
				if m.Step == s.Step && !slices.Contains(all, m.Cell) {
					all = append(all, m.Cell)
				}
			}
		})
	}
	return all
}

// leaveOutBlank marks and lists the lines that have nothing for the step: each cell that it uses is blank.
func (s *Step) leaveOutBlank(lines *pass, rowState []int64) (nothing []int) {
	cells := cellsOf(s.sources)
	if len(cells) == 0 || s.first != nil {
		return nil
	}
	cells = slices.Concat(cells, s.later, s.oldIDs)
	for line := range rowState {
		blank := func(c int) bool { return lines.Cell(c).States[line] == value.Null }
		if rowState[line] == 0 && blank(cells[0]) && !slices.ContainsFunc(cells, func(c int) bool { return !blank(c) }) {
			rowState[line] = out
			s.BlankLines++
			nothing = append(nothing, line)
		}
	}
	return nothing
}

// blanks finds the lines in which a column of the step lacks a value that it needs; lines with a cell that could not be
// read are bad.
func (s *Step) blanks(i int, c *value.Column, first int64, rowState []int64) (problems []problem) {
	column, key := s.Columns[i].Column, slices.Contains(s.Key, i)
	for line, state := range c.States {
		switch {
		case rowState[line] == out:
		case state == value.Bad:
			rowState[line] = bad
		case state == value.Null && key && s.Policy.BlankKey == ladlefile.SetAsideBlankKey:
			why := reason.Why{Kind: reason.BlankKey, Columns: reason.List(s.KeyNames()...)}
			problems = append(problems, problem{line, i, "", reason.Because(why)})
		case state == value.Null && column.Required && !key && s.Policy.FillsBlanks():
			s.gaps.Add(first + int64(line))
		case state == value.Null && (column.Required || column.Identity):
			problems = append(problems, problem{line, i, "", s.blank(reason.BlankRequired, i)})
		}
	}
	return problems
}

// blank is the cause for a blank in column i of the step, which is required.
func (s *Step) blank(k reason.Kind, i int) reason.Cause {
	return reason.Because(reason.Why{Kind: k, Table: s.Table.Name, Columns: reason.List(s.Columns[i].Column.Name)})
}
