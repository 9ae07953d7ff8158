// Package write brings judged rows into the database.
//
// A [Writer] takes a judgement and a transaction. [Writer.Write] reserves the ids of all rows that are added, removes
// or marks the rows that are gone, adds those that lookups need, and then, step by step in the order of the plan, changes the rows
// that are there and adds the others; each row is sent once, and ready. What it does with rows goes to a [Recorder] as
// well. [Writer.Proof] says what must be true then, for package check.
package write

import (
	"context"
	"fmt"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Writer writes what was judged in one transaction.
type Writer struct {
	Judgement *judge.Judgement
	Tx        engine.Tx
	Rejected  *judge.Rejections // takes the rows that the database rejects
	Recorder  Recorder          // nil where nothing is recorded

	// Progress hears of rows that were written or proved, of so many of a step in all; nil when nobody listens.
	Progress func(phase Phase, step string, rows, of int64)

	// Next hears what rows Tx is given next; nil when nobody listens.
	Next func(Part)

	ids *ids
}

// Part is what is done next with rows of a table.
type Part struct {
	Does   Action
	Step   *judge.Step   // nil for rows that a lookup adds
	Growth *judge.Growth // of rows that a lookup adds
	Lines  []int64       // the line of the input for each row; nil where none stands for it
}

// Action is what is done with rows of a table.
type Action uint8

const (
	Removes Action = iota
	Empties        // a column of rows that are removed next
	Marks
	Changes
	Adds
)

func (w *Writer) next(p Part) {
	if w.Next != nil {
		w.Next(p)
	}
}

// Phase is what is done with rows.
type Phase string

const (
	Writing Phase = "writing"
	Proving Phase = "proving"
)

func (w *Writer) tell(p Phase, s *judge.Step, rows int) {
	if w.Progress != nil {
		w.Progress(p, s.Name, int64(rows), s.Tally.Added+s.Tally.Updated)
	}
}

// Write sends every row once. It stops behind the first step with rows that the database rejects, and reports that
// there are some; they are in Rejected.
func (w *Writer) Write(ctx context.Context) (rejected bool, err error) {
	if w.ids, err = reserve(ctx, w.Tx, w.Judgement); err != nil {
		return false, err
	}
	if err := w.remove(ctx); err != nil {
		return false, err
	}
	if err := w.mark(ctx); err != nil {
		return false, err
	}
	for _, g := range w.Judgement.Growths {
		if rejected, err = w.growth(ctx, g); err != nil || rejected {
			return rejected, err
		}
	}
	for _, s := range w.Judgement.Steps {
		if rejected, err = w.step(ctx, s); err != nil || rejected {
			return rejected, err
		}
	}
	return false, nil
}

// step changes the rows of a step that are there, and adds the others.
func (w *Writer) step(ctx context.Context, s *judge.Step) (rejected bool, err error) {
	sent := func(lines []int64, refused []engine.Rejection) {
		for _, x := range refused {
			w.Rejected.AddLine(s.Number, lines[x.Row], x.Why)
			rejected = true
		}
		w.tell(Writing, s, len(lines))
	}
	by, turn := s.FoundBy(), w.turn(s)
	for r, err := range w.revisions(ctx, s) {
		if err != nil {
			return false, err
		}
		if w.Recorder != nil {
			if err := w.Recorder.Changing(ctx, turn, s.Table, by, r.columns, &r.before); err != nil {
				return false, err
			}
		}
		w.next(Part{Does: Changes, Step: s, Lines: r.lines})
		refused, err := w.Tx.Update(ctx, s.Table, by, r.columns, &r.rows)
		if sent(r.lines, refused); err != nil {
			return false, err
		}
	}
	if rejected {
		return true, nil
	}
	columns := sentColumns(s)
	for b, err := range w.additions(ctx, s) {
		if err != nil {
			return false, err
		}
		w.next(Part{Does: Adds, Step: s, Lines: b.lines})
		refused, err := w.Tx.Insert(ctx, s.Table, columns, b.rows)
		if sent(b.lines, refused); err != nil {
			return false, err
		}
	}
	return rejected, nil
}

// growth adds the rows of a growth.
func (w *Writer) growth(ctx context.Context, g *judge.Growth) (rejected bool, err error) {
	at, columns := 0, growthColumns(g)
	for b := range w.growthRows(g) {
		w.next(Part{Does: Adds, Growth: g})
		refused, err := w.Tx.Insert(ctx, g.Table, columns, b)
		for _, x := range refused {
			w.Rejected.AddName(g, at+x.Row, x.Why)
			rejected = true
		}
		if err != nil {
			return false, err
		}
		at += b.Len()
	}
	return rejected, nil
}

// remove removes what is gone, children before the rows that they refer to; where these are part of a circular
// reference, the column that closes it is emptied first.
func (w *Writer) remove(ctx context.Context) error {
	for _, s := range w.Judgement.Steps {
		if s.Gone.Removed() == 0 {
			continue
		}
		for _, column := range w.circular(s) {
			if err := w.empty(ctx, s, column); err != nil {
				return err
			}
		}
	}
	for _, s := range slices.Backward(w.Judgement.Steps) {
		if s.Gone.Removed() == 0 {
			continue
		}
		keys := s.Gone.Keys
		if s.Gone.By == nil {
			keys = engine.Gathered(keys)
		}
		if err := keys(func(keys *value.Batch) error { return w.removeRows(ctx, s, keys) }); err != nil {
			return err
		}
	}
	return nil
}

func (w *Writer) removeRows(ctx context.Context, s *judge.Step, keys *value.Batch) error {
	by := s.Gone.By
	if w.Recorder != nil {
		if err := w.Recorder.Removing(ctx, turnRemoved, s.Table, by, keys); err != nil {
			return err
		}
	}
	w.next(Part{Does: Removes, Step: s})
	n, err := w.Tx.Remove(ctx, s.Table, by, keys)
	if err == nil && n != int64(keys.Len()) {
		err = &engine.OwnRowError{Table: s.Table.Name, What: "let rows go",
			Why: fmt.Sprintf("of %d rows to be removed, it removed %d", keys.Len(), n)}
	}
	return err
}

// mark marks rows that are gone from the input, and marks others back.
func (w *Writer) mark(ctx context.Context) error {
	for _, s := range w.Judgement.Steps {
		for i, m := range s.Gone.Markings() {
			err := m.Each(func(before, after *value.Batch) error {
				if w.Recorder != nil {
					err := w.Recorder.Changing(ctx, turnMarked+i, m.Table, m.By(), m.Columns, before)
					if err != nil {
						return err
					}
				}
				w.next(Part{Does: Marks, Step: s})
				refused, err := w.Tx.Update(ctx, m.Table, m.By(), m.Columns, after)
				if err == nil && len(refused) > 0 {
					err = fault.New(fault.Wrong, fmt.Sprintf("block %s: the database rejects the mark of a row of %s: %s", s.Name,
						m.Table.Name, refused[0].Why), "change mark: and mark_back: of the block")
				}
				return err
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// circular lists the columns by which rows that are removed refer to others that are removed with them or before them.
func (w *Writer) circular(s *judge.Step) (columns []string) {
	for _, o := range w.Judgement.Steps[s.Number:] {
		if o.Gone.Removed() == 0 {
			continue
		}
		for _, r := range s.Table.Declared() {
			at := slices.IndexFunc(r.Columns, func(c string) bool { return !s.Table.Column(c).Required })
			if r.ParentTable == o.Table && at >= 0 && !slices.Contains(columns, r.Columns[at]) {
				columns = append(columns, r.Columns[at])
			}
		}
	}
	return columns
}

// empty makes a column of the rows that are removed NULL.
func (w *Writer) empty(ctx context.Context, s *judge.Step, column string) error {
	g, t := s.Gone, s.Table
	return g.Keys(func(keys *value.Batch) error {
		if w.Recorder != nil {
			if err := w.Recorder.Emptying(ctx, turnEmptied, t, g.By, column, keys); err != nil {
				return err
			}
		}
		nothing := value.NewColumn(t.Column(column).Type)
		for range keys.Len() {
			nothing.AppendState(value.Null)
		}
		rows := &value.Batch{Columns: append(slices.Clone(keys.Columns), nothing)}
		w.next(Part{Does: Empties, Step: s})
		refused, err := w.Tx.Update(ctx, t, g.By, []string{column}, rows)
		if err == nil && len(refused) > 0 {
			err = &engine.OwnRowError{Table: t.Name, What: "let a row go", Why: refused[0].Why}
		}
		return err
	})
}

// Recorder keeps what is done with rows, so that it can be undone. A turn is the place of what is done in the order of
// writing.
type Recorder interface {
	// Changing is told of rows before columns of them are updated: batch has what finds them, and what these columns
	// hold.
	Changing(ctx context.Context, turn int, t *schema.Table, by, columns []string, batch *value.Batch) error
	// Emptying is told of rows before a column of them is made NULL.
	Emptying(ctx context.Context, turn int, t *schema.Table, by []string, column string, keys *value.Batch) error
	// Removing is told of rows before they are removed. Where nothing tells the rows of t apart, by is nil, and keys are
	// the whole rows.
	Removing(ctx context.Context, turn int, t *schema.Table, by []string, keys *value.Batch) error
	// Added and Changed are told of rows as they were read back after they were written: what finds them, and all that
	// the table keeps of them, which Keeps lists. Where nothing tells added rows apart, by is nil.
	Added(ctx context.Context, turn int, t *schema.Table, by, columns []string, batch *value.Batch) error
	Changed(ctx context.Context, turn int, t *schema.Table, by, columns []string, batch *value.Batch) error
	Keeps(t *schema.Table) []string
	// Uncompared is told of rows that were not read back.
	Uncompared(ctx context.Context, turn int, t *schema.Table, rows int64) error
}

// The turns of what a load does with rows, in the order of writing: what is removed, what is marked and marked back,
// what lookups add, then the steps.
const (
	turnEmptied = iota
	turnRemoved
	turnMarked
	turnMarkedBack
	turnLookups
)

// turn is the turn in which a step changes rows; those that it adds follow in the next one.
func (w *Writer) turn(s *judge.Step) int { return turnLookups + len(w.Judgement.Growths) + 2*s.Number }
