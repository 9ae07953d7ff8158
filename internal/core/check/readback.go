package check

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ahead"
	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// reader reads what was written back, compares every cell, and collects totals and what the rows refer to.
type reader struct {
	Work
	tx      engine.Tx
	names   []string // what is read: By, Columns, then columns of relations that were not sent
	points  []*pointer
	totals  []*total
	wrong   int64
	missing int64
	cells   int64
	lines   []string
	excused []bool // of names
	near    engine.Near
}

func newReader(tx engine.Tx, w Work) *reader {
	r := &reader{Work: w, tx: tx, names: append(slices.Clone(w.By), w.Columns...)}
	for _, relation := range w.Points {
		r.points = append(r.points, newPointer(tx, relation))
		for _, c := range relation.Columns {
			if !slices.Contains(r.names, c) {
				r.names = append(r.names, c)
			}
		}
	}
	for _, name := range w.Whole {
		if !slices.Contains(r.names, name) {
			r.names = append(r.names, name)
		}
	}
	for _, name := range w.Totals {
		r.totals = append(r.totals, &total{Total: Total{Column: name}})
	}
	for _, name := range r.names {
		r.excused = append(r.excused, slices.Contains(w.Excused, name))
	}
	return r
}

// So many batches, or about so many bytes, are read back in one go.
const (
	mostTogether      = 4
	mostBytesTogether = 2 << 20
)

// readBack reads the rows back and compares them. What is read is ahead of what is noted and followed, and that of what is
// compared; what was sent is made ready for those behind it.
func readBack(ctx context.Context, tx engine.Tx, w Work) (cells, relations Result, err error) {
	r := newReader(tx, w)
	err = ahead.Of(func(give func(both) error) error {
		together := &group{of: r, give: give}
		if err := ahead.Of(copies(w.Sent), func(sent *value.Batch) error { return together.add(ctx, sent) }); err != nil {
			return err
		}
		return together.end(ctx)
	}, func(b both) error {
		r.compare(b.sent, b.back)
		return ctx.Err()
	})
	if err != nil {
		return cells, relations, err
	}
	relations, err = r.relations(ctx)
	return r.result(), relations, err
}

// both is rows as they were sent and as they came back.
type both struct{ sent, back *value.Batch }

// copies gives a copy of each batch that each gives.
func copies(each func(take func(*value.Batch) error) error) func(give func(*value.Batch) error) error {
	return func(give func(*value.Batch) error) error {
		return each(func(b *value.Batch) error { return give(b.Clone()) })
	}
}

// group is batches that are to be read back in one go.
type group struct {
	of     *reader
	give   func(both) error
	sent   []*value.Batch
	size   int
	run    bool  // its rows are a run of locators
	last   int64 // of the run
	before *reading
}

// reading is a group that is read back.
type reading struct {
	sent, back []*value.Batch // there is nothing in back where it takes another way
	wait       func() error
}

// add takes a batch in, and has those before it read when it is none of their run.
func (g *group) add(ctx context.Context, sent *value.Batch) error {
	first, last, run := engine.Run(g.of.Table, g.of.By, g.of.keys(sent))
	full := len(g.sent) == mostTogether || g.size >= mostBytesTogether
	if len(g.sent) > 0 && (full || !run || first != g.last+1) {
		if err := g.read(ctx); err != nil {
			return err
		}
	}
	g.sent, g.size, g.run, g.last = append(g.sent, sent), g.size+sent.Size(), run, last
	if run {
		return nil
	}
	return g.read(ctx)
}

// end reads what is left.
func (g *group) end(ctx context.Context) error {
	if err := g.read(ctx); err != nil || g.before == nil {
		return err
	}
	return g.read(ctx)
}

// read begins to read the group, and sees to the one before it meanwhile.
func (g *group) read(ctx context.Context) error {
	before := g.before
	if before != nil {
		if err := before.wait(); err != nil {
			return err
		}
	}
	if g.before = nil; len(g.sent) > 0 {
		r, sent, run, last := &reading{sent: g.sent}, g.sent, g.run, g.last
		r.wait = g.of.tx.Ahead(func(db engine.Reader) (err error) {
			r.back, err = g.of.back(ctx, db, sent, run, last)
			return err
		})
		g.before = r
	}
	g.sent, g.size = nil, 0
	if before == nil {
		return nil
	}
	return g.see(ctx, before)
}

