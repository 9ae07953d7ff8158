package load

import (
	"slices"
	"strings"
	"unicode"

	"ladle/internal/core/value"
)

// mentioned gives the values of a row in the columns of which a database speaks when it does not take the row: those that
// it names itself, or that the constraint is about which it names; to go behind the reason.
func (s *judged) mentioned(why string, columns []*value.Column, row int) string {
	said := why
	for _, c := range s.Table.Checks {
		if c.Name != "" && strings.Contains(why, c.Name) {
			said += " " + c.Says
		}
	}
	for _, k := range s.Table.Keys {
		if k.Name != "" && strings.Contains(why, k.Name) {
			said += " " + strings.Join(k.Columns, " ")
		}
	}
	for _, r := range s.Table.Relations {
		if r.Name != "" && strings.Contains(why, r.Name) {
			said += " " + strings.Join(r.Columns, " ")
		}
	}
	words := strings.FieldsFunc(said, func(r rune) bool { return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	var all []string
	for i, c := range s.Columns {
		if !slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(w, c.Column.Name) }) {
			continue
		}
		text := "NULL"
		switch columns[i].States[row] {
		case value.Given:
			text = columns[i].Text(row)
		case value.New:
			text = newID
		}
		all = append(all, c.Column.Name+" is "+text)
	}
	if all == nil {
		return ""
	}
	return "; " + strings.Join(all, ", ")
}
