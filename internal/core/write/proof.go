package write

import (
	"context"
	"iter"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Proof is what must be true once all is written, for the checks; before that, what is going to be written.
func (w *Writer) Proof(ctx context.Context) check.Input {
	j := w.Judgement
	in := check.Input{Before: map[*schema.Table]check.Before{}}
	for t, n := range j.Before {
		in.Before[t] = check.Before{Rows: n.Rows, Exact: n.Exact}
	}
	for i, g := range j.Growths {
		work := check.Work{Table: g.Table, Columns: g.Columns, Key: g.Columns, Added: int64(len(g.Rows)),
			Points: g.Table.Declared(),
			By:     []string{g.Table.Locator}, Sent: func(take func(*value.Batch) error) error {
				return each(
					w.growthRows(g), take)
			}}
		if w.ids != nil {
			work.First = w.ids.of(g.Table, g.Rows[0])
		}
		in.Work = append(in.Work, w.seen(ctx, work, turnLookups+i))
	}
	for _, s := range j.Steps {
		in.Work = append(in.Work, w.seen(ctx, w.added(ctx, s), w.turn(s)+1), w.seen(ctx, w.changed(ctx, s), w.turn(s)))
		for i, m := range s.Gone.Markings() {
			in.Work = append(in.Work, w.seen(ctx, marked(m), turnMarked+i))
		}
		if n := s.Gone.Removed(); n > 0 {
			in.Removed = append(in.Removed, check.Removal{Table: s.Table, By: s.Gone.By, Rows: n,
				Keys: s.Gone.Keys})
		}
	}
	return in
}

func each[T any](all iter.Seq[T], take func(T) error) error {
	for x := range all {
		if err := take(x); err != nil {
			return err
		}
	}
	return nil
}

// seen shows the rows of work, as they were read back, to the recorder.
func (w *Writer) seen(ctx context.Context, work check.Work, turn int) check.Work {
	if w.Recorder == nil || work.Added+work.Updated == 0 {
		return work
	}
	work.Whole = w.Recorder.Keeps(work.Table)
	work.See = func(b *value.Batch) error {
		if work.Updated > 0 {
			return w.Recorder.Changed(ctx, turn, work.Table, work.By, work.Whole, b)
		}
		return w.Recorder.Added(ctx, turn, work.Table, work.By, work.Whole, b)
	}
	return work
}

// Uncompared tells the recorder how many rows nothing tells apart, or were not read back.
func (w *Writer) Uncompared(ctx context.Context, in check.Input) error {
	for i, work := range in.Work {
		if n := work.Added + work.Updated; n > 0 && !in.Shows(work) {
			if err := w.Recorder.Uncompared(ctx, i, work.Table, n); err != nil {
				return err
			}
		}
	}
	return nil
}

// added is the rows that a step adds.
func (w *Writer) added(ctx context.Context, s *judge.Step) check.Work {
	work := check.Work{Table: s.Table, Columns: s.Names(), Key: s.KeyNames(), Added: s.Tally.Added,
		Points: append(s.Table.Declared(), s.Undeclared()...), Totals: totals(s), By: readBy(s),
		Excused: s.Policy.Excused,
		Sent: func(take func(*value.Batch) error) error {
			for b, err := range w.additions(ctx, s) {
				if err == nil {
					w.tell(Proving, s, len(b.lines))
					err = take(withKey(s, b.rows))
				}
				if err != nil {
					return err
				}
			}
			return nil
		}}
	if w.ids != nil {
		work.First = w.ids.first[s]
	}
	return work
}

// changed is what a step changes in rows that are there.
func (w *Writer) changed(ctx context.Context, s *judge.Step) check.Work {
	work := check.Work{Table: s.Table, Updated: s.Tally.Updated}
	if work.Updated == 0 {
		return work
	}
	work.By, work.Columns, work.Excused = s.FoundBy(), s.TargetNames(), s.Policy.Excused
	work.Points = pointsIn(append(s.Table.Declared(), s.Undeclared()...), work.Columns)
	work.Sent = func(take func(*value.Batch) error) error {
		for r, err := range w.revisions(ctx, s) {
			if err == nil {
				w.tell(Proving, s, len(r.lines))
				err = take(r.whole(work))
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	return work
}

// marked is what a marking does to rows that are there.
func marked(m *judge.Marking) check.Work {
	return check.Work{Table: m.Table, Updated: m.Rows(), By: m.By(), Columns: m.Columns,
		Points: pointsIn(m.Table.Declared(), m.Columns),
		Sent: func(take func(*value.Batch) error) error {
			return m.Each(func(_, after *value.Batch) error { return take(after) })
		}}
}

// pointsIn returns the relations that begin in one of the columns.
func pointsIn(all []schema.Relation, columns []string) []schema.Relation {
	return slices.DeleteFunc(slices.Clone(all), func(r schema.Relation) bool {
		return !slices.ContainsFunc(r.Columns, func(c string) bool { return slices.Contains(columns, c) })
	})
}

// whole returns a revision all columns of the work; those that it leaves as they are hold nothing.
func (r *changedRows) whole(work check.Work) *value.Batch {
	out := value.NewBatch(engine.Types(work.Table, append(slices.Clone(work.By), work.Columns...)))
	copy(out.Columns, r.rows.Columns[:len(work.By)])
	for i, name := range work.Columns {
		if at := slices.Index(r.columns, name); at >= 0 {
			out.Columns[len(work.By)+i] = r.rows.Columns[len(work.By)+at]
			continue
		}
		for range r.lines {
			out.Columns[len(work.By)+i].AppendState(check.Untouched)
		}
	}
	return out
}

// readBy is what the rows of a step are read back by: their locators, else a key that is unique, else the key of the
// step; nothing where that has none.
func readBy(s *judge.Step) []string {
	if s.Locates() {
		return []string{s.Table.Locator}
	}
	if c := s.Table.Identity(); c != nil && s.FeedsIdentity() {
		return []string{c.Name}
	}
	whole := func(name string) bool { // it has a value in every row that is sent
		i := slices.Index(s.Names(), name)
		return i >= 0 && (s.Columns[i].Column.Required || slices.Contains(s.Key, i) &&
			s.Policy.BlankKey == ladlefile.SetAsideBlankKey)
	}
	keys := [][]string{}
	for _, k := range s.Table.Keys {
		keys = append(keys, k.Columns)
	}
	for _, k := range append(keys, s.KeyNames()) {
		if len(k) > 0 && !slices.ContainsFunc(k, func(c string) bool { return !whole(c) }) {
			return k
		}
	}
	return nil
}

// withKey puts the columns by which rows are read back in front of those sent, where they aren't there already.
func withKey(s *judge.Step, batch *value.Batch) *value.Batch {
	if s.Locates() {
		return batch
	}
	out := &value.Batch{}
	for _, name := range readBy(s) {
		out.Columns = append(out.Columns, batch.Columns[slices.Index(s.Names(), name)])
	}
	out.Columns = append(out.Columns, batch.Columns...)
	return out
}

// totals lists the columns whose totals mean something: numbers and dates that are no ids.
func totals(s *judge.Step) []string {
	var all []string
	for _, c := range s.Columns {
		isID := c.Column.Identity || c.Source.Lookup != nil || s.Table.Relation(c.Column.Name) != nil
		if c.Column.Type.Kind.Ordered() && !isID {
			all = append(all, c.Column.Name)
		}
	}
	return all
}
