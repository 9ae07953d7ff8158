package undo

import (
	"context"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/logbook"
	"ladle/internal/core/value"
)

// prove checks that the tables are as they were before the run.
func (u *undoing) prove(ctx context.Context) ([]check.Result, error) {
	results, err := check.Run(ctx, u.tx, u.input(ctx))
	if u.report.Of.Parts != nil && !check.Failed(results) {
		results = check.Together(nil, results)
	}
	return results, err
}

// input is what is done, for the checks.
func (u *undoing) input(ctx context.Context) check.Input {
	in := check.Input{Before: u.before, Earlier: u.earlier, Level: check.Cells}
	for rest := u.Chunks; len(rest) > 0; {
		n := 1
		for n < len(rest) && alike(rest[n], rest[0]) {
			n++
		}
		u.expect(ctx, &in, rest[:n])
		rest = rest[n:]
	}
	return in
}

// alike reports whether a run did the same with the rows of two chunks.
func alike(c, o *logbook.Chunk) bool {
	return c.What == o.What && c.Table == o.Table && c.Turn == o.Turn && slices.Equal(c.By, o.By) &&
		slices.Equal(c.Columns, o.Columns)
}

// expect adds what must be true of the rows of chunks that are alike.
func (u *undoing) expect(ctx context.Context, in *check.Input, all []*logbook.Chunk) {
	c, n := all[0], int64(0)
	for _, a := range all {
		n += a.Rows
	}
	t := u.Schema.Table(c.Table)
	rows := func(of func(*value.Batch) *value.Batch) func(func(*value.Batch) error) error {
		return func(take func(*value.Batch) error) error {
			for _, a := range all {
				err := u.Each(ctx, t, a, func(rows *value.Batch) error {
					u.tellOf("proving", int64(rows.Len()))
					return take(of(rows))
				})
				if err != nil {
					return err
				}
			}
			return nil
		}
	}
	switch c.What {
	case logbook.Added:
		in.Removed = append(in.Removed, check.Removal{Table: t, Rows: n, By: c.By,
			Keys: rows(func(b *value.Batch) *value.Batch { return b })})
	case logbook.Was:
		in.Work = append(in.Work, check.Work{Table: t, Updated: n, By: c.By, Columns: c.Columns, Points: t.Declared(),
			Sent: rows(func(b *value.Batch) *value.Batch { return u.staying(t, c, b) })})
	case logbook.Removed:
		in.Work = append(in.Work, check.Work{Table: t, Added: n, By: c.By, Columns: c.Columns, Points: t.Declared(),
			Sent: rows(func(b *value.Batch) *value.Batch { return u.unemptied(c, b) })})
	}
}

// unemptied leaves cells open that were emptied before their rows were removed: what they held is kept by itself.
func (u *undoing) unemptied(c *logbook.Chunk, rows *value.Batch) *value.Batch {
	out := &value.Batch{Columns: slices.Clone(rows.Columns)}
	for _, o := range u.Chunks {
		if o.What != logbook.Was || o.Turn != 0 || o.Table != c.Table {
			continue
		}
		for _, name := range o.Columns {
			at := len(c.By) + slices.Index(c.Columns, name)
			column := value.Column{Kind: rows.Columns[at].Kind, Scale: rows.Columns[at].Scale}
			for range rows.Len() {
				column.AppendState(check.Untouched)
			}
			out.Columns[at] = column
		}
	}
	return out
}
