// Package sheet reads the sheets of workbooks as rows of cells, in one pass and in bounded memory: Office Open XML
// (ECMA-376, transitional and strict) and OpenDocument 1.3 (ODF). A cell gives what it holds, not what it shows.
package sheet

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"ladle/internal/core/reason"
)

const (
	maxRows    = 1 << 20 // rows of a sheet
	maxColumns = 1 << 14 // columns of a sheet
	blockSize  = 512 << 10
)

// Info is what a workbook says of a sheet.
type Info struct {
	Name    string
	Hidden  bool
	NoCells bool // it holds a chart or the like
}

// Area is a rectangle of cells; rows and columns count from 1. Bottom 0 means down to the last row, Right 0 to the
// last column.
type Area struct{ Top, Left, Bottom, Right int }

// NamedArea is an area that a workbook has a name for.
type NamedArea struct {
	Name   string
	Sheet  int // from 0
	Area   Area
	Table  bool // it is a table, whose columns have names
	Header int  // rows of a table that hold the names
	Totals int  // rows of a table at its end that are no rows
}

// Book is an open workbook.
type Book interface {
	// Format is xlsx or ods.
	Format() string
	// Sheets lists the sheets in their order.
	Sheets() ([]Info, error)
	// Names lists the named ranges and tables.
	Names() ([]NamedArea, error)
	// Rows reads sheet n, from 0.
	Rows(n int) (*Rows, error)
	// Close frees what the workbook holds.
	Close() error
}

// Open opens the workbook in a zip archive. An error that is an Oddity says what is wrong with the workbook.
func Open(z *zip.Reader) (Book, error) {
	if f := member(z, "mimetype"); f != nil {
		kind, err := readAll(f, 256)
		if err != nil {
			return nil, err
		}
		if !strings.HasPrefix(string(kind), "application/vnd.oasis.opendocument.spreadsheet") {
			return nil, Oddity{"this is an OpenDocument file, but not a spreadsheet", "save it as .ods or .xlsx"}
		}
		return openODS(z)
	}
	return openXLSX(z)
}

// Oddity is what is wrong with a workbook, and what to do about it.
type Oddity struct{ What, Do string }

func (o Oddity) Error() string { return o.What }

var errTruncated = Oddity{"the workbook is incomplete: its sheet ends in the middle",
	"get it again, or open and save it again"}

// Kind is as what a cell is stored.
type Kind byte

const (
	Blank Kind = iota
	Text
	Number
	Moment // a number that its format shows as a date, time or duration; Text has it in ISO 8601, durations as 26:30:00
	Truth  // true or false
	Faulty // it can't be trusted; Fault says why
)

// Cell is a cell that holds something.
type Cell struct {
	Column int // from 1
	Kind   Kind
	Text   []byte
	Fault  *reason.Cause
}

// What can be wrong with a cell.
var (
	errorCell = reason.Fault(reason.CellError, "")
	noNumber  = reason.Fault(reason.Unreadable, "is stored as a number, but is not one")
	noTime    = reason.Fault(reason.Unreadable, "is stored as a time, but is not one")
	noText    = reason.Fault(reason.Unreadable, "refers to a text that the workbook doesn't have")
	noResult  = reason.Fault(reason.Unreadable, "holds a formula whose result is not stored; open the workbook and "+
		"save it")
	noDateNumber    = reason.Fault(reason.Unreadable, "is shown as a date, but is not a number")
	beyondDates     = reason.Fault(reason.Unreadable, "is shown as a date, but is out of the range of dates")
	dayZero         = reason.Fault(reason.Unreadable, "is 0, shown as a date, but is not one")
	dayThatNeverWas = reason.Fault(reason.Unreadable, "is 29 February 1900, a day that never existed")
)

