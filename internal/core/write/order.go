package write

import (
	"cmp"
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// mostInOrder is the number of rows that are put into order at a time, in memory.
const mostInOrder = 8 * engine.BatchRows

// inOrder gives the rows that a step adds in the order that it asks for: they are laid out in stretches of that order on
// disk, which are put into order one by one.
func (w *Writer) inOrder(ctx context.Context, s *judge.Step, yield func(*addedRows, error) bool) {
	o := &layout{columns: sentColumns(s)}
	defer o.close()
	if err := w.layOut(ctx, s, o); err != nil {
		yield(nil, err)
		return
	}
	for _, stretch := range o.stretches {
		goOn, err := stretch.each(o, yield)
		if err != nil {
			yield(nil, err)
		}
		if !goOn || err != nil {
			return
		}
	}
}

// layout is rows by stretches of their order.
type layout struct {
	columns   []string
	stretches []*stretch
}

// stretch is the rows whose ranks follow each other, in the order of the file: their columns, then the number of the
// line and the rank.
type stretch struct {
	spool *spool.Spool
	next  *value.Batch
}

// layOut puts the rows into their stretches.
func (w *Writer) layOut(ctx context.Context, s *judge.Step, o *layout) error {
	types := append(engine.Types(s.Table, o.columns), value.Type{Kind: value.Int}, value.Type{Kind: value.Int})
	for range (s.Tally.Added-1)/mostInOrder + 1 {
		o.stretches = append(o.stretches, &stretch{spool.New("", types), value.NewBatch(types)})
	}
	waiting := min(max(mostInOrder/len(o.stretches), 32), engine.BatchRows) // rows of a stretch, in memory
	ranks, err := s.Ranks()
	if err != nil {
		return err
	}
	lines := s.Lines(ctx).Only(judge.Added)
	for lines.Next() {
		for i := range lines.Len() {
			if lines.Verdict(i) != judge.Added {
				continue
			}
			rank, err := ranks.Next()
			if err != nil {
				return err
			}
			to := o.stretches[*rank/mostInOrder]
			columns := to.next.Columns
			w.add(columns, s, lines, i)
			columns[len(o.columns)].AppendNum(lines.Number(i))
			columns[len(o.columns)+1].AppendNum(*rank)
			if err := to.flush(waiting); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	for _, to := range o.stretches {
		if err := to.flush(1); err != nil {
			return err
		}
	}
	return nil
}

// flush puts the rows that wait on disk, when there are so many.
func (s *stretch) flush(rows int) error {
	if s.next.Len() < rows {
		return nil
	}
	err := s.spool.Append(s.next)
	s.next.Reset()
	return err
}

// each gives the rows of a stretch in their order. It reports whether more is wanted.
func (s *stretch) each(o *layout, yield func(*addedRows, error) bool) (goOn bool, err error) {
	type place struct {
		rank       int64
		batch, row int
	}
	var places []place
	want := make([]int, len(s.spool.Types()))
	for i := range want {
		want[i] = i
	}
	batches := make([]value.Batch, s.spool.Batches())
	for i := range batches {
		if err := s.spool.Read(i, want, &batches[i]); err != nil {
			return false, err
		}
		for row, rank := range batches[i].Columns[len(o.columns)+1].Nums {
			places = append(places, place{rank, i, row})
		}
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(a.rank, b.rank) })
	b := &addedRows{rows: value.NewBatch(s.spool.Types()[:len(o.columns)])}
	for _, p := range places {
		from := batches[p.batch].Columns
		for c := range b.rows.Columns {
			b.rows.Columns[c].AppendFrom(&from[c], p.row)
		}
		if b.lines = append(b.lines, from[len(o.columns)].Nums[p.row]); len(b.lines) < engine.BatchRows {
			continue
		}
		if !yield(b, nil) {
			return false, nil
		}
		b.reset()
	}
	return len(b.lines) == 0 || yield(b, nil), nil
}

func (o *layout) close() {
	for _, s := range o.stretches {
		_ = s.spool.Close() // a temporary file without a name
	}
}
