package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

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
		p.Removal = &Removal{AtMost: b.Gone.AtMost, Where: b.Gone.Where}
	}
	for _, c := range b.Changed {
		p.Excused = append(p.Excused, c.Value)
	}
	return p
}

// names finds the steps whose keys are names: a lookup of the plan finds their rows by them, or the ladle file says what
// becomes of names that look like others.
func (r *resolver) names(steps []*Step) {
	for _, s := range steps {
		said := s.Policy.Similar.Given()
		isName := len(s.Key) == 1 && s.Columns[s.Key[0]].Column.Type.Kind == value.Text &&
			s.Columns[s.Key[0]].Source.Lookup == nil && s.Columns[s.Key[0]].Source.Constant == nil
		switch {
		case said && !isName:
			r.problem(s.Block.SimilarAt, "similar_names: has no effect here: the key is not one column of texts",
				"delete similar_names:")
		case said && s.Policy.NotThere != ladlefile.AddNotThere:
			r.problem(s.Block.SimilarAt, "similar_names: has no effect here: this block adds no rows",
				"delete similar_names:")
		}
		s.Policy.HoldsNames = isName && s.Policy.NotThere == ladlefile.AddNotThere &&
			(said || lookedUp(steps, s.Table, s.KeyNames()[0]))
	}
}

// lookedUp reports whether a lookup of the steps finds rows of t by a column.
func lookedUp(steps []*Step, t *schema.Table, column string) (found bool) {
	for _, s := range steps {
		s.Lookups(func(l *Lookup) { found = found || l.Table == t && slices.Equal(l.Names(), []string{column}) })
	}
	return found
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
	r.only(s)
	for _, name := range b.Changed {
		if !slices.Contains(s.Names(), name.Value) {
			r.problem(name.Place, fmt.Sprintf("changed_by_database: names %q, which this block doesn't fill",
				name.Value), fault.DidYouMean(name.Value, s.Names()))
		}
	}
	if b.Gone != nil {
		s.Feed.Recipe.CleanAll() // what is left out of the input is not gone from it
	}
	return s
}

// missing lists the columns that a row must have a value in and that nothing gives one; rows that are only updated have
// them.
func (s *Step) missing() []string {
	if s.Block.NotThere != ladlefile.AddNotThere {
		return nil
	}
	return s.Table.Missing(s.Names())
}

// existing makes a lookup of a foreign key that the file fills with values of the parent's own key, so that a value
// that
// isn't there sets its line aside, on all databases and before anything is written. Where tables refer to each other,
// the database, or the check of relations, sees to it.
func (r *resolver) existing(s *Step, a Assignment) Assignment {
	if a.Column == nil || a.Source.Lookup != nil || a.Source.Constant != nil || len(r.problems) > 0 {
		return a
	}
	relation := s.Table.Relation(a.Column.Name)
	if relation == nil || relation.ParentTable == nil || relation.ParentTable.Odd != "" ||
		refers(relation.ParentTable, s.Table, map[*schema.Table]bool{}) {
		return a
	}
	yields := relation.ParentTable.Column(relation.ParentColumns[0])
	if yields == nil || yields.Odd != "" || yields.Type.Kind != a.Column.Type.Kind {
		return a
	}
	found := Assignment{Column: yields, Source: a.Source}
	a.Source = Source{Lookup: &Lookup{Table: relation.ParentTable, By: []Assignment{found}, Yields: yields,
		NotFound: ladlefile.SetAsideNotFound, Several: ladlefile.SetAsideSeveral, Implied: true}}
	return a
}

