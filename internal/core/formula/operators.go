package formula

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/cockroachdb/apd/v3"
)

// function is an operator or function: what it takes, what it gives, and how it computes it.
type function struct {
	takes  []Kind // of its arguments; the last stands for all that follow when it is variadic
	gives  Kind   // Any for the kind of its arguments
	more   bool   // variadic
	same   bool   // all arguments, up to takes Any, must be of one kind
	blanks bool   // it is computed for blanks too; else one blank argument makes the result blank
	order  bool   // it needs to know how its arguments are ordered, which texts don't tell
	advice string
	do     func([]*Value) (*Value, error)
}

// resolve says as which kinds the arguments are taken, and what the result is; odd says why they can't be.
func (f *function) resolve(kinds []Kind) (takes []Kind, gives Kind, odd string) {
	if len(kinds) < len(f.takes) || len(kinds) > len(f.takes) && !f.more {
		return nil, 0, fmt.Sprintf("takes %s, not %d", countOf(f), len(kinds))
	}
	takes = make([]Kind, len(kinds))
	for i := range kinds {
		takes[i] = f.takes[min(i, len(f.takes)-1)]
	}
	common := Any
	if f.same {
		if common, odd = shared(kinds, takes); odd != "" {
			return nil, 0, odd
		}
		if f.order && common == Text {
			return nil, 0, "has a text on both sides, and it is not clear whether these are numbers, dates or words"
		}
	}
	for i, k := range kinds {
		if takes[i] == Any && f.same {
			takes[i] = common
		}
		if k != takes[i] && k != Any && takes[i] != Any && k != Text {
			return nil, 0, fmt.Sprintf("takes a %s, not a %s", takes[i], k)
		}
	}
	gives = f.gives
	if gives == Any {
		gives = common
	}
	return takes, gives, ""
}

// shared is the kind that all arguments can have which may be of any.
func shared(kinds, takes []Kind) (Kind, string) {
	common := Any
	for i, k := range kinds {
		switch {
		case takes[i] != Any || k == Any || k == common:
		case common == Any || common == Text:
			common = k
		case k != Text:
			return 0, fmt.Sprintf("can't combine a %s and a %s", common, k)
		}
	}
	return common, ""
}

func countOf(f *function) string {
	n := len(f.takes)
	words := fmt.Sprintf("%d arguments", n)
	if n == 1 {
		words = "1 argument"
	}
	if f.more {
		words += " or more"
	}
	return words
}

// bound is f for arguments of the given kinds.
func (f *function) bound(takes []Kind, gives Kind) func([]*Value) (*Value, error) {
	return func(arguments []*Value) (*Value, error) {
		blank := false
		for i, a := range arguments {
			v, err := a.as(takes[i])
			if err != nil {
				return nil, err
			}
			arguments[i] = v
			blank = blank || v.Blank
		}
		if blank && !f.blanks {
			return &Value{Kind: gives, Blank: true}, nil
		}
		return f.do(arguments)
	}
}

const (
	sayWhich = "set number: or date: for one of the columns, or write number(), date() or text() around it"
	sayHow   = "number() converts texts to numbers; join(\" \", ...) joins texts"
)

var operators = map[string]function{
	"+": arithmetic(func(r, a, b *apd.Decimal) error { return condition(exact.Add(r, a, b)) }, sayHow, true),
	"-": arithmetic(func(r, a, b *apd.Decimal) error { return condition(exact.Sub(r, a, b)) },
		"days_between() and minutes_between() subtract dates", false),
	"*": arithmetic(func(r, a, b *apd.Decimal) error { return condition(exact.Mul(r, a, b)) }, "", false),
	"/": arithmetic(divide, "", false),
	"unary -": {takes: []Kind{Number}, gives: Number, do: func(a []*Value) (*Value, error) {
		return negated(a[0]),
			nil
	}},
	"unary +": {takes: []Kind{Number}, gives: Number, do: func(a []*Value) (*Value, error) { return a[0], nil }},
	"==": {takes: []Kind{Any, Any}, gives: Truth, same: true, advice: sayWhich,
		do: func(a []*Value) (*Value, error) { return equal(a[0], a[1]) }},
	"!=":  {takes: []Kind{Any, Any}, gives: Truth, same: true, advice: sayWhich, do: unequal},
	"in":  {takes: []Kind{Any}, gives: Truth, more: true, same: true, blanks: true, advice: sayWhich, do: among},
	"<":   comparison(func(n int) bool { return n < 0 }),
	"<=":  comparison(func(n int) bool { return n <= 0 }),
	">":   comparison(func(n int) bool { return n > 0 }),
	">=":  comparison(func(n int) bool { return n >= 0 }),
	"and": {takes: []Kind{Truth, Truth}, gives: Truth, blanks: true, do: both},
	"&&":  {takes: []Kind{Truth, Truth}, gives: Truth, blanks: true, do: both}, // what the library makes of 0 < x < 9
	"or":  {takes: []Kind{Truth, Truth}, gives: Truth, blanks: true, do: either},
	"not": {takes: []Kind{Truth}, gives: Truth, do: func(a []*Value) (*Value, error) {
		return truth(!a[0].Truth),
			nil
	}},
}

