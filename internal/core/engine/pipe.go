package engine

import (
	"context"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Pipe lets the server work on one batch while the next is made ready: one piece of work is under way at a time. Its
// reading methods wait for that, and hand on to the Reader.
type Pipe struct {
	Reader
	Judge   func(error) error // what the error of a piece of work means
	sending chan error
}

// Send waits for the work that is under way and starts the next.
func (p *Pipe) Send(work func() error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	answer := make(chan error, 1)
	p.sending = answer
	go func() { answer <- work() }()
	return nil
}

// Settle waits for the work that is under way.
func (p *Pipe) Settle() error {
	if p.sending == nil {
		return nil
	}
	err := <-p.sending
	p.sending = nil
	return p.Judge(err)
}

// Count is that of the Reader once nothing is under way.
func (p *Pipe) Count(ctx context.Context, t *schema.Table) (int64, bool, error) {
	if err := p.Settle(); err != nil {
		return 0, false, err
	}
	return p.Reader.Count(ctx, t)
}

// CountFrom is that of the Reader once nothing is under way.
func (p *Pipe) CountFrom(ctx context.Context, t *schema.Table, first int64) (int64, error) {
	if err := p.Settle(); err != nil {
		return 0, err
	}
	return p.Reader.CountFrom(ctx, t, first)
}

// Reserve is that of the Reader once nothing is under way.
func (p *Pipe) Reserve(ctx context.Context, t *schema.Table, n, past int64) ([]Span, error) {
	if err := p.Settle(); err != nil {
		return nil, err
	}
	return p.Reader.Reserve(ctx, t, n, past)
}

// Scan is that of the Reader once nothing is under way.
func (p *Pipe) Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.Reader.Scan(ctx, t, columns, sink)
}

// Among is that of the Reader once nothing is under way.
func (p *Pipe) Among(ctx context.Context, t *schema.Table, condition string, columns []string, sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.Reader.Among(ctx, t, condition, columns, sink)
}

// Between is that of the Reader once nothing is under way.
func (p *Pipe) Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string, sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.Reader.Between(ctx, t, column, least, most, columns, sink)
}

// Probe is that of the Reader once nothing is under way.
func (p *Pipe) Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string, sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.Reader.Probe(ctx, t, by, keys, columns, sink)
}

// Ask is that of the Reader once nothing is under way.
func (p *Pipe) Ask(ctx context.Context, query string, take func(columns []string, row []*string) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.Reader.Ask(ctx, query, take)
}

// Types lists the types of columns of t; a name that is none of its columns, as that of a hidden row number, is a whole
// number.
func Types(t *schema.Table, columns []string) []value.Type {
	all := make([]value.Type, len(columns))
	for i, name := range columns {
		all[i] = value.Type{Kind: value.Int}
		if c := t.Column(name); c != nil {
			all[i] = c.Type
		}
	}
	return all
}

// Collect empties into, for columns of t, and gives a sink that gathers batches in it. It takes the memory of the
// first batch and gives that of into for it.
func Collect(into *value.Batch, t *schema.Table, columns []string) func(*value.Batch) error {
	*into = *value.NewBatch(Types(t, columns))
	return func(b *value.Batch) error {
		if into.Len() == 0 {
			into.Columns, b.Columns = b.Columns, into.Columns
			return nil
		}
		for c := range b.Columns {
			for i := range b.Len() {
				into.Columns[c].AppendFrom(&b.Columns[c], i)
			}
		}
		return nil
	}
}
