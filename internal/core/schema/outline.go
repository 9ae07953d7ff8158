package schema

import (
	"fmt"
	"slices"
	"strings"
)

// Outline is what a person should know of the tables before loading them.
type Outline struct {
	Database string    `json:"database"`
	Levels   [][]Brief `json:"levels"` // in the order of loading
	Later    []string  `json:"filled_later,omitempty"`
	Stuck    []string  `json:"circles,omitempty"` // circles that can't be broken
	Guessed  []string  `json:"guessed_relations,omitempty"`
	Views    []string  `json:"views,omitempty"`
	Notes    []string  `json:"notes,omitempty"`
}

// Brief is a table in an outline.
type Brief struct {
	Name      string     `json:"table"`
	Comment   string     `json:"comment,omitempty"`
	Form      string     `json:"form,omitempty"`
	Rows      int64      `json:"rows"`
	Exact     bool       `json:"rows_exact"` // else about so many
	Primary   []string   `json:"primary_key,omitempty"`
	Keys      [][]string `json:"unique,omitempty"` // the other unique constraints
	PointsAt  []Pointer  `json:"points_at,omitempty"`
	Required  []string   `json:"must_be_given,omitempty"`
	Optional  []string   `json:"may_be_blank,omitempty"`
	Fills     []string   `json:"fills_itself,omitempty"`
	Triggers  []string   `json:"triggers,omitempty"`
	Unusable  string     `json:"unusable,omitempty"`
	PointedBy []Pointer  `json:"pointed_at_by,omitempty"`
	Columns   []Part     `json:"columns"`
	Checks    []Check    `json:"checks,omitempty"`
	Indexes   [][]string `json:"indexes,omitempty"`
	Partial   []string   `json:"other_indexes,omitempty"`
}

// Pointer is a relation of a table, seen from one of its ends.
type Pointer struct {
	Table   string   `json:"table"` // the other one
	Columns []string `json:"columns"`
	Keys    []string `json:"keys"` // the parent's columns
	Off     string   `json:"not_enforced,omitempty"`
}

// Part is a column in an outline.
type Part struct {
	Name      string `json:"column"`
	Declared  string `json:"type"`
	Required  bool   `json:"required"`
	Default   string `json:"default,omitempty"`
	Counted   bool   `json:"counted,omitempty"`
	Computed  bool   `json:"computed,omitempty"`
	Collation string `json:"collation,omitempty"`
	Comment   string `json:"comment,omitempty"`
	Unusable  string `json:"unusable,omitempty"`
}

// Size is a number of rows.
type Size struct {
	Rows  int64
	Exact bool
}

// Outline says what is in the schema; sizes has the rows of each table.
func (s *Schema) Outline(sizes map[*Table]Size) *Outline {
	o := &Outline{Database: s.Database, Views: s.Views, Notes: s.Notes}
	levels := s.Levels()
	for _, level := range levels.Tables {
		var briefs []Brief
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

func (t *Table) brief(size Size) Brief {
	b := Brief{Name: t.Name, Comment: t.Comment, Form: t.Form, Rows: size.Rows, Exact: size.Exact, Required: t.Missing(nil),
		Triggers: t.Triggers, Unusable: t.Odd, Checks: t.Checks, Indexes: t.Indexes, Partial: t.Partial}
	for _, k := range t.Keys {
		if k.Primary {
			b.Primary = k.Columns
		} else {
			b.Keys = append(b.Keys, k.Columns)
		}
	}
	for _, r := range t.Relations {
		b.PointsAt = append(b.PointsAt, Pointer{r.Parent, r.Columns, r.ParentColumns, r.Off})
	}
	for _, c := range t.Columns {
		switch {
		case c.Identity || c.Generated || c.Required && c.Defaulted:
			b.Fills = append(b.Fills, c.Name)
		case !c.Required:
			b.Optional = append(b.Optional, c.Name)
		}
		b.Columns = append(b.Columns, Part{Name: c.Name, Declared: c.Declared, Required: c.Required, Default: c.Default, Counted: c.Identity,
			Computed: c.Generated, Collation: c.Collation, Comment: c.Comment, Unusable: c.Odd})
	}
	return b
}

// pointingAt lists the relations of other tables to t.
func (s *Schema) pointingAt(t *Table) []Pointer {
	var all []Pointer
	for _, l := range s.links() {
		if l.ParentTable == t {
			all = append(all, Pointer{l.Child.Name, l.Columns, l.ParentColumns, l.Off})
		}
	}
	return all
}

// KnownBy lists the keys by which people know the rows: the unique constraints, or else the primary key.
func (b Brief) KnownBy() [][]string {
	if b.Keys != nil || b.Primary == nil {
		return b.Keys
	}
	return [][]string{b.Primary}
}

// Diagram draws the tables and their relations in the DOT language (graphviz.org/doc/info/lang.html): levels from left to
// right, relations that are filled later dashed, guessed ones dotted.
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
		fmt.Fprintf(&b, "  %s -> %s [label=%s%s]\n", dot(l.Child.Name), dot(l.Parent), dot(strings.Join(l.Columns, ", ")), style)
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
	return strings.NewReplacer(`"`, `\"`, `\`, `\\`, "{", `\{`, "}", `\}`, "|", `\|`, "<", `\<`, ">", `\>`, "\n", " ").Replace(name)
}
