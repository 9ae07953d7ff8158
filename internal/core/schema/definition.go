package schema

import (
	"fmt"
	"slices"
	"strings"
)

// Definition says how t is made, a line for each of its parts: two tables with the same lines are the same but for
// their names and rows.
func (t *Table) Definition() []string {
	var lines []string
	line := func(format string, parts ...any) { lines = append(lines, fmt.Sprintf(format, parts...)) }
	if t.Comment != "" {
		line("comment %q", t.Comment)
	}
	if t.Form != "" {
		line("kept as %s", t.Form)
	}
	for _, c := range t.Columns {
		line("column %s", c.definition())
	}
	for _, k := range t.Keys {
		kind := "unique key"
		if k.Primary {
			kind = "primary key"
		}
		line("%s %s", kind, strings.Join(k.Columns, ", "))
	}
	for _, r := range t.Relations {
		line("foreign key %s to %s (%s)", strings.Join(r.Columns, ", "), r.Parent, strings.Join(r.ParentColumns, ", "))
	}
	for _, c := range t.Checks {
		line("CHECK %s", c.Says)
	}
	for _, trigger := range t.Triggers {
		line("trigger %s", trigger)
	}
	for _, index := range t.Partial {
		line("index %s", index)
	}
	var indexes []string
	for _, index := range t.Indexes {
		if text := "index on " + strings.Join(index, ", "); !slices.Contains(indexes, text) {
			indexes = append(indexes, text)
		}
	}
	slices.Sort(indexes)
	return append(lines, indexes...)
}

func (c *Column) definition() string {
	parts := []string{c.Name, c.Declared}
	if c.Required {
		parts = append(parts, "NOT NULL")
	}
	switch {
	case c.Identity:
		parts = append(parts, "auto-numbered")
	case c.Generated:
		parts = append(parts, "computed")
	case c.Default != "":
		parts = append(parts, "default "+c.Default)
	}
	if c.Collation != "" && c.Collation != "BINARY" { // SQLite's own default
		parts = append(parts, "collation "+c.Collation)
	}
	if c.Comment != "" {
		parts = append(parts, fmt.Sprintf("comment %q", c.Comment))
	}
	return strings.Join(parts, " ")
}
