// Package formula computes with the cells of a row: exact decimals, texts, dates and truths, of which each may be
// blank. The grammar is that of expr-lang/expr; operators and functions are our own.
package formula

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// Kind is what a value is.
type Kind uint8

const (
	Any    Kind = iota // not known, as of nil
	Text               // characters; where a number or a date is needed, one in its plain form is taken for it
	Number             // an exact decimal
	Moment             // a date, a time, or both
	Truth              // true or false
)

var kindNames = [...]string{"blank", "text", "number", "date or time", "condition"}

func (k Kind) String() string { return kindNames[k] }

// Value is one value. Those of cells may be used again for the next row, so nothing keeps them.
type Value struct {
	Kind   Kind
	Blank  bool
	Text   string
	Number apd.Decimal
	Moment value.Moment
	Truth  bool
	From   string // the column that the value is a cell of, for messages; "" for others
	Bad    bool   // the cell could not be read, which is told elsewhere
}

// ErrCell says that a formula needs a cell that could not be read.
var ErrCell = errors.New("needs a cell that can't be read")

// NoResult says why a formula has no result for a row, in words that stand by themselves.
type NoResult string

func (r NoResult) Error() string { return string(r) }

// SetNumber makes v the number d.
func (v *Value) SetNumber(d value.Digits) {
	v.Kind, v.Blank = Number, false
	if s, ok := ScaledOf(d); ok {
		s.put(&v.Number)
		v.Number.Negative = d.Negative
		return
	}
	v.Number.Coeff.SetString(string(d.Whole)+string(d.Fraction), 10)
	v.Number.Exponent, v.Number.Negative, v.Number.Form = -int32(len(d.Fraction)), d.Negative, apd.Finite
}

// Digits is the number v. The digits stand in buf, which must be empty, or in memory of their own.
func (v *Value) Digits(buf []byte) (value.Digits, error) {
	if s, ok := scaled(&v.Number); ok {
		return s.Digits(buf), nil
	}
	if v.Number.Exponent > mostDigits || int(v.Number.NumDigits()) > mostDigits {
		return value.Digits{}, NoResult("the result is too large")
	}
	text := v.Number.Append(buf, 'f')
	return value.ScanNumber(text)
}

const mostDigits = 1000 // of a result

// String is the value in its canonical text.
func (v *Value) String() string { return string(v.appendTo(nil)) }

// appendTo adds the value in its canonical text.
func (v *Value) appendTo(buf []byte) []byte {
	switch {
	case v.Blank:
		return buf
	case v.Kind == Number:
		var digits [40]byte
		if d, err := v.Digits(digits[:0]); err == nil {
			return d.Append(buf)
		}
		return append(buf, v.Number.String()...)
	case v.Kind == Moment:
		return value.AppendMoment(buf, v.Moment)
	case v.Kind == Truth:
		return strconv.AppendBool(buf, v.Truth)
	}
	return append(buf, v.Text...)
}

// readTruth reads the canonical text of a truth.
func readTruth(cell string) (truth, ok bool) {
	low := strings.ToLower(cell)
	return low == "true", low == "true" || low == "false"
}

const mostShown = 80 // characters of a value in messages

// label is the value in messages: its column and the cell.
func (v *Value) label() string {
	cell := text.Shortened([]byte(v.String()), mostShown)
	if v.From == "" {
		return fmt.Sprintf("%q", cell)
	}
	return fmt.Sprintf("%s %q", v.From, cell)
}

// as returns v as a value of a kind, which is made where it has another: a text stands for the number or moment that it is
// in its plain form.
func (v *Value) as(k Kind, made *Value) (*Value, error) {
	switch {
	case v.Bad:
		return nil, ErrCell
	case v.Kind == k || k == Any:
		return v, nil
	case v.Blank:
		*made = Value{Kind: k, Blank: true, From: v.From}
		return made, nil
	case v.Kind != Text:
		return nil, NoResult(fmt.Sprintf("%s is a %s, not a %s", v.label(), v.Kind, k))
	}
	made.From, made.Blank = v.From, false
	switch k {
	case Number:
		d, err := value.ScanNumber([]byte(v.Text))
		if err != nil {
			return nil, NoResult(v.label() + " " + err.Error())
		}
		made.SetNumber(d)
		return made, nil
	case Moment:
		m, ok := value.ScanMoment([]byte(v.Text))
		if !ok {
			return nil, NoResult(v.label() + " is not a date or time like 2026-03-31 15:04")
		}
		made.Kind, made.Moment = Moment, m
		return made, nil
	case Truth:
		if truth, ok := readTruth(v.Text); ok {
			made.Kind, made.Truth = Truth, truth
			return made, nil
		}
	}
	return nil, NoResult(v.label() + " is neither true nor false")
}
