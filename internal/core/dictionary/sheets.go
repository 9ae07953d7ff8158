package dictionary

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Sheet is a part of the dictionary as a table: texts, whole numbers (int64) and blanks (nil).
type Sheet struct {
	Name   string
	Header []string
	Rows   [][]any
}

// The sheets, and the titles of their columns, by which they are read again.
const (
	tablesSheet    = "tables"
	columnsSheet   = "columns"
	relationsSheet = "relations"
	checksSheet    = "CHECK constraints"
	rowsSheet      = "lookup values"
)

// Sheets are the parts of the dictionary: tables, columns, relations, CHECK constraints and, where values were asked
// for, the rows of small lookup tables.
func (d *Dictionary) Sheets() []Sheet {
	all := []Sheet{d.tables(), d.Columns(), d.relations(), d.checks()}
	if d.valued {
		all = append(all, d.lookups())
	}
	return all
}

func (d *Dictionary) tables() Sheet {
	s := Sheet{Name: tablesSheet, Header: []string{"table", "comment", "rows", "primary key", "unique keys", "kept as",
		"referred to by", "triggers"}}
	for _, t := range d.Tables {
		var keys, by []string
		for _, k := range t.Keys {
			keys = append(keys, joined(k))
		}
		for _, r := range t.PointedBy {
			by = append(by, r.Table+" ("+strings.Join(r.Columns, ", ")+")")
		}
		s.Rows = append(s.Rows, []any{t.Name, t.Comment, t.Rows, joined(t.Primary), strings.Join(keys, "; "), t.Form,
			strings.Join(by, "; "), strings.Join(t.Triggers, "; ")})
	}
	return s
}

func (d *Dictionary) checks() Sheet {
	s := Sheet{Name: checksSheet, Header: []string{"table", "name", "condition"}}
	for _, t := range d.Tables {
		for _, c := range t.Checks {
			s.Rows = append(s.Rows, []any{t.Name, c.Name, c.Says})
		}
	}
	return s
}

// Columns is the part that has a row for each column.
func (d *Dictionary) Columns() Sheet {
	s := Sheet{Name: columnsSheet, Header: []string{"table", "no", "column", "type", "value", "key", "refers to",
		"allowed values", "comment", "collation"}}
	if d.valued {
		s.Header = append(s.Header, "blank", "distinct", "least", "greatest", "greatest length", "declared length",
			"examples")
	}
	for _, t := range d.Tables {
		for i, c := range t.Columns {
			row := []any{t.Name, int64(i + 1), c.Name, c.Declared, value(c), t.key(c.Name), t.refers(c.Name),
				strings.Join(c.Values, ", "), c.Comment, c.Collation}
			if d.valued {
				row = append(row, t.valuesOf(c.Name).cells()...)
			}
			s.Rows = append(s.Rows, row)
		}
	}
	return s
}

// Cells returns the columns of the table as short texts, a row each, under a header; what is blank for all of them is
// left out.
func (t *Table) Cells() (header []string, rows [][]string) {
	all := []string{"column", "type", "value", "key", "refers to", "allowed values", "comment", "blank", "distinct",
		"least",
		"greatest", "length", "examples"}
	whole := make([][]string, len(t.Columns))
	for i, c := range t.Columns {
		whole[i] = []string{c.Name, c.Declared, value(c), t.key(c.Name), t.refers(c.Name), strings.Join(c.Values, ", "),
			c.Comment,
			"", "", "", "", "", ""}
		if v := t.valuesOf(c.Name); v != nil {
			length := strconv.Itoa(v.Longest)
			if v.Length > 0 {
				length += fmt.Sprintf(" of %d", v.Length)
			}
			const few = 3
			copy(whole[i][7:], []string{strconv.FormatInt(v.Blank, 10), strconv.FormatInt(v.Distinct, 10), v.Least, v.Most,
				length,
				strings.Join(v.Examples[:min(few, len(v.Examples))], "; ")})
		}
	}
	rows = make([][]string, len(whole))
	for i, name := range all {
		if !slices.ContainsFunc(whole, func(row []string) bool { return row[i] != "" }) {
			continue
		}
		header = append(header, name)
		for r, row := range whole {
			rows[r] = append(rows[r], row[i])
		}
	}
	return header, rows
}

// cells are the values of a column in the columns for them.
func (v *Values) cells() []any {
	if v == nil { // of a table that can't be read
		return make([]any, 7)
	}
	length := any(nil)
	if v.Length > 0 {
		length = int64(v.Length)
	}
	return []any{v.Blank, v.Distinct, v.Least, v.Most, int64(v.Longest), length, strings.Join(v.Examples, "; ")}
}

func (d *Dictionary) relations() Sheet {
	s := Sheet{Name: relationsSheet, Header: []string{"table", "columns", "refers to", "its columns", "enforced"}}
	for _, t := range d.Tables {
		for _, r := range t.PointsAt {
			enforced := "yes"
			if r.Off != "" {
				enforced = "no: " + r.Off
			}
			s.Rows = append(s.Rows, []any{t.Name, joined(r.Columns), r.Table, joined(r.Keys), enforced})
		}
	}
	return s
}

// lookups has a column for each value of a row.
func (d *Dictionary) lookups() Sheet {
	s := Sheet{Name: rowsSheet, Header: []string{"table", "columns"}}
	widest := 0
	for _, t := range d.Tables {
		widest = max(widest, len(t.Listed))
	}
	for i := range widest {
		s.Header = append(s.Header, fmt.Sprintf("value %d", i+1))
	}
	for _, t := range d.Tables {
		for _, row := range t.Lookups {
			cells := append(make([]any, 0, len(s.Header)), t.Name, joined(t.Listed))
			for i := range widest {
				cell := ""
				if i < len(row) {
					cell = row[i]
				}
				cells = append(cells, cell)
			}
			s.Rows = append(s.Rows, cells)
		}
	}
	return s
}
