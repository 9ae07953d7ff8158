package judge

import (
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/value"
)

// learn tells the indexes of the lines of a batch.
func (d *decision) learn(ctx context.Context, lines *Lines, made *verdictBatch, changed *changedBatch) error {
	for _, x := range d.learners {
		if changed != nil && len(changed.lines) > 0 {
			if err := d.learnChanged(ctx, x, lines, made, changed); err != nil {
				return err
			}
		}
		key := d.step.pick(x.Columns, lines.Values())
		if key == nil || !made.any(Added) && !made.any(SetAside) {
			continue // the step leaves a column of the index blank, so nothing finds its rows, or it has none to tell of
		}
		hashes, err := x.Hashes(ctx, d.Database, key, nil)
		if err != nil {
			return err
		}
		yields := slices.Index(d.step.Names(), x.Yields)
		for i, h := range hashes {
			if h.None() {
				continue
			}
			if e, ok := d.entry(x, yields, lines, made, i); ok {
				if err := x.Put(h, e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// pick returns the columns with these names, nil when the step doesn't feed one of them.
func (s *Step) pick(names []string, columns []*value.Column) []*value.Column {
	picked := make([]*value.Column, len(names))
	for i, name := range names {
		at := slices.Index(s.Names(), name)
		if at < 0 {
			return nil
		}
		picked[i] = columns[at]
	}
	return picked
}

// entry is what x must know of a line; yields is the column of the step whose value x yields, -1 where the file doesn't feed it.
func (d *decision) entry(x *index, yields int, lines *Lines, made *verdictBatch, i int) (keyindex.Entry, bool) {
	switch made.verdict(i) {
	case SetAside:
		return keyindex.Entry{State: keyindex.SetAside, Ref: refOfLine(d.step.Feed.Number, lines.Position(i))}, true
	case Added:
	default:
		return keyindex.Entry{}, false
	}
	if yields >= 0 {
		ref, ok := x.Ref(lines.Value(yields), i)
		return keyindex.Entry{State: keyindex.Touched, Ref: ref}, ok
	}
	e := keyindex.Entry{State: keyindex.Touched}
	if x.Yields == "" {
		return e, true
	}
	row := made.row()
	e.Ref, e.New = row.Nums[i], row.States[i] == value.New
	return e, x.Yields == d.step.Table.Locator
}

// learnChanged tells an index of the rows that change: under which key they were found before, and under which they are
// found from now on.
func (d *decision) learnChanged(ctx context.Context, x *index, lines *Lines, made *verdictBatch,
	changed *changedBatch) error {
	before, after := d.keysOf(x, lines, changed)
	was, err := x.Hashes(ctx, d.Database, value.Pointers(before.Columns), nil)
	if err != nil {
		return err
	}
	is, err := x.Hashes(ctx, d.Database, value.Pointers(after.Columns), nil)
	if err != nil {
		return err
	}
	for at := range changed.lines {
		e, known := d.entryOfChange(x, lines, changed, at)
		if made.verdict(changed.lines[at]) != Updated || !known || x.Wide() && was[at] == is[at] {
			continue
		}
		if was[at] != is[at] && !was[at].None() {
			left := e
			left.State = keyindex.Left
			err = x.Put(was[at], left)
		}
		if !is[at].None() && err == nil {
			err = x.Put(is[at], e)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// keysOf returns the columns of an index for the rows that change, as they were and as they are from now on.
func (d *decision) keysOf(x *index, lines *Lines, changed *changedBatch) (before, after *value.Batch) {
	s, c := d.step, d.step.changes
	types := engine.Types(s.Table, x.Columns)
	before, after = value.NewBatch(types), value.NewBatch(types)
	targets := s.TargetNames()
	for k, name := range x.Columns {
		fed, target, also := slices.Index(s.Names(), name), slices.Index(targets, name), slices.Index(c.also, name)
		for at, line := range changed.lines {
			change := Change{changed, at}
			switch {
			case target >= 0:
				change.Before(target, &before.Columns[k])
			case also >= 0:
				before.Columns[k].AppendFrom(&changed.batch.Columns[c.alsoAt(also)], at)
			default: // a part of the key, which never changes
				before.Columns[k].AppendFrom(lines.Value(fed), line)
			}
			if target >= 0 && change.Has(target) {
				after.Columns[k].AppendFrom(lines.Value(fed), line)
			} else {
				after.Columns[k].AppendFrom(&before.Columns[k], before.Columns[k].Len()-1)
			}
		}
	}
	return before, after
}

// entryOfChange is what an index knows of a row that changes.
func (d *decision) entryOfChange(x *index, lines *Lines, changed *changedBatch, at int) (e keyindex.Entry, known bool) {
	e.State = keyindex.Touched
	if x.Yields == "" {
		return e, true
	}
	c := d.step.changes
	if b := slices.Index(c.by, x.Yields); b >= 0 {
		from := &changed.batch.Columns[c.byAt(b)]
		if from.States[at] == value.New {
			e.Ref, e.New = from.Nums[at], true
			return e, true
		}
		e.Ref, known = x.Ref(from, at)
		return e, known
	}
	if fed := slices.Index(d.step.Names(), x.Yields); fed >= 0 {
		e.Ref, known = x.Ref(lines.Value(fed), changed.lines[at])
		return e, known
	}
	return e, false
}
