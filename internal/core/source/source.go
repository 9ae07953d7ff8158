// Package source reads files into records whose cells know where they stand: text in any delimiter and encoding, sheets
// of workbooks, packed or not, and several files as one table. How a file is to be read is detected by looking at it,
// and can be said.
package source

import (
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/source/sheet"
)

// Table is rows of cells under a header, read in chunks.
type Table interface {
	// Header has the names of the columns.
	Header() Header
	// Next returns the next chunk; io.EOF at the end.
	Next() (*Chunk, error)
	// Again reads the chunk with origin o a second time. It is an error when the file has changed since.
	Again(o Origin) (*Chunk, error)
	// Files are the files of the rows, in order; they stay as they are while the table is open.
	Files() []File
	// Formats returns how each file is read; it is known in full once Next returned io.EOF. It must not be called
	// while Next runs.
	Formats() []Format
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

// FoldName is the form of a header by which it is looked up: lower case, outer blanks gone, runs of blanks one blank.
func FoldName(name string) string { return strings.ToLower(strings.Join(strings.Fields(name), " ")) }

// IndexOfName is the position of a name among others, or else of the first that differs from it only in case and blanks;
// -1 for none.
func IndexOfName(names []string, name string) int {
	if i := slices.Index(names, name); i >= 0 {
		return i
	}
	return slices.IndexFunc(names, func(n string) bool { return FoldName(n) == FoldName(name) })
}

// Find returns the positions of the columns that go by name: by their header, or else as "column 3".
func (h Header) Find(name string) []int {
	var at []int
	for i, n := range h.Names {
		if FoldName(n) == FoldName(name) {
			at = append(at, i)
		}
	}
	if at != nil {
		return at
	}
	if n, err := strconv.Atoi(strings.TrimPrefix(FoldName(name), "column ")); err == nil && n >= 1 &&
		n <= len(h.Names) &&
		strings.HasPrefix(FoldName(name), "column ") {
		return []int{n - 1}
	}
	return nil
}

// ByPosition reports whether a name tells a column by its position: "column 3", or "column C" of a sheet.
func ByPosition(name string) bool {
	position, ok := strings.CutPrefix(FoldName(name), "column ")
	return ok && len(position) <= 7 && !strings.ContainsFunc(position, func(r rune) bool {
		return (r < '0' || r > '9') && (r < 'a' || r > 'z')
	})
}

// File is a file, or a sheet of a workbook.
type File struct {
	Path  string `json:"file"`
	Sheet string `json:"sheet,omitempty"` // its name; "" for text
	Query bool   `json:"-"`               // it is no file but rows of a query or table, which Path names
	Table string `json:"-"`               // the table whose rows they are; "" for others
}

// Name returns the path, with the sheet behind it: workbook[sheet].
func (f File) Name() string {
	if f.Sheet == "" {
		return f.Path
	}
	return f.Path + "[" + f.Sheet + "]"
}

// Format is how a file is read.
type Format struct {
	File
	Compression string  `json:"compression,omitempty"` // gzip or zip
	Format      string  `json:"type"`                  // text, json, xlsx or ods
	JSON        string  `json:"json,omitempty"`        // of JSON: how it holds the objects
	Encoding    Setting `json:"encoding,omitzero"`     // of text
	// how a line of the text reads in the encodings that it could be in, when its encoding isn't certain
	Could        []EncodingReading `json:"encoding_candidates,omitempty"`
	Delimiter    Setting           `json:"delimiter,omitzero"`             // of text: the character between fields, or none
	Quote        string            `json:"quote,omitempty"`                // of text: the character, or none
	QuoteGuessed bool              `json:"-"`                              // nobody has said it, and it is not the usual one
	LineEndings  string            `json:"line_endings,omitempty"`         // of text: LF, CRLF, CR, or several
	Header       Setting           `json:"header"`                         // the line, or lines, of the names, or none
	SkippedLines int               `json:"skipped_lines"`                  // lines over the header that hold something
	SkippedTexts []string          `json:"skipped_texts"`                  // the first of them
	Blank        int64             `json:"blank_lines"`                    // lines, or rows, that hold nothing
	Unmade       int64             `json:"blank_cells_left_out,omitempty"` // blank cells that would have made a line of their own
	Comments     int64             `json:"comment_lines,omitempty"`        // lines that are comments
	Short        int64             `json:"short_lines,omitempty"`          // lines whose missing cells at the end are blank
	Loose        int64             `json:"blanks_beside_quotes,omitempty"` // lines with blanks beside quotes, which are no part of the values
	EndMark      bool              `json:"end_mark,omitempty"`             // the file ends in the mark with which DOS ended files, which is no row
	// columns seem to stand without a delimiter, in these widths
	Fixed []int `json:"widths_seem,omitempty"`
	// a backslash seems to stand before quotes inside of values
	Escaped       bool     `json:"backslash_escapes_seem,omitempty"`
	Range         string   `json:"range,omitempty"` // the cells that were asked for
	Sheets        []Sheet  `json:"sheets"`
	HiddenRows    int64    `json:"hidden_rows"`    // rows of the sheet that are read although they are hidden
	HiddenColumns []string `json:"hidden_columns"` // columns likewise
	Merged        int64    `json:"merged_blocks"`  // blocks of merged cells among the rows
	MergedDown    []int    `json:"-"`              // the columns, from 0, with such blocks of several rows
	// rows of a table at its end that are left out, since they sum up others
	Totals   int   `json:"totals_rows"`
	Formulas int64 `json:"formula_cells"` // cells that a formula gives its value
}

// Sheet is a sheet of a workbook.
type Sheet struct {
	Name    string `json:"name"`
	Hidden  bool   `json:"hidden"`
	NoCells bool   `json:"no_cells,omitempty"` // it holds a chart or the like
}

// Setting is something that was detected, or said.
type Setting struct {
	Value      string  `json:"value"`
	Confidence float64 `json:"confidence"` // from 0 to 1
	Given      bool    `json:"given"`
}

// lineBits is the room of a line in a position; the file stands above it.
const lineBits = 36

// PositionIn splits the position of a record into its file, from 0, and its line.
func PositionIn(position int64) (file int, line int64) {
	return int(position >> lineBits), position & (1<<lineBits - 1)
}

// Position is the position of a line of a file; see PositionIn.
func Position(file int, line int64) int64 { return int64(file)<<lineBits | line }

// PlaceOf returns where the record with the given position stands.
func PlaceOf(t Table, position int64) reason.Place {
	file, line := PositionIn(position)
	files := t.Files()
	f := files[file]
	return reason.Place{File: f.Name(), Line: line, Sheet: f.Sheet != "", Query: f.Query, Alone: len(files) == 1}
}

// CellName is the name of a cell of a record in a sheet, for example C14; "" where cells have no names.
func CellName(t Table, position int64, field int) string {
	at, line := PositionIn(position)
	t = bare(t)
	for e, ok := t.(*expandedTable); ok; e, ok = t.(*expandedTable) {
		if field = e.copied[field]; field < 0 {
			return ""
		}
		t = bare(e.Table)
	}
	if all, ok := t.(*unionTable); ok {
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

// CellOf is the name of the cell in which a field of a record stands, in a sheet; "" where it stands in none.
func CellOf(t Table, r *Record, field int) string {
	if r.From == nil {
		return CellName(t, r.Position, field)
	}
	if field >= len(r.From) || r.From[field] < 0 {
		return ""
	}
	for t = bare(t); ; t = bare(t) {
		e, ok := t.(*expandedTable)
		if !ok {
			return CellName(t, r.Position, r.From[field])
		}
		t = e.Table
	}
}

// count adds what was met in a chunk.
func (m *Format) count(c *Chunk) {
	m.Blank += c.Counts.Blank
	m.Comments += c.Counts.Comments
	m.Short += c.Counts.Short
	m.Loose += c.Counts.Loose
	m.Unmade += c.Counts.Unmade
	m.HiddenRows += c.Counts.Hidden
	m.Formulas += c.Counts.Formulas
	m.Merged += c.Counts.Merged
	m.MergedDown = withColumns(m.MergedDown, c.Counts.Down...)
}

// withColumns are columns with more of them, each once.
func withColumns(all []int, more ...int) []int {
	for _, c := range more {
		if !slices.Contains(all, c) {
			all = append(all, c)
		}
	}
	return all
}

func refused(f File, line int64, what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: f.Name(), Line: int(line), What: what, Do: do})
}
