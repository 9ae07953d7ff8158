package dictionary

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"ladle/internal/core/reason"
	values "ladle/internal/core/value"
)

// CSV writes a line for each column (RFC 4180, UTF-8). A text that a spreadsheet would run as a formula gets an
// apostrophe in front.
func (d *Dictionary) CSV(to io.Writer) error {
	w := csv.NewWriter(to)
	s := d.Columns()
	if err := w.Write(s.Header); err != nil {
		return err
	}
	for _, row := range s.Rows {
		cells := make([]string, len(row))
		for i, c := range row {
			cells[i] = string(values.Guarded([]byte(text(c))))
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// text is a cell of a sheet as a text.
func text(cell any) string {
	switch c := cell.(type) {
	case nil:
		return ""
	case int64:
		return strconv.FormatInt(c, 10)
	}
	return fmt.Sprint(cell)
}

// Workbook writes a sheet for each part: with a frozen header, filters, and columns as wide as their cells.
func (d *Dictionary) Workbook(to io.Writer) error {
	file := excelize.NewFile()
	bold, err := file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	for i, s := range d.Sheets() {
		if i == 0 {
			err = file.SetSheetName("Sheet1", s.Name)
		} else {
			_, err = file.NewSheet(s.Name)
		}
		if err == nil {
			err = s.write(file, bold)
		}
		if err != nil {
			return errors.Join(err, file.Close())
		}
	}
	_, err = file.WriteTo(to)
	return errors.Join(err, file.Close())
}

// write writes a sheet into a workbook.
func (s *Sheet) write(file *excelize.File, bold int) error {
	if len(s.Rows) >= values.SheetRows {
		return fmt.Errorf("a sheet has no room for more than %d rows; write CSV", values.SheetRows-1)
	}
	w, err := file.NewStreamWriter(s.Name)
	if err != nil {
		return err
	}
	const narrow, wide = 8, 60 // characters
	for i, header := range s.Header {
		width := max(narrow, utf8.RuneCountInString(header)+2)
		for _, row := range s.Rows {
			width = max(width, min(utf8.RuneCountInString(text(row[i]))+2, wide))
		}
		if err := w.SetColWidth(i+1, i+1, float64(width)); err != nil {
			return err
		}
	}
	if err := w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	header := make([]any, len(s.Header))
	for i, h := range s.Header {
		header[i] = excelize.Cell{StyleID: bold, Value: h}
	}
	if err := w.SetRow("A1", header); err != nil {
		return err
	}
	for i, row := range s.Rows {
		for _, c := range row {
			if t, is := c.(string); is {
				if err := values.InCell(t); err != nil {
					return fmt.Errorf("%w; write CSV", err)
				}
			}
		}
		if err := w.SetRow(fmt.Sprintf("A%d", i+2), row); err != nil {
			return err
		}
	}
	if len(s.Rows) > 0 {
		last, err := excelize.CoordinatesToCellName(len(s.Header), len(s.Rows)+1)
		if err != nil {
			return err
		}
		named := strings.ReplaceAll(s.Name, " ", "_")
		if err := w.AddTable(&excelize.Table{Range: "A1:" + last, Name: named, StyleName: "TableStyleLight1"}); err != nil {
			return err
		}
	}
	return w.Flush()
}

// Markdown writes a section for each table (CommonMark, with the tables of GitHub Flavored Markdown).
func (d *Dictionary) Markdown(to io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# Tables of %s\n", marked(d.Database))
	for i := range d.Tables {
		d.Tables[i].markdown(&b)
	}
	_, err := io.WriteString(to, b.String())
	return err
}

func (t *Table) markdown(b *strings.Builder) {
	about := ""
	if !t.Exact {
		about = "about "
	}
	fmt.Fprintf(b, "\n## %s\n\n", marked(t.Name))
	if t.Comment != "" {
		fmt.Fprintf(b, "%s\n\n", marked(t.Comment))
	}
	fmt.Fprintf(b, "%s%s.\n\n", about, reason.Plural(t.Rows, "row"))
	header, cells := t.Cells()
	row := func(cells []string) { fmt.Fprintf(b, "| %s |\n", strings.Join(cells, " | ")) }
	row(header)
	row(slices.Repeat([]string{"---"}, len(header)))
	for _, c := range cells {
		for i := range c {
			c[i] = marked(c[i])
		}
		row(c)
	}
	var notes []string
	for _, k := range t.Keys {
		notes = append(notes, "no two rows have the same "+strings.Join(k, " and "))
	}
	for _, r := range t.PointsAt {
		notes = append(notes, fmt.Sprintf("%s refers to %s (%s)", strings.Join(r.Columns, ", "), r.Table,
			strings.Join(r.Keys, ", ")))
	}
	for _, r := range t.PointedBy {
		notes = append(notes, fmt.Sprintf("%s (%s) refers to it", r.Table, strings.Join(r.Columns, ", ")))
	}
	for _, c := range t.Checks {
		notes = append(notes, "CHECK "+c.Says)
	}
	for i, n := range notes {
		if i == 0 {
			b.WriteString("\n")
		}
		fmt.Fprintf(b, "- %s\n", marked(n))
	}
}

// bare is what a CHECK says, without that word.
func bare(says string) string { return strings.TrimSpace(strings.TrimPrefix(says, "CHECK")) }

// marked is a text that means nothing to Markdown but itself, on one line. An underscore inside of a word is one.
func marked(s string) string {
	var b strings.Builder
	runes := []rune(s)
	inWord := func(i int) bool {
		return i >= 0 && i < len(runes) && (unicode.IsLetter(runes[i]) || unicode.IsDigit(runes[i]))
	}
	for i, r := range runes {
		switch {
		case strings.ContainsRune("\\`*[]<|", r), r == '_' && !(inWord(i-1) && inWord(i+1)):
			b.WriteRune('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f:
			b.WriteRune(' ')
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}
