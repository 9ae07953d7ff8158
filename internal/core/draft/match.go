package draft

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// File is a file that a draft is made for.
type File struct {
	Path   string // as the ladle file is to name it
	Query  string // in place of a file, the query whose rows these are
	Survey *survey.Input
	Asked  source.ReadOptions // how it was said to be read

	Into string   // the table that it is for; "" where nobody says
	Key  []string // the key of that table's block; nil where nobody says

	// Planned has, for columns that were made for columns of this file, the numbers of these, from 1, by TABLE.COLUMN.
	Planned map[string]int

	shape     *survey.Shape   // that its lines were given; nil for none
	keepTotal bool            // its last line is a row, though it looks like a total
	settled   map[string]bool // kinds of questions that were answered
}

// file is a file at work.
type file struct {
	File
	input   string // the name of the input
	columns []*column
}

// column is a column of a file.
type column struct {
	*survey.Column
	ref   string   // as the ladle file names it
	texts []string // distinct cells, the first of them
	plain []string // the same, in the form in which they are compared

	patterns []string // how its dates are written, where that is in several ways
	unsure   bool     // another pattern reads as many of them
	others   int      // distinct cells that none of patterns reads
	rule     string   // the parts of its rule, once that is written
	doubt    bool     // the rule is one
	written  *numbers // how its numbers are written; nil until that is asked for
}

// sample is a few of the distinct cells of the column.
func (c *column) sample() []string {
	const most, longest = 2, 24
	all := []string{}
	for _, t := range c.texts[:min(len(c.texts), most)] {
		if r := []rune(t); len(r) > longest {
			t = string(r[:longest]) + "…"
		}
		all = append(all, t)
	}
	return all
}

// assignment is a column of a table with what feeds it: a column of the file, or the lookup of a row of another table.
type assignment struct {
	guess
	of     *schema.Column
	column *column
	lookup *lookup
	rival  *column // another column of the file that fits as well
	points *place  // the key that its values are those of, where the database doesn't declare it
	left   bool    // nothing but that it is the only one left speaks for it
	proven bool    // its numbers are ids: other columns of the lines agree with the rows that have them
}

// uses reports whether a source reads a column of the file.
func (f assignment) uses(c *column) bool {
	if f.lookup == nil {
		return f.column == c
	}
	return slices.ContainsFunc(f.lookup.by, func(by assignment) bool { return by.uses(c) })
}

// exact is 1 where the column of the file is called exactly like that of the table.
func (f assignment) exact() int {
	if f.column != nil && f.column.Name == f.of.Name {
		return 1
	}
	return 0
}

// single is the column of the file by which alone a row is found, else nil.
func (f assignment) single() *column {
	if f.lookup != nil && len(f.lookup.by) == 1 {
		return f.lookup.by[0].column
	}
	return nil
}

// block is rows of a file as rows of a table.
type block struct {
	child   *block // of a parent that is filled from its child's file: the child
	file    *file
	table   *schema.Table
	fed     []assignment
	missing []string      // required columns that nothing feeds
	doubt   string        // why the file could be for another table; "" for no doubt
	rival   *schema.Table // the one that it fits about as well; nil for none
	refuted []string      // what is not fed, since lines of the file speak against it
}

// matcher matches files with tables.
type matcher struct {
	schema  *schema.Schema
	guessed []schema.LikelyRelation
	values  *catalogue
	only    []*schema.Table // that blocks are made for; nil for all
	err     error           // the first one of the database
}

// compatible reports whether cells of a type of a survey can be values of a column.
func compatible(cells string, c *schema.Column) bool {
	number := cells == "whole number" || cells == "decimal number"
	switch c.Type.Kind {
	case value.Text:
		return true
	case value.Int:
		return cells == "whole number" || cells == "blank"
	case value.Fixed, value.Decimal, value.Float:
		return number || cells == "blank"
	case value.Bool:
		return cells == "yes/no" || cells == "whole number" || cells == "blank"
	case value.Date:
		return cells == "date" || cells == "blank"
	case value.DateTime:
		return cells == "date" || cells == "date and time" || cells == "blank"
	case value.Time:
		return cells == "time" || cells == "blank"
	}
	return cells == "blank"
}

// direct returns how likely a column of the file feeds a column of a table itself.
func (m *matcher) direct(t *schema.Table, c *schema.Column, from *column) guess {
	if c.Generated || c.Odd != "" {
		return guess{}
	}
	g := byName(from.Name, t, c.Name)
	if !compatible(from.Type, c) {
		return unfit(g, c, from)
	}
	if t.UniqueOn([]string{c.Name}) && c.Type.Kind == value.Text {
		if values := m.byValue(question{place{t, c.Name}, from, false}); g.Score < sure {
			g = g.and(values)
		}
	}
	return g
}

// unfit is the guess for a column of the file that has the name of another one but cells that can't be its values as
// they stand: a doubt if most of them look like numbers, dates or times, and more likely if a rule reads all of them.
func unfit(g guess, c *schema.Column, from *column) guess {
	const named, doubtful = 0.9, 0.6
	few := from.texts[:min(len(from.texts), fewTexts)]
	if g.Score < likely || c.Identity || c.Type.Kind == value.Bool ||
		from.Type != "text" && from.Type != "decimal number" {
		return guess{}
	}
	digits, not, first := 0, 0, ""
	for _, t := range few {
		if strings.ContainsAny(t, "0123456789") {
			digits++
		}
		if !readable(t, c) {
			if not++; not == 1 {
				first = t
			}
		}
	}
	if not == 0 || 2*digits <= len(few) {
		return guess{}
	}
	if n := from.numbers(); isNumber(c.Type.Kind) && n.covered == n.of {
		return guess{min(g.Score, sure), g.Why + "; the number: rule above reads its cells"}
	}
	if g.Score < named {
		return guess{}
	}
	return guess{doubtful, fmt.Sprintf("%s; %d of %d distinct values can't be read as %s as they stand, the first "+
		"is %q", g.Why, not, len(few), c.Declared, first)}
}

