package formula

import (
	"cmp"
	"fmt"
	"strings"
	"unicode"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/value"
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
	do     func(*call) (*Value, error)

	together kernel // does the same for the rows of a block; nil where each is computed by itself
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

const (
	sayWhich = "set number: or date: for one of the columns, or write number(), date() or text() around it"
	sayHow   = "number() converts texts to numbers; join(\" \", ...) joins texts"
)

var operators = map[string]function{
	"+": adding(arithmetic(add, Scaled.plus, sayHow)),
	"-": arithmetic(subtract, Scaled.minus, "days_between() and minutes_between() subtract dates"),
	"*": arithmetic(multiply, Scaled.times, ""),
	"/": arithmetic(divide, Scaled.over, ""),
	"unary -": {takes: []Kind{Number}, gives: Number, do: func(c *call) (*Value, error) {
		r := c.number()
		r.Number.Neg(&c.arguments[0].Number)
		return r, nil
	}, together: ofNumber(Scaled.negated)},
	"unary +": {takes: []Kind{Number}, gives: Number, do: itself, together: itselfTogether},
	"==":      equality(func(n int) bool { return n == 0 }),
	"!=":      equality(func(n int) bool { return n != 0 }),
	"in":      {takes: []Kind{Any}, gives: Truth, more: true, same: true, blanks: true, advice: sayWhich, do: among, together: eachRow(amongTogether)},
	"<":       comparison(func(n int) bool { return n < 0 }),
	"<=":      comparison(func(n int) bool { return n <= 0 }),
	">":       comparison(func(n int) bool { return n > 0 }),
	">=":      comparison(func(n int) bool { return n >= 0 }),
	"and":     {takes: []Kind{Truth, Truth}, gives: Truth, blanks: true, do: both, together: decidedTogether(false)},
	"&&": {takes: []Kind{Truth, Truth}, gives: Truth, blanks: true, do: both, // what the library makes of 0 < x < 9
		together: decidedTogether(false)},
	"or": {takes: []Kind{Truth, Truth}, gives: Truth, blanks: true, do: either, together: decidedTogether(true)},
	"not": {takes: []Kind{Truth}, gives: Truth, do: func(c *call) (*Value, error) {
		return c.truth(!c.arguments[0].Truth), nil
	}, together: eachRow(notTogether)},
}

// arithmetic is an operator between two numbers; few does it for those of few digits.
func arithmetic(do func(r, a, b *apd.Decimal) error, few func(x, y Scaled) (Scaled, bool), advice string) function {
	return function{takes: []Kind{Number, Number}, gives: Number, advice: advice, do: func(c *call) (*Value, error) {
		r := c.number()
		return r, do(&r.Number, &c.arguments[0].Number, &c.arguments[1].Number)
	}, together: ofNumbers(few)}
}

// adding is f for the + of two values of a kind that is known: between two texts it could also mean to join them.
func adding(f function) function {
	plus := f.do
	f.takes, f.same, f.order = []Kind{Any, Any}, true, true
	f.do = func(c *call) (*Value, error) {
		if c.arguments[0].Kind != Number || c.arguments[1].Kind != Number {
			return nil, NoResult("+ adds numbers only")
		}
		return plus(c)
	}
	return f
}

// comparison orders numbers and moments.
func comparison(holds func(int) bool) function {
	f := equality(holds)
	f.order = true
	return f
}

// equality compares two values of one kind.
func equality(holds func(int) bool) function {
	return function{takes: []Kind{Any, Any}, gives: Truth, same: true, advice: sayWhich, do: func(c *call) (*Value, error) {
		n, err := compare(c.arguments[0], c.arguments[1])
		return c.truth(holds(n)), err
	}, together: comparedTogether(holds)}
}

// compare orders two values of one kind that are not blank.
func compare(a, b *Value) (int, error) {
	switch a.Kind {
	case Number:
		return compareNumbers(&a.Number, &b.Number), nil
	case Truth:
		return rank(a.Truth) - rank(b.Truth), nil
	case Moment:
		return compareMoments(a, b)
	}
	return strings.Compare(a.Text, b.Text), nil
}

// rank orders truths: false stands before true.
func rank(t bool) int {
	if t {
		return 1
	}
	return 0
}

func compareMoments(a, b *Value) (int, error) {
	if !haveOrder(&a.Moment, &b.Moment) {
		return 0, NoResult(fmt.Sprintf("%s and %s can't be compared: only one of them has a date, or a zone", a.label(),
			b.label()))
	}
	return cmp.Compare(microsOf(a.Moment), microsOf(b.Moment)), nil
}

// haveOrder reports whether two moments can be compared: both have a date, or a zone where they have a time, or neither has.
func haveOrder(m, n *value.Moment) bool {
	return m.Dated == n.Dated && (!m.Timed || !n.Timed || m.Zoned == n.Zoned)
}

// microsOf is a moment in microseconds since the start of 1970, where it says its zone, there in UTC.
func microsOf(m value.Moment) int64 {
	const day = 24 * 60 * 60 * 1e6
	return m.Days*day + m.Micros - m.Offset
}

// among reports whether the first value is one of the others; blank when it is blank.
func among(c *call) (*Value, error) {
	one, blank := c.arguments[0], c.arguments[0].Blank
	for _, o := range c.arguments[1:] {
		if one.Blank || o.Blank {
			blank = true
			continue
		}
		if n, err := compare(one, o); err != nil || n == 0 {
			return c.truth(true), err
		}
	}
	return c.truthOrBlank(false, blank), nil
}

// both is the and of SQL (ISO/IEC 9075, truth values): false when one is false, else blank when one is blank.
func both(c *call) (*Value, error) {
	blank := false
	for _, v := range c.arguments {
		if !v.Blank && !v.Truth {
			return c.truth(false), nil
		}
		blank = blank || v.Blank
	}
	return c.truthOrBlank(true, blank), nil
}

// either is the or of SQL: true when one is true, else blank when one is blank.
func either(c *call) (*Value, error) {
	blank := false
	for _, v := range c.arguments {
		if !v.Blank && v.Truth {
			return c.truth(true), nil
		}
		blank = blank || v.Blank
	}
	return c.truthOrBlank(false, blank), nil
}

func asking(holds func(text, part string) bool) function {
	return function{takes: []Kind{Text, Text}, gives: Truth, advice: "text() converts it", do: func(c *call) (*Value, error) {
		return c.truth(holds(c.arguments[0].Text, c.arguments[1].Text)), nil
	}, together: askedTogether(holds)}
}

func firstGiven(c *call) (*Value, error) {
	for _, v := range c.arguments {
		if !v.Blank {
			return v, nil
		}
	}
	return c.arguments[len(c.arguments)-1], nil
}

func isLetterOrDigit(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
