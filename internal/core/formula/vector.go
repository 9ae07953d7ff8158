package formula

import (
	"cmp"
	"strconv"
	"strings"

	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// State says what stands in a row of a Vector.
type State uint8

const (
	Given State = iota // a value
	Blank              // no value
	Alone              // a Machine must compute the row: a cell is bad, a number has many digits, or there is no result
)

// Vector has values of one kind in the rows of a block, in the memory of that kind.
type Vector struct {
	Kind    Kind
	States  []State
	Numbers []Scaled
	Texts   []string
	Moments []value.Moment
	Truths  []bool
}

// Reset makes room for so many rows, of which each has a value of the kind that is yet to be set.
func (v *Vector) Reset(kind Kind, rows int) {
	v.Kind, v.States = kind, room(v.States, rows)
	clear(v.States)
	switch kind {
	case Number:
		v.Numbers = room(v.Numbers, rows)
	case Text:
		v.Texts = room(v.Texts, rows)
	case Moment:
		v.Moments = room(v.Moments, rows)
	case Truth:
		v.Truths = room(v.Truths, rows)
	}
}

// room is all with n elements.
func room[T any](all []T, n int) []T {
	if cap(all) < n {
		return make([]T, n)
	}
	return all[:n]
}

// leave has all rows computed alone.
func (v *Vector) leave() *Vector {
	for i := range v.States {
		v.States[i] = Alone
	}
	return v
}

// Fill puts x into each of so many rows; a number must have few digits.
func (v *Vector) Fill(x *Value, rows int) {
	v.Reset(x.Kind, rows)
	for i := range v.States {
		v.set(i, x)
	}
}

// Holds reports whether a condition holds in a row.
func (v *Vector) Holds(row int) bool { return v.States[row] == Given && v.Truths[row] }

// set puts x into a row; a text stays where it is.
func (v *Vector) set(row int, x *Value) {
	ok := true
	switch {
	case x.Blank:
		v.States[row] = Blank
		return
	case x.Kind != v.Kind, x.Kind == Any:
		ok = false
	case x.Kind == Number:
		v.Numbers[row], ok = scaled(&x.Number)
	case x.Kind == Text:
		v.Texts[row] = x.Text
	case x.Kind == Moment:
		v.Moments[row] = x.Moment
	case x.Kind == Truth:
		v.Truths[row] = x.Truth
	}
	if !ok {
		v.States[row] = Alone
	}
}

// Take puts what stands in the same row of another vector into a row; where that has a value, it is of this kind.
func (v *Vector) Take(row int, from *Vector) {
	if v.States[row] = from.States[row]; v.States[row] != Given {
		return
	}
	switch v.Kind {
	case Number:
		v.Numbers[row] = from.Numbers[row]
	case Text:
		v.Texts[row] = from.Texts[row]
	case Moment:
		v.Moments[row] = from.Moments[row]
	case Truth:
		v.Truths[row] = from.Truths[row]
	}
}

// Value makes to what stands in a row.
func (v *Vector) Value(row int, to *Value) {
	to.Kind, to.Blank, to.Bad = v.Kind, v.States[row] == Blank, false
	if to.Blank {
		return
	}
	switch v.Kind {
	case Number:
		v.Numbers[row].put(&to.Number)
	case Text:
		to.Text = v.Texts[row]
	case Moment:
		to.Moment = v.Moments[row]
	case Truth:
		to.Truth = v.Truths[row]
	}
}

// AppendTo adds the value of a row in its canonical text.
func (v *Vector) AppendTo(buf []byte, row int) []byte {
	switch v.Kind {
	case Number:
		var digits [40]byte
		return v.Numbers[row].Digits(digits[:0]).Append(buf)
	case Moment:
		return value.AppendMoment(buf, v.Moments[row])
	case Truth:
		return strconv.AppendBool(buf, v.Truths[row])
	}
	return append(buf, v.Texts[row]...)
}

// as returns v as values of a kind, which are made where they have another.
func (v *Vector) as(k Kind, made *Vector) *Vector {
	if v.Kind == k || k == Any {
		return v
	}
	made.Reset(k, len(v.States))
	for i, s := range v.States {
		switch {
		case s != Given:
			made.States[i] = s
		case v.Kind != Text || !made.read(i, v.Texts[i]):
			made.States[i] = Alone
		}
	}
	return made
}

// read puts the number, moment or truth that stands in a text into a row, if one does.
func (v *Vector) read(row int, cell string) (ok bool) {
	switch v.Kind {
	case Number:
		d, err := value.ScanNumber(text.Bytes(cell))
		if ok = err == nil; ok {
			v.Numbers[row], ok = ScaledOf(d)
		}
	case Moment:
		v.Moments[row], ok = value.ScanMoment(text.Bytes(cell))
	case Truth:
		v.Truths[row], ok = readTruth(cell)
	}
	return ok
}

// compareAt orders two values of one kind that stand in the same row; not ok where a Machine must.
func compareAt(a, b *Vector, row int) (int, bool) {
	switch a.Kind {
	case Number:
		return a.Numbers[row].compare(b.Numbers[row])
	case Moment:
		m, n := &a.Moments[row], &b.Moments[row]
		return cmp.Compare(microsOf(*m), microsOf(*n)), haveOrder(m, n)
	case Truth:
		return rank(a.Truths[row]) - rank(b.Truths[row]), true
	}
	return strings.Compare(a.Texts[row], b.Texts[row]), true
}
