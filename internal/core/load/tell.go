package load

import (
	"context"
	"fmt"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/value"
)

// tell logs why a row is set aside that is good by itself.
func (d *decision) tell(ctx context.Context, row int64, a answer) error {
	key := strings.Join(d.KeyNames(), ", ")
	whole := func(why string) error { return d.log.Append([]int64{row, wholeRow}, []string{"", why}) }
	switch a.outcome {
	case isThere:
		return whole(fmt.Sprintf("a row with this key is in %s already", d.Table.Name))
	case isNew:
		return whole(fmt.Sprintf("no row with this key (%s) is in %s", key, d.Table.Name))
	case isMany:
		return whole(fmt.Sprintf("several rows with this key (%s) are in %s, so it can't be told which to update", key, d.Table.Name))
	case isGap:
		return d.tellGaps(row)
	case isPassed: // the first half has told
		return nil
	}
	other := a.other
	spot, differ, err := d.contradiction(ctx, row, other)
	if err != nil {
		return err
	}
	return whole(fmt.Sprintf("%s has the same key (%s), but another %s", spot, key, strings.Join(differ, ", ")))
}

// tellGaps logs which values a row lacks that is not in the table.
func (d *decision) tellGaps(row int64) error {
	b, in, err := d.row(row)
	if err != nil {
		return err
	}
	for i, c := range b.columns(d.judged) {
		column := d.Columns[i].Column
		if c == nil || c.States[in] != value.Null || !column.Required {
			continue
		}
		why := fmt.Sprintf("is blank, but %s.%s must have a value, and no row with this key is there", d.Table.Name, column.Name)
		if err := d.log.Append([]int64{row, int64(i)}, []string{"", why}); err != nil {
			return err
		}
	}
	return nil
}

// columns gives the columns of a step for a batch that was read for one row; nil for constants.
func (b *rowBatch) columns(s *judged) []*value.Column {
	columns, finds := make([]*value.Column, len(s.columns)), 0
	for i, e := range s.columns {
		switch {
		case e.find != nil:
			finds++
			columns[i] = &b.found.Columns[finds]
		case e.of.Constant == nil:
			columns[i] = &b.rows.Columns[1+e.of.Cell]
		}
	}
	return columns
}

// contradiction says where the other row stands, and gives the columns in which the two differ.
func (d *decision) contradiction(ctx context.Context, row, other int64) (spot string, differ []string, err error) {
	mine, i, err := d.row(row)
	if err != nil {
		return "", nil, err
	}
	theirs, k, err := d.row(other)
	if err != nil {
		return "", nil, err
	}
	others := theirs.columns(d.judged)
	for c, own := range mine.columns(d.judged) {
		if own != nil && !own.Same(i, others[c], k) {
			differ = append(differ, d.Columns[c].Value.Label())
		}
	}
	for _, later := range d.Later {
		for _, c := range cells([]*evaluator{d.evaluator(later.Value, d.Table)}) {
			if !mine.rows.Columns[c].Same(i, &theirs.rows.Columns[c], k) {
				differ = append(differ, later.Value.Label())
				break
			}
		}
	}
	return d.run.spotWords(d.feed, theirs.rows.Columns[0].Nums[k]), differ, ctx.Err()
}

// rowBatch is a batch that was read for one row of it.
type rowBatch struct {
	number int
	rows   value.Batch
	found  value.Batch
}

// keptBatches is the number of batches that are kept for rows that contradict each other.
const keptBatches = 32

// row reads the batch that has a row, and gives the row's number in it. The batches read last are kept.
func (d *decision) row(row int64) (*rowBatch, int, error) {
	number := d.found.Holding(row)
	in := int(row - d.found.First(number))
	for _, b := range d.read {
		if b.number == number {
			return b, in, nil
		}
	}
	b := &rowBatch{number: number}
	if err := d.rows.Spool.Read(number, append(append(cells(d.columns), clean.Lines), d.later...), &b.rows); err != nil {
		return nil, 0, err
	}
	all := make([]int, len(d.found.Types()))
	for i := range all {
		all[i] = i
	}
	if err := d.found.Read(number, all, &b.found); err != nil {
		return nil, 0, err
	}
	if d.read = append(d.read, b); len(d.read) > keptBatches {
		d.read = d.read[1:]
	}
	return b, in, nil
}
