package ladlefile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Resolve holds the ladle file against the headers of its inputs, by the inputs' names, and against the database.
// All that doesn't fit comes in one error, a *fault.Fault.
func Resolve(f *File, headers map[string]source.Header, db *schema.Schema) (*Plan, error) {
	r := &resolver{decoder: decoder{path: f.Path}, schema: db, feeds: map[string]*Feed{}, blocks: f.Blocks, inputs: f.Inputs}
	plan := &Plan{File: f, Schema: db}
	for _, in := range f.Inputs {
		h := headers[in.Name.Value]
		r.feeds[in.Name.Value] = &Feed{Input: in, Header: h, Recipe: r.recipe(in, h)}
	}
	if r.problems != nil {
		return nil, fault.At(fault.Wrong, r.problems...)
	}
	var steps []*Step
	for _, b := range f.Blocks {
		if s := r.step(b); s != nil {
			steps = append(steps, s)
		}
	}
	if r.problems == nil {
		r.makers(steps)
		r.judgeGone(steps)
	}
	if r.problems == nil {
		r.totals(plan)
		plan.Steps = r.order(steps)
	}
	if r.problems != nil {
		return nil, fault.At(fault.Wrong, r.problems...)
	}
	for _, in := range f.Inputs {
		if feed := r.feeds[in.Name.Value]; len(feed.Columns) > 0 || len(in.Stated) > 0 {
			plan.Feeds = append(plan.Feeds, feed)
		}
	}
	return plan, nil
}

// Recipe is what the input does with files that have the given header. path is that of the ladle file.
func (in *Input) Recipe(path string, h source.Header) (*clean.Recipe, error) {
	r := &resolver{decoder: decoder{path: path}}
	made := r.recipe(in, h)
	if r.problems != nil {
		return nil, fault.At(fault.Wrong, r.problems...)
	}
	return made, nil
}