// refers reports whether rows of a table refer to those of another, perhaps through others.
func refers(from, to *schema.Table, seen map[*schema.Table]bool) bool {
	if from == to {
		return true
	}
	seen[from] = true
	return slices.ContainsFunc(from.Declared(), func(r schema.Relation) bool {
		return !seen[r.ParentTable] && refers(r.ParentTable, to, seen)
	})
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

// fed resolves one column of a block or of a lookup. A problem leaves parts of it empty.
func (r *resolver) assign(feed *Feed, t *schema.Table, c ladlefile.Column) Assignment {
	column := t.Column(c.Name.Value)
	switch {
	case column == nil:
		r.problem(c.Name.Place, fmt.Sprintf("table %s has no column %q", t.Name, c.Name.Value),
			fault.DidYouMean(c.Name.Value, t.Names()))
		return Assignment{}
	case column.Generated:
		r.problem(c.Name.Place, fmt.Sprintf("%s.%s is computed by the database", t.Name, column.Name), "delete it here")
		return Assignment{}
	case column.Odd != "":
		r.problem(c.Name.Place, fmt.Sprintf("%s.%s can't be used: %s", t.Name, column.Name, column.Odd),
			"correct those rows first, or declare the column as text")
		return Assignment{}
	}
	a := Assignment{Column: column, OnUpdate: c.Source.OnUpdate, StoreAs: c.Source.StoreAs}
	switch s := c.Source; {
	case s.Lookup != nil:
		a.Source.Lookup = r.lookup(feed, t, column, s.Lookup)
	case s.Constant.Given():
		a.Source.Constant = r.constant(column, s.Constant)
	default:
		a.Source = r.cell(feed, column.Type, s.From)
	}
	return a
}

func (r *resolver) constant(c *schema.Column, t ladlefile.Text) *value.Column {
	column := value.NewColumn(c.Type)
	if err := value.Parse(&column, c.Type, []byte(t.Value)); err != nil {
		r.problem(t.Place, fmt.Sprintf("the constant %q %s", t.Value, err), "")
	}
	return &column
}

// cell uses a column of the input as values of t.
func (r *resolver) cell(feed *Feed, t value.Type, header ladlefile.Text) Source {
	fields := feed.Recipe.Find(header.Value)
	switch {
	case len(fields) == 0:
		do := fault.DidYouMean(header.Value, feed.Recipe.Names())
		if feed.Header.Line == 0 && !feed.Input.Asked.Header.None {
			do = "no header line was found in the file; set header: to its number, or name columns by their " +
				"position: column 1"
		}
		r.problem(header.Place, fmt.Sprintf("input %s (%s) has no column %q", feed.Input.Name.Value,
			feed.Input.File.Value, header.Value), do)
		return Source{}
	case len(fields) > 1:
		r.problem(header.Place, fmt.Sprintf("input %s (%s) has several columns %q: columns %s", feed.Input.Name.Value,
			feed.Input.File.Value, header.Value, positions(fields)),
			fmt.Sprintf("rename one of them, or write: column %d", fields[0]+1))
		return Source{}
	}
	feed.Named = feed.Named || feed.Recipe.Names()[fields[0]] != "" && !source.ByPosition(header.Value)
	return Source{Cell: feed.use(clean.Column{Of: fields[0], Type: t}), Header: feed.Recipe.Name(fields[0])}
}

// headers refuses inputs whose first line may be lost: nothing but a guess says that it is a header, and the ladle file
// uses none of its names.
func (r *resolver) headers() {
	for _, in := range r.inputs {
		f := r.feeds[in.Name.Value]
		if len(f.Columns) == 0 || f.Named || f.Header.Line == 0 || in.Asked.Header.Given() {
			continue
		}
		r.problem(in.Name.Place, fmt.Sprintf("line %d of input %s (%s) is taken for its header, which is a guess: the ladle "+
			"file uses its columns by their position", f.Header.Line, in.Name.Value, in.File.Value),
			fmt.Sprintf("set header: %d if it is one, or header: none if it is a line like the others", f.Header.Line))
	}
}

// positions lists columns by their position, from 1.
func positions(fields []int) string {
	words := make([]string, len(fields))
	for i, f := range fields {
		words[i] = strconv.Itoa(f + 1)
	}
	return strings.Join(words, " and ")
}

// noUpdate refuses what a column says of rows that are there, where that has no effect.
func (r *resolver) noUpdate(c ladlefile.Column, why string) {
	if c.Source.OnUpdate != "" {
		r.problem(c.Source.Place, fmt.Sprintf("on_update: has no effect on %s: %s", c.Name.Value, why),
			"delete on_update:")
	}
}

func (r *resolver) lookup(feed *Feed, t *schema.Table, column *schema.Column, f *ladlefile.Lookup) *Lookup {
	parent := r.foundIn(f)
	if parent == nil {
		return nil
	}
	before := len(r.problems)
	l := &Lookup{Table: parent, NotFound: f.NotFound, Several: f.Several, Similar: f.Similar}
	for _, by := range f.By {
		r.noUpdate(by, "a lookup changes no row")
		l.By = append(l.By, r.assign(feed, parent, by))
	}
	if f.There.Given() {
		l.By = []Assignment{{Column: &schema.Column{Name: f.There.Value, Type: oldID},
			Source: r.cell(feed, oldID, f.Here)}}
		r.byOldID = append(r.byOldID, oldLookup{l, f})
	}
	if len(r.problems) > before {
		return nil
	}
	l.Yields = r.yields(t, column, parent, f)
	if l.Yields != nil {
		r.judgeLookup(t, column, l, f)
	}
	return l
}

// yields is the column of parent that column refers to: by a declared relation, else the primary key.
func (r *resolver) yields(t *schema.Table, column *schema.Column, parent *schema.Table,
	f *ladlefile.Lookup) *schema.Column {
	if relation := t.Relation(column.Name); relation != nil && relation.ParentTable != nil {
		if relation.Parent != parent.Name {
			r.problem(f.Table.Place, fmt.Sprintf("%s.%s refers to %s, not to %s", t.Name, column.Name, relation.Parent,
				parent.Name),
				fmt.Sprintf("write lookup: %s.COLUMN", relation.Parent))
			return nil
		}
		return parent.Column(relation.ParentColumns[0])
	}
	for _, k := range parent.Keys {
		if k.Primary && len(k.Columns) == 1 {
			return parent.Column(k.Columns[0])
		}
	}
	r.problem(f.Place, fmt.Sprintf("%s.%s has no declared relation, and %s has no primary key of one column", t.Name,
		column.Name,
		parent.Name), "fill the column directly, with from:")
	return nil
}

// judgeLookup refuses what a lookup can't do with the rows that it doesn't find.
func (r *resolver) judgeLookup(t *schema.Table, column *schema.Column, l *Lookup, f *ladlefile.Lookup) {
	if (l.NotFound == ladlefile.BlankNotFound || l.Several == ladlefile.BlankSeveral) && column.Required {
		r.problem(f.Place, fmt.Sprintf("leave_blank is not allowed here: %s.%s is NOT NULL", t.Name, column.Name),
			"write set_aside")
	}
	if l.Yields.Type.Kind != column.Type.Kind {
		r.problem(f.Place, fmt.Sprintf("%s.%s is a %s, but %s.%s, which it refers to, is a %s", t.Name,
			column.Name,
			column.Type.Kind, l.Table.Name, l.Yields.Name, l.Yields.Type.Kind), "fill the column directly, with from:")
	}
	if l.NotFound != ladlefile.AddNotFound {
		return
	}
	if f.There.Given() {
		r.problem(f.Place, "not_found: add is not possible where a row is looked up by its old id",
			"write set_aside or leave_blank")
	} else if why := l.MayAdd(); why != "" {
		r.problem(f.Place, "not_found: add is not possible: "+why, "give the lookup a block of its own")
	}
}

// MayAdd returns why a lookup can't add rows; "" when it can.
func (l *Lookup) MayAdd() string {
	switch missing := l.Table.Missing(l.Names()); {
	case l.Makers != nil:
		return "rows are looked up by their old ids"
	case !l.Yields.Identity:
		return fmt.Sprintf("%s.%s is not auto-numbered", l.Table.Name, l.Yields.Name)
	case slices.ContainsFunc(l.By, func(by Assignment) bool { return by.Source.Lookup != nil }):
		return "it contains another lookup"
	case missing != nil:
		return fmt.Sprintf("a new row of %s also needs %s", l.Table.Name, strings.Join(missing, ", "))
	}
	return ""
}

// key resolves the key that the block names, or finds the one unique constraint whose columns are all fed.
func (r *resolver) key(s *Step) {
	b := s.Block
	if b.Keyless {
		for _, c := range b.Columns {
			r.noUpdate(c, "without a key, no row is recognised")
		}
		if b.AlreadyThere != ladlefile.KeepThere || b.NotThere != ladlefile.AddNotThere ||
			b.Contradictions != ladlefile.SetAsideContradictions || b.BlankKey != ladlefile.SetAsideBlankKey ||
			b.Gone != nil {
			r.problem(b.KeyAt, "without a key, no row is recognised as existing, repeated or gone",
				"delete already_there:, not_there:, contradictions:, blank_key: and gone_from_file: from this block")
		}
		return
	}
	names := make([]string, len(b.Key))
	for i, k := range b.Key {
		names[i] = k.Value
	}
	if len(b.Key) == 0 {
		names = r.defaultKey(s)
	}
	fed := s.Names()
	for i, name := range names {
		at := slices.Index(fed, name)
		if at < 0 {
			r.problem(b.Key[i].Place, fmt.Sprintf("key: names %q, which this block doesn't fill", name),
				fault.DidYouMean(name, fed))
			continue
		}
		s.Key = append(s.Key, at)
	}
	for _, c := range b.Columns {
		if slices.Contains(s.KeyNames(), c.Name.Value) {
			r.noUpdate(c, "it is part of the key")
		}
	}
	for _, t := range s.Targets() {
		s.Policy.Writes = s.Policy.Writes || s.writes(t)
	}
	r.judgeUpdate(s)
}

// judgeUpdate refuses what a step that updates rows can't do.
func (r *resolver) judgeUpdate(s *Step) {
	b := s.Block
	if !s.Policy.Writes && b.AlreadyThere != ladlefile.UpdateThere && b.AlreadyThere != ladlefile.FillBlanksThere {
		if b.Blank == ladlefile.ClearBlank {
			r.problem(b.Name.Place, "blank: clear has no effect without updates",
				"add already_there: update, or delete blank:")
		}
		return
	}
	if s.Table.Locator == "" && (!s.Table.UniqueOn(s.KeyNames()) || b.BlankKey == ladlefile.MatchBlankKey) {
		r.problem(b.Name.Place, fmt.Sprintf("rows of %s can't be updated by this key: the table has no auto-numbered "+
			"id, and no unique key covers it",
			s.Table.Name), "name the columns of a unique key in key:")
	}
	if len(s.Targets()) == 0 {
		r.problem(b.Name.Place, fmt.Sprintf("block %s has nothing to update: all its columns are part of the key",
			s.Name),
			"fill more columns, or write already_there: keep")
	}
}

func (r *resolver) defaultKey(s *Step) []string {
	fed := s.Names()
	var found [][]string
	for _, k := range s.Table.Keys {
		isFed := func(name string) bool { return slices.Contains(fed, name) }
		if !slices.ContainsFunc(k.Columns, func(n string) bool { return !isFed(n) }) {
			found = append(found, k.Columns)
		}
	}
	if len(found) == 1 {
		return found[0]
	}
	what := fmt.Sprintf("block %s needs a key: no unique key of %s has all its columns filled", s.Name,
		s.Table.Name)
	if len(found) > 1 {
		all := make([]string, len(found))
		for i, f := range found {
			all[i] = "[" + strings.Join(f, ", ") + "]"
		}
		what = fmt.Sprintf("block %s needs a key: %s has several unique keys, %s", s.Name, s.Table.Name,
			strings.Join(all, " and "))
	}
	r.problem(s.Block.Name.Place, what, "add key: with the columns by which a row is recognised, or key: none to add "+
		"every row")
	return nil
}
