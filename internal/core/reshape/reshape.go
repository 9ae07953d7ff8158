// Package reshape brings the shapes in which people send tables into lines with one fact each: columns that are values,
// such as months, become lines, and so do the parts of a list in a cell. What it makes are lines of an input like
// others, each at the place in the file that it comes from.
package reshape

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

// Shape says what becomes of the lines of an input before anything else is done with them.
type Shape struct {
	Columns *ColumnsToRows
	Parts   *PartsToRows // of the lines that Columns makes, if both are said
}

// Given reports whether anything is said.
func (s Shape) Given() bool { return s.Columns != nil || s.Parts != nil }

// ColumnsToRows makes a line of each of some columns: one new column says what the column was called, others hold the
// cells.
type ColumnsToRows struct {
	At       clean.Located   // the key itself
	Names    []clean.Located // the columns, by name
	Pattern  *regexp.Regexp  // or by a pattern; where it has a group, that is what a column is called
	From, To clean.Located   // or from one to another; without To, to the last
	Heading  clean.Located   // the new column with what the columns were called
	Value    clean.Located   // the new column with the cells
	Values   []ValueColumn   // in place of Names, Pattern and Value: several columns of cells
	Blanks   bool            // blank cells make a line too
}

// ValueColumn is a new column with the cells of all columns whose header fits a pattern; those whose groups say the
// same stand in one line.
type ValueColumn struct {
	Name    clean.Located
	Pattern *regexp.Regexp
}

// PartsToRows makes a line of each part of a cell.
type PartsToRows struct {
	Column clean.Located
	At     string        // what stands between the parts; "" where the cell is a list of JSON
	Number clean.Located // a new column with the number of the part, from 1; none where it isn't given
}

// Open opens the files of an input, and gives their lines a shape. path is that of the ladle file, for its problems.
func Open(paths []string, asked source.ReadOptions, s Shape, path string) (source.Table, error) {
	t, err := source.Open(paths, asked)
	if err != nil {
		return t, err
	}
	shaped, err := Of(t, s, path)
	if err != nil {
		t.Close()
	}
	return shaped, err
}

// Of gives the lines of a table a shape. path is that of the ladle file, for its problems.
func Of(t source.Table, s Shape, path string) (source.Table, error) {
	m := &maker{path: path}
	shaped := t
	if s.Columns != nil {
		shaped = m.columns(shaped, s.Columns)
	}
	if s.Parts != nil && m.problems == nil {
		shaped = m.parts(shaped, s.Parts)
	}
	if m.problems != nil {
		return nil, fault.At(fault.Wrong, m.problems...)
	}
	return shaped, nil
}

// maker collects what is wrong with a shape.
type maker struct {
	path     string
	problems []fault.Problem
}

func (m *maker) wrong(at clean.Located, what, do string) {
	m.problems = append(m.problems, fault.Problem{File: m.path, Line: at.Line, Column: at.Column, What: what, Do: do})
}

// find returns the position of a column.
func (m *maker) find(h source.Header, name clean.Located) int {
	at := h.Find(name.Text)
	switch len(at) {
	case 1:
		return at[0]
	case 0:
		m.wrong(name, fmt.Sprintf("the input has no column %q", name.Text), fault.DidYouMean(name.Text, h.Names))
	default:
		m.wrong(name, fmt.Sprintf("the input has several columns %q", name.Text),
			fmt.Sprintf("rename one of them, or write: column %d", at[0]+1))
	}
	return -1
}

// header is a header of columns that are kept and new ones.
func (m *maker) header(h source.Header, kept []int, added ...clean.Located) source.Header {
	made := source.Header{Line: h.Line}
	for _, i := range kept {
		made.Names = append(made.Names, h.Names[i])
	}
	for _, name := range added {
		if len(made.Find(name.Text)) > 0 {
			m.wrong(name, fmt.Sprintf("there is already a column %q", name.Text), "choose another name")
		}
		made.Names = append(made.Names, name.Text)
	}
	return made
}

// line is a line that is made of each record: what the columns were called, and of each column of cells the field.
type line struct {
	called []byte
	fields []int // -1 for none
}

