package judge

import (
	"context"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// evaluator returns the values of a source, batch by batch.
type evaluator struct {
	of     plan.Source
	lookup *lookup
	buf    *value.Column // a constant, for each line
}

// evaluator makes what gives the values of a source of a step into t.
func (r *round) evaluator(s plan.Source, t *schema.Table) *evaluator {
	e := &evaluator{of: s}
	if s.Lookup == nil {
		return e
	}
	e.lookup = &lookup{of: s.Lookup, in: r, into: t, index: r.indexOf(s.Lookup)}
	for _, by := range s.Lookup.By {
		e.lookup.by = append(e.lookup.by, r.evaluator(by.Source, t))
	}
	return e
}

// column returns the values for a batch of lines, good until the next but one.
func (e *evaluator) column(ctx context.Context, b *clean.Batch) (*value.Column, error) {
	if e.lookup != nil {
		return e.lookup.column(ctx, b)
	}
	return e.plain(b), nil
}

// plain returns the values of a source that is no lookup.
func (e *evaluator) plain(b *clean.Batch) *value.Column {
	if e.of.Constant == nil {
		return b.Cell(e.of.Cell)
	}
	if e.buf == nil || e.buf.Len() != b.Len() {
		e.buf = &value.Column{Kind: e.of.Constant.Kind, Scale: e.of.Constant.Scale}
		for range b.Len() {
			e.buf.AppendFrom(e.of.Constant, 0)
		}
	}
	return e.buf
}

// evaluate returns the values of all columns of a step, good until the next but one.
func (s *Step) evaluate(ctx context.Context, b *clean.Batch) ([]*value.Column, error) {
	columns := make([]*value.Column, len(s.sources))
	for i, e := range s.sources {
		c, err := e.column(ctx, b)
		if err != nil {
			return nil, err
		}
		columns[i] = c
	}
	return columns, nil
}

// lookupsIn lists the lookups in evaluators, those inside of others first.
func lookupsIn(evaluators []*evaluator) []*lookup {
	var all []*lookup
	for _, e := range evaluators {
		if e.lookup != nil {
			all = append(append(all, lookupsIn(e.lookup.by)...), e.lookup)
		}
	}
	return all
}

// cellsOf lists the cells that evaluators read.
func cellsOf(evaluators []*evaluator) []int {
	var all []int
	for _, e := range evaluators {
		switch {
		case e.lookup != nil:
			all = append(all, cellsOf(e.lookup.by)...)
		case e.of.Constant == nil:
			all = append(all, e.of.Cell)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// pass goes over lines batch by batch, for evaluators that read them. A batch is good until the next but one.
type pass struct {
	*clean.Batch
	turns  [2]clean.Batch
	rows   *clean.Rows
	wanted []int
	number int // of the batch, from 1
}

// pass begins a pass over rows, which reads what evaluators need and the other wanted cells.
func (r *round) pass(rows *clean.Rows, evaluators []*evaluator, wanted ...int) (*pass, error) {
	for _, l := range lookupsIn(evaluators) {
		if err := l.rewind(); err != nil {
			return nil, err
		}
	}
	return &pass{rows: rows, wanted: append(cellsOf(evaluators), wanted...)}, nil
}

// next reads the next batch; false at the end.
func (p *pass) next(ctx context.Context) (bool, error) {
	if p.number == p.rows.Batches() {
		return false, nil
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	p.number++
	p.Batch = &p.turns[p.number%2]
	return true, p.rows.Read(p.number-1, p.wanted, p.Batch)
}
