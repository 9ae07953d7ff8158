// Package propose plans tables for files that have none yet. [Make] takes what a survey has learnt of all lines of some
// files and plans a table for each: names, types by all values, what is NOT NULL, keys, and relations between the files.
// A [Proposal] is written as CREATE TABLE statements of a [Dialect], with the reason of every choice as a comment.
package propose

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// Proposal is tables, each behind those that it refers to.
type Proposal struct {
	Tables []*Table `json:"tables"`
	Doubts []string `json:"doubts"` // what a person should look at

	Questions []*Question `json:"-"` // the doubts that a person can settle
}

// Table is a table that is proposed.
type Table struct {
	Name    string     `json:"name"`
	From    string     `json:"file"`
	Why     string     `json:"why"`
	Columns []*Column  `json:"columns"`
	Unique  [][]string `json:"unique_keys"`

	input *survey.Input
	made  bool // its rows are those of a column that decides others in another table's file
}

// Column is a column of it.
type Column struct {
	Name     string   `json:"name"`
	Header   string   `json:"header"` // in the file; "" for a number that is generated
	Type     Type     `json:"type"`
	Required bool     `json:"not_null"`
	Primary  bool     `json:"primary_key"`
	Refers   *Target  `json:"refers_to,omitempty"`
	Among    []string `json:"allowed_values,omitempty"` // what a CHECK allows
	Why      string   `json:"why"`
	Doubts   []string `json:"doubts"` // what a person should look at

	number bool // it is generated
	of     int  // the number of the column in the file, from 1
	there  bool // it refers to a table that is there by a number that is looked up

	as string // its type as it is declared for what it refers to, where that is there already
}

// Target is the column of another table that a column refers to.
type Target struct {
	Table  string `json:"table"`
	Column string `json:"column"`
}

// Options say how tables are planned.
type Options struct {
	LeaveOut []string // headers of columns that get no place
	Flat     bool     // a file is one table, also where columns decide others
	Sets     bool     // columns with few different texts get a CHECK
	Taken    []string // names that tables have already
	There    []There  // tables that columns may refer to
	Style             // of the tables that are there
	Answers  Answers  // to the questions of an earlier proposal
}

// Make plans tables for surveyed files.
func Make(s *survey.Survey, o Options) (*Proposal, error) {
	m := &maker{Options: o, survey: s, of: map[*survey.Input]*Table{}}
	if err := m.known(); err != nil {
		return nil, err
	}
	for _, in := range s.Inputs {
		if len(in.Columns) == 0 || in.Rows == 0 {
			return nil, fault.New(fault.Wrong, in.Read.Name()+" has no lines, so nothing can be said of its columns",
				"give a file with lines")
		}
		m.table(in)
	}
	for _, in := range s.Inputs {
		m.key(m.of[in])
	}
	for _, r := range s.Relations {
		m.relate(r)
	}
	for _, in := range s.Inputs {
		for _, r := range in.RefersToItself() {
			m.relate(r)
		}
	}
	for _, in := range s.Inputs {
		m.knownThere(m.of[in])
	}
	if !o.Flat {
		for _, in := range s.Inputs {
			m.split(m.of[in])
		}
	}
	m.order()
	m.collect()
	return &m.made, nil
}

type maker struct {
	Options
	survey *survey.Survey
	made   Proposal
	of     map[*survey.Input]*Table
}

// known refuses columns to be left out that no file has.
func (m *maker) known() error {
	var names []string
	for _, in := range m.survey.Inputs {
		for _, c := range in.Columns {
			names = append(names, c.Name)
		}
	}
	for _, name := range m.LeaveOut {
		if !slices.ContainsFunc(names, func(n string) bool { return source.FoldName(n) == source.FoldName(name) }) {
			return fault.New(fault.Wrong, fmt.Sprintf("there is no column %q to leave out", name),
				fault.DidYouMean(name, names))
		}
	}
	return nil
}

func (m *maker) leavesOut(header string) bool {
	return slices.ContainsFunc(m.LeaveOut, func(n string) bool { return source.FoldName(n) == source.FoldName(header) })
}

