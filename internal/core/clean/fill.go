package clean

import (
	"errors"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/formula"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// finish fills blanks, rounds and shortens.
func (k *cook) finish(i int, c *column, to *cell) {
	if c.fills != nil {
		k.fill(i, c, to)
	}
	if to.state == value.Null && c.last != nil {
		k.take(i, to, c.last)
	}
	if to.state != value.Given {
		return
	}
	if c.rule.Rounded {
		k.round(i, c.rule.Round, to)
	}
	if c.rule.ShortenTo > 0 && to.form == formula.Text {
		to.text = text.Shortened(to.text, c.rule.ShortenTo)
	}
}

// fill gives a blank cell the first value that a fill has for it. While groups are gathered, a cell that is not blank is
// noted, and no more is filled.
func (k *cook) fill(i int, c *column, to *cell) {
	given := to.state == value.Given
	for _, f := range c.fills {
		if f.same != nil && f.level == k.gather {
			if given {
				k.note(f, to)
			}
			return
		}
		if to.state != value.Null {
			continue
		}
		switch {
		case f.constant != nil:
			k.take(i, to, f.constant)
		case f.formula != nil:
			k.compute(i, to, f.formula)
			k.formed(i, c, to)
		case k.gather == 0 || f.level < k.gather:
			k.sibling(i, f, to)
		}
	}
}

// formed makes what a formula gave fit the form of the column, where a text was given for a number or date.
func (k *cook) formed(i int, c *column, to *cell) {
	if to.state != value.Given || to.form == c.rule.form() {
		return
	}
	switch {
	case c.rule.form() == formula.Text:
		to.text = to.plain(k.rooms[i].other[:0:0])
		to.form = formula.Text
	case to.form == formula.Text:
		k.parse(i, &c.rule, to, true)
	}
}

// take makes a cell the same as another, which stays as it is.
func (k *cook) take(i int, to, from *cell) {
	raw := to.raw
	*to = *from
	to.raw = raw
}

// compute makes a cell of what a formula gives.
func (k *cook) compute(i int, to *cell, f *formula.Formula) {
	v, err := k.machine.Run(f)
	var refused formula.Refused
	switch {
	case errors.As(err, &refused):
		to.bad(i, "can't be computed: "+string(refused))
		return
	case err != nil:
		for _, u := range f.Uses() {
			if used := &k.cells[u]; used.state == value.Bad {
				to.bad(used.blame, used.why)
				return
			}
		}
		to.bad(i, "can't be computed: "+err.Error())
		return
	case v.Blank:
		to.state = value.Null
		return
	}
	to.state, to.form = value.Given, v.Kind
	switch v.Kind {
	case formula.Number:
		if to.digits, err = v.Digits(k.rooms[i].other[:0:0]); err != nil {
			to.bad(i, "can't be computed: "+err.Error())
		}
	case formula.Moment:
		to.moment = v.Moment
	case formula.Truth:
		to.truth = v.Truth
	default:
		to.text = append(k.rooms[i].other[:0], v.Text...)
		k.rooms[i].other = to.text
	}
}

// value hands the cell of a column to formulas.
func (k *cook) value(i int) {
	v, c := &k.values[i], &k.cells[i]
	v.Kind, v.Blank, v.Bad = k.Form(i), c.state == value.Null, c.state == value.Bad
	if c.state != value.Given {
		return
	}
	v.Kind = c.form
	switch c.form {
	case formula.Number:
		v.SetNumber(c.digits)
	case formula.Moment:
		v.Moment = c.moment
	case formula.Truth:
		v.Truth = c.truth
	default:
		v.Text = string(c.text)
	}
}

// round rounds a number; what lies in the middle goes away from zero.
func (k *cook) round(i, places int, to *cell) {
	if len(to.digits.Fraction) <= places {
		return
	}
	var v formula.Value
	v.SetNumber(to.digits)
	var rounded apd.Decimal
	err := formula.Round(&rounded, &v.Number, places)
	if err == nil {
		v.Number = rounded
		to.digits, err = v.Digits(nil)
	}
	if err != nil {
		to.bad(i, err.Error())
	}
}
