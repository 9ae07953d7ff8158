package logbook

import (
	"context"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// compareEqual looks for the rows that a run added to a table whose rows nothing tells apart: there must be at least as
// many of each as it added.
func (b *Book) compareEqual(ctx context.Context, t *schema.Table, added []*Chunk, since *Since) error {
	var missing keyindex.Map[int64]
	err := b.eachEqual(ctx, t, added, func(h keyindex.Hash, _ *value.Batch, _ int) {
		since.Rows++
		n, _ := missing.Insert(h)
		*n++
	})
	if err != nil {
		return err
	}
	err = b.DB.Scan(ctx, t, added[0].Columns, func(rows *value.Batch) error {
		columns := value.Pointers(rows.Columns)
		for row := range rows.Len() {
			if n := missing.Find(keyindex.HashRow(columns, row)); n != nil && *n > 0 {
				*n--
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	gone := int64(0)
	missing.Each(func(_ keyindex.Hash, n *int64) { gone += *n })
	if gone == 0 {
		return nil
	}
	since.Gone += gone
	return b.eachEqual(ctx, t, added, func(h keyindex.Hash, rows *value.Batch, row int) {
		if n := missing.Find(h); *n > 0 {
			*n--
			since.name("%s %s no longer exists", t.Name, Words(added[0].Columns, rows, row))
		}
	})
}

// eachEqual gives take the rows of chunks.
func (b *Book) eachEqual(ctx context.Context, t *schema.Table, all []*Chunk,
	take func(h keyindex.Hash, rows *value.Batch, row int)) error {
	for _, c := range all {
		err := b.Each(ctx, t, c, func(rows *value.Batch) error {
			columns := value.Pointers(rows.Columns)
			for row := range rows.Len() {
				take(keyindex.HashRow(columns, row), rows, row)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
