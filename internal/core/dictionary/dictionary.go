// Package dictionary describes the tables of a database for people: tables, columns, types, keys, relations, CHECKs and
// comments, and, where it is asked for, what is in each column. [Make] makes a [Dictionary], which is written as a
// workbook, as CSV or as Markdown.
package dictionary

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/condition"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// Dictionary is what there is to know of some tables, in the order of loading.
type Dictionary struct {
	Database string  `json:"database"`
	Tables   []Table `json:"tables"`

	valued bool
}

// Table is a table with what is in its columns.
type Table struct {
	schema.TableOutline `json:"table"`

	Values  []Values   `json:"column_values"` // for each column, where they were asked for
	Lookups [][]string `json:"lookup_rows"`   // of a small table that others refer to: its rows, by Listed
	Listed  []string   `json:"lookup_columns"`

	onSheet bool // of a workbook that was read: it stands in the sheet of tables
}

// Values is what is in a column.
type Values struct {
	Column   string   `json:"column"`
	Blank    int64    `json:"blank"` // NULL, and empty texts
	Distinct int64    `json:"distinct"`
	Exact    bool     `json:"distinct_exact"`
	Least    string   `json:"least"`
	Most     string   `json:"greatest"`
	Longest  int      `json:"longest"`          // characters
	Length   int      `json:"length,omitempty"` // characters that the column takes, where it has a limit
	Examples []string `json:"examples"`
}

// Options say what is described.
type Options struct {
	Tables []string // only these; nil for all
	Values bool     // what is in each column
	// Progress hears which table is read, of how many; nil when nobody listens.
	Progress func(table string, done, of int)
}

const (
	mostLookup   = 200 // rows of a table whose rows are listed
	mostExamples = 5
)

// Make describes the tables of a database.
func Make(ctx context.Context, db engine.Database, s *schema.Schema, o Options) (*Dictionary, error) {
	for _, name := range o.Tables {
		if s.Table(name) == nil {
			return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no table %q", name),
				fault.DidYouMean(name, s.Names()))
		}
	}
	wanted := func(name string) bool { return o.Tables == nil || slices.Contains(o.Tables, name) }
	sizes := map[*schema.Table]schema.RowCount{}
	for _, t := range s.Tables {
		if !wanted(t.Name) || o.Values { // where all rows are read, they are counted then
			continue
		}
		n, exact, err := db.Count(ctx, t)
		if err != nil {
			return nil, err
		}
		sizes[t] = schema.RowCount{Rows: n, Exact: exact}
	}
	d := &Dictionary{Database: s.Database, Tables: []Table{}, valued: o.Values}
	for _, level := range s.Outline(sizes).Levels {
		for _, b := range level {
			if wanted(b.Name) {
				d.Tables = append(d.Tables, Table{TableOutline: b, Values: []Values{}, Lookups: [][]string{}, Listed: []string{}})
			}
		}
	}
	for i := range d.Tables {
		t := &d.Tables[i]
		t.Checks = slices.Clone(t.Checks)
		for c := range t.Checks {
			t.Checks[c].Says = bare(t.Checks[c].Says)
		}
		of := s.Table(t.Name)
		for c := range t.Columns {
			if allowed := condition.Allowed(of, of.Column(t.Columns[c].Name)); allowed != nil {
				t.Columns[c].Values = allowed
			}
		}
	}
	if !o.Values {
		return d, nil
	}
	for i := range d.Tables {
		t := &d.Tables[i]
		if o.Progress != nil {
			o.Progress(t.Name, i, len(d.Tables))
		}
		if err := t.read(ctx, db, s.Table(t.Name)); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// read reads the rows of a table, once; a small one that others refer to once more, to list them.
func (t *Table) read(ctx context.Context, db engine.Database, of *schema.Table) error {
	ask := func(take func([]string, [][]byte) error) error { return db.Ask(ctx, db.SelectAll(of), take) }
	rows, err := source.Stream(source.RowPart{File: source.File{Path: "table " + of.Name, Query: true, Table: of.Name},
		Each: ask})
	if err != nil {
		return err
	}
	in, err := survey.Columns(ctx, rows)
	if err := errors.Join(err, rows.Close()); err != nil {
		return err
	}
	t.Rows, t.Exact = in.Rows+in.Broken.Count, true
	for i, c := range in.Columns {
		v := Values{Column: c.Name, Blank: c.Blank, Distinct: c.Distinct, Exact: c.Exact, Least: c.Least, Most: c.Most,
			Longest: c.Longest, Examples: []string{}}
		if declared := of.Column(c.Name); declared != nil {
			v.Length = declared.Type.Length
			if of.UniqueOn([]string{c.Name}) && declared.Collation == "" {
				v.Distinct, v.Exact = in.Rows-c.Blank, true
			}
		}
		for _, text := range in.Distinct(i) {
			if len(v.Examples) < mostExamples {
				v.Examples = append(v.Examples, text)
			}
		}
		t.Values = append(t.Values, v)
	}
	if len(t.PointedBy) == 0 || in.Rows > mostLookup {
		return nil
	}
	return t.list(ask)
}

// list lists the rows of a small table that others refer to: what is referred to, and by what people know them.
func (t *Table) list(ask func(take func([]string, [][]byte) error) error) error {
	want := slices.Clone(t.Primary)
	for _, k := range t.KnownBy() {
		for _, c := range k {
			if !slices.Contains(want, c) {
				want = append(want, c)
			}
		}
	}
	var at []int
	return ask(func(columns []string, row [][]byte) error {
		if row == nil {
			for i, c := range columns {
				if slices.Contains(want, c) {
					at, t.Listed = append(at, i), append(t.Listed, c)
				}
			}
			return nil
		}
		if at == nil {
			return nil
		}
		cells := make([]string, len(at))
		for i, a := range at {
			cells[i] = string(row[a])
		}
		t.Lookups = append(t.Lookups, cells)
		return nil
	})
}

// value says what stands in a column, besides its type.
func value(c schema.ColumnOutline) string {
	switch {
	case c.Counted:
		return "auto-numbered"
	case c.Computed:
		return "computed"
	case c.Required && c.Default != "":
		return "required, default " + c.Default
	case c.Default != "":
		return "default " + c.Default
	case c.Required:
		return "required"
	}
	return "optional"
}

// key says of which keys a column is a part.
func (t *Table) key(column string) string {
	var parts []string
	if slices.Contains(t.Primary, column) {
		parts = append(parts, "primary key"+with(t.Primary, column))
	}
	for _, k := range t.Keys {
		if slices.Contains(k, column) {
			parts = append(parts, "unique"+with(k, column))
		}
	}
	return strings.Join(parts, "; ")
}

// with names the other columns of a key.
func with(key []string, column string) string {
	others := slices.DeleteFunc(slices.Clone(key), func(c string) bool { return c == column })
	if len(others) == 0 {
		return ""
	}
	return " with " + strings.Join(others, ", ")
}

// refers says what a column refers to.
func (t *Table) refers(column string) string {
	var all []string
	for _, r := range t.PointsAt {
		if at := slices.Index(r.Columns, column); at >= 0 && at < len(r.Keys) {
			all = append(all, r.Table+"."+r.Keys[at])
		}
	}
	return strings.Join(all, "; ")
}

// valuesOf is what is in a column; nil where nobody asked.
func (t *Table) valuesOf(column string) *Values {
	for i := range t.Values {
		if t.Values[i].Column == column {
			return &t.Values[i]
		}
	}
	return nil
}
