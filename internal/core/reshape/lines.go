package reshape

import (
	"bytes"
	"slices"
	"strconv"

	"ladle/internal/core/source"
)

// copier copies what lines have in common with the record that they are made of.
type copier struct {
	width int   // of the record
	kept  []int // the fields that are copied
	base  *source.Record
	whole bool // the record can't be trusted: it is handed on as it is, once
}

// take notes the record, and reports whether lines can be made of it.
func (c *copier) take(r *source.Record) bool {
	c.base = r
	c.whole = r.Dropped || source.Misshapen(r, c.width) != nil
	return !c.whole
}

// misshapen hands on a record that can't be trusted; false when it was handed on before.
func (c *copier) misshapen(r *source.Record) bool {
	if !c.whole {
		return false
	}
	c.whole = false
	r.Position, r.Raw, r.Dropped = c.base.Position, c.base.Raw, c.base.Dropped
	r.Fields = append(r.Fields[:0], c.base.Fields...)
	r.Faults, r.Stored, r.From = append(r.Faults[:0], c.base.Faults...), nil, nil
	r.Problem = source.Misshapen(c.base, c.width)
	return true
}

// pass makes a line of a record that makes none, with so many blank fields behind what is copied.
func (c *copier) pass(of, r *source.Record, blank int) {
	base := c.base
	defer func() { c.base = base }()
	if c.base = of; source.Misshapen(of, c.width) != nil {
		return
	}
	c.begin(r)
	for range blank {
		c.add(r, nil, source.StoredBlank)
	}
}

// begin starts a line.
func (c *copier) begin(r *source.Record) {
	r.Position, r.Raw, r.Problem, r.Dropped = c.base.Position, nil, nil, false
	r.Fields, r.Faults, r.From = r.Fields[:0], r.Faults[:0], r.From[:0]
	if r.Stored = r.Stored[:0]; c.base.Stored != nil && r.Stored == nil {
		r.Stored = []source.Stored{}
	}
	if c.base.Stored == nil {
		r.Stored = nil
	}
	for _, i := range c.kept {
		c.field(r, i)
	}
}

// field adds a field of the record, a blank one for -1.
func (c *copier) field(r *source.Record, i int) {
	if i < 0 {
		c.add(r, nil, source.StoredBlank)
		return
	}
	for _, f := range c.base.Faults {
		if f.Field == i {
			r.Faults = append(r.Faults, source.Fault{Field: len(r.Fields), Why: f.Why})
		}
	}
	kind := source.StoredText
	if c.base.Stored != nil {
		kind = c.base.Stored[i]
	}
	c.add(r, c.base.Fields[i], kind)
	from := i
	if c.base.From != nil {
		from = c.base.From[i]
	}
	r.From[len(r.From)-1] = from
}

// add adds a field that the file doesn't have.
func (c *copier) add(r *source.Record, text []byte, kind source.Stored) {
	r.Fields, r.From = append(r.Fields, text), append(r.From, -1)
	if c.base.Stored != nil {
		r.Stored = append(r.Stored, kind)
	}
}

// columnsToRows makes lines of columns.
type columnsToRows struct {
	copier
	lines  []line
	blanks bool
	counts *source.Counts
	next   int
}

// Take is given a record.
func (e *columnsToRows) Take(r *source.Record, c *source.Counts) {
	e.next, e.counts = 0, c
	if !e.take(r) {
		e.next = len(e.lines)
	}
}

// Next makes the line of the next column, or columns.
func (e *columnsToRows) Next(r *source.Record) bool {
	if e.misshapen(r) {
		return true
	}
	for e.base != nil && e.next < len(e.lines) {
		l := &e.lines[e.next]
		e.next++
		if !e.blanks && e.blank(l) {
			e.counts.Unmade++
			continue
		}
		e.begin(r)
		e.add(r, l.called, source.StoredText)
		for _, i := range l.fields {
			e.field(r, i)
		}
		return true
	}
	return false
}

// Passed makes a line of a record that makes none.
func (e *columnsToRows) Passed(of, r *source.Record) { e.pass(of, r, 1+len(e.lines[0].fields)) }

// blank reports whether all cells of a line are.
func (e *columnsToRows) blank(l *line) bool {
	for _, i := range l.fields {
		if i >= 0 && (len(bytes.TrimSpace(e.base.Fields[i])) > 0 ||
			slices.ContainsFunc(e.base.Faults, func(f source.Fault) bool { return f.Field == i })) {
			return false
		}
	}
	return true
}

// partsToRows makes lines of the parts of a cell.
type partsToRows struct {
	copier
	at      int
	between []byte
	number  bool
	parts   [][]byte
	next    int
	list    bool // the cell is a list of JSON
}

// Take is given a record.
func (e *partsToRows) Take(r *source.Record, _ *source.Counts) {
	e.next, e.parts, e.list = 0, e.parts[:0], false
	if !e.take(r) {
		return
	}
	cell := r.Fields[e.at]
	if list, ok := source.JSONList(cell); ok && len(e.between) == 0 {
		e.list = true
		e.parts = append(e.parts, list...)
	} else if len(e.between) == 0 {
		e.parts = append(e.parts, cell)
	} else {
		for part := range bytes.SplitSeq(cell, e.between) {
			e.parts = append(e.parts, bytes.TrimSpace(part))
		}
	}
	e.parts = slices.DeleteFunc(e.parts, func(part []byte) bool { return len(part) == 0 })
	if len(e.parts) == 0 {
		e.parts = append(e.parts, nil) // a blank cell makes one line
	}
}

// Passed makes a line of a record that makes none.
func (e *partsToRows) Passed(of, r *source.Record) {
	blank := 0
	if e.number {
		blank = 1
	}
	e.pass(of, r, blank)
}

// Next makes the line of the next part.
func (e *partsToRows) Next(r *source.Record) bool {
	if e.misshapen(r) {
		return true
	}
	if e.next == len(e.parts) {
		return false
	}
	e.begin(r)
	if part := e.parts[e.next]; len(e.parts) > 1 || e.list {
		r.Fields[e.at] = part
		if r.Stored != nil {
			r.Stored[e.at] = source.StoredText
		}
	}
	e.next++
	if e.number {
		e.add(r, strconv.AppendInt(nil, int64(e.next), 10), source.StoredNumber)
	}
	return true
}
