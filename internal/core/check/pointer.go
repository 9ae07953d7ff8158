package check

import (
	"context"
	"fmt"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// pointer follows one relation: the distinct values of the children are looked up among the parents in bulk.
type pointer struct {
	tx       engine.Tx
	relation schema.Relation
	parent   *schema.Table
	types    []value.Type
	wanted   map[string]bool
	values   *value.Batch
	near     engine.Near
	lost     int64
	lines    []string
}

// mostWanted is the number of values that are looked up at once.
const mostWanted = 1 << 16

func newPointer(tx engine.Tx, r schema.Relation) *pointer {
	p := &pointer{tx: tx, relation: r, parent: r.ParentTable, wanted: map[string]bool{}}
	for _, name := range r.ParentColumns {
		p.types = append(p.types, p.parent.Column(name).Type)
	}
	p.values = value.NewBatch(p.types)
	return p
}

// add takes the values of child rows; a row with a NULL among them refers to nothing and needs nothing.
func (p *pointer) add(ctx context.Context, children *value.Batch) error {
	children = children.As(p.types)
	ids, err := identities(ctx, p.tx, p.parent, p.relation.ParentColumns, children)
	if err != nil {
		return err
	}
	for row, id := range ids {
		if p.wanted[string(id)] || blank(children, row) {
			continue
		}
		p.wanted[string(id)] = true
		for i := range p.values.Columns {
			p.values.Columns[i].AppendFrom(&children.Columns[i], row)
		}
	}
	if len(p.wanted) < mostWanted {
		return nil
	}
	return p.look(ctx)
}

func blank(b *value.Batch, row int) bool {
	return slices.ContainsFunc(b.Columns, func(c value.Column) bool { return c.States[row] == value.Null })
}

// look asks for all values collected so far.
func (p *pointer) look(ctx context.Context) error {
	if len(p.wanted) == 0 {
		return nil
	}
	by := p.relation.ParentColumns
	there := func(b *value.Batch) error {
		ids, err := identities(ctx, p.tx, p.parent, by, b)
		for _, id := range ids {
			delete(p.wanted, string(id))
		}
		return err
	}
	var back value.Batch
	near, err := p.near.Read(ctx, p.tx, p.parent, by, p.values, by, &back)
	switch {
	case err == nil && near:
		err = there(&back)
	case err == nil:
		err = p.tx.Probe(ctx, p.parent, by, p.values, by, there)
	}
	if err != nil {
		return err
	}
	p.lost += int64(len(p.wanted))
	p.tell(ctx)
	clear(p.wanted)
	p.values.Reset()
	return nil
}

func (p *pointer) tell(ctx context.Context) {
	ids, err := identities(ctx, p.tx, p.parent, p.relation.ParentColumns, p.values)
	for row, id := range ids {
		if err == nil && p.wanted[string(id)] && len(p.lines) < mostProblems {
			p.lines = append(p.lines, fmt.Sprintf("%s: %s has no such row",
				describe(p.relation.Columns, p.values.Columns, row), p.parent.Name))
		}
	}
}
