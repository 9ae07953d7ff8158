package template

import (
	"fmt"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Ladle is the ladle file that loads a filled workbook, which it names as it is called.
func (t *Template) Ladle(workbook string) string {
	var b strings.Builder
	line := func(format string, arguments ...any) { fmt.Fprintf(&b, format+"\n", arguments...) }
	line("# Loads the workbook that is made by ladle template, once it is filled in.")
	line("ladle: 1")
	line("")
	line("inputs:")
	names := t.inputs()
	for i, s := range t.Sheets {
		line("  %s:", ladlefile.Scalar(names[i]))
		line("    file: %s", ladlefile.Scalar(workbook))
		line("    sheet: %s", ladlefile.Quoted(s.Name))
		line("    header: 1")
		s.rules(line)
	}
	line("")
	line("tables:")
	for i, s := range t.Sheets {
		s.block(names[i], line)
	}
	return b.String()
}

// inputs are the names of the inputs.
func (t *Template) inputs() (names []string) {
	for i, s := range t.Sheets {
		name := strings.Join(schema.Words(s.Table), "-")
		if name == "" {
			name = "input"
		}
		for _, n := range names {
			if n == name {
				name = fmt.Sprintf("%s-%d", name, i+1)
			}
		}
		names = append(names, name)
	}
	return names
}

// rules writes the rules of columns that need one.
func (s *Sheet) rules(line func(string, ...any)) {
	first := true
	for _, c := range s.Columns {
		var rules []string
		if c.kind.Kind == value.Bool && c.Lookup == nil {
			rules = append(rules, "yes_is: ['yes'], no_is: ['no']")
		}
		if c.Default != "" {
			rules = append(rules, "default: "+ladlefile.Flow(c.Default))
		}
		if rules == nil {
			continue
		}
		if first {
			line("    columns:")
			first = false
		}
		line("      %s: {%s}", ladlefile.Scalar(c.Header), strings.Join(rules, ", "))
	}
}

// block writes the block of a table.
func (s *Sheet) block(input string, line func(string, ...any)) {
	line("  %s:", ladlefile.Scalar(s.Table))
	line("    from: %s", ladlefile.Scalar(input))
	if len(s.Key) == 0 {
		line("    key: none")
	} else {
		line("    key: %s", ladlefile.Flow(s.Key))
	}
	line("    columns:")
	for _, f := range s.fills {
		line("      %s: %s", ladlefile.Scalar(f.column), f.source(false))
	}
}

// source is a source of the ladle file; within is for one inside of braces.
func (f fill) source(within bool) string {
	switch {
	case f.by == nil && within:
		return ladlefile.Flow(f.header)
	case f.by == nil:
		return ladlefile.Scalar(f.header)
	case len(f.by) == 1 && f.by[0].by == nil && !strings.Contains(f.table+f.by[0].column, "."):
		return fmt.Sprintf("{from: %s, lookup: %s}", ladlefile.Flow(f.by[0].header), ladlefile.Flow(f.table+"."+f.by[0].column))
	}
	var by []string
	for _, b := range f.by {
		by = append(by, ladlefile.Flow(b.column)+": "+b.source(true))
	}
	return fmt.Sprintf("{lookup: {table: %s, by: {%s}}}", ladlefile.Flow(f.table), strings.Join(by, ", "))
}
