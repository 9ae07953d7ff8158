package intake

import (
	"fmt"
	"path/filepath"
	"strings"

	"ladle/internal/core/reason"
	"ladle/internal/core/source"
)

const certain = 0.9 // what is less sure is told

// readingNotes are what a person should know of the way in which files were read, because it was detected. named says
// that columns are used by their names: the line that has them is the header.
func readingNotes(t source.Table, named bool) (notes []string) {
	for _, m := range t.Formats() {
		name := filepath.Base(m.Name())
		if e := m.Encoding; e.Value != "" && !e.Given && e.Value != "ASCII" && !strings.HasPrefix(e.Value, "UTF-") {
			notes = append(notes, fmt.Sprintf("%s was read as %s, a guess; set encoding: in the ladle file to be "+
				"certain", name, e.Value))
		}
		if d := m.Delimiter; d.Value != "" && d.Confidence < certain && !d.Given {
			notes = append(notes, fmt.Sprintf("%s: the delimiter is a guess (%q); set delimiter: in the ladle file to "+
				"be certain", name, d.Value))
		}
		switch {
		case m.QuoteGuessed && m.Quote == "none":
			notes = append(notes, name+": quotes are read as part of the values, a guess; set quote: none in the ladle file "+
				"to be certain, or the quote that encloses values")
		case m.QuoteGuessed:
			notes = append(notes, fmt.Sprintf("%s: values are read as enclosed in %s, a guess; set quote: in the ladle file "+
				"to be certain", name, m.Quote))
		}
		notes = append(notes, odd(name, &m)...)
		notes = append(notes, hidden(name, &m)...)
		switch {
		case m.Blank == 1:
			notes = append(notes, name+": 1 line that holds nothing was skipped")
		case m.Blank > 1:
			notes = append(notes, fmt.Sprintf("%s: %s lines that hold nothing were skipped", name,
				reason.Count(m.Blank)))
		}
		if h := m.Header; h.Confidence < certain && !h.Given && !named {
			notes = append(notes, fmt.Sprintf("%s: the line of the header is a guess (%s); set header: in the ladle "+
				"file to be certain", name, h.Value))
		}
	}
	return notes
}

// odd returns what of a text was read in another way than it stands there.
func odd(name string, m *source.Format) (notes []string) {
	add := func(n int64, one, many string) {
		if n == 1 {
			notes = append(notes, name+": 1 "+one)
		} else if n > 1 {
			notes = append(notes, fmt.Sprintf("%s: %s %s", name, reason.Count(n), many))
		}
	}
	add(m.Loose, "line has blanks beside quotes; they are no part of its values",
		"lines have blanks beside quotes; they are no part of their values")
	add(m.Short, "line ends early; its missing cells are blank", "lines end early; their missing cells are blank")
	add(m.Unmade, "blank cell of the columns that become lines made none",
		"blank cells of the columns that become lines made none")
	if m.EndMark {
		notes = append(notes, name+": its last character is the end-of-file mark of DOS (Ctrl-Z), which is no row")
	}
	add(m.Comments, "line is a comment", "lines are comments")
	return notes
}

// hidden returns what of a sheet is read although a person doesn't see it, or doesn't see it so.
func hidden(name string, m *source.Format) (notes []string) {
	if m.HiddenRows == 1 {
		notes = append(notes, name+": 1 of its rows is hidden; it is read like the others")
	} else if m.HiddenRows > 1 {
		notes = append(notes, fmt.Sprintf("%s: %d of its rows are hidden; they are read like the others", name,
			m.HiddenRows))
	}
	if len(m.HiddenColumns) > 0 {
		notes = append(notes, fmt.Sprintf("%s: hidden columns, which can be used like the others: %s", name,
			strings.Join(m.HiddenColumns, ", ")))
	}
	if m.Totals > 0 {
		notes = append(notes, fmt.Sprintf("%s: totals rows of the table, left out: %d", name, m.Totals))
	}
	if m.Merged > 0 {
		notes = append(notes, fmt.Sprintf("%s: blocks of merged cells, of which only the first cell holds a value: %d",
			name, m.Merged))
	}
	return notes
}
