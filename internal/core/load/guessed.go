package load

import (
	"fmt"
	"path/filepath"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

const (
	certain = 0.9  // what is less sure is told
	vague   = 0.05 // an encoding that is less sure would change values
)

// guessed tells what a person should know of the way in which files were read, because it was found by looking. It is
// an error when the encoding of a file is so unsure that values could be other ones.
func guessed(t source.Table) ([]string, error) {
	var notes []string
	for _, m := range t.Files() {
		name := filepath.Base(m.Name())
		e := m.Encoding
		switch {
		case e.Is == "" || e.Said || e.Is == "ASCII" || strings.HasPrefix(e.Is, "UTF-"):
		case e.Sure < vague:
			return nil, fault.At(fault.Refused, fault.Problem{File: m.Path,
				What: fmt.Sprintf("it isn't clear in which encoding this text is; the best guess is %s", e.Is),
				Do:   "say encoding: for this input in the ladle file"})
		default:
			notes = append(notes, fmt.Sprintf("%s was read as %s, as it looks; encoding: in the ladle file makes that certain", name, e.Is))
		}
		if d := m.Limits; d.Is != "" && d.Sure < certain && !d.Said {
			notes = append(notes, fmt.Sprintf("%s: the delimiter is not sure (%q was taken); delimiter: in the ladle file makes it certain", name, d.Is))
		}
		notes = append(notes, hidden(name, m)...)
		if h := m.Header; h.Sure < certain && !h.Said {
			notes = append(notes, fmt.Sprintf("%s: the line of the header is not sure (%s was taken); header: in the ladle file makes it certain", name, h.Is))
		}
	}
	return notes, nil
}

// hidden tells what of a sheet is read although a person doesn't see it, or doesn't see it so.
func hidden(name string, m *source.Manner) (notes []string) {
	if m.HiddenRows == 1 {
		notes = append(notes, name+": 1 of its rows is hidden; it is read too")
	} else if m.HiddenRows > 1 {
		notes = append(notes, fmt.Sprintf("%s: %d of its rows are hidden; they are read too", name, m.HiddenRows))
	}
	if len(m.HiddenColumns) > 0 {
		notes = append(notes, fmt.Sprintf("%s: hidden columns, which can be used: %s", name, strings.Join(m.HiddenColumns, ", ")))
	}
	if m.Totals > 0 {
		notes = append(notes, fmt.Sprintf("%s: totals rows of the table that are left out: %d", name, m.Totals))
	}
	if m.Merged > 0 {
		notes = append(notes, fmt.Sprintf("%s: blocks of merged cells, of which only the first cell holds a value: %d", name, m.Merged))
	}
	return notes
}
