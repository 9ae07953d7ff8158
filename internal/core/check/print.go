package check

import (
	"context"
	"fmt"
	"hash/maphash"
	"math/bits"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// fingerprint stands for the rows of a table, whatever their order: their number and the sum of their hashes, which are
// 128 bits wide and seeded anew in each run.
type fingerprint struct {
	columns []string
	rows    int64
	hi, lo  uint64
}

var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// add takes rows.
func (p *fingerprint) add(columns []value.Column) {
	var buf []byte
	for row := range columns[0].Len() {
		buf = buf[:0]
		for i := range columns {
			buf = columns[i].AppendIdentity(buf, row)
		}
		lo, carry := bits.Add64(p.lo, maphash.Bytes(seeds[0], buf), 0)
		p.hi, p.lo = p.hi+maphash.Bytes(seeds[1], buf)+carry, lo
		p.rows++
	}
}

func printOf(ctx context.Context, tx engine.Reader, t *schema.Table, columns []string) (*fingerprint, error) {
	p := &fingerprint{columns: columns}
	return p, tx.Scan(ctx, t, columns, func(b *value.Batch) error {
		p.add(b.Columns)
		return nil
	})
}

// printed proves rows that nothing tells apart: all rows of the table must be those of before and those that were sent.
func printed(ctx context.Context, tx engine.Tx, w Work, before *fingerprint) (cells, relations Result, err error) {
	r := &reader{Work: w, tx: tx, names: w.Columns}
	for _, relation := range w.Points {
		if !slices.ContainsFunc(relation.Columns, func(c string) bool { return !slices.Contains(w.Columns, c) }) {
			r.points = append(r.points, newPointer(tx, relation))
		}
	}
	want := *before
	err = w.Sent(func(sent *value.Batch) error {
		want.add(sent.Columns)
		return r.follow(ctx, sent)
	})
	if err != nil {
		return cells, relations, err
	}
	is, err := printOf(ctx, tx, w.Table, w.Columns)
	if err != nil {
		return cells, relations, err
	}
	cells = Result{Check: "cells", Table: w.Table.Name, OK: is.rows == want.rows && is.hi == want.hi &&
		is.lo == want.lo,
		Short: fmt.Sprintf("%d, by a checksum over all rows", w.Added*int64(len(w.Columns))),
		Says: fmt.Sprintf("no column is unique, so rows are compared as a whole; the table has the %s of before "+
			"and the %s that were sent", reason.Plural(before.rows, "row"), reason.Count(w.Added))}
	if !cells.OK {
		cells.Says = fmt.Sprintf("no column is unique, so rows are compared as a whole, and the table does not hold "+
			"exactly the %d rows of before and the %d that were sent", before.rows, w.Added)
		cells.Problems = []string{"something else changes what is written, possibly a trigger"}
	}
	relations, err = r.relations(ctx)
	return cells, relations, err
}