// table plans the table of an input: its columns, without keys.
func (m *maker) table(in *survey.Input) {
	t := &Table{From: in.Read.Name(), Why: "from " + in.Read.Name(), input: in}
	base := filepath.Base(in.Read.Path)
	stem, _, _ := strings.Cut(base, ".")
	if in.Read.Sheet != "" && len(in.Read.Sheets) > 1 {
		stem = in.Read.Sheet
	}
	t.Name = m.tableName(strings.Join(schema.Words(stem), "_"))
	for _, c := range in.Columns {
		if m.leavesOut(c.Name) {
			continue
		}
		if made := m.column(t, c); made != nil {
			t.Columns = append(t.Columns, made)
		}
	}
	if n := in.Broken.Count; n > 0 && len(t.Columns) > 0 {
		t.Columns[0].doubt(fmt.Sprintf("%s could not be split into columns and will be set aside%s", reason.Plural(n, "line"),
			firstOf(in.Broken, func(why string) string { return "(" + why + ")" })))
	}
	m.of[in] = t
	m.made.Tables = append(m.made.Tables, t)
}

// tableName is a plain name that no other table has.
func (m *maker) tableName(name string) string {
	return free(plain(name, "table"), func(n string) bool {
		return slices.ContainsFunc(m.Taken, func(taken string) bool { return strings.EqualFold(taken, n) }) ||
			slices.ContainsFunc(m.made.Tables, func(t *Table) bool { return t.Name == n })
	})
}

// order puts tables behind those that they refer to; where tables refer to each other, the relation of the later one
// is left out.
func (m *maker) order() {
	var placed []*Table
	done := func(name string) bool { // placed, or there already
		is := func(t *Table) bool { return t.Name == name }
		return slices.ContainsFunc(placed, is) || !slices.ContainsFunc(m.made.Tables, is)
	}
	rest := slices.Clone(m.made.Tables)
	for len(rest) > 0 {
		at := slices.IndexFunc(rest, func(t *Table) bool {
			return !slices.ContainsFunc(t.Columns, func(c *Column) bool {
				return c.Refers != nil && c.Refers.Table != t.Name && !done(c.Refers.Table)
			})
		})
		if at < 0 { // tables that refer to each other
			at = 0
			for _, c := range rest[0].Columns {
				if c.Refers != nil && c.Refers.Table != rest[0].Name && !done(c.Refers.Table) {
					c.doubt(fmt.Sprintf("its values are those of %s.%s, which refers back; declare the foreign key yourself",
						c.Refers.Table, c.Refers.Column))
					c.Refers = nil
				}
			}
		}
		placed, rest = append(placed, rest[at]), slices.Delete(rest, at, at+1)
	}
	m.made.Tables = placed
}

// collect gathers the doubts.
func (m *maker) collect() {
	m.made.Doubts = []string{}
	for _, t := range m.made.Tables {
		if t.Unique == nil {
			t.Unique = [][]string{}
		}
		for _, c := range t.Columns {
			c.Doubts = append([]string{}, c.Doubts...)
			for _, doubt := range c.Doubts {
				m.made.Doubts = append(m.made.Doubts, t.Name+"."+c.Name+": "+doubt)
			}
		}
	}
}

// Into is the table that has most of an input: the one that is made of all its lines.
func (p *Proposal) Into(in *survey.Input) string {
	for _, t := range p.Tables {
		if t.input == in && !t.made {
			return t.Name
		}
	}
	return ""
}

// Planned has the numbers of the columns of an input, from 1, by TABLE.COLUMN of what was made for them. What refers to
// another table by a generated number is not in it, since a lookup finds that.
func (p *Proposal) Planned(in *survey.Input) map[string]int {
	planned := map[string]int{}
	for _, t := range p.Tables {
		for _, c := range t.Columns {
			if t.input == in && !c.number && !c.there && (c.Refers == nil || !p.generates(*c.Refers)) {
				planned[t.Name+"."+c.Name] = c.of
			}
		}
	}
	return planned
}

// generates reports whether a column holds generated numbers.
func (p *Proposal) generates(x Target) bool {
	for _, t := range p.Tables {
		for _, c := range t.Columns {
			if t.Name == x.Table && c.Name == x.Column {
				return c.number
			}
		}
	}
	return false
}

// column finds a column of the table by its header; nil when it has none.
func (t *Table) column(header string) *Column {
	for _, c := range t.Columns {
		if c.Header == header && !c.number {
			return c
		}
	}
	return nil
}

// doubt adds what a person should look at.
func (c *Column) doubt(why string) { c.Doubts = append(c.Doubts, why) }

// because adds a reason.
func (c *Column) because(why string) {
	if c.Why != "" {
		c.Why += "; "
	}
	c.Why += why
}
