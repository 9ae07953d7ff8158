package clean

import (
	"context"
	"slices"

	"ladle/internal/core/formula"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Cells cleans records one after the other by a recipe, without types to read them as.
type Cells struct {
	cleaner *rowCleaner
	width   int // the columns that have names
}

// NewCells makes Cells for all columns of a recipe. What as_in_lines_with_same needs must have been gathered; see
// Gather.
func (r *Recipe) NewCells() *Cells {
	all := make([]int, len(r.columns))
	for i := range all {
		all[i] = i
	}
	return &Cells{r.newRowCleaner(r.closure(all), 0), len(r.Names())}
}

// Begin starts a chunk of the table.
func (c *Cells) Begin(chunk *source.Chunk) {
	c.cleaner.begin(chunk.Origin)
	chunk.KeepPassed = c.cleaner.aboveOf != nil
}

// Pass goes over the lines before a record that make none.
func (c *Cells) Pass(r *source.Record) { c.cleaner.pass(r.Passed) }

// Unread notes that the next record has not the shape of the input.
func (c *Cells) Unread() { c.cleaner.unread() }

// CellError is a cell that is bad, or that makes others bad.
type CellError struct {
	Column int
	Cell   string // as it stands in the file
	Why    reason.Cause
}

// Clean cleans the cells of a record, and reports whether the row is kept. The record must have the shape of the input.
func (c *Cells) Clean(r *source.Record) (keep bool) {
	c.cleaner.row(r)
	return c.cleaner.keeps()
}

// Bad lists the cells that are to blame, each once.
func (c *Cells) Bad() (all []CellError) {
	for i := range c.cleaner.cells {
		if x := &c.cleaner.cells[i]; x.state == value.Bad {
			b := CellError{x.blame, string(c.cleaner.cells[x.blame].raw), *x.why}
			if !slices.Contains(all, b) {
				all = append(all, b)
			}
		}
	}
	return all
}

// Append adds the cell of column i in its canonical text to buf, and says what it is; nothing for a blank or bad one.
func (c *Cells) Append(buf []byte, i int) ([]byte, formula.Kind, value.State) {
	x := &c.cleaner.cells[i]
	if x.state != value.Given {
		return buf, x.form, x.state
	}
	return x.plain(buf), x.form, x.state
}

// Gather reads the table for what as_in_lines_with_same needs, and returns the table to be read then; told, when not
// nil, hears of the bytes of the files that are done.
func (r *Recipe) Gather(ctx context.Context, t source.Table, told func(done int64)) (source.Table, error) {
	return r.gatherAll(ctx, t, told)
}

// Table returns the rows that the recipe makes of those of t, which was given by Gather: cells in their canonical text,
// bad ones as faults; rows that are left out are not in it.
func (r *Recipe) Table(t source.Table) source.Table {
	header := source.Header{Names: r.Names(), Line: t.Header().Line}
	return source.Map(t, header, func(c *source.Chunk) source.Mapping {
		cells := r.NewCells()
		cells.Begin(c)
		return &mapping{cells: cells}
	})
}

// mapping makes cleaned records.
type mapping struct {
	cells  *Cells
	buf    []byte
	fields [][]byte
	stored []source.Stored
}

// storedAs is as what cells of a form would be stored in a workbook.
var storedAs = map[formula.Kind]source.Stored{formula.Text: source.StoredText, formula.Number: source.StoredNumber,
	formula.Moment: source.StoredMoment, formula.Truth: source.StoredTruth}

// Map cleans a record.
func (m *mapping) Map(r *source.Record) bool {
	m.cells.Pass(r)
	if r.Dropped {
		return false
	}
	if source.Misshapen(r, m.cells.cleaner.file) != nil {
		m.cells.Unread()
		return true
	}
	if !m.cells.Clean(r) {
		return false
	}
	if r.Keep {
		m.buf, m.fields = nil, nil
	}
	m.buf, m.fields, m.stored = m.buf[:0], m.fields[:0], m.stored[:0]
	r.Faults = nil
	for i := range m.cells.width {
		m.cell(r, i)
	}
	if r.Fields, r.Raw = m.fields, nil; r.Stored != nil {
		r.Stored = m.stored
	}
	return true
}

// cell adds the cleaned cell of a column.
func (m *mapping) cell(r *source.Record, i int) {
	at := len(m.buf)
	var form formula.Kind
	var state value.State
	m.buf, form, state = m.cells.Append(m.buf, i)
	kind := storedAs[form]
	x := &m.cells.cleaner.cells[i]
	switch c := &m.cells.cleaner.columns[i]; {
	case state == value.Null:
		kind = source.StoredBlank
	case state == value.Bad:
		m.buf = append(m.buf, x.raw...)
		kind = source.StoredFault
		r.Faults = append(r.Faults, source.Fault{Field: i, Why: x.why})
	case c.bare && c.from.field >= 0 && r.Stored != nil:
		kind = r.Stored[c.from.field]
	}
	m.fields = append(m.fields, m.buf[at:len(m.buf):len(m.buf)])
	m.stored = append(m.stored, kind)
}
