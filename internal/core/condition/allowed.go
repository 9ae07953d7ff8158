package condition

import (
	"slices"
	"strconv"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Limit is a number on one side of which all numbers of a column lie.
type Limit struct {
	Number string // in digits, with a point
	Least  bool   // the others are greater; else smaller
	Open   bool   // it is not allowed itself
}

// Allowed are the only texts that a column of t may hold, by its type or by a constraint that is a list of them; nil where
// there is no such list. The database may hold others equal to them, as in another case.
func Allowed(t *schema.Table, c *schema.Column) []string {
	if c.Type.Among != nil {
		return *c.Type.Among
	}
	for _, check := range t.Checks {
		if made := New(check, t); made != nil && made.texts != nil && made.Columns[0] == c.Name {
			return made.texts
		}
	}
	return nil
}

// Within are the limits of the numbers of a column of t, by constraints that are just limits; nil for none.
func Within(t *schema.Table, c *schema.Column) (least, most *Limit) {
	for _, check := range t.Checks {
		made := New(check, t)
		if made == nil || len(made.limits) == 0 || made.Columns[0] != c.Name {
			continue
		}
		for i := range made.limits {
			l := &made.limits[i]
			to := &most
			if l.Least {
				to = &least
			}
			if *to == nil || l.tighter(*to) {
				*to = l
			}
		}
	}
	return least, most
}

// tighter reports whether l allows less than another limit on the same side.
func (l *Limit) tighter(than *Limit) bool {
	a, b := l.Float(), than.Float()
	return a > b && l.Least || a < b && !l.Least || a == b && l.Open
}

// Float is the number, rounded to what a float64 holds.
func (l *Limit) Float() float64 {
	f, _ := strconv.ParseFloat(l.Number, 64) // it is one
	return f
}

// flipped are comparisons as they read from the right.
var flipped = map[string]string{"<": ">", "<=": ">=", ">": "<", ">=": "<="}

// limit notes a comparison of a column with a number.
func (p *parser) limit(left operand, compares string, right operand) {
	if left.column < 0 {
		left, right, compares = right, left, flipped[compares]
	}
	_, limits := flipped[compares]
	if _, err := strconv.ParseFloat(right.text, 64); err != nil {
		limits = false
	}
	if limits && left.column >= 0 && !left.length && right.constant == numberConstant {
		p.limits = append(p.limits, Limit{right.text, compares[0] == '>', len(compares) == 1})
	}
}

// only are the texts of a condition that is nothing but a list of those that its column may hold; nil for any other.
func (p *parser) only() []string {
	texts := 0
	for _, w := range p.words {
		if w.is("AND") || w.is("OR") || w.is("NOT") || w.is("ALL") || w.kind == number {
			return nil
		}
		if w.kind == literal {
			texts++
		}
	}
	if len(p.columns) != 1 || texts != len(p.texts) || p.table.Column(p.columns[0]).Type.Kind != value.Text {
		return nil
	}
	return p.texts
}

// within are the limits of a condition that is nothing but limits, all of which hold, of the numbers in its column; nil
// for any other.
func (p *parser) within() []Limit {
	numbers := 0
	for _, w := range p.words {
		if w.is("OR") || w.is("NOT") || w.is("IS") || w.is("IN") || w.is("ANY") || w.is("ALL") || w.kind == literal ||
			w.kind == sign && slices.Contains([]string{"=", "==", "<>", "!="}, w.text) {
			return nil
		}
		if w.kind == number {
			numbers++
		}
	}
	if len(p.columns) != 1 || numbers != len(p.limits) {
		return nil
	}
	return p.limits
}
