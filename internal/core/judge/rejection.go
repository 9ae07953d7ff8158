package judge

import (
	"cmp"
	"slices"
	"strings"
	"unicode"

	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Rejections are what the database rejected when it was written: rows of steps, and rows that lookups add. The zero
// Rejections are none.
type Rejections struct {
	names map[newName]string
	lines map[int]*rejectedLines // by the number of the step
}

// rejectedLines are the lines of a step that the database rejected, by its words.
type rejectedLines struct {
	texts []string
	lines []spool.RowSet
}

// mostTexts is the number of different texts that are kept for a step; the lines with others share the last.
const mostTexts = 1000

// AddLine notes that the database rejected the row of a line.
func (r *Rejections) AddLine(step int, line int64, text string) {
	if r.lines == nil {
		r.lines = map[int]*rejectedLines{}
	}
	if r.lines[step] == nil {
		r.lines[step] = &rejectedLines{}
	}
	r.lines[step].add(line, text)
}

func (r *rejectedLines) add(line int64, text string) {
	at := slices.Index(r.texts, text)
	if at < 0 && len(r.texts) == mostTexts {
		at = mostTexts - 1
		r.texts[at] = "for several reasons"
	}
	if at < 0 {
		at = len(r.texts)
		r.texts, r.lines = append(r.texts, text), append(r.lines, nil)
	}
	r.lines[at].Add(line)
}

// AddFrom notes what the database rejected of some lines of a step, which were judged by themselves: as the only step, and
// numbered from 0.
func (r *Rejections) AddFrom(part *Rejections, step int, lines []int64) {
	for name, text := range part.names {
		if r.names == nil {
			r.names = map[newName]string{}
		}
		r.names[name] = text
	}
	if rejected := part.lines[0]; rejected != nil {
		for i, text := range rejected.texts {
			for line := range rejected.lines[i].All() {
				r.AddLine(step, lines[line], text)
			}
		}
	}
}

// AddName notes that the database rejected row i of a growth.
func (r *Rejections) AddName(g *Growth, i int, text string) {
	if check := brokenCheck(g.Table, text); check != nil {
		text = check.Words() + " does not hold"
	}
	if r.names == nil {
		r.names = map[newName]string{}
	}
	r.names[g.index.name(g.additions[i].key)] = text
}

// in lists what was rejected of n lines of a step, whose values are in columns.
func (r *Rejections) in(s *Step, columns []*value.Column, first int64, n int) []problem {
	rejected := r.lines[s.Number]
	if rejected == nil {
		return nil
	}
	var problems []problem
	for i, text := range rejected.texts {
		for line := range n {
			if rejected.lines[i].Has(first + int64(line)) {
				problems = append(problems, problem{line, spool.WholeLine, "", s.rejected(text, columns, line)})
			}
		}
	}
	return problems
}

// rejected is the cause for a line whose row the database rejects: a CHECK constraint is told as those that are judged
// beforehand.
func (s *Step) rejected(text string, columns []*value.Column, line int) reason.Cause {
	why := reason.Because(reason.Why{Kind: reason.DatabaseRejects, Text: text})
	if check := brokenCheck(s.Table, text); check != nil {
		why = reason.Because(reason.Why{Kind: reason.BreaksCheck, Table: s.Table.Name, Text: check.Words()})
	}
	why.Values = s.mentioned(text, columns, line)
	return why
}

// brokenCheck is the CHECK constraint of a table that a rejection is about; nil for none.
func brokenCheck(t *schema.Table, text string) *schema.Check {
	at := slices.IndexFunc(t.Checks, func(c schema.Check) bool { return engine.CheckFails(cmp.Or(c.Name, c.Condition)) == text })
	if at < 0 {
		return nil
	}
	return &t.Checks[at]
}

// mentioned returns the values of a line in the columns of which a database speaks when it rejects the row: those that
// it names itself, or that the constraint is about which it names.
func (s *Step) mentioned(text string, columns []*value.Column, line int) reason.Names {
	said := text
	for _, c := range s.Table.Checks {
		if c.Name != "" && strings.Contains(text, c.Name) {
			said += " " + c.Says
		}
	}
	for _, k := range s.Table.Keys {
		if k.Name != "" && strings.Contains(text, k.Name) {
			said += " " + strings.Join(k.Columns, " ")
		}
	}
	for _, f := range s.Table.Relations {
		if f.Name != "" && strings.Contains(text, f.Name) {
			said += " " + strings.Join(f.Columns, " ")
		}
	}
	words := strings.FieldsFunc(said, func(r rune) bool {
		return r != '_' && !unicode.IsLetter(r) &&
			!unicode.IsDigit(r)
	})
	var named []int
	for i, c := range s.Columns {
		if slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(w, c.Column.Name) }) {
			named = append(named, i)
		}
	}
	return s.valuesOf(named, columns, line)
}

// valuesOf returns what a line has in columns of the step.
func (s *Step) valuesOf(named []int, columns []*value.Column, line int) reason.Names {
	var all []string
	for _, i := range named {
		is := "NULL"
		switch c := columns[i]; {
		case c == nil:
			is = s.Columns[i].Source.Constant.Text(0)
		case c.States[line] == value.Given:
			is = c.Text(line)
		case c.States[line] == value.New:
			is = "new"
		}
		all = append(all, s.Columns[i].Column.Name+" is "+is)
	}
	return reason.List(all...)
}
