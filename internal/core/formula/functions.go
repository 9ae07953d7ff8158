package formula

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"
	"github.com/expr-lang/expr/ast"

	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// functions are all that formulas can call, besides col.
var functions = map[string]function{
	"upper":   texts(strings.ToUpper),
	"lower":   texts(strings.ToLower),
	"trim":    texts(bytewise(text.Trim)),
	"squeeze": texts(bytewise(text.Squeeze)),
	"digits":  texts(bytewise(text.Digits)),
	"letters": texts(bytewise(text.Letters)),
	"text":    {takes: []Kind{Any}, gives: Text, do: func(a []*Value) (*Value, error) { return written(a[0].String()), nil }},
	"length":  {takes: []Kind{Text}, gives: Number, do: func(a []*Value) (*Value, error) { return whole(int64(len([]rune(a[0].Text)))), nil }},
	"part":    {takes: []Kind{Text, Text, Number}, gives: Text, do: part},
	"first":   {takes: []Kind{Text, Number}, gives: Text, do: first},
	"last":    {takes: []Kind{Text, Number}, gives: Text, do: last},
	"replace": {takes: []Kind{Text, Text, Text}, gives: Text, do: func(a []*Value) (*Value, error) {
		return written(strings.ReplaceAll(a[0].Text, a[1].Text, a[2].Text)), nil
	}},
	"join": {takes: []Kind{Text, Any}, gives: Text, more: true, blanks: true, do: join},

	"number":   {takes: []Kind{Number}, gives: Number, do: itself},
	"round":    {takes: []Kind{Number, Number}, gives: Number, do: round},
	"abs":      {takes: []Kind{Number}, gives: Number, do: abs},
	"least":    {takes: []Kind{Any}, same: true, order: true, more: true, advice: sayWhich, do: extreme(-1)},
	"greatest": {takes: []Kind{Any}, same: true, order: true, more: true, advice: sayWhich, do: extreme(1)},

	"date":            {takes: []Kind{Moment}, gives: Moment, do: itself},
	"day_of":          {takes: []Kind{Moment}, gives: Moment, do: dayOf},
	"year":            field(func(m value.Moment) int64 { y, _, _ := value.Civil(m.Days); return y }),
	"month":           field(func(m value.Moment) int64 { _, n, _ := value.Civil(m.Days); return n }),
	"day":             field(func(m value.Moment) int64 { _, _, d := value.Civil(m.Days); return d }),
	"weekday":         field(func(m value.Moment) int64 { return ((m.Days+3)%7+7)%7 + 1 }), // 1970-01-01 was a Thursday; Monday is 1 (ISO 8601)
	"days_between":    {takes: []Kind{Moment, Moment}, gives: Number, do: daysBetween},
	"minutes_between": {takes: []Kind{Moment, Moment}, gives: Number, do: minutesBetween},
	"add_days":        {takes: []Kind{Moment, Number}, gives: Moment, do: addDays},

	"blank":    {takes: []Kind{Any}, gives: Truth, blanks: true, do: func(a []*Value) (*Value, error) { return truth(a[0].Blank), nil }},
	"coalesce": {takes: []Kind{Any}, same: true, blanks: true, more: true, advice: sayWhich, do: firstGiven},
}

var functionNames = append(slices.Sorted(maps.Keys(functions)), "col")

func written(s string) *Value { return &Value{Kind: Text, Text: s, Blank: s == ""} }

func whole(n int64) *Value {
	v := &Value{Kind: Number}
	v.Number.SetInt64(n)
	return v
}

func itself(a []*Value) (*Value, error) { return a[0], nil }

func texts(do func(string) string) function {
	return function{takes: []Kind{Text}, gives: Text, advice: "text() makes a text of it", do: func(a []*Value) (*Value, error) {
		return written(do(a[0].Text)), nil
	}}
}

func bytewise(do func(to, cell []byte) []byte) func(string) string {
	return func(s string) string { return string(do(nil, []byte(s))) }
}

// small is a whole number of an argument.
func small(v *Value, least int64) (int, error) {
	n, err := v.Number.Int64()
	const most = 1 << 30
	if err != nil || n < least || n > most {
		return 0, Refused(fmt.Sprintf("%s is not a whole number of at least %d", v.label(), least))
	}
	return int(n), nil
}

// part is the part with a number, from 1, of a text that is parted by another.
func part(a []*Value) (*Value, error) {
	n, err := small(a[2], 1)
	if err != nil {
		return nil, err
	}
	parts := strings.Split(a[0].Text, a[1].Text)
	if n > len(parts) {
		return written(""), nil
	}
	return written(strings.TrimSpace(parts[n-1])), nil
}

