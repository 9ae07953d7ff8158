package ladlefile

import (
	"fmt"
	"strconv"

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/clean"
	"ladle/internal/core/value"
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
	Sum   Text // of this column; the number of rows where it isn't given
	Total int  // once resolved: which of the plan's totals
}

// Stated is what the sender of an input states of it.
type Stated struct {
	Of  Text // a column, or rows
	Sum Text
}

// rowsTotal stands for the column of a total that counts rows.
const rowsTotal = "rows"

func (d *decoder) checks(f *File, n ast.Node) {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		d.problem(placeOf(n), "checks: must be a list", "start each claim with a dash: - claim: ...")
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
		"least":    bound("least:", &c.Least),
		"most":     bound("most:", &c.Most),
		"exactly":  bound("exactly:", &c.Least, &c.Most),
	})
	switch {
	case !c.Says.Given():
		d.problem(at, "a claim has no words", "add claim: with what must be true, for people")
	case asked != 1:
		d.problem(c.Says.Place, "a claim needs exactly one of no_rows:, equal: and how_many:", "")
	case c.HowMany.Given() != bounded:
		d.problem(c.Says.Place, "how_many: goes with least:, most: or exactly:, and these with it", "write for example: how_many: select id from pilot, and below it least: 1")
	case c.Most >= 0 && c.Least > c.Most:
		d.problem(c.Says.Place, "least: is more than most:", "")
	}
	return c
}

func (d *decoder) equal(c *Claim, n ast.Node) {
	list, ok := n.(*ast.SequenceNode)
	if !ok || len(list.Values) != 2 {
		d.problem(placeOf(n), "equal: needs a list of two", "write two queries, or a query and {input: NAME, sum: COLUMN}")
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

func (d *decoder) stated(in *Input, n ast.Node) {
	for _, e := range d.mapping(n, "stated_totals:") {
		in.Stated = append(in.Stated, Stated{Of: e.key, Sum: d.scalar(e.value, "a total")})
	}
}

// Total is a sum over the rows of an input that is needed once it is read.
type Total struct {
	Feed   *Feed
	Of     string // the header of the column, or rows
	Column int    // which of the feed's columns, -1 for the number of rows
	Only   int    // which of the feed's columns is the condition that rows must hold; -1 for all rows
	Stated Text   // as it is written; not given for that of a claim
	Want   string // as a plain number
}

// totals resolves what the senders of inputs state, and what claims need.
func (r *resolver) totals(plan *Plan) {
	for _, in := range r.inputs {
		feed := r.feeds[in.Name.Value]
		for _, s := range in.Stated {
			if t := r.total(feed, s.Of); t != nil {
				t.Stated = s.Sum
				t.Want = r.want(t, s.Sum)
				feed.Recipe.CleanAll() // the sender counts what the input leaves out too
				plan.Totals = append(plan.Totals, t)
			}
		}
	}
	for _, c := range plan.File.Claims {
		for i := range c.Equal {
			side := &c.Equal[i]
			if side.Query.Given() {
				continue
			}
			if feed := r.feed(side.Input); feed != nil {
				of := side.Sum
				if !of.Given() {
					of = Text{rowsTotal, side.Input.Place}
				}
				if t := r.total(feed, of); t != nil {
					if only := feed.Recipe.Only(); only >= 0 {
						t.Only = feed.use(clean.Column{Of: only, Type: value.Type{Kind: value.Bool}})
					}
					side.Total = len(plan.Totals)
					plan.Totals = append(plan.Totals, t)
				}
			}
		}
	}
}

// total finds the column of a total. It takes the values that a step uses, where these are numbers.
func (r *resolver) total(feed *Feed, of Text) *Total {
	t := &Total{Feed: feed, Of: of.Value, Column: -1, Only: -1}
	fields := feed.Recipe.Find(of.Value)
	switch {
	case len(fields) == 1:
		t.Of = feed.Recipe.Name(fields[0])
		for i, c := range feed.Columns {
			if c.Of == fields[0] && c.Type.Kind.Numeric() {
				t.Column = i
				return t
			}
		}
		t.Column = feed.use(clean.Column{Of: fields[0], Type: value.Type{Kind: value.Decimal}})
	case of.Value != rowsTotal:
		r.cell(feed, value.Type{Kind: value.Decimal}, of) // says what is wrong
		return nil
	}
	return t
}

// want reads a stated total as the column writes its numbers.
func (r *resolver) want(t *Total, said Text) string {
	of := -1
	if t.Column >= 0 {
		of = t.Feed.Columns[t.Column].Of
	}
	number, err := t.Feed.Recipe.ReadNumber(of, said.Value)
	if err != nil {
		r.problem(said.Place, fmt.Sprintf("the total %q %s", said.Value, err), "write it as the column writes its numbers, or plainly: 1234.56")
	}
	return number
}
