package source

import (
	"bytes"
	"hash/maphash"
	"slices"

	"ladle/internal/core/reason"
)

// Origin is where a chunk stands among the files of its table.
type Origin struct {
	Offset int64
	Length int
	Line   int64 // the line on which it starts, from 1
	File   int   // from 0
	Done   int64 // the bytes of the files that were read to get behind it
	most   int64 // the number of records that are wanted of it; 0 for all
	sum    uint64
}

// Chunk is a run of whole records.
type Chunk struct {
	Raw    []byte // text, or the part of a sheet's XML
	Origin Origin
	Counts Counts
	rows   rows
	err    error
	seed   maphash.Seed
	buf    []byte      // the memory that Raw stands in, when nothing else does
	free   chan []byte // where that goes for another chunk
	wanted []int       // for each column of the table, its position in the file; nil when they are in order
	maps   []Mapping

	// KeepPassed has the records that make none of their own in an expansion given with the next one that does.
	KeepPassed bool
	expansions []*expansion
	parts      int // records that were made of the last line
}

// Counts is what was met in a chunk so far, besides its records.
type Counts struct {
	Records  int64
	Blank    int64 // lines passed over because they hold nothing
	Comments int64 // lines passed over because they are comments
	Short    int64 // lines whose missing cells are taken as blank
	Loose    int64 // lines with blanks beside quotes, which are no part of the values
	Hidden   int64 // hidden rows
	Formulas int64 // cells that a formula gives its value
	Merged   int64 // cells that stand for several
	Down     []int // the columns of a table, from 0, with cells that stand for those of several rows
	Unmade   int64 // blank cells that would have made a record of their own
	last     int64 // the last row
}

// Seal returns the origin of the chunk, by which it can be read again.
func (c *Chunk) Seal() Origin {
	c.Origin.sum = maphash.Bytes(c.seed, c.Raw)
	return c.Origin
}

// Release gives the memory of the chunk back, when nobody uses it any more.
func (c *Chunk) Release() {
	if c.buf != nil {
		select {
		case c.free <- c.buf:
		default:
		}
	}
	if l, ok := c.rows.(*lines); ok {
		l.letGo()
	}
	c.Raw, c.buf, c.rows = nil, nil, nil
}

// Err is why the chunk could not be read to its end, once Next gave false; nil for most.
func (c *Chunk) Err() error { return c.err }

// rows reads records one after the other.
type rows interface {
	// next reads the next record; false at the end.
	next(c *Chunk, r *Record) bool
}

// Record is one record of a file. Its memory is the chunk's, and good until the next record is read into it.
type Record struct {
	Position int64 // the file and the line or row on which it starts
	// of text: as it stands in the file, without the end of the line; nil where that says less than the fields
	Raw     []byte
	Fields  [][]byte      // what the cells hold, with quotes taken off, in the order of the table's header
	Problem *reason.Cause // why the fields can't be trusted; nil when they can
	Faults  []Fault       // cells that can't be trusted
	Stored  []Stored      // of a sheet: as what each cell is stored; nil for text
	Dropped bool          // a person has dropped the line: it counts as left out
	Gap     bool          // blank lines or rows stand above it, in its chunk
	Part    int           // its number, from 1, among those that are made of a line; 0 where it is the line
	Passed  []Record      // those between the last one and this one that make none, if the chunk keeps them
	From    []int         // the fields of the file in which the cells stand, -1 for none; nil where they are the same

	// Keep makes the fields of all records of a chunk good as long as the chunk is.
	Keep bool

	beyond int64 // fields behind those that are kept

	buf []byte   // for fields that don't stand in the file as they are
	own *readers // while mappings show other memory
}

// Fault is a cell that can't be trusted.
type Fault struct {
	Field int
	Why   *reason.Cause
}

// Stored is as what a cell of a sheet is stored.
type Stored byte

const (
	StoredBlank Stored = iota
	StoredText
	StoredNumber
	StoredMoment // a number that its format shows as a date or time
	StoredTruth
	StoredFault // it can't be trusted
)

// Next reads the next record of the chunk into r; false when there is none.
func (c *Chunk) Next(r *Record) bool {
	for c.expanded(len(c.expansions), r) {
		if r.Part = 0; len(c.expansions) > 0 && r.Problem == nil {
			c.parts++
			r.Part = c.parts
		}
		if c.mapped(r) {
			return true
		}
	}
	return false
}

// read reads the next record of the file into r.
func (c *Chunk) read(r *Record) bool {
	if r.reset(); c.Origin.most > 0 && c.Counts.Records == c.Origin.most {
		return false
	}
	blank, last := c.Counts.Blank, c.Counts.last
	if !c.rows.next(c, r) {
		return false
	}
	r.Gap = c.Counts.Records > 0 && (c.Counts.Blank > blank || c.Counts.last > last+1)
	c.Counts.Records++
	c.parts = 0
	r.Position |= int64(c.Origin.File) << lineBits
	if c.wanted != nil {
		r.reorder(c.wanted)
	}
	return true
}

// reset makes the record one of which nothing is known.
func (r *Record) reset() {
	r.back()
	r.Fields, r.Problem, r.Faults, r.From, r.Passed, r.beyond = r.Fields[:0], nil, r.Faults[:0], nil, nil, 0
	if !r.Keep {
		r.buf = r.buf[:0]
	}
}

// MayBeginTable reports whether the record may be the header of another table below this one: blank lines stand above
// it, and two or more of its cells have words, none of them a digit.
func (r *Record) MayBeginTable() bool {
	filled := 0
	for _, f := range r.Fields {
		if bytes.ContainsAny(f, "0123456789") {
			return false
		}
		if len(bytes.TrimSpace(f)) > 0 {
			filled++
		}
	}
	return r.Gap && filled > 1
}

// reorder puts fields in the order of the table, where the file has them in another one.
func (r *Record) reorder(wanted []int) {
	n := len(r.Fields)
	if n != len(wanted) {
		return // it has a problem
	}
	for _, from := range wanted {
		r.Fields = append(r.Fields, r.Fields[from])
	}
	r.Fields = append(r.Fields[:0], r.Fields[n:]...)
	if r.Stored != nil {
		for _, from := range wanted {
			r.Stored = append(r.Stored, r.Stored[from])
		}
		r.Stored = append(r.Stored[:0], r.Stored[n:]...)
	}
	for i := range r.Faults {
		r.Faults[i].Field = slices.Index(wanted, r.Faults[i].Field)
	}
	r.Raw = nil
}

// Misshapen returns why the fields of a record are not those of so many columns, or can't be trusted at all; nil for a
// good one.
func Misshapen(r *Record, columns int) *reason.Cause {
	kind := reason.TooMany
	switch {
	case r.Problem != nil:
		return r.Problem
	case len(r.Fields) == columns && r.beyond == 0:
		return nil
	case len(r.Fields) < columns:
		kind = reason.TooFew
	}
	return &reason.Cause{Why: reason.Why{Kind: kind, Limit: int64(columns)},
		Detail: reason.Detail{Length: int64(len(r.Fields)) + r.beyond}}
}
