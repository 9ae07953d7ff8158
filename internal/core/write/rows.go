package write

import (
	"context"
	"iter"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// addedRows are rows that a step adds, ready for the database, with the numbers of their lines.
type addedRows struct {
	rows  *value.Batch
	lines []int64
}

// sentColumns lists what the rows of a step consist of: their locators where these were reserved, then what it feeds.
func sentColumns(s *judge.Step) []string {
	if s.Locates() {
		return append([]string{s.Table.Locator}, s.Names()...)
	}
	return s.Names()
}

// refersTo is the table that column c of a step refers to by a lookup, or nil.
func refersTo(s *judge.Step, c int) *schema.Table {
	if l := s.Columns[c].Source.Lookup; l != nil {
		return l.Table
	}
	return nil
}

// additions are the rows that a step adds, in the order of their numbers, in batches that are good until the next.
func (w *Writer) additions(ctx context.Context, s *judge.Step) iter.Seq2[*addedRows, error] {
	return func(yield func(*addedRows, error) bool) {
		if s.Tally.Added == 0 {
			return
		}
		if len(s.InOrderOf) > 0 {
			w.inOrder(ctx, s, yield)
			return
		}
		b := &addedRows{rows: value.NewBatch(engine.Types(s.Table, sentColumns(s)))}
		lines := s.Lines(ctx).Only(judge.Added)
		for lines.Next() {
			for i := range lines.Len() {
				if lines.Verdict(i) != judge.Added {
					continue
				}
				w.add(b.rows.Columns, s, lines, i)
				if b.lines = append(b.lines, lines.Number(i)); len(b.lines) < engine.BatchRows {
					continue
				}
				if !yield(b, nil) {
					return
				}
				b.reset()
			}
		}
		if err := lines.Err(); err != nil {
			yield(nil, err)
		} else if len(b.lines) > 0 {
			yield(b, nil)
		}
	}
}

func (b *addedRows) reset() {
	b.rows.Reset()
	b.lines = b.lines[:0]
}

// add adds the row of line i to columns.
func (w *Writer) add(to []value.Column, s *judge.Step, lines *judge.Lines, i int) {
	if s.Locates() {
		ref, _ := lines.Row(i)
		to[0].AppendNum(w.ids.of(s.Table, judge.NewRow(ref)))
		to = to[1:]
	}
	for c, from := range lines.Values() {
		w.ids.append(&to[c], from, i, refersTo(s, c))
	}
}

// growthColumns lists what the rows of a growth consist of.
func growthColumns(g *judge.Growth) []string { return append([]string{g.Table.Locator}, g.Columns...) }

// growthRows are the rows of a growth in batches.
func (w *Writer) growthRows(g *judge.Growth) iter.Seq[*value.Batch] {
	return func(yield func(*value.Batch) bool) {
		for start := 0; start < len(g.Rows); start += engine.BatchRows {
			b := value.NewBatch(engine.Types(g.Table, growthColumns(g)))
			for i := start; i < min(start+engine.BatchRows, len(g.Rows)); i++ {
				b.Columns[0].AppendNum(w.ids.of(g.Table, g.Rows[i]))
				g.Append(b.Columns[1:], i)
			}
			if !yield(b) {
				return
			}
		}
	}
}

// changedRows is rows that are changed in the same columns.
type changedRows struct {
	columns []string
	targets []int       // of the targets of the step, those of columns
	sources []int       // and where the step has these
	by      int         // how many columns find the rows
	rows    value.Batch // what they are found by, then the new values
	before  value.Batch // the same, then the values that stand there
	lines   []int64
}

// manyRevised is the number of rows that wait for others which change in the same columns.
const manyRevised = 8 * engine.BatchRows

// revisions are the changed rows of a step in batches, each of rows that change in the same columns; a batch is good
// until the next.
func (w *Writer) revisions(ctx context.Context, s *judge.Step) iter.Seq2[*changedRows, error] {
	return func(yield func(*changedRows, error) bool) {
		if s.Tally.Updated == 0 {
			return
		}
		waiting, count := map[string]*changedRows{}, 0
		flush := func() bool {
			for mask, r := range waiting {
				delete(waiting, mask)
				if len(r.lines) > 0 && !yield(r, nil) { // one that was sent just now is empty
					return false
				}
			}
			count = 0
			return true
		}
		lines := s.Lines(ctx).Only(judge.Updated)
		for lines.Next() {
			for i := range lines.Len() {
				if lines.Verdict(i) != judge.Updated {
					continue
				}
				change := lines.Change(i)
				r := waiting[change.Mask()]
				if r == nil {
					r = newRevision(s, change)
					waiting[change.Mask()] = r
				}
				w.revise(r, s, change, lines, i)
				if count++; len(r.lines) == engine.BatchRows {
					if !yield(r, nil) {
						return
					}
					count -= len(r.lines)
					r.rows.Reset()
					r.before.Reset()
					r.lines = r.lines[:0]
				}
				if count >= manyRevised && !flush() {
					return
				}
			}
		}
		if err := lines.Err(); err != nil {
			yield(nil, err)
			return
		}
		flush()
	}
}

func newRevision(s *judge.Step, change judge.Change) *changedRows {
	by := s.FoundBy()
	r := &changedRows{by: len(by)}
	for t, target := range s.Targets() {
		if change.Has(t) {
			r.targets, r.sources = append(r.targets, t), append(r.sources, target)
			r.columns = append(r.columns, s.Columns[target].Column.Name)
		}
	}
	types := engine.Types(s.Table, append(slices.Clone(by), r.columns...))
	r.rows, r.before = *value.NewBatch(types), *value.NewBatch(types)
	return r
}

// revise adds the change of a line to a revision.
func (w *Writer) revise(r *changedRows, s *judge.Step, change judge.Change, lines *judge.Lines, i int) {
	last := len(r.lines)
	change.By(r.rows.Columns[:r.by])
	change.By(r.before.Columns[:r.by])
	for b := range r.by {
		w.ids.settleAt(&r.rows.Columns[b], last, s.Table)
		w.ids.settleAt(&r.before.Columns[b], last, s.Table)
	}
	for at, t := range r.targets {
		from := r.sources[at]
		w.ids.append(&r.rows.Columns[r.by+at], lines.Value(from), i, refersTo(s, from))
		change.Before(t, &r.before.Columns[r.by+at])
	}
	r.lines = append(r.lines, lines.Number(i))
}