// see notes the rows of a group and follows their relations, and hands them over to be compared.
func (g *group) see(ctx context.Context, r *reading) error {
	for i, sent := range r.sent {
		back := &value.Batch{}
		if r.back != nil {
			back = r.back[i]
		} else if err := g.of.tx.ReadBack(ctx, g.of.Table, g.of.By, g.of.keys(sent), g.of.names, back); err != nil {
			return err
		}
		if err := g.of.show(back); err != nil {
			return err
		}
		if err := g.of.follow(ctx, back); err != nil {
			return err
		}
		if err := g.give(both{sent, back}); err != nil {
			return err
		}
	}
	return nil
}

// back reads what stands for batches as a part of an index: the run of locators that they are, or the rows whose keys start
// with numbers close together. It gives nothing where there is another number of rows in the run, or the keys are far from
// each other.
func (r *reader) back(ctx context.Context, db engine.Reader, sent []*value.Batch, run bool, last int64) ([]*value.Batch, error) {
	switch {
	case run:
		return r.between(ctx, db, sent, last)
	case len(r.By) > 1:
		back, near, err := r.around(ctx, db, r.keys(sent[0]))
		if !near || err != nil {
			return nil, err
		}
		return []*value.Batch{back}, nil
	}
	return nil, nil
}

// between reads the rows of all batches, a run, in one go; nothing where they are not as many as were sent.
func (r *reader) between(ctx context.Context, db engine.Reader, sent []*value.Batch, last int64) (all []*value.Batch, err error) {
	rows, types := 0, engine.Types(r.Table, r.names)
	for _, b := range sent {
		all, rows = append(all, value.NewBatch(types)), rows+b.Len()
	}
	at := 0 // the batch that gets the next row
	err = db.Between(ctx, r.Table, r.By[0], r.keys(sent[0]).Columns[0].Nums[0], last, r.names, func(b *value.Batch) error {
		if rows -= b.Len(); rows < 0 {
			return nil
		}
		if all[at].Len() == 0 && b.Len() == sent[at].Len() { // as they come from a large table
			all[at].Columns, b.Columns = b.Columns, all[at].Columns
			at++
			return nil
		}
		for row := range b.Len() {
			for c := range b.Columns {
				all[at].Columns[c].AppendFrom(&b.Columns[c], row)
			}
			if all[at].Len() == sent[at].Len() {
				at++
			}
		}
		return nil
	})
	if rows != 0 {
		return nil, err
	}
	return all, err
}

// keys are the columns by which rows are found.
func (r *reader) keys(sent *value.Batch) *value.Batch {
	return &value.Batch{Columns: sent.Columns[:len(r.By)]}
}

// show shows what was read back.
func (r *reader) show(back *value.Batch) error {
	if r.See == nil || back.Len() == 0 {
		return nil
	}
	seen := &value.Batch{Columns: slices.Clone(back.Columns[:len(r.By)])}
	for _, name := range r.Whole {
		seen.Columns = append(seen.Columns, back.Columns[indexOf(r.names, name)])
	}
	return r.See(seen)
}

// unread follows the relations of rows as they were sent.
func unread(ctx context.Context, tx engine.Tx, w Work) (Result, error) {
	r := &reader{Work: w, tx: tx, names: append(slices.Clone(w.By), w.Columns...)}
	for _, relation := range w.Points {
		if !slices.ContainsFunc(relation.Columns, func(c string) bool { return !slices.Contains(r.names, c) }) {
			r.points = append(r.points, newPointer(tx, relation))
		}
	}
	err := w.Sent(func(sent *value.Batch) error { return r.follow(ctx, pointing(sent)) })
	if err != nil {
		return Result{}, err
	}
	return r.relations(ctx)
}

// pointing returns rows that point nowhere where a cell was left as it was.
func pointing(sent *value.Batch) *value.Batch {
	out := &value.Batch{Columns: slices.Clone(sent.Columns)}
	for i := range out.Columns {
		c := &out.Columns[i]
		if !slices.Contains(c.States, Untouched) {
			continue
		}
		c.States = slices.Clone(c.States)
		for row, state := range c.States {
			if state == Untouched {
				c.States[row] = value.Null
			}
		}
	}
	return out
}

