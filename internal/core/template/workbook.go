package template

import (
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"ladle/internal/core/condition"
	"ladle/internal/core/value"
)

// listsSheet is the hidden sheet with the names that cells offer.
const listsSheet = "lists"

// lastRow is the last row of a sheet, whose cells are checked.
const lastRow = value.SheetRows

// book is a workbook at work.
type book struct {
	file     *excelize.File
	of       *Template
	lists    int // columns of the sheet of lists
	required int // styles of headers
	optional int
}

// Workbook writes the template. Required columns have a bold header, each header has a note, and cells are checked as they
// are typed.
func (t *Template) Workbook(to io.Writer) (err error) {
	b := &book{file: excelize.NewFile(), of: t}
	defer func() { err = errors.Join(err, b.file.Close()) }()
	if b.required, err = b.style(true); err != nil {
		return err
	}
	if b.optional, err = b.style(false); err != nil {
		return err
	}
	for i := range t.Sheets {
		s := &t.Sheets[i]
		if i == 0 {
			err = b.file.SetSheetName("Sheet1", s.Name)
		} else {
			_, err = b.file.NewSheet(s.Name)
		}
		if err != nil {
			return err
		}
	}
	if _, err := b.file.NewSheet(listsSheet); err != nil {
		return err
	}
	for i := range t.Sheets {
		if err := b.sheet(&t.Sheets[i]); err != nil {
			return fmt.Errorf("sheet %s: %w", t.Sheets[i].Name, err)
		}
	}
	if err := b.file.SetSheetVisible(listsSheet, false); err != nil {
		return err
	}
	_, err = b.file.WriteTo(to)
	return err
}

// style is that of a header.
func (b *book) style(required bool) (int, error) {
	fill := "E7EEF0"
	if required {
		fill = "C9A45C"
	}
	return b.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: required},
		Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{fill}}})
}