func first(a []*Value) (*Value, error) {
	n, err := small(a[1], 0)
	if err != nil {
		return nil, err
	}
	runes := []rune(a[0].Text)
	return written(string(runes[:min(n, len(runes))])), nil
}

func last(a []*Value) (*Value, error) {
	n, err := small(a[1], 0)
	if err != nil {
		return nil, err
	}
	runes := []rune(a[0].Text)
	return written(string(runes[max(len(runes)-n, 0):])), nil
}

// join puts its first argument between the others that are not blank.
func join(a []*Value) (*Value, error) {
	var parts []string
	for _, v := range a[1:] {
		if !v.Blank {
			parts = append(parts, v.String())
		}
	}
	return written(strings.Join(parts, a[0].Text)), nil
}

// round rounds to digits behind the point; what lies in the middle goes away from zero.
func round(a []*Value) (*Value, error) {
	places, err := small(a[1], 0)
	if err != nil {
		return nil, err
	}
	v := &Value{Kind: Number}
	return v, Round(&v.Number, &a[0].Number, places)
}

// Round rounds d to digits behind the point; what lies in the middle goes away from zero.
func Round(to, d *apd.Decimal, places int) error {
	if int(d.Exponent) >= -places {
		to.Set(d)
		return nil
	}
	c := apd.BaseContext.WithPrecision(uint32(max(d.NumDigits(), 1)) + uint32(places) + 1)
	c.Rounding = apd.RoundHalfUp // of the size, whatever the sign
	return condition(c.Quantize(to, d, -int32(places)))
}

func abs(a []*Value) (*Value, error) {
	v := &Value{Kind: Number}
	v.Number.Abs(&a[0].Number)
	return v, nil
}

func extreme(sign int) func([]*Value) (*Value, error) {
	return func(a []*Value) (*Value, error) {
		best := a[0]
		for _, v := range a[1:] {
			n, err := compare(v, best)
			if err != nil {
				return nil, err
			}
			if n*sign > 0 {
				best = v
			}
		}
		return best, nil
	}
}

// dated refuses a time without a date.
func dated(v *Value) error {
	if !v.Moment.Dated {
		return Refused(v.label() + " is a time without a date")
	}
	return nil
}

func dayOf(a []*Value) (*Value, error) {
	return &Value{Kind: Moment, Moment: value.Moment{Days: a[0].Moment.Days, Dated: true}}, dated(a[0])
}

func field(of func(value.Moment) int64) function {
	return function{takes: []Kind{Moment}, gives: Number, do: func(a []*Value) (*Value, error) {
		return whole(of(a[0].Moment)), dated(a[0])
	}}
}

func daysBetween(a []*Value) (*Value, error) {
	for _, v := range a {
		if err := dated(v); err != nil {
			return nil, err
		}
	}
	return whole(a[1].Moment.Days - a[0].Moment.Days), nil
}

// minutesBetween is exact, so with a fraction where there are seconds.
func minutesBetween(a []*Value) (*Value, error) {
	if _, err := compareMoments(a[0], a[1]); err != nil {
		return nil, err
	}
	const day = 24 * 60 * 60 * 1e6
	at := func(m value.Moment) int64 { return m.Days*day + m.Micros - m.Offset }
	v, minute := whole(at(a[1].Moment)-at(a[0].Moment)), whole(time.Minute.Microseconds())
	return v, divide(&v.Number, &v.Number, &minute.Number)
}

func addDays(a []*Value) (*Value, error) {
	n, err := a[1].Number.Int64()
	if err != nil {
		return nil, Refused(a[1].label() + " is not a whole number of days")
	}
	m := a[0].Moment
	m.Days += n
	const least, most = -719162, 2932896 // 0001-01-01 and 9999-12-31
	if m.Days < least || m.Days > most {
		return nil, Refused("the date is out of reach")
	}
	return &Value{Kind: Moment, Moment: m}, dated(a[0])
}

// matches is the operator with a pattern (RE2, github.com/google/re2/wiki/Syntax).
func (r *rewriter) matches(n *ast.BinaryNode, pattern string) (ast.Node, Kind, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, 0, r.wrong(n.Right, err.Error(), "")
	}
	f := asking(func(s, _ string) bool { return re.MatchString(s) })
	return r.apply(n, "matches", f, []ast.Node{n.Left, n.Right})
}
