// Package schema describes the tables of a database as a load needs to know them, and in which order to fill them.
package schema

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/value"
)

// Schema is all the tables that a load could touch.
type Schema struct {
	Database string // where it was read, in the words of the person: a path or a URL without its password
	Tables   []*Table
	Views    []string // what is asked for like a table, but holds no rows of its own
	Notes    []string // what a person should know of the whole of it
}

// Table is one table.
type Table struct {
	Name      string
	Comment   string
	Form      string // how the table is kept, where that is not the usual: partitioned, STRICT, WITHOUT ROWID
	Columns   []Column
	Keys      []Key
	Relations []Relation
	Indexes   [][]string // the columns of each index over whole columns and all rows, in its order
	Partial   []string   // other indexes, in SQL or in words
	Checks    []Check

	// Locator is the name of the 64-bit whole number by which the database finds a row, and which a load may choose
	// for the rows that it adds: an identity column, or a hidden row number. Empty when there is none.
	Locator string

	Triggers []string // what else happens when rows are written

	// Odd says why the table can't be loaded; empty when it can.
	Odd string
}

// Column is one column of a table.
type Column struct {
	Name      string
	Declared  string // the type as it was declared
	Type      value.Type
	Required  bool // NOT NULL
	Comment   string
	Defaulted bool   // has a default other than NULL
	Default   string // that default, in SQL
	Identity  bool   // the database counts its values
	Generated bool   // the database computes its values
	Collation string
	Typeless  bool // each value keeps the type with which it is written

	// Odd says why the values that stand in the column can't be read as its declared type; empty when they can.
	Odd string
}

// StoreNumbers has a column without a type hold numbers.
func (c *Column) StoreNumbers() { c.Type = value.Type{Kind: value.Decimal, Storage: value.AsDouble} }

// Check is a CHECK constraint.
type Check struct {
	Name string `json:"name"`
	Says string `json:"says"`

	// Condition is what it asks of a row, an expression in SQL; "" where it is no condition on a single row, or is not
	// enforced.
	Condition string `json:"-"`
}

// Words are the name of the constraint and its condition.
func (c *Check) Words() string {
	if c.Name == "" {
		return c.Says
	}
	return "CHECK " + c.Name + strings.TrimPrefix(c.Says, "CHECK")
}

// Key is a unique constraint.
type Key struct {
	Name    string // "" where it has none of its own
	Columns []string
	Primary bool
}

// Relation is a foreign key.
type Relation struct {
	Name          string // "" where it has none of its own
	Off           string // why the database does not enforce it; "" when it does
	Broken        string // why it can't be followed; "" when it can, or when its parent was not read
	Columns       []string
	Parent        string
	ParentColumns []string
	ParentTable   *Table // nil when the relation can't be followed
	Assumed       bool   // the database doesn't declare it
}

// Enforced reports whether a database that sees to foreign keys sees to this one.
func (r Relation) Enforced() bool { return r.Off == "" && r.Broken == "" && !r.Assumed }