// Row is a row with its cells, from left to right. Its memory is good until the next row is read into it.
type Row struct {
	Number   int // from 1
	Hidden   bool
	Cells    []Cell
	Formulas int   // cells with a formula
	Merged   int   // cells that stand for several, where the row tells
	Down     []int // the columns, from 1, of those of them that stand for cells of several rows

	// Keep makes the texts of all rows of a block good as long as the block is.
	Keep bool

	buf  []byte
	held int // bytes of all cells
}

// mostRow is the number of bytes that the cells of a row may hold, as those of a line of text may.
const mostRow = 16 << 20

// holds adds to what the cells of the row hold.
func (r *Row) holds(bytes int) error {
	if r.held += bytes; r.held > mostRow {
		return Oddity{fmt.Sprintf("its row %d holds more than %d MB", r.Number, mostRow>>20),
			"check where it comes from"}
	}
	return nil
}

// Rows is the rows of a sheet, in blocks that can be read side by side.
type Rows struct {
	source
	number int
	next   int // the number of the row with which the next block starts
	ended  bool
}

// source is the part of the workbook that holds a sheet.
type source interface {
	// block returns the markup of the next whole rows, nil at the end, and the number of the first row behind it.
	block(first int) (raw []byte, next int, err error)
	// read reads the next row of a block.
	read(b *Block, r *Row) (bool, error)
	// about says what is known once the sheet was read.
	about() SheetNotes
	// progress is the share of the sheet that was read, from 0 to 1.
	progress() float64
	Close() error
}

// SheetNotes is what a sheet says besides its rows, known once all were read.
type SheetNotes struct {
	HiddenColumns []Span
	Merged        []Area // the first of them
	MergedCount   int
}

// Span is a run of columns or rows, both ends included, from 1.
type Span struct{ First, Last int }

// Block is a run of whole rows.
type Block struct {
	Raw    []byte
	Number int // of the block, from 0
	first  int // the number of its first row, unless that says another
	at     int
	of     source
	again  int // how often the row last read comes again
	err    error
}

// Next returns the next block; io.EOF at the end.
func (r *Rows) Next() (*Block, error) {
	if r.ended {
		return nil, io.EOF
	}
	raw, next, err := r.block(r.next)
	if err != nil {
		return nil, err
	}
	if raw == nil {
		r.ended = true
		return nil, io.EOF
	}
	b := &Block{Raw: raw, Number: r.number, first: r.next, of: r.source}
	r.next, r.number = next, r.number+1
	return b, nil
}

// About is what the sheet says besides its rows; whole after Next gave io.EOF.
func (r *Rows) About() SheetNotes { return r.about() }

// Progress is the share of the sheet that was read, from 0 to 1.
func (r *Rows) Progress() float64 { return r.progress() }

// Next reads the next row of the block that holds something; false at the end, or where the markup is broken: see Err.
func (b *Block) Next(r *Row) bool {
	if b.again > 0 {
		b.again--
		r.Number++
		b.first = r.Number + 1
		return true
	}
	for b.err == nil {
		r.Cells, r.Hidden, r.Formulas, r.Merged, r.Down, r.held = r.Cells[:0], false, 0, 0, r.Down[:0], 0
		if !r.Keep {
			r.buf = r.buf[:0]
		}
		more, err := b.of.read(b, r)
		if err != nil {
			b.err = err
			return false
		}
		if !more {
			return false
		}
		if len(r.Cells) > 0 {
			return true
		}
		b.again = 0
	}
	return false
}

// Err is what is wrong with the markup of the block, or nil.
func (b *Block) Err() error { return b.err }

// put adds text to the row's buf and returns it as bytes that stay.
func (r *Row) put(text string) []byte {
	start := len(r.buf)
	r.buf = append(r.buf, text...)
	return r.buf[start:len(r.buf):len(r.buf)]
}

// ColumnName is the name of a column, counted from 1: A, Z, AA.
func ColumnName(n int) string {
	var b []byte
	for ; n > 0; n = (n - 1) / 26 {
		b = append([]byte{byte('A' + (n-1)%26)}, b...)
	}
	return string(b)
}

// CellName is the address of a cell: C14.
func CellName(column, row int) string { return ColumnName(column) + strconv.Itoa(row) }

