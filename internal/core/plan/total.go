package plan

import (
	"fmt"

	"ladle/internal/core/clean"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/value"
)

// Total is a sum over the rows of an input that is needed once it is read.
type Total struct {
	Feed   *Feed
	Of     string         // the header of the column, or ladlefile.LineCount
	Column int            // which of the feed's columns, -1 for the number of lines
	Only   int            // which of the feed's columns is the condition that must hold; -1 for all lines
	Stated ladlefile.Text // as it is written; not given for that of a claim
	Want   string         // as a plain number
}

// totals resolves what the senders of inputs state, and what claims need.
func (r *resolver) totals(plan *Plan) {
	for _, in := range r.inputs {
		feed := r.feeds[in.Name.Value]
		for _, s := range in.Totals {
			if t := r.total(feed, s.Of); t != nil {
				t.Stated = s.Sum
				t.Want = r.want(t, s.Sum)
				feed.Recipe.CleanAll() // the sender counts what the input leaves out too
				plan.Totals = append(plan.Totals, t)
			}
		}
	}
	for _, c := range plan.File.Claims {
		claim := Claim{Claim: c}
		for i, side := range c.Equal {
			if !side.Query.Given() {
				claim.Totals[i] = r.side(plan, side)
			}
		}
		plan.Claims = append(plan.Claims, claim)
	}
}

// side resolves the total that is a side of an equation, and returns which of the plan's totals it is.
func (r *resolver) side(plan *Plan, side ladlefile.Side) int {
	feed := r.feed(side.Input)
	if feed == nil {
		return -1
	}
	of := side.Sum
	if !of.Given() {
		of = ladlefile.Text{Value: ladlefile.LineCount, Place: side.Input.Place}
	}
	t := r.total(feed, of)
	if t == nil {
		return -1
	}
	if only := feed.Recipe.Only(); only >= 0 {
		t.Only = feed.use(clean.Column{Of: only, Type: value.Type{Kind: value.Bool}})
	}
	plan.Totals = append(plan.Totals, t)
	return len(plan.Totals) - 1
}

// total finds the column of a total. It takes the values that a step uses, where these are numbers.
func (r *resolver) total(feed *Feed, of ladlefile.Text) *Total {
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
	case of.Value != ladlefile.LineCount:
		r.cell(feed, value.Type{Kind: value.Decimal}, of) // says what is wrong
		return nil
	}
	return t
}

// want reads a stated total as the column writes its numbers.
func (r *resolver) want(t *Total, said ladlefile.Text) string {
	of := -1
	if t.Column >= 0 {
		of = t.Feed.Columns[t.Column].Of
	}
	number, err := t.Feed.Recipe.ReadNumber(of, said.Value)
	if err != nil {
		r.problem(said.Place, fmt.Sprintf("the total %q %s", said.Value, err),
			"write it like the numbers of the column, or plainly: 1234.56")
	}
	return number
}
