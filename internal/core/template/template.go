// Package template makes workbooks that senders fill in. [Make] plans a [Template] for tables of a database: a sheet for
// each table, parents first, with headers in words, names in place of ids, and what each cell may hold. It is written as
// a workbook whose cells are checked as they are typed, and as the ladle file that loads a filled one.
package template

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/condition"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Template is a workbook to be filled in.
type Template struct {
	Database string  `json:"database"`
	Sheets   []Sheet `json:"sheets"`
}

// Sheet is the sheet for a table.
type Sheet struct {
	Table   string   `json:"table"`
	Name    string   `json:"sheet"`
	Key     []string `json:"key"` // the columns of the table by which rows are recognised; empty for none
	Columns []Column `json:"columns"`

	fills []fill
}

// Column is a column of a sheet.
type Column struct {
	Header   string   `json:"header"`
	Required bool     `json:"required"`
	Declared string   `json:"type"`
	Lookup   *Lookup  `json:"lookup,omitempty"`
	Allowed  []string `json:"allowed_values"`    // the only values; empty for any
	Default  string   `json:"default,omitempty"` // what a blank cell means; "" where it stays blank
	Comment  string   `json:"comment,omitempty"`

	kind        value.Type
	least, most *condition.Limit // of the numbers; nil for none
}

// Lookup is the column of another table whose values a cell has, by which people know its rows.
type Lookup struct {
	Table  string   `json:"table"`
	Column string   `json:"column"`
	Names  []string `json:"names"`    // that are there; empty where they are too many
	Sheet  bool     `json:"in_sheet"` // the table has a sheet of its own
}

// fill is a column of a table and where its values come from: a column of the sheet, or the row of another table that
// columns of that find.
type fill struct {
	column string
	header string
	table  string
	by     []fill
}

// mostNames is the number of names that a list has; of a table with more rows, none are listed.
const mostNames = 1000

// Make plans a template for tables of a database.
func Make(ctx context.Context, db engine.Reader, s *schema.Schema, tables []string) (*Template, error) {
	for _, name := range tables {
		switch t := s.Table(name); {
		case t == nil:
			return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no table %q", name), fault.DidYouMean(name, s.Names()))
		case t.Odd != "":
			return nil, fault.New(fault.Wrong, fmt.Sprintf("table %s can't be loaded: %s", name, t.Odd), "")
		}
	}
	made := &Template{Database: s.Database}
	for _, level := range s.Levels().Tables {
		for _, t := range level {
			if !slices.Contains(tables, t.Name) {
				continue
			}
			sheet, err := makeSheet(ctx, db, t, tables)
			if err != nil {
				return nil, err
			}
			sheet.Name = made.sheetName(t.Name)
			made.Sheets = append(made.Sheets, *sheet)
		}
	}
	return made, nil
}

// sheetName is a name that a sheet can have (ECMA-376 and what programs for it take), unlike those of others.
func (t *Template) sheetName(table string) string {
	const longest = 31
	name := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:\/?*[]'`, r) || r < ' ' {
			return '_'
		}
		return r
	}, table)
	cut := func(to int) string { r := []rune(name); return string(r[:min(len(r), to)]) }
	made := cut(longest)
	taken := func(s Sheet) bool { return strings.EqualFold(s.Name, made) }
	for n := 2; strings.EqualFold(made, listsSheet) || slices.ContainsFunc(t.Sheets, taken); n++ {
		made = fmt.Sprintf("%s %d", cut(longest-4), n)
	}
	return made
}

// planner plans a sheet.
type planner struct {
	db     engine.Reader
	tables []string
	sheet  *Sheet
}

func makeSheet(ctx context.Context, db engine.Reader, t *schema.Table, tables []string) (*Sheet, error) {
	p := &planner{db, tables, &Sheet{Table: t.Name, Key: append([]string{}, t.KnownBy()...)}}
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Identity || c.Generated || c.Odd != "" || computes(c) && !slices.Contains(p.sheet.Key, c.Name) {
			continue // the database fills it
		}
		f, err := p.fill(ctx, t, c, headed{own: true}, c.Required, nil)
		if err != nil {
			return nil, err
		}
		if blank := defaultOf(c); f.by == nil && blank != "" {
			made := &p.sheet.Columns[len(p.sheet.Columns)-1]
			made.Default, made.Required = blank, false
		}
		p.sheet.fills = append(p.sheet.fills, f)
	}
	if slices.ContainsFunc(p.sheet.Key, func(k string) bool {
		return !slices.ContainsFunc(p.sheet.fills, func(f fill) bool { return f.column == k })
	}) {
		p.sheet.Key = []string{}
	}
	return p.sheet, nil
}

// deepest is how far a row is looked up by others that are looked up themselves.
const deepest = 4

// headed is what the header of a column of the sheet says.
type headed struct {
	words []string // of the columns on the way
	own   bool     // and of the column itself; else it is the only one by which a row is known
}

// and is h with the words of a column.
func (h headed) and(name string, id bool) []string {
	if !h.own {
		return h.words
	}
	own := schema.Words(name)
	if n := len(own); id && n > 1 && own[n-1] == "id" {
		own = own[:n-1]
	}
	return slices.Concat(h.words, own)
}

