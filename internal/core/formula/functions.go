package formula

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"
	"github.com/expr-lang/expr/ast"

	"ladle/internal/core/fault"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// functions are all that formulas can call, besides those that look at their arguments as they are written.
var functions = map[string]function{
	"upper":   texts(text.Upper),
	"lower":   texts(text.Lower),
	"trim":    texts(text.Trim),
	"squeeze": texts(text.Squeeze),
	"digits":  texts(text.Digits),
	"letters": texts(text.Letters),
	"text":    {takes: []Kind{Any}, gives: Text, do: asText, together: eachRow(asTextTogether)},
	"length":  {takes: []Kind{Text}, gives: Number, do: length, together: eachRow(lengthTogether)},
	"part":    {takes: []Kind{Text, Text, Number}, gives: Text, do: part},
	"start":   {takes: []Kind{Text, Number}, gives: Text, do: start},
	"end":     {takes: []Kind{Text, Number}, gives: Text, do: end},
	"starts":  asking(strings.HasPrefix),
	"ends":    asking(strings.HasSuffix),
	"has":     asking(strings.Contains),
	"replace": {takes: []Kind{Text, Text, Text}, gives: Text, do: replace},
	"join":    {takes: []Kind{Text, Any}, gives: Text, more: true, blanks: true, do: join, together: eachRow(joinTogether)},

	"number":   {takes: []Kind{Number}, gives: Number, do: itself, together: itselfTogether},
	"round":    {takes: []Kind{Number, Number}, gives: Number, do: round, together: eachRow(roundTogether)},
	"abs":      {takes: []Kind{Number}, gives: Number, do: abs, together: ofNumber(Scaled.absolute)},
	"least":    {takes: []Kind{Any}, same: true, order: true, more: true, advice: sayWhich, do: extreme(-1)},
	"greatest": {takes: []Kind{Any}, same: true, order: true, more: true, advice: sayWhich, do: extreme(1)},

	"date":      {takes: []Kind{Moment}, gives: Moment, do: itself, together: itselfTogether},
	"date_only": {takes: []Kind{Moment}, gives: Moment, do: dateOnly, together: eachRow(dateOnlyTogether)},
	"year":      field(func(m value.Moment) int64 { y, _, _ := value.Civil(m.Days); return y }),
	"month":     field(func(m value.Moment) int64 { _, n, _ := value.Civil(m.Days); return n }),
	"day":       field(func(m value.Moment) int64 { _, _, d := value.Civil(m.Days); return d }),
	// 1970-01-01 was a Thursday; Monday is 1 (ISO 8601)
	"weekday":         field(func(m value.Moment) int64 { return ((m.Days+3)%7+7)%7 + 1 }),
	"days_between":    {takes: []Kind{Moment, Moment}, gives: Number, do: daysBetween, together: eachRow(daysBetweenTogether)},
	"minutes_between": {takes: []Kind{Moment, Moment}, gives: Number, do: minutesBetween},
	"add_days":        {takes: []Kind{Moment, Number}, gives: Moment, do: addDays},

	"is_blank": {takes: []Kind{Any}, gives: Truth, blanks: true,
		do:       func(c *call) (*Value, error) { return c.truth(c.arguments[0].Blank), nil },
		together: eachRow(isBlankTogether)},
	"coalesce": {takes: []Kind{Any}, same: true, blanks: true, more: true, advice: sayWhich, do: firstGiven,
		together: eachRow(firstGivenTogether)},
}

var functionNames = append(slices.Concat(slices.Sorted(maps.Keys(functions)), askNames(), acrossNames), "choose", "col", "fits")

// mostText is the number of bytes that a text may have which a formula makes.
const mostText = 16 << 20

var errTooLong = NoResult("the text would be longer than 16 MB")

func replace(c *call) (*Value, error) {
	s, old, by := c.arguments[0].Text, c.arguments[1].Text, c.arguments[2].Text
	if len(s)+strings.Count(s, old)*(len(by)-len(old)) > mostText {
		return nil, errTooLong
	}
	return c.written(strings.ReplaceAll(s, old, by)), nil
}

func asText(c *call) (*Value, error) {
	if c.arguments[0].Kind == Text {
		return c.written(c.arguments[0].Text), nil
	}
	c.text = c.arguments[0].appendTo(c.text[:0])
	return c.written(text.Of(c.text)), nil
}

func length(c *call) (*Value, error) {
	return c.whole(int64(utf8.RuneCountInString(c.arguments[0].Text))), nil
}

func itself(c *call) (*Value, error) { return c.arguments[0], nil }

// texts makes a text of another one; do returns a part of it, or what it writes to the memory that it is given.
func texts(do func(to, cell []byte) []byte) function {
	return function{takes: []Kind{Text}, gives: Text, advice: "text() converts it", do: func(c *call) (*Value, error) {
		cell := text.Bytes(c.arguments[0].Text)
		made := do(c.text[:0], cell)
		if !text.Inside(made, cell) {
			c.text = made
		}
		return c.written(text.Of(made)), nil
	}, together: textsTogether(do)}
}

// count is a whole number of an argument.
func count(v *Value, least int64) (int, error) {
	n, err := v.Number.Int64()
	const most = 1 << 30
	if err != nil || n < least || n > most {
		return 0, NoResult(fmt.Sprintf("%s is not a whole number of at least %d", v.label(), least))
	}
	return int(n), nil
}

