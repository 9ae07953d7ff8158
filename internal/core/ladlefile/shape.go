package ladlefile

import (
	"fmt"
	"regexp"

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/reshape"
)

// columnsToRows decodes columns_to_rows.
func (d *decoder) columnsToRows(n ast.Node) *reshape.ColumnsToRows {
	const do = "write for example columns_to_rows: {columns: [January, February], heading: Month, value: Tons}"
	at := placeOf(n)
	c := &reshape.ColumnsToRows{At: Text{Place: at}.Said()}
	var blanks clean.Located
	d.fields(n, "columns_to_rows:", map[string]func(ast.Node){
		"columns": func(n ast.Node) { d.shapeColumns(c, n) },
		"heading": func(n ast.Node) { c.Heading = d.scalar(n, "heading:").Said() },
		"value":   func(n ast.Node) { c.Value = d.scalar(n, "value:").Said() },
		"values": func(n ast.Node) {
			for _, e := range d.mapping(n, "values:") {
				c.Values = append(c.Values, reshape.ValueColumn{Name: e.key.Said(), Pattern: d.regex(e.value,
					"a pattern of values:")})
			}
		},
		"blanks": func(n ast.Node) { blanks = d.scalar(n, "blanks:").Said() },
	})
	said := count(c.Names != nil, c.Pattern != nil, c.From.Line > 0)
	switch {
	case c.Heading.Text == "":
		d.problem(at, "columns_to_rows: needs heading:, the name of the new column for the headers", do)
	case c.Values != nil && (said > 0 || c.Value.Line > 0):
		d.problem(at, "values: says by itself which columns become lines", "delete columns: and value:, or values:")
	case c.Values == nil && (said != 1 || c.Value.Text == ""):
		d.problem(at, "columns_to_rows: needs columns: and value:, or values:", do)
	}
	switch blanks.Text {
	case "", "leave_out":
	case "keep":
		c.Blanks = true
	default:
		d.problem(Place{blanks.Line, blanks.Column}, fmt.Sprintf("blanks: can't be %q", blanks.Text),
			fault.DidYouMean(blanks.Text, []string{"keep", "leave_out"}))
	}
	return c
}

// shapeColumns decodes which columns become lines: names, a pattern, or from one to another.
func (d *decoder) shapeColumns(c *reshape.ColumnsToRows, n ast.Node) {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		d.fields(n, "columns:", map[string]func(ast.Node){
			"regex": func(n ast.Node) { c.Pattern = d.regex(n, "regex:") },
			"from":  func(n ast.Node) { c.From = d.scalar(n, "from:").Said() },
			"to":    func(n ast.Node) { c.To = d.scalar(n, "to:").Said() },
		})
	default:
		c.Names = d.saidList(n, "columns:")
	}
}

// regex decodes a regular expression with at most one group.
func (d *decoder) regex(n ast.Node, key string) *regexp.Regexp {
	t := d.scalar(n, key)
	made, err := regexp.Compile(t.Value)
	switch {
	case err != nil:
		d.problem(t.Place, key+" is not a regular expression: "+fault.OfPattern(err),
			"write it as RE2 does, for example '^\\d{4}$'")
		return regexp.MustCompile("")
	case made.NumSubexp() > 1:
		d.problem(t.Place, key+" has several groups", "keep the one that is to be the heading; others are written (?:…)")
	}
	return made
}

// partsToRows decodes parts_to_rows.
func (d *decoder) partsToRows(n ast.Node) *reshape.PartsToRows {
	p := &reshape.PartsToRows{}
	var between Text
	d.fields(n, "parts_to_rows:", map[string]func(ast.Node){
		"column": func(n ast.Node) { p.Column = d.scalar(n, "column:").Said() },
		"at":     func(n ast.Node) { between = d.scalar(n, "at:"); p.At = between.Value },
		"number": func(n ast.Node) { p.Number = d.scalar(n, "number:").Said() },
	})
	if p.Column.Text == "" || between.Given() && p.At == "" {
		d.problem(placeOf(n), "parts_to_rows: needs column:, and at: with what stands between the parts",
			`write for example parts_to_rows: {column: Cargo, at: ";", number: Part}`)
	}
	return p
}
