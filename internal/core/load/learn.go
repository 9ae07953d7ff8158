package load

import (
	"context"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/value"
)

// neededLater tells whether a step behind s asks x.
func (j *judgement) neededLater(x *index, s *judged) bool {
	later := j.steps[slices.Index(j.steps, s)+1:]
	return slices.ContainsFunc(later, func(t *judged) bool {
		asks := t.Table == x.table && len(t.Key) > 0 && t.first == nil && slices.Equal(t.KeyNames(), x.columns)
		for _, f := range finders(t.columns) {
			asks = asks || f.index == x || f.index.old != nil && f.index.old.asks(x)
		}
		return asks
	})
}

// learn tells the indexes of the rows of a batch.
func (d *decision) learn(ctx context.Context, v *view, columns []*value.Column, out *value.Batch) error {
	if len(d.learners) == 0 {
		return nil
	}
	for _, x := range d.learners {
		if err := d.learnChanged(ctx, x, columns); err != nil {
			return err
		}
		key := d.pick(x.columns, columns)
		if key == nil {
			continue // the step leaves a column of the index blank, so nothing finds its rows
		}
		hashes, err := x.hashes(ctx, d.db, key, nil)
		if err != nil {
			return err
		}
		for row, h := range hashes {
			if h.hi == 0 {
				continue
			}
			if e, ok := d.entry(x, columns, out, row, v); ok {
				if err := x.put(h, e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// pick gives the columns with these names, nil when the step doesn't feed one of them.
func (d *decision) pick(names []string, columns []*value.Column) []*value.Column {
	picked := make([]*value.Column, len(names))
	for i, name := range names {
		at := slices.Index(d.Names(), name)
		if at < 0 {
			return nil
		}
		picked[i] = columns[at]
	}
	return picked
}

// entry is what x must know of a row.
func (d *decision) entry(x *index, columns []*value.Column, out *value.Batch, row int, v *view) (entry, bool) {
	switch verdict(out.Columns[0].Nums[row]) {
	case setAside:
		return entry{isAside, int64(d.feed)<<feedBits | v.rows.Columns[clean.Lines].Nums[row]}, true
	case added:
	default:
		return entry{}, false
	}
	if at := slices.Index(d.Names(), x.yields); at >= 0 {
		ref, ok := x.ref(columns[at], row)
		return entry{touched, ref}, ok
	}
	return entry{touched, out.Columns[1].Nums[row]}, x.yields == "" || x.yields == d.Table.Locator
}

// learnChanged tells an index of the rows that are changed: under which key they were found before, and under which they
// are found from now on.
func (d *decision) learnChanged(ctx context.Context, x *index, columns []*value.Column) error {
	if d.changes == nil || len(d.changes.lastRows) == 0 {
		return nil
	}
	before, after := d.changes.keysOf(d.judged, x, columns)
	was, err := x.hashes(ctx, d.db, value.Pointers(before.Columns), nil)
	if err != nil {
		return err
	}
	is, err := x.hashes(ctx, d.db, value.Pointers(after.Columns), nil)
	if err != nil {
		return err
	}
	for i := range d.changes.lastRows {
		ref, known := d.changes.refOf(d.judged, x, columns, i)
		if !known || x.wide != nil && was[i] == is[i] {
			continue
		}
		if was[i] != is[i] && was[i].hi != 0 {
			err = x.put(was[i], entry{left, ref})
		}
		if is[i].hi != 0 && err == nil {
			err = x.put(is[i], entry{touched, ref})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// keysOf gives the columns of an index for the rows that were changed last, as they were and as they are from now on.
func (c *changes) keysOf(s *judged, x *index, columns []*value.Column) (before, after *value.Batch) {
	types := engine.Types(s.Table, x.columns)
	before, after = value.NewBatch(types), value.NewBatch(types)
	for k, name := range x.columns {
		fed, read := slices.Index(s.Names(), name), slices.Index(c.reads, name)
		for i, row := range c.lastRows {
			from, at := &c.last.Columns[changedBy+len(c.by)+max(read, 0)], i
			if read < 0 { // a part of the key, which never changes
				from, at = columns[fed], row
			}
			before.Columns[k].AppendFrom(from, at)
			if read >= 0 && read < len(c.targets) && among(c.last.Columns[changedMask].Bytes(i), read) {
				from, at = columns[fed], row
			}
			after.Columns[k].AppendFrom(from, at)
		}
	}
	return before, after
}

// refOf is what an index yields for row i of those that were changed last.
func (c *changes) refOf(s *judged, x *index, columns []*value.Column, i int) (ref int64, known bool) {
	if x.yields == "" {
		return 0, true
	}
	if at := slices.Index(c.by, x.yields); at >= 0 {
		return x.ref(&c.last.Columns[changedBy+at], i)
	}
	if at := slices.Index(s.Names(), x.yields); at >= 0 {
		return x.ref(columns[at], c.lastRows[i])
	}
	return 0, false
}
