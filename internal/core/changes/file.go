package changes

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"ladle/internal/core/value"

	"github.com/xuri/excelize/v2"
)

// File keeps records, the names of the columns first.
type File interface {
	Add(Record) error
	// Finish writes what is still missing; the file is whole then.
	Finish() error
}

// ErrFormat is the error for a name of a file that tells no format of changes. Pages are made elsewhere.
var ErrFormat = errors.New("changes are written as .csv, .xlsx or .html")

// Names are the columns of a file.
var Names = []string{"table", "what", "key", "column", "before", "after", "file", "line"}

// NewFile begins a file in the format that the name at path tells.
func NewFile(path string, to io.Writer) (File, error) {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".csv":
		f := csvFile{csv.NewWriter(to)}
		return f, f.Write(Names)
	case ".xlsx":
		return newWorkbook(to)
	}
	return nil, ErrFormat
}

// csvFile is RFC 4180 in UTF-8. A text that a spreadsheet would run as a formula gets an apostrophe in front.
type csvFile struct{ *csv.Writer }

func (f csvFile) Add(r Record) error {
	cells := r.cells()
	for i, c := range cells {
		cells[i] = string(value.Guarded([]byte(c)))
	}
	return f.Write(cells)
}

func (f csvFile) Finish() error {
	f.Flush()
	return f.Error()
}

// cells are the cells of a record; NULL is blank.
func (r Record) cells() []string {
	line := ""
	if r.Line > 0 {
		line = strconv.FormatInt(r.Line, 10)
	}
	return []string{r.Table, string(r.What), r.Key, r.Column, orBlank(r.Before), orBlank(r.After), r.File, line}
}

func orBlank(cell *string) string {
	if cell == nil {
		return ""
	}
	return *cell
}

// workbook is one with a sheet of changes, in which all cells but the line are texts.
type workbook struct {
	file  *excelize.File
	sheet *excelize.StreamWriter
	to    io.Writer
	rows  int
}

func newWorkbook(to io.Writer) (*workbook, error) {
	w := &workbook{file: excelize.NewFile(), to: to}
	if err := w.file.SetSheetName("Sheet1", "changes"); err != nil {
		return nil, err
	}
	var err error
	if w.sheet, err = w.file.NewStreamWriter("changes"); err != nil {
		return nil, err
	}
	return w, w.row(Names, 0)
}

func (w *workbook) Add(r Record) error { return w.row(r.cells(), r.Line) }

func (w *workbook) row(cells []string, line int64) error {
	if w.rows++; w.rows > value.SheetRows {
		return fmt.Errorf("a sheet has no room for more than %d changes; write CSV", value.SheetRows-1)
	}
	row := make([]any, len(cells))
	for i, c := range cells {
		row[i] = c
		if err := value.InCell(c); err != nil {
			return fmt.Errorf("%w; write CSV", err)
		}
	}
	if line > 0 {
		row[len(row)-1] = line
	}
	return w.sheet.SetRow(fmt.Sprintf("A%d", w.rows), row)
}

func (w *workbook) Finish() error {
	if err := w.sheet.Flush(); err != nil {
		return err
	}
	_, err := w.file.WriteTo(w.to)
	return errors.Join(err, w.file.Close())
}