// part is the part with a number, from 1, of a text that is parted by another.
func part(c *call) (*Value, error) {
	n, err := count(c.arguments[2], 1)
	if err != nil {
		return nil, err
	}
	rest := c.arguments[0].Text
	for {
		part, behind, more := strings.Cut(rest, c.arguments[1].Text)
		if n--; n == 0 {
			return c.written(strings.TrimSpace(part)), nil
		}
		if !more {
			return c.written(""), nil
		}
		rest = behind
	}
}

func start(c *call) (*Value, error) {
	n, err := count(c.arguments[1], 0)
	if err != nil {
		return nil, err
	}
	s := c.arguments[0].Text
	return c.written(s[:behind(s, n)]), nil
}

func end(c *call) (*Value, error) {
	n, err := count(c.arguments[1], 0)
	if err != nil {
		return nil, err
	}
	s := c.arguments[0].Text
	return c.written(s[behind(s, max(utf8.RuneCountInString(s)-n, 0)):]), nil
}

// behind is the offset behind so many characters of s.
func behind(s string, characters int) int {
	for at := range s {
		if characters == 0 {
			return at
		}
		characters--
	}
	return len(s)
}

// join puts its first argument between the others that are not blank.
func join(c *call) (*Value, error) {
	c.text = c.text[:0]
	first := true
	for _, v := range c.arguments[1:] {
		if v.Blank {
			continue
		}
		if !first && !c.arguments[0].Blank {
			c.text = append(c.text, c.arguments[0].Text...)
		}
		first = false
		if c.text = v.appendTo(c.text); len(c.text) > mostText {
			return nil, errTooLong
		}
	}
	return c.written(text.Of(c.text)), nil
}

// round rounds to digits behind the point; halves round away from zero.
func round(c *call) (*Value, error) {
	places, err := count(c.arguments[1], 0)
	if err != nil {
		return nil, err
	}
	r := c.number()
	return r, Round(&r.Number, &c.arguments[0].Number, places)
}

func abs(c *call) (*Value, error) {
	r := c.number()
	r.Number.Abs(&c.arguments[0].Number)
	return r, nil
}

func extreme(sign int) func(*call) (*Value, error) {
	return func(c *call) (*Value, error) {
		best := c.arguments[0]
		for _, v := range c.arguments[1:] {
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

func dateOnly(c *call) (*Value, error) {
	of := c.arguments[0]
	return c.moment(value.Moment{Days: of.Moment.Days, Dated: true}), dated(of)
}

func field(of func(value.Moment) int64) function {
	return function{takes: []Kind{Moment}, gives: Number, do: func(c *call) (*Value, error) {
		return c.whole(of(c.arguments[0].Moment)), dated(c.arguments[0])
	}, together: fieldTogether(of)}
}

func daysBetween(c *call) (*Value, error) {
	for _, v := range c.arguments {
		if err := dated(v); err != nil {
			return nil, err
		}
	}
	return c.whole(c.arguments[1].Moment.Days - c.arguments[0].Moment.Days), nil
}

// minutesBetween is exact, so with a fraction where there are seconds.
func minutesBetween(c *call) (*Value, error) {
	if _, err := compareMoments(c.arguments[0], c.arguments[1]); err != nil {
		return nil, err
	}
	micros := microsOf(c.arguments[1].Moment) - microsOf(c.arguments[0].Moment)
	minute := time.Minute.Microseconds()
	if micros%minute == 0 {
		return c.whole(micros / minute), nil
	}
	v := c.whole(micros)
	return v, divide(&v.Number, &v.Number, apd.New(minute, 0))
}

func addDays(c *call) (*Value, error) {
	n, err := c.arguments[1].Number.Int64()
	if err != nil {
		return nil, NoResult(c.arguments[1].label() + " is not a whole number of days")
	}
	m := c.arguments[0].Moment
	m.Days += n
	const least, most = -719162, 2932896 // 0001-01-01 and 9999-12-31
	if m.Days < least || m.Days > most {
		return nil, NoResult("the date is out of range")
	}
	return c.moment(m), dated(c.arguments[0])
}

// fits is fits(x, "pattern"): whether a pattern is found in a text (RE2, github.com/google/re2/wiki/Syntax).
func (b *builder) fits(n *ast.CallNode) (node, Kind, error) {
	const do = "write fits(x, `^N[0-9]+$`)"
	if len(n.Arguments) != 2 {
		return node{}, 0, b.wrong(n, fmt.Sprintf("fits() takes 2 arguments, not %d", len(n.Arguments)), do)
	}
	pattern, ok := n.Arguments[1].(*ast.StringNode)
	if !ok {
		return node{}, 0, b.wrong(n.Arguments[1], "the pattern of fits() must be in quotes", do)
	}
	re, err := regexp.Compile(pattern.Value)
	if err != nil {
		return node{}, 0, b.wrong(pattern, fmt.Sprintf("%q is not a regular expression: %s", pattern.Value,
			fault.OfPattern(err)), do)
	}
	f := asking(func(s, _ string) bool { return re.MatchString(s) })
	return b.apply(n, "fits()", f, n.Arguments)
}