// columns makes lines of columns.
func (m *maker) columns(t source.Table, c *ColumnsToRows) source.Table {
	h := t.Header()
	var lines []line
	added := []clean.Located{c.Heading}
	if c.Values != nil {
		lines = m.several(h, c)
		for _, v := range c.Values {
			added = append(added, v.Name)
		}
	} else {
		lines = m.single(h, c)
		added = append(added, c.Value)
	}
	if m.problems == nil && lines == nil {
		m.wrong(c.At, "columns_to_rows: no column of the input has such a name",
			"its columns are: "+strings.Join(h.Names, ", "))
	}
	var kept []int
	for i := range h.Names {
		if !slices.ContainsFunc(lines, func(l line) bool { return slices.Contains(l.fields, i) }) {
			kept = append(kept, i)
		}
	}
	made := m.header(h, kept, added...)
	if m.problems != nil {
		return t
	}
	copied := slices.Clone(kept)
	for range added {
		copied = append(copied, -1)
	}
	return source.Expand(t, made, copied, func() source.Expansion {
		return &columnsToRows{copier: copier{width: len(h.Names), kept: kept}, lines: lines, blanks: c.Blanks}
	})
}

// single are the lines for one column of cells.
func (m *maker) single(h source.Header, c *ColumnsToRows) (lines []line) {
	add := func(at int, called string) { lines = append(lines, line{[]byte(called), []int{at}}) }
	switch {
	case c.Pattern != nil:
		for i, name := range h.Names {
			if found := c.Pattern.FindStringSubmatch(name); found != nil {
				add(i, found[len(found)-1])
			}
		}
	case c.From.Line > 0:
		from, to := m.find(h, c.From), len(h.Names)-1
		if c.To.Line > 0 {
			to = m.find(h, c.To)
		}
		if m.problems == nil && from > to {
			m.wrong(c.To, fmt.Sprintf("%q stands before %q in the input", c.To.Text, c.From.Text), "swap them")
		}
		for i := from; i <= to && m.problems == nil; i++ {
			add(i, h.Names[i])
		}
	default:
		for _, name := range c.Names {
			if at := m.find(h, name); at >= 0 {
				add(at, h.Names[at])
			}
		}
	}
	return lines
}

// several are the lines for several columns of cells: one for each different thing that the groups of the patterns say.
func (m *maker) several(h source.Header, c *ColumnsToRows) (lines []line) {
	for v, value := range c.Values {
		any := false
		for i, name := range h.Names {
			found := value.Pattern.FindStringSubmatch(name)
			if found == nil {
				continue
			}
			any = true
			called := found[len(found)-1]
			at := slices.IndexFunc(lines, func(l line) bool { return string(l.called) == called })
			if at < 0 {
				at = len(lines)
				lines = append(lines, line{[]byte(called), slices.Repeat([]int{-1}, len(c.Values))})
			}
			if other := lines[at].fields[v]; other >= 0 {
				m.wrong(value.Name, fmt.Sprintf("the columns %q and %q are both %s of %s", h.Names[other], name,
					value.Name.Text, called), "make the pattern narrower")
			}
			lines[at].fields[v] = i
		}
		if !any {
			m.wrong(value.Name, fmt.Sprintf("no column of the input fits the pattern of %s", value.Name.Text),
				"its columns are: "+strings.Join(h.Names, ", "))
		}
	}
	return lines
}

// parts makes lines of the parts of a cell.
func (m *maker) parts(t source.Table, p *PartsToRows) source.Table {
	h := t.Header()
	at := m.find(h, p.Column)
	all := make([]int, len(h.Names))
	for i := range all {
		all[i] = i
	}
	copied := slices.Clone(all)
	var added []clean.Located
	if p.Number.Line > 0 {
		added, copied = append(added, p.Number), append(copied, -1)
	}
	made := m.header(h, all, added...)
	if m.problems != nil {
		return t
	}
	return source.Expand(t, made, copied, func() source.Expansion {
		return &partsToRows{copier: copier{width: len(h.Names), kept: all}, at: at, between: []byte(p.At),
			number: added != nil}
	})
}