// fill says where the values of a column come from, and adds the columns of the sheet that it needs. path has the tables
// that are looked up on the way.
func (p *planner) fill(ctx context.Context, t *schema.Table, c *schema.Column, h headed, required bool,
	path []*schema.Table) (f fill, err error) {
	f.column = c.Name
	r := t.Relation(c.Name)
	if r == nil || r.ParentTable == nil || len(path) == deepest || slices.Contains(path, r.ParentTable) {
		lookup, err := p.lookup(ctx, t, c, path)
		f.header = p.add(t, c, h.and(c.Name, false), required, lookup)
		return f, err
	}
	path = append(slices.Clone(path), r.ParentTable)
	switch known := r.ParentTable.KnownBy(); {
	case known == nil:
		f.header = p.add(t, c, h.and(c.Name, false), required, nil)
	case slices.Equal(known, r.ParentColumns):
		lookup, err := p.lookup(ctx, r.ParentTable, r.ParentTable.Column(known[0]), path)
		f.header = p.add(t, c, h.and(c.Name, false), required, lookup)
		return f, err
	default:
		f.table = r.ParentTable.Name
		next := headed{h.and(c.Name, true), len(known) > 1}
		for _, name := range known {
			by, err := p.fill(ctx, r.ParentTable, r.ParentTable.Column(name), next, required, path)
			if err != nil {
				return f, err
			}
			f.by = append(f.by, by)
		}
	}
	return f, nil
}

// add adds a column to the sheet and returns its header.
func (p *planner) add(t *schema.Table, c *schema.Column, words []string, required bool, lookup *Lookup) string {
	made := Column{Required: required, Declared: c.Declared, Comment: c.Comment, Allowed: []string{},
		Lookup: lookup, kind: c.Type}
	if lookup == nil {
		made.Allowed = append(made.Allowed, condition.Allowed(t, c)...)
		made.least, made.most = condition.Within(t, c)
	}
	made.Header = p.sheet.header(words, c.Name)
	p.sheet.Columns = append(p.sheet.Columns, made)
	return made.Header
}

func (s *Sheet) has(header string) bool {
	return slices.ContainsFunc(s.Columns, func(c Column) bool { return strings.EqualFold(c.Header, header) })
}

// header is a name in words, unlike those of other columns.
func (s *Sheet) header(words []string, name string) string {
	header := strings.Join(words, " ")
	if header == "" {
		header = name
	}
	r := []rune(header)
	header = strings.ToUpper(string(r[:1])) + string(r[1:])
	made := header
	for n := 2; s.has(made); n++ {
		made = fmt.Sprintf("%s %d", header, n)
	}
	return made
}

// lookup is the column of a table by whose values a row is named, with those that are there; nil for a column of the
// table that the sheet is for.
func (p *planner) lookup(ctx context.Context, t *schema.Table, c *schema.Column, path []*schema.Table) (*Lookup, error) {
	if len(path) == 0 {
		return nil, nil
	}
	l := &Lookup{Table: t.Name, Column: c.Name, Names: []string{}, Sheet: slices.Contains(p.tables, t.Name)}
	rows, exact, err := p.db.Count(ctx, t)
	if err != nil || !exact || rows > mostNames || c.Type.Kind != value.Text {
		return l, err
	}
	err = p.db.Scan(ctx, t, []string{c.Name}, func(b *value.Batch) error {
		for row, state := range b.Columns[0].States {
			if state == value.Given {
				l.Names = append(l.Names, b.Columns[0].Text(row))
			}
		}
		return nil
	})
	slices.Sort(l.Names)
	l.Names = slices.Compact(l.Names)
	return l, err
}

// Note says what a cell of the column holds.
func (c *Column) Note() string {
	var parts []string
	add := func(format string, arguments ...any) { parts = append(parts, fmt.Sprintf(format, arguments...)) }
	if c.Required {
		add("Required.")
	} else {
		add("May be left blank.")
	}
	switch {
	case c.Lookup != nil:
		add("The %s of a row of %s.", c.Lookup.Column, c.Lookup.Table)
		if c.Lookup.Sheet {
			add("It can be one that is added in the sheet for %s.", c.Lookup.Table)
		}
	case len(c.Allowed) > 0:
		add("One of: %s.", strings.Join(c.Allowed, ", "))
	default:
		add("%s", c.describe())
	}
	if c.Default != "" {
		add("Blank means %s.", c.Default)
	}
	if c.Comment != "" {
		add("%s", c.Comment)
	}
	return strings.Join(parts, " ")
}

// limits are those of the numbers in words, behind what is limited; "" for none.
func (c *Column) limits() string {
	side := func(l *condition.Limit, open, closed string) string {
		if l.Open {
			return open + l.Number
		}
		return closed + l.Number
	}
	switch {
	case c.least == nil && c.most == nil:
		return ""
	case c.most == nil:
		return side(c.least, " greater than ", " of at least ")
	case c.least == nil:
		return side(c.most, " less than ", " of at most ")
	case !c.least.Open && !c.most.Open:
		return " from " + c.least.Number + " to " + c.most.Number
	}
	return side(c.least, " greater than ", " of at least ") + " and" + side(c.most, " less than ", " of at most ")
}

// describe says what a value of the type is, with an example.
func (c *Column) describe() string {
	switch t := c.kind; t.Kind {
	case value.Int:
		if limits := c.limits(); limits != "" {
			return "A whole number" + limits + "."
		}
		return "A whole number, such as 42."
	case value.Fixed, value.Decimal, value.Float:
		says := "A number" + c.limits()
		if c.limits() != "" && t.Scale > 0 {
			says += ","
		}
		if t.Scale > 0 {
			says += fmt.Sprintf(" with at most %s after the point", reason.Plural(int64(t.Scale), "digit"))
		}
		if c.limits() == "" {
			says += ", such as 12.5"
		}
		return says + "."
	case value.Date:
		return "A date, such as 2026-03-31."
	case value.DateTime:
		return "A date with a time, such as 2026-03-31 14:30."
	case value.Time:
		return "A time, such as 14:30."
	case value.Bool:
		return "yes or no."
	}
	if c.kind.Length > 0 {
		return fmt.Sprintf("A text of at most %d characters.", c.kind.Length)
	}
	return "A text."
}
