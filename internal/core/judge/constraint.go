package judge

import (
	"context"
	"slices"

	"ladle/internal/core/condition"
	"ladle/internal/core/engine"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// constraint is a CHECK constraint that is judged before a row is written: Go finds the rows that surely hold it, and
// the database is asked about the others. What it can judge only when a row is written, package write finds.
type constraint struct {
	schema.Check
	*condition.Condition
	sources []int // where the step has each of the condition's columns; -1 for one that it doesn't feed

	broken spool.RowSet     // the lines whose rows break it
	says   map[int64]string // of those for which the condition has no result: the words of the database
}

// constraintsOf lists the constraints of a step that speak only of columns whose values are known: those that it feeds,
// and, of rows that it adds, those that stay NULL.
func constraintsOf(s *plan.Step) []*constraint {
	if s.First != nil {
		return nil
	}
	return slices.DeleteFunc(constraintsOn(s.Table, s.Names()), func(c *constraint) bool {
		return slices.ContainsFunc(s.Later, func(l plan.Assignment) bool {
			return slices.Contains(c.Columns, l.Column.Name)
		})
	})
}

// constraintsOn lists those constraints of a table that can be judged of rows which are given the columns names.
func constraintsOn(t *schema.Table, names []string) (all []*constraint) {
	for _, c := range t.Checks {
		x := &constraint{Check: c, Condition: condition.New(c, t), says: map[int64]string{}}
		if x.Condition == nil {
			continue
		}
		fed, known := false, true
		for _, name := range x.Columns {
			at, column := slices.Index(names, name), t.Column(name)
			x.sources = append(x.sources, at)
			fed = fed || at >= 0
			known = known && (at >= 0 || !column.Defaulted && !column.Generated && !column.Identity)
		}
		if fed && known {
			all = append(all, x)
		}
	}
	return all
}

// of returns the columns that the condition speaks of, as rows of a step have them that it adds.
func (c *constraint) of(columns []*value.Column, rows int, t *schema.Table) []*value.Column {
	all := make([]*value.Column, len(c.sources))
	for i, at := range c.sources {
		if at >= 0 {
			all[i] = columns[at]
			continue
		}
		blank := value.NewColumn(t.Column(c.Columns[i]).Type)
		for range rows {
			blank.AppendState(value.Null)
		}
		all[i] = &blank
	}
	return all
}

// breaks lists those of some rows that break the constraint. Rows with an id that is not known yet are not judged.
func (c *constraint) breaks(ctx context.Context, db engine.Reader, t *schema.Table, columns []*value.Column,
	rows []int) (broken []engine.Rejection, err error) {
	var asked []int
	batch := value.NewBatch(engine.Types(t, c.Columns))
	for _, i := range rows {
		unknown := slices.ContainsFunc(columns, func(c *value.Column) bool {
			return c.States[i] != value.Given && c.States[i] != value.Null
		})
		if unknown || c.Holds(columns, i) {
			continue
		}
		asked = append(asked, i)
		for k := range columns {
			batch.Columns[k].AppendFrom(columns[k], i)
		}
	}
	if asked == nil {
		return nil, nil
	}
	found, err := db.Broken(ctx, t, c.Check, c.Columns, batch)
	for _, x := range found {
		broken = append(broken, engine.Rejection{Row: asked[x.Row], Why: x.Why})
	}
	return broken, err
}

// note keeps that the row of a line breaks the constraint, and what the database says of it.
func (c *constraint) note(line int64, says string) {
	c.broken.Add(line)
	if says != "" && len(c.says) < mostTexts {
		c.says[line] = says
	}
}

// constrain finds the good lines of a batch whose rows would break a constraint if they were added.
func (r *round) constrain(ctx context.Context, s *Step, lines *pass, columns []*value.Column, rowState []int64) error {
	for _, c := range s.constraints {
		var good []int
		for i, state := range rowState {
			if state >= 0 && !s.breaks(lines.First+int64(i)) {
				good = append(good, i)
			}
		}
		broken, err := c.breaks(ctx, r.Database, s.Table, c.of(columns, lines.Len(), s.Table), good)
		if err != nil {
			return err
		}
		for _, x := range broken {
			c.note(lines.First+int64(x.Row), x.Why)
		}
	}
	return nil
}

// unfit finds the names that a constraint keeps lookups from adding, and reports whether there are any, so that all must
// be judged again without them.
func (r *round) unfit(ctx context.Context) (any bool, err error) {
	for _, g := range r.Growths {
		constraints := constraintsOn(g.Table, g.Columns)
		for start := 0; start < len(g.Rows) && constraints != nil; start += engine.BatchRows {
			rows := value.NewBatch(engine.Types(g.Table, g.Columns))
			var all []int
			for i := start; i < min(start+engine.BatchRows, len(g.Rows)); i++ {
				g.Append(rows.Columns, i)
				all = append(all, i-start)
			}
			for _, c := range constraints {
				columns := c.of(value.Pointers(rows.Columns), rows.Len(), g.Table)
				broken, err := c.breaks(ctx, r.Database, g.Table, columns, all)
				if err != nil {
					return false, err
				}
				for _, x := range broken {
					any = true
					r.Rejected.AddName(g, start+x.Row, c.Words()+" does not hold")
				}
			}
		}
	}
	return any, nil
}

// spoil finds the lines for which a row that is there can't be changed, where other lines count as repeating them. It
// reports whether there are any: these others are held against the row as well when all is judged again.
func (r *round) spoil() (found bool) {
	for _, s := range r.Steps {
		if s.Tally.Repeated > 0 && s.spoilt.Len() > r.spoilt[s.Number].Len() {
			r.spoilt[s.Number], found = s.spoilt, true
		}
	}
	return found
}

// breaking reports of each of n lines whether its row would break a constraint; nil where none would.
func (s *Step) breaking(first int64, n int) []bool {
	if !slices.ContainsFunc(s.constraints, func(c *constraint) bool { return c.broken.Any(first, n) }) {
		return nil
	}
	breaking := make([]bool, n)
	for line := range breaking {
		breaking[line] = s.breaks(first + int64(line))
	}
	return breaking
}

// breaks reports whether the row of a line would break a constraint.
func (s *Step) breaks(line int64) bool {
	return slices.ContainsFunc(s.constraints, func(c *constraint) bool { return c.broken.Has(line) })
}

// broken is the cause for a line whose row breaks a constraint; it has the values that the condition speaks of.
func (s *Step) broken(line int64, columns []*value.Column, i int) reason.Cause {
	at := slices.IndexFunc(s.constraints, func(c *constraint) bool { return c.broken.Has(line) })
	c := s.constraints[at]
	why := reason.Because(reason.Why{Kind: reason.BreaksCheck, Table: s.Table.Name, Text: c.Words()})
	var names []int
	for _, column := range c.sources {
		if column >= 0 {
			names = append(names, column)
		}
	}
	why.Values, why.Value = s.valuesOf(names, columns, i), c.says[line]
	return why
}