func (r *resolver) recipe(in *Input, h source.Header) *clean.Recipe {
	var only *clean.Said
	if in.Only.Given() {
		said := in.Only.said()
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
	decoder
	schema  *schema.Schema
	feeds   map[string]*Feed
	blocks  []*Block
	inputs  []*Input
	byOldID []oldFind
}

func (r *resolver) step(b *Block) *Step {
	s := &Step{Name: b.Name.Value, Block: b, Feed: r.feed(b.From), Table: r.table(b.Table())}
	if s.Feed == nil || s.Table == nil {
		return nil
	}
	before := len(r.problems)
	for _, c := range b.Columns {
		s.Columns = append(s.Columns, r.fed(s.Feed, s.Table, c))
	}
	if len(r.problems) > before {
		return nil
	}
	for _, missing := range s.missing() {
		r.problem(b.Name.Place, fmt.Sprintf("%s.%s must have a value, and nothing gives it one", s.Table.Name, missing),
			fmt.Sprintf("add %s: to columns:", missing))
	}
	r.key(s)
	r.only(s)
	for _, name := range b.Changed {
		if !slices.Contains(s.Names(), name.Value) {
			r.problem(name.Place, fmt.Sprintf("changed_by_database: names %q, which this block doesn't feed", name.Value), fault.DidYouMean(name.Value, s.Names()))
		}
	}
	if b.Gone != nil {
		s.Feed.Recipe.CleanAll() // what is left out of the input is not gone from it
	}
	return s
}

// missing lists the columns that a row must have a value in and that nothing gives one; rows that are only updated have them.
func (s *Step) missing() []string {
	if s.Block.NotThere != AddNotThere {
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
		at, problems := s.Feed.Recipe.Condition(s.Block.Only.said())
		r.take(problems)
		s.Only = append(s.Only, s.Feed.use(clean.Column{Of: at, Type: condition}))
	}
}

// use gives the number of a column among those that steps use.
func (f *Feed) use(c clean.Column) int {
	i := slices.Index(f.Columns, c)
	if i < 0 {
		i = len(f.Columns)
		f.Columns = append(f.Columns, c)
	}
	return i
}

func (r *resolver) feed(name Text) *Feed {
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

func (r *resolver) table(name Text) *schema.Table {
	t := r.schema.Table(name.Value)
	if t == nil && slices.Contains(r.schema.Views, name.Value) {
		r.problem(name.Place, fmt.Sprintf("%q is a view, which holds no rows of its own", name.Value), "name the table behind it")
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

// fed resolves one column of a block or of a find. A problem leaves parts of it empty.
func (r *resolver) fed(feed *Feed, t *schema.Table, c Column) Fed {
	column := t.Column(c.Name.Value)
	switch {
	case column == nil:
		r.problem(c.Name.Place, fmt.Sprintf("table %s has no column %q", t.Name, c.Name.Value), fault.DidYouMean(c.Name.Value, t.Names()))
		return Fed{}
	case column.Generated:
		r.problem(c.Name.Place, fmt.Sprintf("%s.%s is computed by the database", t.Name, column.Name), "take it out")
		return Fed{}
	case column.Odd != "":
		r.problem(c.Name.Place, fmt.Sprintf("%s.%s can't be used: %s", t.Name, column.Name, column.Odd),
			"correct those rows first, or declare the column as text")
		return Fed{}
	}
	fed := Fed{Column: column}
	switch s := c.Source; {
	case s.Find != nil:
		fed.Value.Find = r.find(feed, t, column, s.Find)
	case s.Constant.Given():
		fed.Value.Constant = r.constant(column, s.Constant)
	default:
		fed.Value = r.cell(feed, column.Type, s.From)
	}
	return fed
}

func (r *resolver) constant(c *schema.Column, t Text) *value.Column {
	column := value.NewColumn(c.Type)
	if err := value.Parse(&column, c.Type, []byte(t.Value)); err != nil {
		r.problem(t.Place, fmt.Sprintf("the constant %q %s", t.Value, err), "")
	}
	return &column
}

// cell uses a column of the input as values of t.
func (r *resolver) cell(feed *Feed, t value.Type, header Text) Value {
	fields := feed.Recipe.Find(header.Value)
	switch {
	case len(fields) == 0:
		do := fault.DidYouMean(header.Value, feed.Recipe.Names())
		if feed.Header.Line == 0 && !feed.Input.Asked.Header.None {
			do = "no line with names was found in the file; say header: with its number, or name columns by their position: column 1"
		}
		r.problem(header.Place, fmt.Sprintf("input %s (%s) has no column %q", feed.Input.Name.Value, feed.Input.File.Value, header.Value), do)
		return Value{}
	case len(fields) > 1:
		r.problem(header.Place, fmt.Sprintf("input %s (%s) has several columns %q: columns %s", feed.Input.Name.Value,
			feed.Input.File.Value, header.Value, positions(fields)), fmt.Sprintf("rename one of them, or write: column %d", fields[0]+1))
		return Value{}
	}
	return Value{Cell: feed.use(clean.Column{Of: fields[0], Type: t}), Header: feed.Recipe.Name(fields[0])}
}

// positions lists columns by their position, from 1.
func positions(fields []int) string {
	words := make([]string, len(fields))
	for i, f := range fields {
		words[i] = strconv.Itoa(f + 1)
	}
	return strings.Join(words, " and ")
}

func (r *resolver) find(feed *Feed, t *schema.Table, column *schema.Column, f *Find) *Lookup {
	parent := r.foundIn(f)
	if parent == nil {
		return nil
	}
	before := len(r.problems)
	l := &Lookup{Table: parent, NotFound: f.NotFound, Several: f.Several, Similar: f.Similar}
	for _, by := range f.By {
		l.By = append(l.By, r.fed(feed, parent, by))
	}
	if f.Old.Given() {
		l.By = []Fed{{Column: &schema.Column{Name: f.Old.Value, Type: oldID}, Value: r.cell(feed, oldID, f.Is)}}
		r.byOldID = append(r.byOldID, oldFind{l, f})
	}
	if len(r.problems) > before {
		return nil
	}
	l.Yields = r.yields(t, column, parent, f)
	if l.Yields != nil {
		r.judgeFind(t, column, l, f)
	}
	return l
}

// yields is the column of parent that column points at: by a declared relation, else the primary key.
func (r *resolver) yields(t *schema.Table, column *schema.Column, parent *schema.Table, f *Find) *schema.Column {
	if relation := t.Relation(column.Name); relation != nil {
		if relation.Parent != parent.Name {
			r.problem(f.Table.Place, fmt.Sprintf("%s.%s points at %s, not at %s", t.Name, column.Name, relation.Parent, parent.Name),
				fmt.Sprintf("write find: %s.COLUMN", relation.Parent))
			return nil
		}
		return parent.Column(relation.ParentColumns[0])
	}
	for _, k := range parent.Keys {
		if k.Primary && len(k.Columns) == 1 {
			return parent.Column(k.Columns[0])
		}
	}
	r.problem(f.Place, fmt.Sprintf("%s.%s has no declared relation, and %s has no primary key of one column", t.Name, column.Name,
		parent.Name), "feed the column directly, with from:")
	return nil
}

// judgeFind refuses what a find can't do with the rows that it doesn't find.
func (r *resolver) judgeFind(t *schema.Table, column *schema.Column, l *Lookup, f *Find) {
	if (l.NotFound == BlankNotFound || l.Several == BlankSeveral) && column.Required {
		r.problem(f.Place, fmt.Sprintf("leave_blank can't be: %s.%s must have a value", t.Name, column.Name), "write refuse")
	}
	if l.Yields.Type.Kind != column.Type.Kind {
		r.problem(f.Place, fmt.Sprintf("%s.%s is a %s, but %s.%s that it should point at is a %s", t.Name, column.Name,
			column.Type.Kind, l.Table.Name, l.Yields.Name, l.Yields.Type.Kind), "feed the column directly, with from:")
	}
	if l.NotFound != AddNotFound {
		return
	}
	if f.Old.Given() {
		r.problem(f.Place, "not_found: add can't be where a row is found by its old id", "write refuse or leave_blank")
		return
	}
	if !l.Yields.Identity {
		r.problem(f.Place, fmt.Sprintf("not_found: add can't be: %s.%s is not counted by the database", l.Table.Name, l.Yields.Name),
			"give the lookup a block of its own")
	}
	for _, by := range l.By {
		if by.Value.Find != nil {
			r.problem(f.Place, "not_found: add can't be where a find stands inside another", "give the table a block of its own")
		}
	}
	for _, missing := range l.Table.Missing(l.Names()) {
		r.problem(f.Place, fmt.Sprintf("not_found: add can't be: a new row of %s also needs %s", l.Table.Name, missing),
			"give the lookup a block of its own")
	}
}

// key resolves the key that the block names, or finds the one unique constraint whose columns are all fed.
func (r *resolver) key(s *Step) {
	b := s.Block
	if b.Keyless {
		if b.There != KeepThere || b.NotThere != AddNotThere || b.Repeats != RefuseRepeats || b.BlankKey != RefuseBlankKey || b.Gone != nil {
			r.problem(b.KeyAt, "without a key no row is recognised as there already, as repeated or as gone",
				"take already_there:, not_there:, repeats:, blank_key: and gone_from_file: out")
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
			r.problem(b.Key[i].Place, fmt.Sprintf("key: names %q, which this block doesn't feed", name), fault.DidYouMean(name, fed))
			continue
		}
		s.Key = append(s.Key, at)
	}
	r.judgeUpdate(s)
}

// judgeUpdate refuses what a step that updates rows can't do.
func (r *resolver) judgeUpdate(s *Step) {
	b := s.Block
	if b.There != UpdateThere {
		if b.Blank == BlankClears {
			r.problem(b.Name.Place, "blank: clears changes nothing where rows are not updated", "add already_there: update, or take it out")
		}
		return
	}
	if s.Table.Locator == "" && (!s.Table.UniqueOn(s.KeyNames()) || b.BlankKey == MatchBlankKey) {
		r.problem(b.Name.Place, fmt.Sprintf("rows of %s can't be updated by this key: the table has no counted id, and no unique constraint holds the key",
			s.Table.Name), "name the columns of a unique constraint in key:")
	}
	if len(s.Targets()) == 0 {
		r.problem(b.Name.Place, fmt.Sprintf("block %s has nothing to update: all its columns are its key", s.Name), "feed more columns, or write already_there: keep")
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
	what := fmt.Sprintf("block %s needs a key: no unique constraint of %s has all its columns fed", s.Name, s.Table.Name)
	if len(found) > 1 {
		all := make([]string, len(found))
		for i, f := range found {
			all[i] = "[" + strings.Join(f, ", ") + "]"
		}
		what = fmt.Sprintf("block %s needs a key: %s has several unique constraints, %s", s.Name, s.Table.Name, strings.Join(all, " and "))
	}
	r.problem(s.Block.Name.Place, what, "add key: with the columns by which a row is recognised, or key: none to add every row")
	return nil
}
