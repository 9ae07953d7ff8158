package schema

import (
	"fmt"
	"slices"
	"strings"
)

// Outline is what a person should know of the tables before loading them.
type Outline struct {
	Database string           `json:"database"`
	Levels   [][]TableOutline `json:"levels"` // in the order of loading
	Later    []string         `json:"filled_later"`
	Stuck    []string         `json:"unbreakable_circles"` // circles that can't be broken
	Guessed  []string         `json:"likely_foreign_keys"`
	Views    []string         `json:"views"`
	Notes    []string         `json:"notes"`
}

// TableOutline is a table in an outline.
type TableOutline struct {
	Name      string          `json:"name"`
	Comment   string          `json:"comment,omitempty"`
	Form      string          `json:"form,omitempty"`
	Rows      int64           `json:"row_count"`
	Exact     bool            `json:"row_count_exact"` // else about so many
	Primary   []string        `json:"primary_key"`
	Keys      [][]string      `json:"unique_keys"` // the other unique constraints
	PointsAt  []Reference     `json:"foreign_keys"`
	Required  []string        `json:"required"`
	Optional  []string        `json:"optional"`
	Fills     []string        `json:"filled_by_database"`
	Triggers  []string        `json:"triggers"`
	Unusable  string          `json:"unusable,omitempty"`
	PointedBy []Reference     `json:"referenced_by"`
	Columns   []ColumnOutline `json:"columns"`
	Checks    []Check         `json:"check_constraints"`
	Indexes   [][]string      `json:"indexes"`
	Partial   []string        `json:"other_indexes"`
}

// Reference is a relation of a table, seen from one of its ends.
type Reference struct {
	Table   string   `json:"table"` // the other one
	Columns []string `json:"columns"`
	Keys    []string `json:"referenced_columns"` // the parent's columns
	Off     string   `json:"not_enforced,omitempty"`
	Broken  string   `json:"unusable,omitempty"` // why it can't be followed
}

// ColumnOutline is a column in an outline.
type ColumnOutline struct {
	Name      string   `json:"name"`
	Declared  string   `json:"type"`
	Required  bool     `json:"required"`
	Default   string   `json:"default,omitempty"`
	Counted   bool     `json:"auto_numbered"`
	Computed  bool     `json:"computed"`
	Collation string   `json:"collation,omitempty"`
	Comment   string   `json:"comment,omitempty"`
	Unusable  string   `json:"unusable,omitempty"`
	Values    []string `json:"values"` // the only ones that it takes; empty for any
}

// RowCount is a number of rows.
type RowCount struct {
	Rows  int64
	Exact bool
}

// Outline says what is in the schema; sizes has the rows of each table.
func (s *Schema) Outline(sizes map[*Table]RowCount) *Outline {
	o := &Outline{Database: s.Database, Views: s.Views, Notes: s.Notes}
	levels := s.Levels()
	for _, level := range levels.Tables {
		var briefs []TableOutline
		for _, t := range level {
			b := t.brief(sizes[t])
			b.PointedBy = s.pointingAt(t)
			briefs = append(briefs, b)
		}
		o.Levels = append(o.Levels, briefs)
	}
	for _, l := range levels.Later {
		o.Later = append(o.Later, fmt.Sprintf("%s.%s -> %s", l.Child.Name, strings.Join(l.Columns, ", "), l.Parent))
	}
	for _, circle := range levels.Stuck {
		o.Stuck = append(o.Stuck, drawn(circle))
	}
	for _, g := range s.Guess() {
		o.Guessed = append(o.Guessed, fmt.Sprintf("%s.%s -> %s.%s", g.Child.Name, g.Column, g.Parent.Name, g.Key))
	}
	return o
}

// drawn draws a circle of tables by the relations that hold it together.
func drawn(circle []*Table) string {
	var lines []string
	for _, t := range circle {
		for _, r := range t.Relations {
			if slices.Contains(circle, r.ParentTable) {
				lines = append(lines, fmt.Sprintf("%s.%s -> %s", t.Name, strings.Join(r.Columns, ", "), r.Parent))
			}
		}
	}
	return strings.Join(lines, ", ")
}

