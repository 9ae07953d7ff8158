// Package source reads files into records whose cells know where they stand: text in any delimiter and encoding,
// sheets of workbooks, packed or not, and several files as one table. How a file is to be read is found by looking at
// it, and can be said.
package source

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/source/sheet"
)

// Table is rows of cells under a header, read in chunks.
type Table interface {
	// Header has the names of the columns.
	Header() Header
	// Next gives the next chunk; io.EOF at the end.
	Next() (*Chunk, error)
	// Again reads the chunk with origin o a second time. It is an error when the file has changed since.
	Again(o Origin) (*Chunk, error)
	// Files says of each file how it is read; all is said once Next gave io.EOF. It may not be asked while Next runs.
	Files() []*Manner
	// Sum is the SHA-256 of the files, in hexadecimal.
	Sum() (string, error)
	// Size is the bytes of the files, packed as they are; Origin.Done counts up to it.
	Size() int64
	// Close closes the files.
	Close() error

	// count brings what was met in a chunk into what is said of its file.
	count(c *Chunk)
}

// Header is what the columns are called.
type Header struct {
	// Names are the names as they stand in the file, without outer blanks. A column without one is called by its
	// position: column 3, or column C in a sheet.
	Names []string
	// Line is the line or row of the names, the last one where they stand on several; 0 where there are none.
	Line int64
}

// Plain is the form of a header by which it is looked up: lower case, outer blanks gone, runs of blanks one blank.
func Plain(name string) string { return strings.ToLower(strings.Join(strings.Fields(name), " ")) }

// Find gives the positions of the columns that go by name: by their header, or else as "column 3".
func (h Header) Find(name string) []int {
	var at []int
	for i, n := range h.Names {
		if Plain(n) == Plain(name) {
			at = append(at, i)
		}
	}
	if at != nil {
		return at
	}
	if n, err := strconv.Atoi(strings.TrimPrefix(Plain(name), "column ")); err == nil && n >= 1 && n <= len(h.Names) &&
		strings.HasPrefix(Plain(name), "column ") {
		return []int{n - 1}
	}
	return nil
}

// Manner is how a file is read.
type Manner struct {
	Path          string   `json:"file"`
	Packed        string   `json:"packed,omitempty"`    // gzip or zip
	Format        string   `json:"format"`              // text, xlsx or ods
	Encoding      Guess    `json:"encoding,omitzero"`   // of text
	Limits        Guess    `json:"delimiter,omitzero"`  // of text: the character between fields, or none
	Quote         string   `json:"quote,omitempty"`     // of text: the character, or none
	Ends          string   `json:"line_ends,omitempty"` // of text: LF, CRLF, CR, or several
	Header        Guess    `json:"header"`              // the line, or lines, of the names, or none
	Above         int      `json:"lines_above"`         // lines over the header that hold something
	Titles        []string `json:"titles,omitempty"`    // the first of them
	Blank         int64    `json:"blank_lines"`         // lines, or rows, that hold nothing
	Sheet         string   `json:"sheet,omitempty"`
	Range         string   `json:"range,omitempty"` // the cells that were asked for
	Sheets        []Sheet  `json:"sheets,omitempty"`
	HiddenRows    int64    `json:"hidden_rows,omitempty"`    // rows of the sheet that are read although they are hidden
	HiddenColumns []string `json:"hidden_columns,omitempty"` // columns likewise
	Merged        int64    `json:"merged,omitempty"`         // blocks of merged cells among the rows
	Totals        int      `json:"totals_rows,omitempty"`    // rows of a table at its end that are left out, since they sum up others
	Formulas      int64    `json:"formulas,omitempty"`       // cells that a formula gives its value
}

// Sheet is a sheet of a workbook.
type Sheet struct {
	Name   string `json:"name"`
	Hidden bool   `json:"hidden"`
}

// Guess is something that was found by looking, or said.
type Guess struct {
	Is   string  `json:"is"`
	Sure float64 `json:"sure"` // from 0 to 1
	Said bool    `json:"said,omitempty"`
}

// lineBits is the room of a line in a position; the file stands above it.
const lineBits = 36

// PositionIn splits the position of a record into its file, from 0, and its line.
func PositionIn(position int64) (file int, line int64) {
	return int(position >> lineBits), position & (1<<lineBits - 1)
}

// Position is the position of a line of a file; see PositionIn.
func Position(file int, line int64) int64 { return int64(file)<<lineBits | line }

// Spot names a place in a file, for messages.
type Spot struct {
	File string // file, or workbook[sheet]
	Line int64
	Row  bool // of a sheet, so that its cells have letters
}

// SpotOf is where the record with the given position stands.
func SpotOf(t Table, position int64) Spot {
	file, line := PositionIn(position)
	m := t.Files()[file]
	return Spot{File: m.Name(), Line: line, Row: m.Format != formatText}
}

// Name is the file with the sheet that is read: workbook[sheet].
func (m *Manner) Name() string {
	if m.Sheet == "" {
		return m.Path
	}
	return m.Path + "[" + m.Sheet + "]"
}

// CellName is the name of a cell of a record in a sheet, for example C14; "" where cells have no names.
func CellName(t Table, position int64, field int) string {
	at, line := PositionIn(position)
	t = bare(t)
	if all, ok := t.(*several); ok {
		if all.wanted[at] != nil {
			field = all.wanted[at][field]
		}
		t = all.tables[at]
	}
	if s, ok := t.(*sheetTable); ok {
		return sheet.CellName(s.left+field, int(line))
	}
	return ""
}

// Words are line 12, or row 12.
func (s Spot) Words() string {
	if s.Row {
		return fmt.Sprintf("row %d", s.Line)
	}
	return fmt.Sprintf("line %d", s.Line)
}

// Short is file:line, or workbook[sheet]!row, without the folder of the file.
func (s Spot) Short() string {
	mark := ":"
	if s.Row {
		mark = "!"
	}
	return fmt.Sprintf("%s%s%d", filepath.Base(s.File), mark, s.Line)
}

// count adds what was met in a chunk.
func (m *Manner) count(c *Chunk) {
	m.Blank += c.Counts.Blank
	m.HiddenRows += c.Counts.Hidden
	m.Formulas += c.Counts.Formulas
	m.Merged += c.Counts.Merged
}

func refused(m *Manner, line int64, what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: m.Name(), Line: int(line), What: what, Do: do})
}
