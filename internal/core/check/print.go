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

// add takes rows, and remove gives them back.
func (p *fingerprint) add(rows *value.Batch)    { p.change(rows, false) }
func (p *fingerprint) remove(rows *value.Batch) { p.change(rows, true) }

func (p *fingerprint) change(rows *value.Batch, remove bool) {
	var buf []byte
	carry := uint64(0)
	for row := range rows.Len() {
		buf = buf[:0]
		for i := range rows.Columns {
			buf = rows.Columns[i].AppendIdentity(buf, row)
		}
		lo, hi := maphash.Bytes(seeds[0], buf), maphash.Bytes(seeds[1], buf)
		if remove {
			p.lo, carry = bits.Sub64(p.lo, lo, 0)
			p.hi, _ = bits.Sub64(p.hi, hi, carry)
			p.rows--
			continue
		}
		p.lo, carry = bits.Add64(p.lo, lo, 0)
		p.hi, _ = bits.Add64(p.hi, hi, carry)
		p.rows++
	}
}

// same reports whether two fingerprints are of the same rows.
func (p *fingerprint) same(o *fingerprint) bool {
	return p.rows == o.rows && p.hi == o.hi && p.lo == o.lo
}

func printOf(ctx context.Context, tx engine.Reader, t *schema.Table, columns []string) (*fingerprint, error) {
	p := &fingerprint{columns: columns}
	return p, tx.Scan(ctx, t, columns, func(b *value.Batch) error {
		p.add(b)
		return nil
	})
}

// Print reads the tables that get or lose rows which nothing tells apart, before anything is written.
func Print(ctx context.Context, tx engine.Reader, in Input) (*Earlier, error) {
	e := newEarlier()
	return e, e.printAll(ctx, tx, in)
}

func (e *Earlier) printAll(ctx context.Context, tx engine.Reader, in Input) (err error) {
	read := func(t *schema.Table) error {
		columns := in.printable(t)
		if columns == nil || e.prints[t] != nil {
			return nil
		}
		e.prints[t], err = printOf(ctx, tx, t, columns)
		return err
	}
	for _, w := range in.Work {
		if w.Added > 0 && len(w.By) == 0 {
			if err := read(w.Table); err != nil {
				return err
			}
		}
	}
	for _, r := range in.Removed {
		if r.By == nil {
			if err := read(r.Table); err != nil {
				return err
			}
		}
	}
	return nil
}

// printable lists the columns of t that are known of all rows which it gets and loses; nil where there are none.
func (in *Input) printable(t *schema.Table) []string {
	columns := t.Kept()
	for _, w := range slices.Backward(in.Work) {
		if w.Table != t || w.rows() == 0 {
			continue
		}
		if w.Updated > 0 {
			return nil
		}
		columns = slices.DeleteFunc(append(slices.Clone(w.By), w.Columns...),
			func(c string) bool { return !slices.Contains(columns, c) || slices.Contains(w.Excused, c) })
	}
	if slices.ContainsFunc(in.Removed, func(r Removal) bool { return r.Table == t && r.By != nil }) || len(columns) == 0 {
		return nil
	}
	return columns
}

// expected is the fingerprint that the rows of a table must have: that of before, without the rows that were removed,
// and with those that were sent.
func (in *Input) expected(t *schema.Table) (*fingerprint, error) {
	want := *in.Earlier.print(t)
	for _, r := range in.Removed {
		if r.Table != t {
			continue
		}
		err := r.Keys(func(rows *value.Batch) error {
			want.remove(rows.Pick(t.Kept(), want.columns))
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	for _, w := range in.Work {
		if w.Table != t || w.Added == 0 {
			continue
		}
		err := w.Sent(func(sent *value.Batch) error {
			want.add(sent.Pick(append(slices.Clone(w.By), w.Columns...), want.columns))
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return &want, nil
}

// printed proves rows that nothing tells apart: all rows of the table must be those of before and those that were sent.
func (in *Input) printed(ctx context.Context, tx engine.Tx, w Work) (cells, relations Result, err error) {
	r := &reader{Work: w, tx: tx, names: w.Columns}
	for _, relation := range w.Points {
		if !slices.ContainsFunc(relation.Columns, func(c string) bool { return !slices.Contains(w.Columns, c) }) {
			r.points = append(r.points, newPointer(tx, relation))
		}
	}
	err = w.Sent(func(sent *value.Batch) error { return r.follow(ctx, sent) })
	if err != nil {
		return cells, relations, err
	}
	ok, err := in.holds(ctx, tx, w.Table)
	if err != nil {
		return cells, relations, err
	}
	stay := in.staying(w.Table)
	cells = Result{Check: "cells", Table: w.Table.Name, OK: ok,
		Short: reason.Count(w.Added*int64(len(in.Earlier.print(w.Table).columns))) + ", by a checksum over all rows",
		Says: fmt.Sprintf("no column is unique, so rows are compared as a whole; the table has the %s of before "+
			"and the %s that were sent", reason.Plural(stay, "row"), reason.Count(w.Added))}
	if !cells.OK {
		cells.Says = fmt.Sprintf("no column is unique, so rows are compared as a whole, and the table does not hold "+
			"exactly the %d rows of before and the %d that were sent", stay, w.Added)
		cells.Problems = []string{elsewhere}
	}
	w.excuse(&cells)
	if relations, err = r.relations(ctx); err != nil || !ok || !w.showable() {
		return cells, relations, err
	}
	return cells, relations, w.Sent(func(sent *value.Batch) error { return w.See(sent.Pick(w.Columns, w.Whole)) })
}

const elsewhere = "something else changes what is written, possibly a trigger"

// staying is the number of rows of before that were not removed.
func (in *Input) staying(t *schema.Table) int64 {
	n := in.Earlier.print(t).rows
	for _, r := range in.Removed {
		if r.Table == t {
			n -= r.Rows
		}
	}
	return n
}

// holds reports whether the rows of a table are those that it must have. It reads the table once, whoever asks.
func (in *Input) holds(ctx context.Context, tx engine.Tx, t *schema.Table) (bool, error) {
	if ok, known := in.Earlier.holds[t]; known {
		return ok, nil
	}
	want, err := in.expected(t)
	if err != nil {
		return false, err
	}
	is, err := printOf(ctx, tx, t, want.columns)
	if err != nil {
		return false, err
	}
	in.Earlier.holds[t] = is.same(want)
	return in.Earlier.holds[t], nil
}

// removedEqual proves that rows are gone which nothing tells apart from others: as many of each as were to go.
func (in *Input) removedEqual(ctx context.Context, tx engine.Tx, r Removal) (Result, error) {
	if in.Earlier.print(r.Table) == nil {
		return Result{Check: "removed", Table: r.Table.Name, OK: true, Says: "the removed rows can't be told from others, " +
			"and several blocks change the table, so rows are only counted"}, nil
	}
	ok, err := in.holds(ctx, tx, r.Table)
	result := Result{Check: "removed", Table: r.Table.Name, OK: ok, Short: reason.Count(r.Rows),
		Says: fmt.Sprintf("%s removed; no column is unique, so rows are compared as a whole, and the others are as before",
			reason.Plural(r.Rows, "row"))}
	if !ok {
		result.Says = fmt.Sprintf("no column is unique, so rows are compared as a whole, and the table is not what it was "+
			"without the %s", reason.Plural(r.Rows, "removed row"))
		result.Problems = []string{elsewhere}
	}
	return result, err
}
