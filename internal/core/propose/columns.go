package propose

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/reason"
	"ladle/internal/core/survey"
)

// Type is that of a column, in no dialect.
type Type struct {
	Kind   Kind `json:"kind"`
	Length int  `json:"length,omitempty"` // of a text, in characters; 0 for any
	Digits int  `json:"digits,omitempty"` // of a decimal, before and after the point
	Scale  int  `json:"scale,omitempty"`  // of a decimal, after the point
}

// Kind is what a column holds.
type Kind string

// The kinds of columns.
const (
	Text     Kind = "text"
	Integer  Kind = "integer" // of 32 bits
	BigInt   Kind = "bigint"  // of 64 bits
	Decimal  Kind = "decimal"
	Date     Kind = "date"
	DateTime Kind = "timestamp"
	Time     Kind = "time"
	Boolean  Kind = "boolean"
)

// column plans a column by all its values; nil where a person leaves it out.
func (m *maker) column(t *Table, from *survey.Column) *Column {
	c := &Column{Header: from.Name, of: from.Number, Required: from.Blank == 0 && len(from.Words) == 0}
	c.Name = free(plain(from.Name, fmt.Sprintf("column_%d", from.Number)), func(n string) bool {
		return slices.ContainsFunc(t.Columns, func(o *Column) bool { return o.Name == n })
	})
	c.typed(from)
	if from.Blank > 0 {
		c.because("blank in " + reason.Plural(from.Blank, "line"))
	}
	if !m.certain(t, c, from) {
		return nil
	}
	if m.Sets {
		c.closed(from)
	}
	return c
}

// certain settles what isn't certain of the values of a column. It reports whether the column has a place.
func (m *maker) certain(t *Table, c *Column, from *survey.Column) bool {
	kept := func(what string) []Choice {
		return []Choice{{what, asProposed}, {"make it a text, which takes all of them", asText}}
	}
	text := false
	if from.Type == "blank" {
		return m.settle(t, c, "blank in every line, so nothing is known of it", Choice{"a text of 255 characters",
			asProposed},
			Choice{"leave it out", leftOut}) != leftOut
	}
	if from.Blank == 0 && len(from.Words) > 0 {
		word := strconv.Quote(from.Words[0].What)
		c.Required = m.settle(t, c, word+" seems to mean blank", Choice{word + " is blank: the column may be NULL",
			blankable},
			Choice{word + " is a value", asValue}) == asValue
	}
	if n := from.Misfits.Count; n > 0 {
		why := fmt.Sprintf("%s of %s %s%s", reason.Count(n), reason.Plural(n+from.Fit, "cell"), from.NotOfType(),
			firstOf(from.Misfits, strconv.Quote))
		text = m.settle(t, c, why, kept(fmt.Sprintf("make it %s; %s will be set aside", c.Type.Kind.article(),
			reason.Plural(n, "line")))...) == asText
	}
	if from.Unclear != "" && !text {
		text = m.settle(t, c, from.Unclear, kept("make it "+c.Type.Kind.article())...) == asText
	}
	if text {
		c.Why = ""
		c.text(from)
	}
	return true
}

// article is the kind with its article.
func (k Kind) article() string {
	if k == Integer {
		return "an integer"
	}
	return "a " + string(k)
}

// typed finds the type.
func (c *Column) typed(from *survey.Column) {
	switch from.Type {
	case "whole number":
		c.whole(from)
	case "decimal number":
		whole := max(from.Digits-from.Scale, 1)
		c.Type = Type{Kind: Decimal, Digits: whole + room(whole) + from.Scale, Scale: from.Scale}
		c.because(fmt.Sprintf("from %s to %s, %s after the point", from.Least, from.Most,
			reason.Plural(int64(from.Scale), "digit")))
	case "date":
		c.Type.Kind = Date
		c.because(fmt.Sprintf("from %s to %s", from.Least, from.Most))
	case "date and time":
		c.Type.Kind = DateTime
		c.because(fmt.Sprintf("from %s to %s", from.Least, from.Most))
	case "time":
		c.Type.Kind = Time
	case "yes/no":
		c.Type.Kind = Boolean
		c.because("yes or no")
	case "blank":
		c.Type = Type{Kind: Text, Length: 255}
	default:
		c.text(from)
	}
}

// room is the digits that a number may grow by.
func room(digits int) int { return max(2, digits/4) }

func (c *Column) whole(from *survey.Column) {
	c.because(fmt.Sprintf("from %s to %s", from.Least, from.Most))
	least, err1 := strconv.ParseInt(from.Least, 10, 64)
	most, err2 := strconv.ParseInt(from.Most, 10, 64)
	const headroom = 10 // so many times greater may values become
	switch {
	case err1 != nil || err2 != nil:
		c.Type = Type{Kind: Decimal, Digits: from.Digits + room(from.Digits)}
	case max(most, -least) > math.MaxInt32/headroom || least < -math.MaxInt32/headroom:
		c.Type.Kind = BigInt
	default:
		c.Type.Kind = Integer
	}
}

// text finds the length of a text: half as long again as the longest, rounded up.
func (c *Column) text(from *survey.Column) {
	const longest = 2000
	c.because(fmt.Sprintf("greatest length %d in line %d", from.Longest, from.LongLine))
	c.Type.Kind = Text
	if from.Longest > longest {
		return
	}
	const shortest = 5
	length := max(from.Longest+(from.Longest+1)/2, shortest)
	for _, step := range []int{1, 5, 10, 50, 100} {
		if length <= 20*step || step == 100 {
			c.Type.Length = (length + step - 1) / step * step
			return
		}
	}
}

// closed gives a column with few texts a CHECK.
func (c *Column) closed(from *survey.Column) {
	const most, fewest = 10, 4 // distinct texts; lines of each, on average
	if c.Type.Kind != Text || !from.Exact || from.Distinct == 0 || from.Distinct > most ||
		from.Fit < fewest*from.Distinct || int64(len(from.Frequent)) < from.Distinct {
		return
	}
	for _, f := range from.Frequent {
		if strings.HasSuffix(f.Value, "…") {
			c.Among = nil
			return
		}
		c.Among = append(c.Among, f.Value)
	}
	slices.Sort(c.Among)
	c.because(fmt.Sprintf("only %s in %s", reason.Plural(from.Distinct, "distinct value"),
		reason.Plural(from.Fit, "line")))
}

// firstOf is the first place of what is odd, with what it says.
func firstOf(o survey.Oddity, says func(string) string) string {
	if len(o.Places) == 0 {
		return ""
	}
	return fmt.Sprintf(": line %d %s", o.Places[0].Line, says(o.Places[0].Says))
}
