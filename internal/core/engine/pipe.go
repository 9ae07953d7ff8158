package engine

import (
	"context"

	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Pipe lets the server work on one batch while the next is made ready: one piece of work is under way at a time, and
// every method of a Reader but Fold waits for it. The Reader is not embedded, so that none of its methods can go past that.
type Pipe struct {
	reader  Reader
	judge   func(error) error // what the error of a piece of work means
	sending chan error
}

var _ Reader = (*Pipe)(nil)

// NewPipe returns a pipe in front of a reader; judge says what the error of a piece of work means.
func NewPipe(r Reader, judge func(error) error) Pipe { return Pipe{reader: r, judge: judge} }

// Send waits for the work that is under way and starts the next.
func (p *Pipe) Send(work func() error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	answer := make(chan error, 1)
	p.sending = answer
	go func() {
		var err error
		defer func() { answer <- err }()
		defer fault.Recover(&err)
		err = work()
	}()
	return nil
}

// Settle waits for the work that is under way.
func (p *Pipe) Settle() error {
	if p.sending == nil {
		return nil
	}
	err := <-p.sending
	p.sending = nil
	return p.judge(err)
}

// Ahead starts to read what will be needed: work asks the Reader, which is its own until it is back. What Ahead returns waits
// for that, as every other method but Fold does; meanwhile, the caller may do all that asks nothing else of the database.
func (p *Pipe) Ahead(work func(Reader) error) (wait func() error) {
	done, err := make(chan struct{}), error(nil)
	failed := p.Send(func() error {
		defer close(done)
		err = work(p.reader)
		return nil // it is told by wait
	})
	if failed != nil {
		return func() error { return failed }
	}
	return func() error {
		<-done
		return err
	}
}

// Ahead is that of db where it has one, as a Tx has; else what it returns reads by itself.
func Ahead(db Reader, work func(Reader) error) (wait func() error) {
	if able, ok := db.(interface {
		Ahead(work func(Reader) error) (wait func() error)
	}); ok {
		return able.Ahead(work)
	}
	return func() error { return work(db) }
}

// What follows are the methods of the Reader; all but Fold wait until nothing is under way.

// ColumnsOf is that of the Reader.
func (p *Pipe) ColumnsOf(ctx context.Context, t *schema.Table) ([]string, error) {
	if err := p.Settle(); err != nil {
		return nil, err
	}
	return p.reader.ColumnsOf(ctx, t)
}

// Count is that of the Reader.
func (p *Pipe) Count(ctx context.Context, t *schema.Table) (int64, bool, error) {
	if err := p.Settle(); err != nil {
		return 0, false, err
	}
	return p.reader.Count(ctx, t)
}

// CountFrom is that of the Reader.
func (p *Pipe) CountFrom(ctx context.Context, t *schema.Table, first int64) (int64, error) {
	if err := p.Settle(); err != nil {
		return 0, err
	}
	return p.reader.CountFrom(ctx, t, first)
}

// Scan is that of the Reader.
func (p *Pipe) Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.reader.Scan(ctx, t, columns, sink)
}

// Among is that of the Reader.
func (p *Pipe) Among(ctx context.Context, t *schema.Table, condition string, columns []string,
	sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.reader.Among(ctx, t, condition, columns, sink)
}

// Between is that of the Reader.
func (p *Pipe) Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string,
	sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.reader.Between(ctx, t, column, least, most, columns, sink)
}

// Probe is that of the Reader.
func (p *Pipe) Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
	sink func(*value.Batch) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.reader.Probe(ctx, t, by, keys, columns, sink)
}

// Fold is that of the Reader, which waits for nothing.
func (p *Pipe) Fold(ctx context.Context, c *schema.Column, values *value.Column) (*value.Column, error) {
	return p.reader.Fold(ctx, c, values)
}

// Orphans is that of the Reader.
func (p *Pipe) Orphans(ctx context.Context, t *schema.Table, r schema.Relation) (int64, error) {
	if err := p.Settle(); err != nil {
		return 0, err
	}
	return p.reader.Orphans(ctx, t, r)
}

// Broken is that of the Reader.
func (p *Pipe) Broken(ctx context.Context, t *schema.Table, c schema.Check, columns []string,
	rows *value.Batch) ([]Rejection, error) {
	if err := p.Settle(); err != nil {
		return nil, err
	}
	return p.reader.Broken(ctx, t, c, columns, rows)
}

// Ask is that of the Reader.
func (p *Pipe) Ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	if err := p.Settle(); err != nil {
		return err
	}
	return p.reader.Ask(ctx, query, take)
}

// Rows is that of the Reader.
func (p *Pipe) Rows(ctx context.Context, t *schema.Table, shown []DisplayColumn, w Window) ([][]*string, error) {
	if err := p.Settle(); err != nil {
		return nil, err
	}
	return p.reader.Rows(ctx, t, shown, w)
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

// Collect empties into, for columns of t, and returns a sink that gathers batches in it. It takes the memory of the
// first batch and returns that of into for it.
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
