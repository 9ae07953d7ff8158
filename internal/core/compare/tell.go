package compare

import (
	"context"
	"fmt"
	"strings"

	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// tell goes through the lines of the new file that changed or came, and then through those of the old file that went.
func (c *comparison) tell(ctx context.Context, p *pairs) error {
	earlier, err := c.carry(ctx, p)
	defer closeAll(earlier)
	if err != nil {
		return err
	}
	var span *held
	err = c.lines(ctx, recent, func(first int64, n int) bool {
		return p.changed[recent].Any(first, n) || p.came.Any(first, n)
	}, func(b *value.Batch, i int, row int64) error {
		switch {
		case p.came.Has(row):
			return c.alone(Came, b, i)
		case !p.changed[recent].Has(row):
			return nil
		}
		if at := row / p.span; span == nil || span.at != at {
			if span, err = hold(earlier[at], at); err != nil {
				return err
			}
		}
		return c.changed(span, b, i, row)
	})
	if err != nil || c.Each == nil {
		return err
	}
	return c.lines(ctx, old, p.went.Any, func(b *value.Batch, i int, row int64) error {
		if !p.went.Has(row) {
			return nil
		}
		return c.alone(Went, b, i)
	})
}

// lines gives take the lines of those batches of a file that are wanted.
func (c *comparison) lines(ctx context.Context, of int, wanted func(first int64, n int) bool,
	take func(b *value.Batch, i int, row int64) error) error {
	rows := c.sides[of].rows
	columns := upTo(len(rows.Types()))
	b := &value.Batch{}
	for k := range rows.Batches() {
		if err := ctx.Err(); err != nil {
			return err
		}
		first := rows.First(k)
		if !wanted(first, rows.Len(k)) {
			continue
		}
		if err := rows.Read(k, columns, b); err != nil {
			return err
		}
		for i := range rows.Len(k) {
			if err := take(b, i, first+int64(i)); err != nil {
				return err
			}
		}
	}
	return nil
}

func upTo(n int) []int {
	all := make([]int, n)
	for i := range all {
		all[i] = i
	}
	return all
}

// carriedBatch is the number of lines that are carried at a time.
const carriedBatch = 256

// carry brings what the old lines that changed hold to where the new ones stand: spools by the new line, with its
// number, where the old one stands, and its cells.
func (c *comparison) carry(ctx context.Context, p *pairs) ([]*spool.Spool, error) {
	kept := types(2, len(c.made.Columns))
	spools, pending := make([]*spool.Spool, len(p.byOld)), make([]*value.Batch, len(p.byOld))
	flush := func(at int64) error {
		err := spools[at].Append(pending[at])
		pending[at].Reset()
		return err
	}
	newOf, at := make([]int64, 0, p.span), int64(-1)
	err := c.lines(ctx, old, p.changed[old].Any, func(b *value.Batch, i int, row int64) (err error) {
		if !p.changed[old].Has(row) {
			return nil
		}
		if row/p.span != at {
			at, newOf = row/p.span, newOf[:p.span]
			err = p.byOld[at].Each(func(x *pair) error {
				newOf[x.Old%p.span] = x.New
				return nil
			})
			if err != nil {
				return err
			}
		}
		after := newOf[row%p.span]
		to := after / p.span
		if spools[to] == nil {
			spools[to], pending[to] = spool.New(c.Dir, kept), value.NewBatch(kept)
		}
		columns := pending[to].Columns
		columns[0].AppendNum(after)
		for k := range b.Columns {
			columns[1+k].AppendFrom(&b.Columns[k], i)
		}
		if pending[to].Len() < carriedBatch {
			return nil
		}
		return flush(to)
	})
	for to, s := range spools {
		if s != nil && err == nil && pending[to].Len() > 0 {
			err = flush(int64(to))
		}
	}
	return spools, err
}

func closeAll(spools []*spool.Spool) {
	for _, s := range spools {
		if s != nil {
			s.Close()
		}
	}
}

// held are the old lines of a span of new ones.
type held struct {
	at      int64
	batches []*value.Batch
	of      map[int64]where // by the new line
}

// where is the place of a line in batches.
type where struct{ batch, row int }

func hold(s *spool.Spool, at int64) (*held, error) {
	h := &held{at: at, of: make(map[int64]where, s.Rows())}
	columns := upTo(len(s.Types()))
	for k := range s.Batches() {
		b := &value.Batch{}
		if err := s.Read(k, columns, b); err != nil {
			return nil, err
		}
		for i, after := range b.Columns[0].Nums {
			h.of[after] = where{k, i}
		}
		h.batches = append(h.batches, b)
	}
	return h, nil
}

// changed tells of a line that changed, and counts its cells.
func (c *comparison) changed(span *held, b *value.Batch, i int, row int64) error {
	at := span.of[row]
	before := span.batches[at.batch]
	d := Difference{What: Changed, OldLine: lineOf(before.Columns[1].Nums[at.row]),
		NewLine: lineOf(b.Columns[0].Nums[i])}
	for k := range c.made.Columns {
		was, is := before.Columns[2+k].Bytes(at.row), b.Columns[1+k].Bytes(i)
		if string(was) == string(is) {
			continue
		}
		c.made.Columns[k].Changed++
		if c.Each != nil {
			d.Cells = append(d.Cells, Cell{c.made.Columns[k].Name, string(was), string(is)})
		}
	}
	if c.Each == nil {
		return nil
	}
	d.Key = c.keyOf(b, i)
	return c.Each(d)
}

// alone tells of a line that came or went.
func (c *comparison) alone(what What, b *value.Batch, i int) error {
	if c.Each == nil {
		return nil
	}
	d := Difference{What: what, Key: c.keyOf(b, i)}
	line := lineOf(b.Columns[0].Nums[i])
	for k, column := range c.made.Columns {
		text := string(b.Columns[1+k].Bytes(i))
		switch {
		case text == "":
		case what == Came:
			d.NewLine, d.Cells = line, append(d.Cells, Cell{Column: column.Name, After: text})
		default:
			d.OldLine, d.Cells = line, append(d.Cells, Cell{Column: column.Name, Before: text})
		}
	}
	return c.Each(d)
}

// keyOf is the key of a line in words.
func (c *comparison) keyOf(b *value.Batch, i int) string {
	if len(c.Key) == 0 {
		return ""
	}
	var cells []string
	for _, k := range c.key {
		cells = append(cells, fmt.Sprintf("%s %s", c.made.Columns[k].Name, b.Columns[1+k].Bytes(i)))
	}
	return strings.Join(cells, ", ")
}

func lineOf(position int64) int64 {
	_, line := source.PositionIn(position)
	return line
}
