package setaside

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/xuri/excelize/v2"

	"ladle/internal/core/source"
	"ladle/internal/core/value"
	"ladle/internal/core/whole"
)

// Workbook is the ending of the name of a set-aside file that is a workbook (ECMA-376).
const Workbook = ".xlsx"

// mostNotes is the number of notes that a sheet is worth.
const mostNotes = 10_000

// badCell is the colour of cells that can't be loaded as they are.
const badCell = "F4C7C3"

// sheet is a set-aside file as a workbook with one sheet. All cells are texts, so none is a formula.
type sheet struct {
	file  *excelize.File
	rows  *excelize.StreamWriter
	style int // of a bad cell
	row   int
	notes int
	sum   hash.Hash // of the lines, as they would stand in CSV
}

// asCSV is how lines are written for their checksum.
var asCSV = source.Dialect{Delimiter: ',', Quote: '"'}

func newSheet(title string, names []string) (*sheet, error) {
	s := &sheet{file: excelize.NewFile(), sum: sha256.New()}
	err := s.file.SetSheetName("Sheet1", "set aside")
	if err == nil {
		s.style, err = s.file.NewStyle(&excelize.Style{Fill: excelize.Fill{Type: "pattern", Pattern: 1,
			Color: []string{badCell}}})
	}
	if err == nil {
		s.rows, err = s.file.NewStreamWriter("set aside")
	}
	if err == nil {
		err = s.put([]string{title}, nil)
	}
	if err == nil {
		err = s.put(names, nil)
	}
	return s, err
}

// put writes a row of texts; bad are those that can't be loaded, with what is wrong with them.
func (s *sheet) put(cells []string, bad map[int][]string) error {
	if s.row++; s.row > value.SheetRows {
		return fmt.Errorf("a sheet has no room for more than %d lines; write set_aside_as: csv", value.SheetRows-2)
	}
	row := make([]any, len(cells))
	for i, c := range cells {
		row[i] = c
		if err := value.InCell(c); err != nil {
			return fmt.Errorf("line %s: %w; write set_aside_as: csv", cells[0], err)
		}
		if why := bad[i]; why != nil {
			row[i] = excelize.Cell{StyleID: s.style, Value: c}
			if err := s.note(i, why); err != nil {
				return err
			}
		}
	}
	if s.row > 2 {
		_, _ = io.WriteString(s.sum, asCSV.Line(cells...)+"\r\n")
	}
	return s.rows.SetRow(fmt.Sprintf("A%d", s.row), row)
}

// note puts reasons to a cell, unless there are many notes already: they stand in the second column too.
func (s *sheet) note(column int, reasons []string) error {
	if s.notes++; s.notes > mostNotes {
		return nil
	}
	cell, err := excelize.CoordinatesToCellName(column+1, s.row)
	if err != nil {
		return err
	}
	return s.file.AddComment("set aside", excelize.Comment{Cell: cell, Author: "ladle",
		Paragraph: []excelize.RichTextRun{{Text: strings.Join(reasons, "\n")}}})
}

// writeTo ends the workbook.
func (s *sheet) writeTo(to io.Writer) error {
	defer s.file.Close()
	if err := s.rows.Flush(); err != nil {
		return err
	}
	err := s.file.SetDocProps(&excelize.DocProperties{Creator: "ladle",
		Description: sumMark + " " + hex.EncodeToString(s.sum.Sum(nil)[:8])})
	if err == nil {
		_, err = s.file.WriteTo(to)
	}
	return err
}

// writeSheet is Write for a workbook: bad cells are coloured, and have their reasons as notes.
func (l *Lines) writeSheet(path, title string, groups *Groups, take func(Line)) (moved string, err error) {
	names := append(append([]string{}, columns...), l.Table.Header().Names...)
	s, err := newSheet(title, names)
	if err != nil {
		return "", err
	}
	err = l.Each(func(r *source.Record, reasons []ColumnReason) error {
		line := Line{Place: source.PlaceOf(l.Table, r.Position)}
		bad := map[int][]string{}
		for _, x := range reasons {
			groups.Add(l.Input, x)
			line.Reasons = append(line.Reasons, x.Words())
			if at := len(columns) + x.Of.Field; x.Of.Field >= 0 {
				bad[at] = append(bad[at], x.Words())
			}
		}
		if take != nil {
			take(line)
		}
		cells := []string{spotOf(r).in(l.Table), strings.Join(line.Reasons, " | ")}
		for _, f := range r.Fields {
			cells = append(cells, string(f))
		}
		return s.put(cells, bad)
	})
	if err != nil {
		return "", errors.Join(err, s.file.Close())
	}
	f, err := whole.Create(path)
	if err != nil {
		return "", err
	}
	defer f.Discard()
	if err := errors.Join(s.writeTo(f), f.Finish()); err != nil {
		return "", err
	}
	if moved, err = saveEdited(path); err != nil {
		return "", err
	}
	return moved, f.Place()
}

// uneditedSheet reports whether the workbook at path is as it was written.
func uneditedSheet(path string) (bool, error) {
	book, err := excelize.OpenFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, nil // something else than what was written
	}
	defer book.Close()
	said, err := book.GetDocProps()
	if err != nil {
		return false, nil
	}
	file, err := openLines(path)
	if err != nil {
		return false, nil
	}
	defer file.Close()
	sum := sha256.New()
	err = eachLine(file, path, func(_ string, _ int64, r *source.Record) error {
		cells := make([]string, len(r.Fields))
		for i, f := range r.Fields {
			cells[i] = string(f)
		}
		_, err := io.WriteString(sum, asCSV.Line(cells...)+"\r\n")
		return err
	})
	return err == nil && said.Description == sumMark+" "+hex.EncodeToString(sum.Sum(nil)[:8]), nil
}

// isWorkbook reports whether the name of a set-aside file is that of a workbook.
func isWorkbook(path string) bool { return strings.EqualFold(filepath.Ext(path), Workbook) }
