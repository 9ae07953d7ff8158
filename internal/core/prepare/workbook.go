package prepare

import (
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/xuri/excelize/v2"

	"ladle/internal/core/formula"
	"ladle/internal/core/value"
)

// workbook writes rows into the one sheet of a workbook, with typed cells. What a cell can't hold exactly is text.
type workbook struct {
	file         *excelize.File
	sheet        *excelize.StreamWriter
	to           io.Writer
	rows         int
	day, instant int // styles
	buf          []any
}

// What a cell holds exactly (ECMA-376, and what programs for it hold).
const (
	exactly   = 15      // digits of a number that a double holds
	firstDate = -25_508 // 1900-03-01: the serial numbers of days before it are not the same in all programs
)

func newWorkbook(to io.Writer, name string, names []string) (*workbook, error) {
	w := &workbook{file: excelize.NewFile(), to: to}
	sheet := name
	if len(sheet) > 31 || w.file.SetSheetName("Sheet1", sheet) != nil {
		sheet = "Sheet1"
	}
	var err error
	if w.sheet, err = w.file.NewStreamWriter(sheet); err != nil {
		return nil, err
	}
	if w.day, err = w.style("yyyy-mm-dd"); err != nil {
		return nil, err
	}
	if w.instant, err = w.style("yyyy-mm-dd hh:mm:ss"); err != nil {
		return nil, err
	}
	header := make([]cell, len(names))
	for i, n := range names {
		header[i] = cell{[]byte(n), formula.Text}
	}
	return w, w.row(header)
}

func (w *workbook) style(format string) (int, error) {
	return w.file.NewStyle(&excelize.Style{CustomNumFmt: &format})
}

func (w *workbook) row(cells []cell) error {
	if w.rows++; w.rows > value.SheetRows {
		return fmt.Errorf("a sheet has no room for more than %d rows; write CSV", value.SheetRows-1)
	}
	w.buf = w.buf[:0]
	for _, c := range cells {
		if err := value.InCell(string(c.text)); err != nil {
			return fmt.Errorf("%w; write CSV", err)
		}
		w.buf = append(w.buf, w.typed(c))
	}
	return w.sheet.SetRow(fmt.Sprintf("A%d", w.rows), w.buf)
}

// typed is the cell as the workbook stores it; nil for a blank one.
func (w *workbook) typed(c cell) any {
	switch {
	case len(c.text) == 0:
		return nil
	case c.form == formula.Truth:
		return c.text[0] == 't'
	case c.form == formula.Number:
		return number(c.text)
	case c.form == formula.Moment:
		return w.moment(c.text)
	}
	return string(c.text)
}

func number(text []byte) any {
	digits := 0
	for _, b := range text {
		if b >= '0' && b <= '9' {
			digits++
		}
	}
	f, err := strconv.ParseFloat(string(text), 64)
	if err != nil || digits > exactly {
		return string(text)
	}
	return f
}

func (w *workbook) moment(text []byte) any {
	m, ok := value.ScanMoment(text)
	if !ok || !m.Dated || m.Zoned || m.Days < firstDate || m.Micros%1_000_000 != 0 {
		return string(text)
	}
	style := w.day
	if m.Timed {
		style = w.instant
	}
	return excelize.Cell{StyleID: style, Value: time.UnixMicro(m.Days*24*60*60*1_000_000 + m.Micros).UTC()}
}

func (w *workbook) finish() error {
	if err := w.sheet.Flush(); err != nil {
		return err
	}
	if _, err := w.file.WriteTo(w.to); err != nil {
		return err
	}
	return w.file.Close()
}