func (t *Table) brief(size RowCount) TableOutline {
	b := TableOutline{Name: t.Name, Comment: t.Comment, Form: t.Form, Rows: size.Rows, Exact: size.Exact,
		Required: t.Missing(nil),
		Triggers: t.Triggers, Unusable: t.Odd, Checks: t.Checks, Indexes: t.Indexes, Partial: t.Partial}
	for _, k := range t.Keys {
		if k.Primary {
			b.Primary = k.Columns
		} else {
			b.Keys = append(b.Keys, k.Columns)
		}
	}
	for _, r := range t.Relations {
		b.PointsAt = append(b.PointsAt, Reference{r.Parent, r.Columns, r.ParentColumns, r.Off, r.Broken})
	}
	for _, c := range t.Columns {
		switch {
		case c.Identity || c.Generated || c.Required && c.Defaulted:
			b.Fills = append(b.Fills, c.Name)
		case !c.Required:
			b.Optional = append(b.Optional, c.Name)
		}
		var values []string
		if c.Type.Among != nil {
			values = *c.Type.Among
		}
		b.Columns = append(b.Columns, ColumnOutline{Values: values, Name: c.Name, Declared: c.Declared,
			Required: c.Required,
			Default:  c.Default, Counted: c.Identity,
			Computed: c.Generated, Collation: c.Collation, Comment: c.Comment, Unusable: c.Odd})
	}
	return b
}

// pointingAt lists the relations of other tables to t.
func (s *Schema) pointingAt(t *Table) []Reference {
	var all []Reference
	for _, l := range s.links() {
		if l.ParentTable == t {
			all = append(all, Reference{l.Child.Name, l.Columns, l.ParentColumns, l.Off, l.Broken})
		}
	}
	return all
}

// KnownBy lists the keys by which people know the rows: the unique constraints, or else the primary key.
func (b TableOutline) KnownBy() [][]string {
	if b.Keys != nil || b.Primary == nil {
		return b.Keys
	}
	return [][]string{b.Primary}
}

// Diagram draws the tables and their relations in the DOT language (graphviz.org/doc/info/lang.html): levels from left
// to right, relations that are filled later dashed, guessed ones dotted.
func (s *Schema) Diagram() string {
	var b strings.Builder
	b.WriteString("digraph tables {\n  rankdir=RL\n  node [shape=record]\n")
	levels := s.Levels()
	for _, level := range levels.Tables {
		b.WriteString("  { rank=same")
		for _, t := range level {
			b.WriteString("; " + dot(t.Name))
		}
		b.WriteString(" }\n")
	}
	for _, t := range s.Tables {
		parts := []string{field(t.Name)}
		for _, c := range t.Columns {
			mark := ""
			if c.Required && !c.Defaulted && !c.Identity && !c.Generated {
				mark = " *"
			}
			parts = append(parts, field(c.Name)+mark)
		}
		fmt.Fprintf(&b, "  %s [label=\"%s\\l\"]\n", dot(t.Name), strings.Join(parts, "\\l|"))
	}
	for _, l := range s.links() {
		style := ""
		if slices.ContainsFunc(levels.Later, func(later Link) bool { return later.Relation == l.Relation }) {
			style = ", style=dashed"
		}
		fmt.Fprintf(&b, "  %s -> %s [label=%s%s]\n", dot(l.Child.Name), dot(l.Parent),
			dot(strings.Join(l.Columns, ", ")), style)
	}
	for _, g := range s.Guess() {
		fmt.Fprintf(&b, "  %s -> %s [label=%s, style=dotted]\n", dot(g.Child.Name), dot(g.Parent.Name), dot(g.Column))
	}
	b.WriteString("}\n")
	return b.String()
}

// dot quotes a name as an ID of DOT.
func dot(name string) string {
	return `"` + strings.NewReplacer(`"`, `\"`, `\`, `\\`, "\n", " ").Replace(name) + `"`
}

// field escapes a name for the label of a record.
func field(name string) string {
	return strings.NewReplacer(`"`, `\"`, `\`, `\\`, "{", `\{`, "}", `\}`, "|", `\|`, "<", `\<`, ">", `\>`, "\n",
		" ").Replace(name)
}