func readable(cell string, c *schema.Column) bool {
	read := value.NewColumn(c.Type)
	return value.Parse(&read, c.Type, []byte(strings.TrimSpace(cell))) == nil
}

func isNumber(k value.Kind) bool {
	return k == value.Int || k == value.Fixed || k == value.Decimal || k == value.Float
}

func (m *matcher) byValue(q question) guess {
	g, err := m.values.byValue(q)
	m.err = cmp.Or(m.err, err)
	return g
}

// fit matches the file with a table: each column of the table gets the likeliest source that no other one has.
func (m *matcher) fit(f *file, t *schema.Table) *block {
	b := &block{file: f, table: t}
	var all []assignment
	for i := range t.Columns {
		c := &t.Columns[i]
		for _, from := range f.columns {
			x := assignment{guess: m.direct(t, c, from), of: c, column: from}
			if number, planned := f.Planned[t.Name+"."+c.Name]; planned {
				if x.guess = (guess{}); number == from.Number {
					x.guess = guess{1, "made for it"}
				}
			} else if t.Relation(c.Name) != nil {
				x.guess = m.ids(t, c, from, x.guess)
			} else if x.Score >= likely {
				m.pointAt(t, &x)
			}
			if x.Score >= likely {
				all = append(all, x)
			}
		}
		all = append(all, m.finds(f, t, c, deepest)...)
	}
	slices.SortStableFunc(all, func(a, b assignment) int {
		return cmp.Or(cmp.Compare(b.Score, a.Score), cmp.Compare(b.exact(), a.exact()))
	})
	for _, x := range all {
		if !b.feeds(x.of.Name) && !b.taken(x) {
			b.fed = append(b.fed, x)
		}
	}
	b.byType()
	b.byDifference()
	b.rivals(all)
	slices.SortFunc(b.fed, func(a, c assignment) int {
		return cmp.Compare(slices.Index(t.Names(), a.of.Name), slices.Index(t.Names(), c.of.Name))
	})
	var names []string
	for _, x := range b.fed {
		names = append(names, x.of.Name)
	}
	b.missing = t.Missing(names)
	return b
}

func (b *block) feeds(column string) bool {
	return slices.ContainsFunc(b.fed, func(x assignment) bool { return x.of.Name == column })
}

// taken reports whether all columns that x reads feed something likelier already.
func (b *block) taken(x assignment) bool {
	for _, c := range b.file.columns {
		if x.uses(c) && !slices.ContainsFunc(b.fed, func(o assignment) bool { return o.uses(c) }) {
			return false
		}
	}
	return true
}

func (b *block) unused(c *column) bool {
	return !slices.ContainsFunc(b.fed, func(x assignment) bool { return x.uses(c) })
}

// worth says how well the file fits the table: what of the file it uses, together with the blocks that fill tables it
// refers to, less what is missing.
func (b *block) worth(parents []*block) float64 {
	const lacking, leftOver = 1.2, 0.6
	worth := -lacking * float64(len(b.missing))
	for _, x := range b.fed {
		if b.weak(x) && x.of.Required {
			worth -= leftOver
		}
	}
	for _, c := range b.file.columns {
		best := b.bestOf(c)
		for _, p := range parents {
			best = max(best, p.bestOf(c))
		}
		worth += best
	}
	base := filepath.Base(b.file.Path)
	name, table := words(strings.TrimSuffix(base, filepath.Ext(base))), words(b.table.Name)
	switch {
	case slices.Equal(name, table):
		worth += 1.5
	case len(table) > 0 && slices.Contains(name, table[len(table)-1]), len(name) > 0 &&
		slices.Contains(table, name[len(name)-1]):
		worth += 0.5
	}
	return worth
}

// weak reports whether too little speaks for a source to choose a table by it. Columns that a shape makes have names of
// ours, so that nothing else can speak for them.
func (b *block) weak(x assignment) bool { return x.left && b.file.shape == nil }

// used counts the columns of the file that the block uses, or those that fill tables it refers to.
func (b *block) used(parents []*block) (n int) {
	for _, c := range b.file.columns {
		if !b.unused(c) || slices.ContainsFunc(parents, func(p *block) bool { return !p.unused(c) }) {
			n++
		}
	}
	return n
}

// bestOf is the score of the likeliest use of a column of the file.
func (b *block) bestOf(c *column) (best float64) {
	for _, x := range b.fed {
		if x.uses(c) && !b.weak(x) {
			best = max(best, x.Score)
		}
	}
	return best
}

// each visits all sources of a block, those inside of finds too.
func (b *block) each(visit func(assignment)) {
	var inside func(assignment)
	inside = func(x assignment) {
		visit(x)
		if x.lookup != nil {
			for _, by := range x.lookup.by {
				inside(by)
			}
		}
	}
	for _, x := range b.fed {
		inside(x)
	}
}
