package judge

import (
	"context"
	"errors"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/value"
)

// Lines reads the lines of a step, batch by batch, with what was decided of them:
//
//	lines := step.Lines(ctx)
//	for lines.Next() {
//		for i := range lines.Len() {
//			switch lines.Verdict(i) { … }
//		}
//	}
//	return lines.Err()
//
// What its methods return is good until the next call of Next.
type Lines struct {
	ctx     context.Context
	step    *Step
	only    *Verdict // batches without a line of it are passed over; nil for none of them
	plain   bool     // the columns that are not looked up are read too
	wanted  []int
	lookups []int // the columns of the step that are looked up
	number  int   // of the batch that is read next
	batch   clean.Batch
	found   findingBatch
	decided verdictBatch
	changed changedBatch
	changes int // batches of changes that were read
	values  []*value.Column
	merged  []mergePlace    // the merged lines of the batch
	donors  map[int][]int64 // of these: the line that gives each column its value
	others  reader          // of these lines
	err     error
}

// Lines reads all columns of the step, and those cells of its input besides that are wanted.
func (s *Step) Lines(ctx context.Context, wanted ...int) *Lines { return s.lines(ctx, true, wanted...) }

func (s *Step) lines(ctx context.Context, all bool, wanted ...int) *Lines {
	l := &Lines{ctx: ctx, step: s, plain: all, values: make([]*value.Column, len(s.sources)), others: reader{from: s}}
	var plain []*evaluator
	for i, e := range s.sources {
		switch {
		case e.lookup != nil:
			l.lookups = append(l.lookups, i)
		case all:
			plain = append(plain, e)
		}
	}
	l.wanted = append(cellsOf(plain), wanted...)
	return l
}

// Only has Next pass over batches in which no line has a verdict.
func (l *Lines) Only(v Verdict) *Lines {
	l.only = &v
	return l
}

// Next goes on to the next batch of lines; false at the end, or after an error.
func (l *Lines) Next() bool {
	wanted := false
	for !wanted && l.err == nil && l.number < l.step.rows.Batches() {
		if wanted, l.err = l.judged(l.number); wanted && l.err == nil {
			l.err = l.read(l.number)
		}
		l.number++
	}
	return wanted && l.err == nil
}

// pass goes on to the next batch of lines without reading it.
func (l *Lines) pass() { l.number++ }

// judged reads what was decided of a batch, and reports whether it is wanted.
func (l *Lines) judged(i int) (wanted bool, err error) {
	s := l.step
	if s.verdicts == nil { // it is being decided
		return true, l.ctx.Err()
	}
	if err := s.verdicts.read(i, &l.decided); err != nil {
		return false, err
	}
	wanted = l.only == nil || l.decided.any(*l.only)
	if s.changes != nil && (l.decided.any(Updated) || l.decided.any(Differs)) {
		if l.changes++; wanted {
			err = s.changes.read(l.changes-1, &l.decided, &l.changed)
		}
	}
	return wanted, errors.Join(err, l.ctx.Err())
}

// read reads a batch.
func (l *Lines) read(i int) error {
	s := l.step
	if err := s.rows.Read(i, l.wanted, &l.batch); err != nil {
		return err
	}
	if err := s.findings.read(i, &l.found, l.lookups...); err != nil {
		return err
	}
	for c, e := range s.sources {
		switch {
		case e.lookup != nil:
			l.values[c] = l.found.column(c)
		case l.plain:
			l.values[c] = e.plain(&l.batch)
		}
	}
	return l.mergeIn()
}

// Err is the first error that Next met.
func (l *Lines) Err() error { return l.err }

// Len is the number of lines of the batch.
func (l *Lines) Len() int { return l.batch.Len() }

// Number is the number of line i among all lines of the input.
func (l *Lines) Number(i int) int64 { return l.batch.First + int64(i) }

// Position is that of the record of line i; see source.Record.
func (l *Lines) Position(i int) int64 { return l.batch.Position(i) }

// Verdict is what was decided of line i.
func (l *Lines) Verdict(i int) Verdict { return l.decided.verdict(i) }

// Row is the row that line i is or becomes: the locator of one that is there, or a NewRow. It says nothing of a line
// that has no row, or where the table has no locator.
func (l *Lines) Row(i int) (ref int64, isNew bool) {
	return l.decided.row().Nums[i], l.decided.row().States[i] == value.New
}

// Values are the columns of the step.
func (l *Lines) Values() []*value.Column { return l.values }

// Value holds column c of the step for each line.
func (l *Lines) Value(c int) *value.Column { return l.values[c] }

// Cell holds a cell that was wanted for each line.
func (l *Lines) Cell(c int) *value.Column { return l.batch.Cell(c) }

// Change is what becomes of the row of line i, whose verdict is Updated, or how it differs from the line, for Differs.
func (l *Lines) Change(i int) Change {
	at, _ := slices.BinarySearch(l.changed.lines, i) // they ascend
	return Change{&l.changed, at}
}

// LookedUpCells lists the cells that stand in the file for values that are looked up.
func (s *Step) LookedUpCells() []int {
	var all []int
	for c := range s.Columns {
		if cell := s.cellBehind(c); cell >= 0 {
			all = append(all, cell)
		}
	}
	return all
}

// cellBehind is the cell by which alone column c of the step is looked up; -1 where there is none.
func (s *Step) cellBehind(c int) int {
	l := s.Columns[c].Source.Lookup
	if l == nil || len(l.By) != 1 || l.By[0].Source.Lookup != nil || l.By[0].Source.Constant != nil {
		return -1
	}
	return l.By[0].Source.Cell
}

// NameBehind is what stands in the file for column c of line i, where one cell is looked up for it, and "" elsewhere.
// The Lines must have been told to read LookedUpCells.
func (l *Lines) NameBehind(c, i int) string {
	cell := l.step.cellBehind(c)
	if cell < 0 {
		return ""
	}
	donor := l.Donor(c, i)
	if donor == l.Number(i) {
		return l.Cell(cell).Text(i)
	}
	b, in, err := l.others.stored(donor)
	if err != nil {
		l.err = errors.Join(l.err, err)
		return ""
	}
	return b.lines.Cell(cell).Text(in)
}