// exact computes without rounding.
var exact = apd.BaseContext.WithPrecision(0)

// quotient rounds what a division can't give exactly to 40 digits.
var quotient = func() *apd.Context {
	c := apd.BaseContext.WithPrecision(40)
	c.Rounding = apd.RoundHalfEven
	return c
}()

func condition(c apd.Condition, err error) error {
	if err != nil || c.Overflow() || c.InvalidOperation() {
		return NoResult("the result is too large")
	}
	return nil
}

func divide(r, a, b *apd.Decimal) error {
	if b.IsZero() {
		return NoResult("the formula divides by zero")
	}
	return condition(quotient.Quo(r, a, b))
}

func arithmetic(do func(r, a, b *apd.Decimal) error, advice string, ordered bool) function {
	f := function{takes: []Kind{Number, Number}, gives: Number, advice: advice, do: func(a []*Value) (*Value, error) {
		v := &Value{Kind: Number}
		return v, do(&v.Number, &a[0].Number, &a[1].Number)
	}}
	if ordered { // between two texts + could also mean to join them
		f.takes, f.same, f.order = []Kind{Any, Any}, true, true
		plus := f.do
		f.do = func(a []*Value) (*Value, error) {
			if a[0].Kind != Number || a[1].Kind != Number {
				return nil, NoResult("+ adds numbers only")
			}
			return plus(a)
		}
	}
	return f
}

func negated(v *Value) *Value {
	n := &Value{Kind: Number}
	n.Number.Neg(&v.Number)
	return n
}

func truth(t bool) *Value { return &Value{Kind: Truth, Truth: t} }

// comparison orders numbers and moments.
func comparison(holds func(int) bool) function {
	return function{takes: []Kind{Any, Any}, gives: Truth, same: true, order: true, advice: sayWhich,
		do: func(a []*Value) (*Value, error) {
			n, err := compare(a[0], a[1])
			return truth(holds(n)), err
		}}
}

// compare orders two values of one kind that are not blank.
func compare(a, b *Value) (int, error) {
	switch a.Kind {
	case Number:
		return a.Number.Cmp(&b.Number), nil
	case Truth:
		return rank(a.Truth) - rank(b.Truth), nil
	case Moment:
		return compareMoments(a, b)
	}
	return strings.Compare(a.Text, b.Text), nil
}

func rank(t bool) int {
	if t {
		return 1
	}
	return 0
}

func compareMoments(a, b *Value) (int, error) {
	m, n := a.Moment, b.Moment
	if m.Dated != n.Dated || m.Timed && n.Timed && m.Zoned != n.Zoned {
		return 0, NoResult(fmt.Sprintf("%s and %s can't be compared: only one of them has a date, or a zone", a.label(),
			b.label()))
	}
	const day = 24 * 60 * 60 * 1e6
	x, y := m.Days*day+m.Micros-m.Offset, n.Days*day+n.Micros-n.Offset
	switch {
	case x < y:
		return -1, nil
	case x > y:
		return 1, nil
	}
	return 0, nil
}

// equal reports whether two values that are not blank are the same.
func equal(a, b *Value) (*Value, error) {
	n, err := compare(a, b)
	return truth(n == 0), err
}

func unequal(a []*Value) (*Value, error) {
	v, err := equal(a[0], a[1])
	if err != nil {
		return nil, err
	}
	return truth(!v.Truth), nil
}

// among reports whether the first value is one of the others; blank when it is blank.
func among(a []*Value) (*Value, error) {
	if a[0].Blank {
		return &Value{Kind: Truth, Blank: true}, nil
	}
	blank := false
	for _, o := range a[1:] {
		if o.Blank {
			blank = true
			continue
		}
		v, err := equal(a[0], o)
		if err != nil || v.Truth {
			return v, err
		}
	}
	return &Value{Kind: Truth, Blank: blank}, nil
}

// both is the and of SQL (ISO/IEC 9075, truth values): false when one is false, else blank when one is blank.
func both(a []*Value) (*Value, error) {
	blank := false
	for _, v := range a {
		if !v.Blank && !v.Truth {
			return truth(false), nil
		}
		blank = blank || v.Blank
	}
	return &Value{Kind: Truth, Truth: !blank, Blank: blank}, nil
}

// either is the or of SQL: true when one is true, else blank when one is blank.
func either(a []*Value) (*Value, error) {
	blank := false
	for _, v := range a {
		if !v.Blank && v.Truth {
			return truth(true), nil
		}
		blank = blank || v.Blank
	}
	return &Value{Kind: Truth, Blank: blank}, nil
}

func asking(holds func(text, part string) bool) function {
	return function{takes: []Kind{Text, Text}, gives: Truth, advice: "text() converts it",
		do: func(a []*Value) (*Value, error) { return truth(holds(a[0].Text, a[1].Text)), nil }}
}

func firstGiven(a []*Value) (*Value, error) {
	for _, v := range a {
		if !v.Blank {
			return v, nil
		}
	}
	return a[len(a)-1], nil
}

func isLetterOrDigit(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
