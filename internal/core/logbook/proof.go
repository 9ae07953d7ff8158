package logbook

import (
	"context"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// prove checks that the tables are as they were before the run.
func (u *undoing) prove(ctx context.Context) ([]check.Result, error) {
	done := check.Done{Before: u.before, Level: check.Cells}
	for rest := u.chunks; len(rest) > 0; {
		n := 1
		for n < len(rest) && rest[n].like(rest[0]) {
			n++
		}
		u.expect(ctx, &done, rest[:n])
		rest = rest[n:]
	}
	return check.Run(ctx, u.tx, done)
}

// like tells whether a run did the same with the rows of two chunks.
func (c *Chunk) like(o *Chunk) bool {
	return c.What == o.What && c.Table == o.Table && c.Turn == o.Turn && slices.Equal(c.By, o.By) && slices.Equal(c.Columns, o.Columns)
}

// expect adds what must be true of the rows of chunks that are alike.
func (u *undoing) expect(ctx context.Context, done *check.Done, alike []*Chunk) {
	c, n := alike[0], int64(0)
	for _, a := range alike {
		n += a.Rows
	}
	t := u.schema.Table(c.Table)
	rows := func(of func(*value.Batch) *value.Batch) func(func(*value.Batch) error) error {
		return func(take func(*value.Batch) error) error {
			for _, a := range alike {
				if err := u.each(ctx, t, a, func(rows *value.Batch) error { return take(of(rows)) }); err != nil {
					return err
				}
			}
			return nil
		}
	}
	switch c.What {
	case Added:
		done.Removed = append(done.Removed, check.Removal{Table: t, Rows: n, By: c.By, Keys: rows(func(b *value.Batch) *value.Batch { return b })})
	case Was:
		done.Work = append(done.Work, check.Work{Table: t, Updated: n, By: c.By, Columns: c.Columns, Points: t.Declared(),
			Sent: rows(func(b *value.Batch) *value.Batch { return u.staying(t, c, b) })})
	case Removed:
		done.Work = append(done.Work, check.Work{Table: t, Added: n, By: c.By, Columns: c.Columns, Points: t.Declared(),
			Sent: rows(func(b *value.Batch) *value.Batch { return u.unemptied(c, b) })})
	}
}

// unemptied leaves cells open that were emptied before their rows were removed: what they held is kept by itself.
func (u *undoing) unemptied(c *Chunk, rows *value.Batch) *value.Batch {
	out := &value.Batch{Columns: slices.Clone(rows.Columns)}
	for _, o := range u.chunks {
		if o.What != Was || o.Turn != 0 || o.Table != c.Table {
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

// each gives the rows of a chunk.
func (u *undoing) each(ctx context.Context, t *schema.Table, short *Chunk, take func(*value.Batch) error) error {
	c, err := short.load(ctx, u.tx, u.token)
	if err != nil {
		return err
	}
	return c.each(t, func(_ int, rows *value.Batch) error { return take(rows) })
}