// Table finds a table by its name, nil when there is none.
func (s *Schema) Table(name string) *Table {
	for _, t := range s.Tables {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// Called lists the tables that a person can mean by name: the one of that name, or else those whose name has it behind
// a schema of the database.
func (s *Schema) Called(name string) (all []*Table) {
	if t := s.Table(name); t != nil {
		return []*Table{t}
	}
	for _, t := range s.Tables {
		if strings.HasSuffix(t.Name, "."+name) {
			all = append(all, t)
		}
	}
	return all
}

// Names lists the tables.
func (s *Schema) Names() []string {
	names := make([]string, len(s.Tables))
	for i, t := range s.Tables {
		names[i] = t.Name
	}
	return names
}

// Column finds a column by its name, nil when there is none.
func (t *Table) Column(name string) *Column {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
	}
	return nil
}

// Names lists the columns.
func (t *Table) Names() []string {
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	return names
}

// Identity is the column whose values the database counts, nil when there is none.
func (t *Table) Identity() *Column {
	for i := range t.Columns {
		if t.Columns[i].Identity {
			return &t.Columns[i]
		}
	}
	return nil
}

// UniqueOn reports whether a unique constraint holds exactly these columns, in any order.
func (t *Table) UniqueOn(columns []string) bool {
	return slices.ContainsFunc(t.Keys, func(k Key) bool { return sameSet(k.Columns, columns) })
}

// Relation finds the relation of a single column, nil when there is none.
func (t *Table) Relation(column string) *Relation {
	for i := range t.Relations {
		if r := &t.Relations[i]; len(r.Columns) == 1 && r.Columns[0] == column {
			return r
		}
	}
	return nil
}

// Declared lists the relations whose parents were read.
func (t *Table) Declared() []Relation {
	return slices.DeleteFunc(slices.Clone(t.Relations), func(r Relation) bool { return r.ParentTable == nil })
}

// Unfollowed says which relations of t can't be followed, and why.
func (t *Table) Unfollowed() (all []string) {
	for _, r := range t.Relations {
		if r.ParentTable != nil {
			continue
		}
		why := r.Broken
		if why == "" {
			why = fmt.Sprintf("there is no table %s, or this user can't see it", r.Parent)
		}
		all = append(all, fmt.Sprintf("%s.%s -> %s: %s", t.Name, strings.Join(r.Columns, ", "), r.Parent, why))
	}
	return all
}

// PointingAt lists the declared relations by which rows refer to those of t.
func (s *Schema) PointingAt(t *Table) (all []Link) {
	for _, child := range s.Tables {
		for i := range child.Relations {
			if r := &child.Relations[i]; r.ParentTable == t {
				all = append(all, Link{child, r})
			}
		}
	}
	return all
}

// Missing lists the columns that every row needs a value for and that nothing gives one: those required, without a
// default, not made by the database and not in fed.
func (t *Table) Missing(fed []string) []string {
	var missing []string
	for _, c := range t.Columns {
		if c.Required && !c.Defaulted && !c.Identity && !c.Generated && !slices.Contains(fed, c.Name) {
			missing = append(missing, c.Name)
		}
	}
	return missing
}

func sameSet(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	for _, x := range a {
		if !slices.Contains(b, x) {
			return false
		}
	}
	return true
}

// Kept lists the columns of t that hold what its rows were given: all but those that the database computes, and those
// that can't be read.
func (t *Table) Kept() (names []string) {
	for _, c := range t.Columns {
		if !c.Generated && c.Odd == "" {
			names = append(names, c.Name)
		}
	}
	return names
}

// FoundBy lists columns by which each row of t is found: the locator, else a unique key that is NOT NULL; nil where
// there are none.
func (t *Table) FoundBy() []string {
	if t.Locator != "" {
		return []string{t.Locator}
	}
	for _, k := range t.Keys {
		if !slices.ContainsFunc(k.Columns, func(c string) bool { return !t.Column(c).Required }) {
			return k.Columns
		}
	}
	return nil
}

// KnownBy lists the columns by which people know a row of t: those of its first key that is not only a number by which
// it is found; nil where there is none.
func (t *Table) KnownBy() []string {
	for _, k := range t.Keys {
		if !slices.Equal(k.Columns, []string{t.Locator}) {
			return k.Columns
		}
	}
	return nil
}

// NameColumn is the column by which people know the rows that a relation refers to, other than the one referred to: the
// first that is a key by itself; "" where there is none, or the relation can't be followed.
func (r *Relation) NameColumn() string {
	if r.ParentTable == nil {
		return ""
	}
	for _, k := range r.ParentTable.Keys {
		if len(k.Columns) == 1 && k.Columns[0] != r.ParentColumns[0] {
			return k.Columns[0]
		}
	}
	return ""
}

// Indexed reports whether the database finds rows by these columns without reading the whole table.
func (t *Table) Indexed(columns []string) bool {
	return slices.ContainsFunc(t.Indexes, func(index []string) bool {
		return len(index) > 0 && slices.Contains(columns, index[0])
	})
}