// sheet writes the header of a sheet and what its cells may hold.
func (b *book) sheet(s *Sheet) error {
	if err := b.file.SetPanes(s.Name, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	for i := range s.Columns {
		if err := b.column(s, i); err != nil {
			return err
		}
	}
	return nil
}

func (b *book) column(s *Sheet, i int) error {
	c := &s.Columns[i]
	letter, err := excelize.ColumnNumberToName(i + 1)
	if err != nil {
		return err
	}
	style := b.optional
	if c.Required {
		style = b.required
	}
	if err := b.format(s, c, letter); err != nil {
		return err
	}
	note := excelize.Comment{Cell: letter + "1", Author: "ladle", Width: 260, Height: 110,
		Paragraph: []excelize.RichTextRun{{Text: c.Note()}}}
	if err := errors.Join(b.file.SetCellStr(s.Name, letter+"1", c.Header),
		b.file.SetCellStyle(s.Name, letter+"1", letter+"1", style), b.file.AddComment(s.Name, note)); err != nil {
		return err
	}
	check, err := b.check(c)
	if check == nil || err != nil {
		return err
	}
	check.Sqref = fmt.Sprintf("%s2:%s%d", letter, letter, lastRow)
	return b.file.AddDataValidation(s.Name, check)
}

// format has cells of the column be what they are: texts stay as they are typed, dates are shown as dates.
func (b *book) format(s *Sheet, c *Column, letter string) error {
	const least, most = 10, 40 // characters
	if err := b.file.SetColWidth(s.Name, letter, letter, float64(min(max(least, utf8.RuneCountInString(c.Header)+3), most))); err != nil {
		return err
	}
	shown := map[value.Kind]string{value.Text: "@", value.Date: "yyyy-mm-dd", value.DateTime: "yyyy-mm-dd hh:mm:ss",
		value.Time: "hh:mm:ss"}[c.kind.Kind]
	if shown == "" {
		return nil
	}
	style, err := b.file.NewStyle(&excelize.Style{CustomNumFmt: &shown})
	if err != nil {
		return err
	}
	return b.file.SetColStyle(s.Name, letter, style)
}

// check is what a cell of the column is held against as it is typed; nil for nothing.
func (b *book) check(c *Column) (*excelize.DataValidation, error) {
	dv := excelize.NewDataValidation(!c.Required)
	dv.SetError(excelize.DataValidationErrorStyleStop, "This would not be loaded", c.short())
	switch t := c.kind; {
	case c.Lookup != nil && len(c.Lookup.Names) > 0:
		if c.Lookup.Sheet { // others may be added in their own sheet
			dv.SetError(excelize.DataValidationErrorStyleWarning, "Not in the list", c.short())
		}
		return dv, b.list(dv, c.Lookup.Names)
	case c.Lookup != nil:
		return nil, nil
	case len(c.Allowed) > 0:
		return dv, b.list(dv, c.Allowed)
	case t.Kind == value.Bool:
		return dv, dv.SetDropList([]string{"yes", "no"})
	case t.Kind == value.Text && t.Length > 0:
		return dv, dv.SetRange(0, t.Length, excelize.DataValidationTypeTextLength, excelize.DataValidationOperatorBetween)
	case t.Kind == value.Int:
		least, most := c.whole()
		return dv, dv.SetRange(least, most, excelize.DataValidationTypeWhole, excelize.DataValidationOperatorBetween)
	case (t.Kind == value.Fixed || t.Kind == value.Decimal) && t.Precision > 0 && t.Precision < 15:
		least, most := c.decimals()
		return dv, dv.SetRange(least, most, excelize.DataValidationTypeDecimal, excelize.DataValidationOperatorBetween)
	case t.Kind == value.Date, t.Kind == value.DateTime:
		const first, last = 1, 2958465 // 1900-01-01 and 9999-12-31, as a workbook counts days
		return dv, dv.SetRange(first, last+1, excelize.DataValidationTypeDate, excelize.DataValidationOperatorBetween)
	}
	return nil, nil
}

// whole is the range of whole numbers that a cell may hold.
func (c *Column) whole() (least, most float64) {
	least, most = float64(c.kind.Least), float64(c.kind.Most)
	if least == 0 && most == 0 {
		const exact = 1 << 53 // a cell of a workbook holds no greater whole numbers
		least, most = -exact, exact
	}
	return c.within(least, most, 0)
}

// decimals is the range of exact decimals that a cell may hold, in digits.
func (c *Column) decimals() (least, most string) {
	scale := c.kind.Scale
	limit := math.Pow10(c.kind.Precision-scale) - math.Pow10(-scale)
	from, to := c.within(-limit, limit, scale)
	return strconv.FormatFloat(from, 'f', scale, 64), strconv.FormatFloat(to, 'f', scale, 64)
}

// within is a range without what the limits of the column don't allow, for numbers of so many digits after the point.
func (c *Column) within(least, most float64, scale int) (from, to float64) {
	if c.least != nil {
		least = max(least, outermost(c.least, math.Ceil, 1, scale))
	}
	if c.most != nil {
		most = min(most, outermost(c.most, math.Floor, -1, scale))
	}
	return least, most
}

// outermost is the outermost number that a limit allows.
func outermost(l *condition.Limit, inwards func(float64) float64, step float64, scale int) float64 {
	const noise = 1e-6 // of binary fractions
	steps := l.Float() * math.Pow10(scale)
	n := math.Round(steps)
	switch exact := math.Abs(steps-n) < noise; {
	case !exact:
		n = inwards(steps)
	case l.Open:
		n += step
	}
	return n / math.Pow10(scale)
}

// short is the note, cut to what a message of a cell holds.
func (c *Column) short() string {
	const most = 220
	note := []rune(c.Note())
	if len(note) > most {
		return strings.TrimSpace(string(note[:most])) + "…"
	}
	return string(note)
}

// list offers names, which are put into the sheet of lists.
func (b *book) list(dv *excelize.DataValidation, names []string) error {
	b.lists++
	letter, err := excelize.ColumnNumberToName(b.lists)
	if err != nil {
		return err
	}
	for i, name := range names {
		if err := value.InCell(name); err != nil {
			return err
		}
		if err := b.file.SetCellStr(listsSheet, fmt.Sprintf("%s%d", letter, i+1), name); err != nil {
			return err
		}
	}
	dv.SetSqrefDropList(fmt.Sprintf("%s!$%s$1:$%s$%d", listsSheet, letter, letter, len(names)))
	return nil
}