// around reads the rows with these keys, which start with numbers close together, from among all rows there, and puts them
// in order; false where they aren't close together.
func (r *reader) around(ctx context.Context, db engine.Reader, keys *value.Batch) (back *value.Batch, near bool, err error) {
	var read value.Batch
	if near, err = r.near.Read(ctx, db, r.Table, r.By, keys, r.names, &read); !near || err != nil {
		return nil, false, err
	}
	places := map[string]int{}
	have, err := identities(ctx, db, r.Table, r.By, &value.Batch{Columns: read.Columns[:len(r.By)]})
	if err != nil {
		return nil, false, err
	}
	for i, id := range have {
		places[string(id)] = i
	}
	wanted, err := identities(ctx, db, r.Table, r.By, keys)
	back = value.NewBatch(engine.Types(r.Table, r.names))
	for _, id := range wanted {
		if at, there := places[string(id)]; there {
			for c := range back.Columns {
				back.Columns[c].AppendFrom(&read.Columns[c], at)
			}
		}
	}
	return back, true, err
}

// compare holds the rows that came back, in the order of those sent, against these.
func (r *reader) compare(sent, back *value.Batch) {
	at := 0
	for row := range sent.Len() {
		if at == back.Len() || !r.sameRow(sent, row, back, at) {
			r.missing++
			r.note(describe(r.By, sent.Columns, row) + " was sent, but does not exist")
			continue
		}
		for c := len(r.By); c < len(sent.Columns); c++ {
			if sent.Columns[c].States[row] == Untouched || r.excused[c] {
				continue
			}
			r.cells++
			if !sent.Columns[c].Same(row, &back.Columns[c], at) {
				r.wrong++
				r.note(fmt.Sprintf("%s: %s was sent as %s, and is %s", describe(r.By, sent.Columns, row), r.names[c],
					show(&sent.Columns[c], row), show(&back.Columns[c], at)))
			}
		}
		at++
	}
	r.addUp(back)
}

// addUp adds rows to the totals.
func (r *reader) addUp(back *value.Batch) {
	for _, t := range r.totals {
		t.add(&back.Columns[indexOf(r.names, t.Column)])
	}
}

func (r *reader) sameRow(sent *value.Batch, row int, back *value.Batch, at int) bool {
	for c := range r.By {
		if !sent.Columns[c].Same(row, &back.Columns[c], at) {
			return false
		}
	}
	return true
}

func (r *reader) note(line string) {
	if len(r.lines) < mostProblems {
		r.lines = append(r.lines, line)
	}
}

func (r *reader) follow(ctx context.Context, back *value.Batch) error {
	for _, p := range r.points {
		columns := make([]value.Column, len(p.relation.Columns))
		for i, name := range p.relation.Columns {
			columns[i] = back.Columns[indexOf(r.names, name)]
		}
		if err := p.add(ctx, &value.Batch{Columns: columns}); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) result() Result {
	res := Result{Check: "cells", Table: r.Table.Name, OK: r.wrong == 0 && r.missing == 0, Problems: r.lines,
		Says: reason.Plural(r.cells, "cell") + " read back, all unchanged", Short: reason.Count(r.cells)}
	res.counted = counted{known: true, cells: r.cells}
	if r.Updated > 0 {
		res.counted.tail = " updated"
		res.Short += res.counted.tail
	}
	if r.cells == 0 {
		res.Short = ""
	}
	if !res.OK {
		res.Says = fmt.Sprintf("%s read back; cells that differ: %s; missing rows: %s", reason.Plural(r.cells, "cell"),
			reason.Count(r.wrong), reason.Count(r.missing))
		res.Problems = append(res.Problems, "something else changes what is written, possibly a trigger; list the "+
			"columns that it may change in changed_by_database:")
	}
	r.excuse(&res)
	for _, t := range r.totals {
		res.Totals = append(res.Totals, t.result())
	}
	return res
}

// excuse says which columns were not compared.
func (w Work) excuse(res *Result) {
	if len(w.Excused) > 0 {
		says := "not compared because of changed_by_database: " + strings.Join(w.Excused, ", ")
		res.Says, res.Warnings = res.Says+"; "+says, append(res.Warnings, says)
	}
}

func (r *reader) relations(ctx context.Context) (Result, error) {
	res := Result{Check: "relations", Table: r.Table.Name, OK: true}
	var names []string
	for _, p := range r.points {
		if err := p.look(ctx); err != nil {
			return res, err
		}
		names = append(names, strings.Join(p.relation.Columns, "+")+" -> "+p.relation.Parent)
		res.Short = strings.Join(names, ", ")
		if p.lost > 0 {
			res.OK = false
			res.Problems = append(res.Problems, p.lines...)
		}
	}
	switch {
	case !res.OK:
		res.Says = "rows refer to no row"
	case len(names) == 0:
		res.Says = "has no foreign keys"
	default:
		res.Says = strings.Join(names, ", ") + ": every row finds one"
	}
	return res, nil
}
