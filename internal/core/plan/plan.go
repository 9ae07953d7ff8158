// Package plan holds a ladle file against the files and the database that it names: every name is resolved, every
// choice is legal, and the steps stand in the order in which they must be done.
//
// [Resolve] makes a [Plan] of a decoded ladle file. A plan has a [Feed] for each input that is used and a [Step] for
// each block, or several where a block is part of a circular reference. A step says which columns of its table get
// their values from which [Source], and, in its [Policy], what becomes of lines that meet rows which are there. All of
// it is held by value: a plan can be changed without changing the ladle file.
package plan

import (
	"fmt"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/formula"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Plan is a ladle file that fits its inputs and its database.
type Plan struct {
	File   *ladlefile.File
	Schema *schema.Schema
	Feeds  []*Feed  // the inputs that steps use, in the order of the ladle file
	Steps  []*Step  // in the order of loading
	Totals []*Total // of inputs, which are compared with something
	Claims []Claim
}

// Unfollowed says which foreign keys of the tables to fill can't be followed, so that they are not checked.
func (p *Plan) Unfollowed() (notes []string) {
	for _, s := range p.Steps {
		for _, relation := range s.Table.Unfollowed() {
			if note := "not checked: the foreign key " + relation; !slices.Contains(notes, note) {
				notes = append(notes, note)
			}
		}
	}
	return notes
}

// Claim is a claim of the ladle file. Totals are, for each side of an equation that is no query, which of the plan's
// totals it is.
type Claim struct {
	*ladlefile.Claim
	Totals [2]int
}

// Feed is an input at work.
type Feed struct {
	Number  int // its place in Plan.Feeds
	Input   *ladlefile.Input
	Header  source.Header
	Recipe  *clean.Recipe
	Columns []clean.Column // what steps use of it
	named   bool           // steps use columns by the names in its header
}

// Named reports whether names that its header has are used, which is one then.
func (f *Feed) Named() bool { return f.named || f.Recipe.Named() }

// Name is the name of the input.
func (f *Feed) Name() string { return f.Input.Name.Value }

// Step is a block at work: lines of one input become rows of one table. A block whose table refers to itself, or is
// part of a circular reference, is at work in several steps: the first adds its rows without the columns that close the
// circle, and further ones, each a second half, complete the rows.
type Step struct {
	Name      string
	Number    int // its place in Plan.Steps
	Block     *ladlefile.Block
	Feed      *Feed
	Table     *schema.Table
	Policy    Policy
	Columns   []Assignment
	Key       []int   // which of Columns; empty when rows are not recognised
	Pairs     bool    // without a Key: each row stands for one line that is equal to it in all that the step feeds
	Only      []int   // which of the feed's columns are conditions that must hold
	InOrderOf []int   // which of Columns order the rows that are added; empty for the order of the file
	After     []After // the steps that it comes after

	First *Step        // of a second half: the step whose rows it completes
	Later []Assignment // of a first half: what second halves feed
}

// After is a step that another one comes after, and why.
type After struct {
	Step string `json:"step"`
	Why  string `json:"why"`
}

// Policy says what becomes of the lines of a step.
type Policy struct {
	AlreadyThere   ladlefile.AlreadyThere
	NotThere       ladlefile.NotThere
	Blank          ladlefile.Blank
	BlankKey       ladlefile.BlankKey
	Contradictions ladlefile.Contradictions
	Similar        ladlefile.SimilarNames
	HoldsNames     bool     // new keys are names, which are held against those that look like them
	Gone           *Gone    // what becomes of rows that the input no longer has; nil when they stay
	Excused        []string // the columns to which the database itself may give another value
	Writes         bool     // rows that are there can change, in one of their columns at least
}

// Updates reports whether rows that are there are changed.
func (p Policy) Updates() bool { return p.Writes }

// FillsBlanks reports whether something else can stand for a blank: what the row has that is updated, or what other
// lines with the same key have.
func (p Policy) FillsBlanks() bool {
	return p.Updates() && p.Blank == ladlefile.KeepBlank || p.Contradictions == ladlefile.MostOfContradictions
}

// Gone says what becomes of rows that the input no longer has.
type Gone struct {
	Does   GoneAction
	Mark   []Mark          // what rows that are gone are given
	Back   []Mark          // what marked rows are given that the input has again
	AtMost ladlefile.Limit // how many of the rows among which they are looked for
	Where  ladlefile.Text  // a condition in SQL on the rows among which they are looked for; all where it isn't given
}

// GoneAction is what is done with rows that the input no longer has.
type GoneAction uint8

const (
	RemoveGone GoneAction = iota
	MarkGone
	CountGone // they stay as they are
)

// Mark is a column, and what rows are given in it: Constant, or what Formula gives when the load begins.
type Mark struct {
	Column   *schema.Column
	Constant *value.Column // of one slot
	Formula  *formula.Formula
}

// MarkNames lists the columns of marks.
func MarkNames(marks []Mark) (names []string) {
	for _, m := range marks {
		names = append(names, m.Column.Name)
	}
	return names
}

// Assignment is a column of a table and where its values come from.
type Assignment struct {
	Column   *schema.Column
	Source   Source
	OnUpdate ladlefile.AlreadyThere // for this column alone; empty where the policy of the step holds
	NewOnly  bool                   // it is for rows that are added: in others, marks say what is in the column
	StoreAs  ladlefile.StoreAs      // empty where the ladle file doesn't say
}

// Source is a resolved source. Exactly one of its parts is used: Lookup, Constant, or else Cell.
type Source struct {
	Cell     int // which of the feed's columns
	Header   string
	Constant *value.Column // of one slot
	Lookup   *Lookup
}

// Lookup resolves values to the row of a table that has them.
type Lookup struct {
	Table    *schema.Table
	By       []Assignment   // columns of Table; or, where Makers are given, the old id, as a column of no table
	Makers   []Maker        // the steps among whose rows an old id is looked for
	Yields   *schema.Column // the column of Table whose value is the result
	NotFound ladlefile.NotFound
	Several  ladlefile.Several
	Similar  ladlefile.SimilarNames
	Implied  bool // the file has the ids themselves, and the ladle file no lookup
}

// Maker is a step that makes rows which are found by their old ids.
type Maker struct {
	Step *Step
	Cell int // which of its feed's columns holds the old id
}

// Names lists the columns by which the lookup finds.
func (l *Lookup) Names() []string { return names(l.By) }

// Names lists the columns that the step feeds.
func (s *Step) Names() []string { return names(s.Columns) }

// KeyNames lists the columns of the key.
func (s *Step) KeyNames() []string {
	key := make([]string, len(s.Key))
	for i, k := range s.Key {
		key[i] = s.Columns[k].Column.Name
	}
	return key
}

// Recognised is the step by whose key the rows are recognised: the first half of a second one, else the step itself.
func (s *Step) Recognised() *Step {
	if s.First != nil {
		return s.First
	}
	return s
}

// Updates reports whether the step changes rows that are there.
func (s *Step) Updates() bool { return s.First != nil || s.Policy.Updates() }

// Compares reports whether lines are held against the rows that have their keys: where there is more than the key.
func (s *Step) Compares() bool { return s.First != nil || len(s.Key) > 0 && len(s.Targets()) > 0 }

// OnUpdate is what column c does to a row that is there.
func (s *Step) OnUpdate(c int) ladlefile.AlreadyThere {
	if own := s.Columns[c].OnUpdate; own != "" {
		return own
	}
	return s.Policy.AlreadyThere
}

// writes reports whether column c can change in a row that is there.
func (s *Step) writes(c int) bool {
	does := s.OnUpdate(c)
	return does == ladlefile.UpdateThere || does == ladlefile.FillBlanksThere
}

// WrittenNames lists the targets that can change in rows that are there.
func (s *Step) WrittenNames() (all []string) {
	for _, t := range s.Targets() {
		if s.First != nil || s.writes(t) {
			all = append(all, s.Columns[t].Column.Name)
		}
	}
	return all
}

// MatchesBlanks reports whether a blank in the key is a value like others.
func (s *Step) MatchesBlanks() bool { return s.Policy.BlankKey == ladlefile.MatchBlankKey }

// FoundBy lists the columns by which rows that are there are found again: the locator, else the key; of a step that
// pairs rows with lines a unique key of the table, nil where nothing tells its rows apart.
func (s *Step) FoundBy() []string {
	if s.Table.Locator == "" && !s.Pairs {
		return s.KeyNames()
	}
	return s.Table.FoundBy()
}

// Paired lists the columns in which a line and its row are equal, of a step that pairs them: all but those that the
// database or marks may change.
func (s *Step) Paired() (all []int) {
	for i, c := range s.Columns {
		if !c.NewOnly && !slices.Contains(s.Policy.Excused, c.Column.Name) {
			all = append(all, i)
		}
	}
	return all
}

// Recognises reports whether lines are held against rows that are there.
func (s *Step) Recognises() bool { return len(s.Key) > 0 || s.Pairs }

// RecognisedBy lists the columns by which rows are recognised: the key, or all that are paired.
func (s *Step) RecognisedBy() []string {
	if !s.Pairs {
		return s.KeyNames()
	}
	var all []string
	for _, i := range s.Paired() {
		all = append(all, s.Columns[i].Column.Name)
	}
	return all
}

// Targets lists the columns that an update may change: not the key, never an auto-numbered id, and not what is for new
// rows only.
func (s *Step) Targets() []int {
	var all []int
	for i, c := range s.Columns {
		if !slices.Contains(s.Key, i) && !c.Column.Identity && !c.NewOnly {
			all = append(all, i)
		}
	}
	return all
}

// TargetNames lists the names of the targets.
func (s *Step) TargetNames() []string {
	var all []string
	for _, t := range s.Targets() {
		all = append(all, s.Columns[t].Column.Name)
	}
	return all
}

// StoresNumbers lists the columns without a type in which the step stores numbers.
func (s *Step) StoresNumbers() (all []string) {
	for _, a := range s.Columns {
		if a.Column.Typeless && a.Column.Type.Kind.Numeric() {
			all = append(all, a.Column.Name)
		}
	}
	return all
}

// FeedsIdentity reports whether the step gives the table's identity column its values.
func (s *Step) FeedsIdentity() bool {
	return slices.ContainsFunc(s.Columns, func(a Assignment) bool { return a.Column.Identity })
}

// Locates reports whether the rows that the step adds get locators which are reserved for them.
func (s *Step) Locates() bool { return s.First == nil && s.Table.Locator != "" && !s.FeedsIdentity() }

// Undeclared lists the relations that only lookups of the step make.
func (s *Step) Undeclared() (all []schema.Relation) {
	for _, c := range s.Columns {
		if l := c.Source.Lookup; l != nil && s.Table.Relation(c.Column.Name) == nil {
			all = append(all, schema.Relation{Columns: []string{c.Column.Name}, Parent: l.Table.Name,
				ParentColumns: []string{l.Yields.Name}, ParentTable: l.Table, Assumed: true})
		}
	}
	return all
}

func names(all []Assignment) []string {
	names := make([]string, len(all))
	for i, a := range all {
		names[i] = a.Column.Name
	}
	return names
}

// Lookups calls visit for each lookup of the step, those inside of others first.
func (s *Step) Lookups(visit func(*Lookup)) {
	for _, a := range s.Columns {
		a.Source.lookups(visit)
	}
}

func (s Source) lookups(visit func(*Lookup)) {
	if s.Lookup == nil {
		return
	}
	for _, by := range s.Lookup.By {
		by.Source.lookups(visit)
	}
	visit(s.Lookup)
}

// Label names the source in messages: the header, the constant or the headers of a lookup.
func (s Source) Label() string {
	switch {
	case s.Constant != nil:
		return fmt.Sprintf("the constant %q", s.Constant.Text(0))
	case s.Lookup == nil:
		return s.Header
	}
	label := ""
	for i, by := range s.Lookup.By {
		if i > 0 {
			label += ", "
		}
		label += by.Source.Label()
	}
	return label
}

// Tables lists the tables that the plan writes to or looks up in.
func (p *Plan) Tables() []*schema.Table {
	var all []*schema.Table
	use := func(t *schema.Table) {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, s := range p.Steps {
		s.Lookups(func(l *Lookup) { use(l.Table) })
		use(s.Table)
	}
	return all
}

// Written lists the tables whose rows steps may change, and those to which lookups may add names.
func (p *Plan) Written() (all []*schema.Table) {
	use := func(t *schema.Table) {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, s := range p.Steps {
		use(s.Table)
		s.Lookups(func(l *Lookup) {
			if l.NotFound == ladlefile.AddNotFound {
				use(l.Table)
			}
		})
	}
	return all
}

// Locked lists the tables that must stand still during a load: those in use, those that rows refer to, and those that
// refer to rows which may be removed.
func (p *Plan) Locked() []*schema.Table {
	all := p.Tables()
	lock := func(t *schema.Table) {
		if t != nil && !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, t := range all {
		for _, r := range t.Relations {
			lock(r.ParentTable)
		}
	}
	for _, s := range p.Steps {
		if s.Policy.Gone == nil || s.Policy.Gone.Does != RemoveGone {
			continue
		}
		for _, link := range p.Schema.PointingAt(s.Table) {
			lock(link.Child)
		}
	}
	return all
}

// Compare makes every step with a key compare its lines with the rows that are there and change nothing, and count the
// rows that the input does not have where it alone feeds a table.
func (p *Plan) Compare() {
	feeding := map[*schema.Table]int{}
	for _, s := range p.Steps {
		if s.First == nil {
			feeding[s.Table]++
		}
	}
	for _, s := range p.Steps {
		if !s.Recognises() {
			continue
		}
		if !s.Policy.Updates() {
			s.Policy.Blank = ladlefile.ClearBlank
		}
		s.Policy.AlreadyThere, s.Policy.Writes = ladlefile.KeepThere, false
		if s.First != nil || len(s.Key) > 0 && len(s.Targets()) > 0 {
			s.Policy.AlreadyThere, s.Policy.Writes = ladlefile.UpdateThere, true
		}
		for i := range s.Columns {
			s.Columns[i].OnUpdate = ""
		}
		if s.First == nil && s.Policy.Gone == nil && feeding[s.Table] == 1 {
			s.Policy.Gone = &Gone{Does: CountGone, AtMost: ladlefile.Limit{Any: true}}
			s.Feed.Recipe.CleanAll() // what is left out of the input is not gone from it
		}
	}
}
