package ladlefile

import (
	"fmt"
	"strconv"

	"github.com/goccy/go-yaml/ast"
)

// Claim is what must be true of the database once the load is done. Exactly one of NoRows, Equal and HowMany is given.
type Claim struct {
	Says        Text
	NoRows      Text
	Equal       []Side // two
	HowMany     Text
	Least, Most int64 // rows of HowMany; Most is below zero for any number
}

// Side is one side of an equation: a query, or the total of an input.
type Side struct {
	Place
	Query Text
	Input Text
	Sum   Text // of this column; the number of lines where it isn't given
}

// ControlTotal is a total that the sender of an input states.
type ControlTotal struct {
	Of  Text // a column, or LineCount
	Sum Text
}

// LineCount stands for the column of a total that counts lines.
const LineCount = "line_count"

func (d *decoder) checks(f *File, n ast.Node) {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		d.problem(placeOf(n), "checks: must be a list", "start each check with a dash: - claim: ...")
		return
	}
	for _, n := range list.Values {
		f.Claims = append(f.Claims, d.claim(n))
	}
}

func (d *decoder) claim(n ast.Node) *Claim {
	c, asked, bounded := &Claim{Most: -1}, 0, false
	at := placeOf(n)
	query := func(t *Text, key string) func(ast.Node) {
		return func(n ast.Node) { asked++; *t = d.scalar(n, key) }
	}
	bound := func(key string, to ...*int64) func(ast.Node) {
		return func(n ast.Node) {
			bounded = true
			t := d.scalar(n, key)
			number, err := strconv.ParseInt(t.Value, 10, 64)
			if err != nil || number < 0 {
				d.problem(t.Place, fmt.Sprintf("%s can't be %q", key, t.Value), "write a number of rows")
			}
			for _, b := range to {
				*b = number
			}
		}
	}
	d.fields(n, "a claim", map[string]func(ast.Node){
		"claim":    d.into(&c.Says, "claim:"),
		"no_rows":  query(&c.NoRows, "no_rows:"),
		"how_many": query(&c.HowMany, "how_many:"),
		"equal":    func(n ast.Node) { asked++; d.equal(c, n) },
		"at_least": bound("at_least:", &c.Least),
		"at_most":  bound("at_most:", &c.Most),
		"exactly":  bound("exactly:", &c.Least, &c.Most),
	})
	switch {
	case !c.Says.Given():
		d.problem(at, "a check has no claim:", "add claim: with what must be true, in words")
	case asked != 1:
		d.problem(c.Says.Place, "a check needs exactly one of no_rows:, equal: and how_many:", "")
	case c.HowMany.Given() != bounded:
		d.problem(c.Says.Place, "how_many: needs at_least:, at_most: or exactly:, and these need how_many:",
			"write for example: how_many: select id from pilot, and below it at_least: 1")
	case c.Most >= 0 && c.Least > c.Most:
		d.problem(c.Says.Place, "at_least: is more than at_most:", "")
	}
	return c
}

func (d *decoder) equal(c *Claim, n ast.Node) {
	list, ok := n.(*ast.SequenceNode)
	if !ok || len(list.Values) != 2 {
		d.problem(placeOf(n), "equal: needs a list of two", "write two queries, or a query and {input: NAME, sum: "+
			"COLUMN}")
		return
	}
	for _, n := range list.Values {
		s := Side{Place: placeOf(n)}
		switch n.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			d.fields(n, "a total", map[string]func(ast.Node){
				"input": d.into(&s.Input, "input:"),
				"sum":   d.into(&s.Sum, "sum:"),
			})
			if !s.Input.Given() {
				d.problem(s.Place, "a total has no input", "add input: with its name")
			}
		default:
			s.Query = d.scalar(n, "a query")
		}
		c.Equal = append(c.Equal, s)
	}
}

func (d *decoder) totals(in *Input, n ast.Node) {
	for _, e := range d.mapping(n, "control_totals:") {
		if e.key.Value == "rows" {
			d.problem(e.key.Place, "control_totals: has no key rows: any more", "write line_count:")
			continue
		}
		in.Totals = append(in.Totals, ControlTotal{Of: e.key, Sum: d.scalar(e.value, "a total")})
	}
}