// reference reads an address like C14 or $C$14; 0 for a part that isn't there.
func reference(s []byte) (column, row int, ok bool) {
	i := 0
	for ; i < len(s); i++ {
		c := s[i]
		switch {
		case c >= 'A' && c <= 'Z':
			column = column*26 + int(c-'A') + 1
		case c >= 'a' && c <= 'z':
			column = column*26 + int(c-'a') + 1
		case c == '$':
			continue
		default:
			goto digits
		}
		if column > maxColumns {
			return 0, 0, false
		}
	}
digits:
	for ; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '$':
			continue
		case c < '0' || c > '9':
			return 0, 0, false
		}
		row = row*10 + int(c-'0')
		if row > maxRows {
			return 0, 0, false
		}
	}
	return column, row, column > 0 || row > 0
}

// ParseArea reads B4:K900, also with $ signs; one cell, whole columns (B:K) and whole rows (4:900) are areas too.
func ParseArea(text string) (Area, bool) {
	first, last, several := strings.Cut(text, ":")
	if !several {
		last = first
	}
	c1, r1, ok1 := reference([]byte(first))
	c2, r2, ok2 := reference([]byte(last))
	if !ok1 || !ok2 || (c1 == 0) != (c2 == 0) || (r1 == 0) != (r2 == 0) || c2 < c1 || r2 < r1 || !several &&
		(c1 == 0 || r1 == 0) {
		return Area{}, false
	}
	return Area{Top: max(r1, 1), Left: max(c1, 1), Bottom: r2, Right: c2}, true
}

// String is the area as B4:K900.
func (a Area) String() string {
	switch {
	case a.Bottom == 0 && a.Right == 0:
		return CellName(a.Left, a.Top) + ":"
	case a.Bottom == 0:
		return ColumnName(a.Left) + ":" + ColumnName(a.Right)
	case a.Right == 0:
		return fmt.Sprintf("%d:%d", a.Top, a.Bottom)
	}
	return CellName(a.Left, a.Top) + ":" + CellName(a.Right, a.Bottom)
}

func member(z *zip.Reader, name string) *zip.File {
	name = strings.TrimPrefix(name, "/")
	for _, f := range z.File {
		if f.Name == name {
			return f
		}
	}
	for _, f := range z.File { // some writers mix capitals
		if strings.EqualFold(strings.ReplaceAll(f.Name, `\`, "/"), name) {
			return f
		}
	}
	return nil
}

// readAll reads a small member of the archive.
func readAll(f *zip.File, most int64) ([]byte, error) {
	r, err := inflate(f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if int64(len(b)) > most {
		return nil, Oddity{fmt.Sprintf("its part %s is larger than %d MB", f.Name, most>>20),
			"check that this is the right file"}
	}
	return b, err
}

// boundedReader reads a member of an archive, and refuses one that inflates beyond reason.
type boundedReader struct {
	io.ReadCloser
	file *zip.File
	n    int64
}

func inflate(f *zip.File) (*boundedReader, error) {
	if f.Flags&1 != 0 {
		return nil, Oddity{"the workbook is locked with a password", "save it without one"}
	}
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	return &boundedReader{ReadCloser: r, file: f}, nil
}

const (
	bombRatio = 400
	bombSize  = 64 << 20
)

func (i *boundedReader) Read(b []byte) (int, error) {
	n, err := i.ReadCloser.Read(b)
	i.n += int64(n)
	if i.n > bombSize && i.n/bombRatio > int64(i.file.CompressedSize64) {
		return n, Oddity{fmt.Sprintf("its part %s expands to more than %d times its size, which no real workbook does",
			i.file.Name, bombRatio),
			"check where it comes from"}
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, zip.ErrChecksum) {
		return n, errTruncated
	}
	return n, err
}

func (i *boundedReader) share() float64 {
	return min(1, float64(i.n)/float64(max(1, i.file.UncompressedSize64)))
}
