package clean

import (
	"errors"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/formula"
	"ladle/internal/core/reason"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// finish fills blanks, rounds and shortens.
func (k *rowCleaner) finish(i int, c *column, to *cell) {
	if c.fills != nil {
		blank := to.state == value.Null
		k.fill(i, c, to)
		if blank && to.state == value.Given {
			to.did = to.did.with(Filled)
		}
	}
	if to.state == value.Null && c.last != nil {
		k.take(i, to, c.last)
		to.did = to.did.with(Defaulted)
	}
	if to.state != value.Given {
		return
	}
	if c.rule.Rounded {
		k.round(i, c.rule.Round, to)
	}
	if c.rule.ShortenTo > 0 && to.form == formula.Text {
		all := len(to.text)
		if to.text = text.Shortened(to.text, c.rule.ShortenTo); len(to.text) < all {
			to.did = to.did.with(Shortened)
		}
	}
}

// fill returns a blank cell the first value that a fill has for it. While groups are gathered, a cell that is not blank
// is noted, and no more is filled.
func (k *rowCleaner) fill(i int, c *column, to *cell) {
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
		case f.above:
			k.fromAbove(i, c, to)
		case f.formula != nil:
			k.compute(i, to, f.formula)
			k.formed(i, c, to)
		case k.gather == 0 || f.level < k.gather:
			k.sibling(i, f, to)
		}
	}
}

// formed makes what a formula gave fit the form of the column, where a text was given for a number or date.
func (k *rowCleaner) formed(i int, c *column, to *cell) {
	if to.state != value.Given || to.form == c.rule.form() {
		return
	}
	switch {
	case c.rule.form() == formula.Text:
		to.text = to.plain(k.buffers[i].other[:0:0])
		to.form = formula.Text
	case to.form == formula.Text:
		k.parse(i, &c.rule, to, true)
	}
}

// take makes a cell the same as another, which stays as it is.
func (k *rowCleaner) take(i int, to, from *cell) {
	raw, did := to.raw, to.did
	*to = *from
	to.raw, to.did = raw, did
}

// compute makes a cell of what a formula gives.
func (k *rowCleaner) compute(i int, to *cell, f *formula.Formula) {
	v, err := k.machine.Run(f)
	switch {
	case err != nil:
		k.notComputed(i, to, f, err)
		return
	case v.Blank:
		to.state = value.Null
		return
	}
	to.state, to.form = value.Given, v.Kind
	switch v.Kind {
	case formula.Number:
		if to.digits, err = v.Digits(k.buffers[i].other[:0]); err != nil {
			to.bad(i, notComputed(err))
			return
		}
		k.buffers[i].other = to.digits.Whole
	case formula.Moment:
		to.moment = v.Moment
	case formula.Truth:
		to.truth = v.Truth
	default:
		to.text = append(k.buffers[i].other[:0], v.Text...)
		k.buffers[i].other = to.text
	}
}

// notComputed makes a cell bad for which a formula gives nothing: for a reason of its own, or for that of a cell that it
// needs.
func (k *rowCleaner) notComputed(i int, to *cell, f *formula.Formula, err error) {
	var refused formula.NoResult
	if errors.As(err, &refused) {
		to.bad(i, notComputed(refused))
		return
	}
	if why := k.unknownAcross(f); why != nil {
		to.bad(i, why)
		return
	}
	for _, u := range f.Uses() {
		if used := &k.cells[u]; used.state == value.Bad {
			to.bad(used.blame, used.why)
			return
		}
	}
	to.bad(i, notComputed(err))
}

func notComputed(err error) *reason.Cause { return reason.Fault(reason.NotComputed, err.Error()) }

// value hands the cell of a column to formulas.
func (k *rowCleaner) value(i int) {
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
		v.Text = text.Of(c.text) // for as long as the row is
	}
}

// round rounds a number; halves round away from zero.
func (k *rowCleaner) round(i, places int, to *cell) {
	if len(to.digits.Fraction) <= places {
		return
	}
	for _, digit := range to.digits.Fraction[places:] {
		if digit != '0' {
			to.did = to.did.with(Rounded)
			break
		}
	}
	if rounded, done := to.digits.Rounded(places, k.buffers[i].rounded[:0]); done {
		k.buffers[i].rounded = rounded.Whole
		to.digits = rounded
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
		to.refused(i, err)
	}
}
