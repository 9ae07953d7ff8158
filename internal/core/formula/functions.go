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

	"ladle/internal/core/fault"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// functions are all that formulas can call, besides those that look at their arguments as they are written.
var functions = map[string]function{
	"upper":   texts(strings.ToUpper),
	"lower":   texts(strings.ToLower),
	"trim":    texts(bytewise(text.Trim)),
	"squeeze": texts(bytewise(text.Squeeze)),
	"digits":  texts(bytewise(text.Digits)),
	"letters": texts(bytewise(text.Letters)),
	"text":    {takes: []Kind{Any}, gives: Text, do: asText},
	"length":  {takes: []Kind{Text}, gives: Number, do: length},
	"part":    {takes: []Kind{Text, Text, Number}, gives: Text, do: part},
	"start":   {takes: []Kind{Text, Number}, gives: Text, do: start},
	"end":     {takes: []Kind{Text, Number}, gives: Text, do: end},
	"starts":  asking(strings.HasPrefix),
	"ends":    asking(strings.HasSuffix),
	"has":     asking(strings.Contains),
	"replace": {takes: []Kind{Text, Text, Text}, gives: Text, do: func(a []*Value) (*Value, error) {
		size := len(a[0].Text) + strings.Count(a[0].Text, a[1].Text)*(len(a[2].Text)-len(a[1].Text))
		if size > mostText {
			return nil, errTooLong
		}
		return written(strings.ReplaceAll(a[0].Text, a[1].Text, a[2].Text)), nil
	}},
	"join": {takes: []Kind{Text, Any}, gives: Text, more: true, blanks: true, do: join},

	"number":   {takes: []Kind{Number}, gives: Number, do: itself},
	"round":    {takes: []Kind{Number, Number}, gives: Number, do: round},
	"abs":      {takes: []Kind{Number}, gives: Number, do: abs},
	"least":    {takes: []Kind{Any}, same: true, order: true, more: true, advice: sayWhich, do: extreme(-1)},
	"greatest": {takes: []Kind{Any}, same: true, order: true, more: true, advice: sayWhich, do: extreme(1)},

	"date":      {takes: []Kind{Moment}, gives: Moment, do: itself},
	"date_only": {takes: []Kind{Moment}, gives: Moment, do: dateOnly},
	"year":      field(func(m value.Moment) int64 { y, _, _ := value.Civil(m.Days); return y }),
	"month":     field(func(m value.Moment) int64 { _, n, _ := value.Civil(m.Days); return n }),
	"day":       field(func(m value.Moment) int64 { _, _, d := value.Civil(m.Days); return d }),
	// 1970-01-01 was a Thursday; Monday is 1 (ISO 8601)
	"weekday":         field(func(m value.Moment) int64 { return ((m.Days+3)%7+7)%7 + 1 }),
	"days_between":    {takes: []Kind{Moment, Moment}, gives: Number, do: daysBetween},
	"minutes_between": {takes: []Kind{Moment, Moment}, gives: Number, do: minutesBetween},
	"add_days":        {takes: []Kind{Moment, Number}, gives: Moment, do: addDays},

	"is_blank": {takes: []Kind{Any}, gives: Truth, blanks: true,
		do: func(a []*Value) (*Value, error) { return truth(a[0].Blank), nil }},
	"coalesce": {takes: []Kind{Any}, same: true, blanks: true, more: true, advice: sayWhich, do: firstGiven},
}

var functionNames = append(slices.Concat(slices.Sorted(maps.Keys(functions)), askNames(), acrossNames), "choose", "col", "fits")

// mostText is the number of bytes that a text may have which a formula makes.
const mostText = 16 << 20

var errTooLong = NoResult("the text would be longer than 16 MB")

func written(s string) *Value { return &Value{Kind: Text, Text: s, Blank: s == ""} }

func whole(n int64) *Value {
	v := &Value{Kind: Number}
	v.Number.SetInt64(n)
	return v
}

func asText(a []*Value) (*Value, error) { return written(a[0].String()), nil }

func length(a []*Value) (*Value, error) { return whole(int64(len([]rune(a[0].Text)))), nil }

func itself(a []*Value) (*Value, error) { return a[0], nil }

func texts(do func(string) string) function {
	return function{takes: []Kind{Text}, gives: Text, advice: "text() converts it",
		do: func(a []*Value) (*Value, error) {
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
		return 0, NoResult(fmt.Sprintf("%s is not a whole number of at least %d", v.label(), least))
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

func start(a []*Value) (*Value, error) {
	n, err := small(a[1], 0)
	if err != nil {
		return nil, err
	}
	runes := []rune(a[0].Text)
	return written(string(runes[:min(n, len(runes))])), nil
}

func end(a []*Value) (*Value, error) {
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
	size := 0
	for _, v := range a[1:] {
		if !v.Blank {
			parts = append(parts, v.String())
			size += len(parts[len(parts)-1]) + len(a[0].Text)
		}
	}
	if size > mostText {
		return nil, errTooLong
	}
	return written(strings.Join(parts, a[0].Text)), nil
}

// round rounds to digits behind the point; halves round away from zero.
func round(a []*Value) (*Value, error) {
	places, err := small(a[1], 0)
	if err != nil {
		return nil, err
	}
	v := &Value{Kind: Number}
	return v, Round(&v.Number, &a[0].Number, places)
}

// Round rounds d to digits behind the point; halves round away from zero.
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
		return NoResult(v.label() + " is a time without a date")
	}
	return nil
}

func dateOnly(a []*Value) (*Value, error) {
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
		return nil, NoResult(a[1].label() + " is not a whole number of days")
	}
	m := a[0].Moment
	m.Days += n
	const least, most = -719162, 2932896 // 0001-01-01 and 9999-12-31
	if m.Days < least || m.Days > most {
		return nil, NoResult("the date is out of range")
	}
	return &Value{Kind: Moment, Moment: m}, dated(a[0])
}

// fits is fits(x, "pattern"): whether a pattern is found in a text (RE2, github.com/google/re2/wiki/Syntax).
func (r *rewriter) fits(n *ast.CallNode) (ast.Node, Kind, error) {
	const do = "write fits(x, `^N[0-9]+$`)"
	if len(n.Arguments) != 2 {
		return nil, 0, r.wrong(n, fmt.Sprintf("fits() takes 2 arguments, not %d", len(n.Arguments)), do)
	}
	pattern, ok := n.Arguments[1].(*ast.StringNode)
	if !ok {
		return nil, 0, r.wrong(n.Arguments[1], "the pattern of fits() must be in quotes", do)
	}
	re, err := regexp.Compile(pattern.Value)
	if err != nil {
		return nil, 0, r.wrong(pattern, fmt.Sprintf("%q is not a regular expression: %s", pattern.Value,
			fault.OfPattern(err)), do)
	}
	f := asking(func(s, _ string) bool { return re.MatchString(s) })
	return r.apply(n, "fits()", f, n.Arguments)
}
