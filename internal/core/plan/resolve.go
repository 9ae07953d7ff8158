package plan

import (
	"fmt"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Resolve holds the ladle file against the headers of its inputs, by the inputs' names, and against the database.
// All that doesn't fit comes in one error, a *fault.Fault.
func Resolve(f *ladlefile.File, headers map[string]source.Header, db *schema.Schema) (*Plan, error) {
	r := &resolver{path: f.Path, schema: db, feeds: map[string]*Feed{}, blocks: f.Blocks, inputs: f.Inputs}
	plan := &Plan{File: f, Schema: db}
	if len(f.Blocks) == 0 { // it may be meant for prepare alone
		return nil, fault.At(fault.Wrong, fault.Problem{File: f.Path, Line: 1, Column: 1, What: "there are no tables",
			Do: "add tables: with a block for each table to fill"})
	}
	for _, in := range f.Inputs {
		h := headers[in.Name.Value]
		r.feeds[in.Name.Value] = &Feed{Input: in, Header: h, Recipe: r.recipe(in, h)}
	}
	if r.problems != nil {
		return nil, fault.At(fault.Wrong, r.problems...)
	}
	r.tellSchema()
	var steps []*Step
	for _, b := range f.Blocks {
		if s := r.step(b); s != nil {
			steps = append(steps, s)
		}
	}
	if r.problems == nil {
		r.makers(steps)
		r.judgeGone(steps)
		r.judgeMarks(steps)
		r.names(steps)
		r.headers()
	}
	if r.problems == nil {
		r.totals(plan)
		plan.Steps = r.order(steps)
	}
	if r.problems != nil {
		return nil, fault.At(fault.Wrong, r.problems...)
	}
	for _, in := range f.Inputs {
		if feed := r.feeds[in.Name.Value]; len(feed.Columns) > 0 || len(in.Totals) > 0 {
			feed.Number = len(plan.Feeds)
			plan.Feeds = append(plan.Feeds, feed)
		}
	}
	return plan, nil
}

// Recipe is what an input of the ladle file at path does with files that have the given header. Its error is a
// *fault.Fault.
func Recipe(path string, in *ladlefile.Input, h source.Header) (*clean.Recipe, error) {
	r := &resolver{path: path}
	made := r.recipe(in, h)
	if r.problems != nil {
		return nil, fault.At(fault.Wrong, r.problems...)
	}
	return made, nil
}

func (r *resolver) problem(at ladlefile.Place, what, do string) {
	r.problems = append(r.problems, fault.Problem{File: r.path, Line: at.Line, Column: at.Column, What: what, Do: do})
}

// policyOf is what a block says of its lines.
func policyOf(b *ladlefile.Block) Policy {
	p := Policy{AlreadyThere: b.AlreadyThere, NotThere: b.NotThere, Blank: b.Blank, BlankKey: b.BlankKey,
		Contradictions: b.Contradictions, Similar: b.Similar}
	if b.Gone != nil {
		p.Gone = &Gone{AtMost: b.Gone.AtMost, Where: b.Gone.Where}
	}
	for _, c := range b.Changed {
		p.Excused = append(p.Excused, c.Value)
	}
	return p
}

func (r *resolver) recipe(in *ladlefile.Input, h source.Header) *clean.Recipe {
	var only *clean.Located
	if in.Only.Given() {
		said := in.Only.Said()
		only = &said
	}
	made, problems := clean.NewRecipe(h, in.Rules, in.Made, only)
	r.take(problems)
	return made
}

// take names the ladle file in problems.
func (r *resolver) take(problems []fault.Problem) {
	for _, p := range problems {
		p.File = r.path
		r.problems = append(r.problems, p)
	}
}

type resolver struct {
	path     string
	problems []fault.Problem
	schema   *schema.Schema
	feeds    map[string]*Feed
	blocks   []*ladlefile.Block
	inputs   []*ladlefile.Input
	byOldID  []oldLookup
}

func (r *resolver) step(b *ladlefile.Block) *Step {
	s := &Step{Name: b.Name.Value, Block: b, Feed: r.feed(b.From), Table: r.table(b.Table()), Policy: policyOf(b)}
	if s.Feed == nil || s.Table == nil {
		return nil
	}
	before := len(r.problems)
	for _, c := range b.Columns {
		s.Columns = append(s.Columns, r.existing(s, r.assign(s.Feed, s.Table, c)))
	}
	if len(r.problems) > before {
		return nil
	}
	for _, missing := range s.missing() {
		r.problem(b.Name.Place, fmt.Sprintf("%s.%s is NOT NULL, and nothing fills it", s.Table.Name, missing),
			fmt.Sprintf("add %s: to columns:", missing))
	}
	r.key(s)
	r.inOrderOf(s)
	r.only(s)
	for _, name := range b.Changed {
		if !slices.Contains(s.Names(), name.Value) {
			r.problem(name.Place, fmt.Sprintf("changed_by_database: names %q, which this block doesn't fill",
				name.Value), fault.DidYouMean(name.Value, s.Names()))
		}
	}
	if b.Gone != nil {
		s.Feed.Recipe.CleanAll() // what is left out of the input is not gone from it
		r.marks(s)
	}
	return s
}

// missing lists the required columns that have no source; rows that are only updated have values in them.
func (s *Step) missing() []string {
	if s.Block.NotThere != ladlefile.AddNotThere {
		return nil
	}
	return s.Table.Missing(s.Names())
}

// only resolves the conditions of a step: that of its input, and its own.
func (r *resolver) only(s *Step) {
	condition := value.Type{Kind: value.Bool}
	if only := s.Feed.Recipe.Only(); only >= 0 {
		s.Only = append(s.Only, s.Feed.use(clean.Column{Of: only, Type: condition}))
	}
	if s.Block.Only.Given() {
		at, problems := s.Feed.Recipe.Condition(s.Block.Only.Said())
		r.take(problems)
		s.Only = append(s.Only, s.Feed.use(clean.Column{Of: at, Type: condition}))
	}
}

// use returns the number of a column among those that steps use.
func (f *Feed) use(c clean.Column) int {
	i := slices.Index(f.Columns, c)
	if i < 0 {
		i = len(f.Columns)
		f.Columns = append(f.Columns, c)
	}
	return i
}

func (r *resolver) feed(name ladlefile.Text) *Feed {
	if f := r.feeds[name.Value]; f != nil {
		return f
	}
	known := make([]string, 0, len(r.feeds))
	for n := range r.feeds {
		known = append(known, n)
	}
	slices.Sort(known)
	r.problem(name.Place, fmt.Sprintf("there is no input %q", name.Value), fault.DidYouMean(name.Value, known))
	return nil
}

func (r *resolver) table(name ladlefile.Text) *schema.Table {
	t := r.schema.Table(name.Value)
	if t == nil && slices.Contains(r.schema.Views, name.Value) {
		r.problem(name.Place, fmt.Sprintf("%q is a view, which has no rows of its own", name.Value),
			"name its table")
		return nil
	}
	if t == nil {
		do := fault.DidYouMean(name.Value, r.schema.Names())
		if do == "" {
			do = "the database has no tables"
		}
		r.problem(name.Place, fmt.Sprintf("%s has no table %q", r.schema.Database, name.Value), do)
		return nil
	}
	if t.Odd != "" {
		r.problem(name.Place, fmt.Sprintf("table %s can't be used: %s", t.Name, t.Odd), "")
		return nil
	}
	return t
}
