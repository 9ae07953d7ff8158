// Package condition tells of a CHECK constraint, by its text, which rows surely hold it, so that only the others need to
// be put to the database.
//
// [New] reads the condition of a constraint. A [Condition] knows the columns that it speaks of; [Condition.Holds] judges
// a row by itself. What it doesn't understand - arithmetic, functions, collations - it doesn't judge: then it holds no
// row for good, and the database is asked about all of them. [Allowed] and [Within] are the values that the constraints of
// a table allow in a column, where they are just lists or limits.
package condition

import (
	"slices"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Condition is what a CHECK constraint asks of a row.
type Condition struct {
	Columns []string // of the table, of which the condition speaks

	// Of a condition that is just a list of the texts that its one column may hold, those; of one that is just limits of
	// the numbers in its one column, those. All other conditions have neither.
	texts  []string
	limits []Limit

	judge judge // nil where the condition is not understood
}

// judge says whether a condition is true for row i of columns, in the order of Condition.Columns.
type judge func(columns []*value.Column, i int) truth

// truth is a truth value of SQL, or that only the database knows it.
type truth uint8

const (
	isFalse truth = iota
	isTrue
	isNull
	isUnknown
)

// New reads the condition of a constraint of t. It is nil where the database must not be asked about it before a row
// is written: it calls functions that may not be pure, reads other tables, or can't be taken apart.
func New(c schema.Check, t *schema.Table) *Condition {
	words, err := split(c.Condition)
	if err != nil || len(words) == 0 || !pure(words) {
		return nil
	}
	made := &Condition{}
	for i, w := range words {
		if w.kind != name && w.kind != quoted || i > 0 && words[i-1].is("::") {
			continue
		}
		if column := columnCalled(t, w); column != nil && !slices.Contains(made.Columns, column.Name) {
			made.Columns = append(made.Columns, column.Name)
		}
	}
	p := &parser{words: words, table: t, columns: made.Columns}
	if judged, err := p.whole(); err == nil {
		made.judge, made.texts, made.limits = judged, p.only(), p.within()
	}
	return made
}

// Judges reports whether the condition is understood, so that Holds can be true.
func (c *Condition) Judges() bool { return c.judge != nil }

// Holds reports whether the condition surely holds for row i of columns, which are those of Columns: it is true, or
// NULL. Otherwise only the database knows.
func (c *Condition) Holds(columns []*value.Column, i int) bool {
	if c.judge == nil {
		return false
	}
	t := c.judge(columns, i)
	return t == isTrue || t == isNull
}

// columnCalled is the column that a word means; quotes may be those of a text to some databases.
func columnCalled(t *schema.Table, w word) *schema.Column {
	if c := t.Column(w.text); c != nil {
		return c
	}
	for i := range t.Columns {
		if strings.EqualFold(t.Columns[i].Name, w.text) {
			return &t.Columns[i]
		}
	}
	return nil
}

// pureFunctions only compute their result from their arguments, on all databases that have them.
var pureFunctions = []string{"abs", "bit_length", "btrim", "ceil", "ceiling", "char_length", "character_length",
	"coalesce", "concat", "date_part", "extract", "floor", "glob", "greatest", "hex", "if", "ifnull", "iif", "instr",
	"isfinite", "json_array_length", "json_extract", "json_type", "json_valid", "least", "left", "length", "like",
	"locate", "lower", "lpad", "ltrim", "max", "min", "mod", "month", "nullif", "octet_length", "position", "replace",
	"right", "round", "rpad", "rtrim", "sign", "starts_with", "strpos", "substr", "substring", "translate", "trim",
	"typeof", "unicode", "upper", "year"}

// callers are the words of SQL that a bracket may follow.
var callers = []string{"all", "and", "any", "array", "as", "between", "case", "cast", "check", "collate", "else", "end",
	"escape", "from", "in", "is", "like", "not", "null", "or", "some", "then", "when", "varchar", "varying", "numeric",
	"decimal", "char", "character", "timestamp", "time", "regexp", "rlike", "similar", "to"}

// pure reports whether a condition speaks of its row alone: no other table, and no function that could do more than
// compute.
func pure(words []word) bool {
	for i, w := range words {
		switch {
		case w.is("select") || w.is("operator") || w.is(";") || w.is("?") || w.is("@"):
			return false
		case i+1 == len(words) || !words[i+1].is("("):
		case w.kind == quoted:
			return false
		case w.kind != name:
		case i > 0 && words[i-1].is("."):
			return false
		case !slices.Contains(pureFunctions, strings.ToLower(w.text)) &&
			!slices.Contains(callers, strings.ToLower(w.text)):
			return false
		}
	}
	return true
}
