package ladlefile

import (
	"fmt"
	"slices"

	"ladle/internal/core/clean"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Plan is a ladle file that fits its inputs and its database, with every name resolved.
type Plan struct {
	File   *File
	Schema *schema.Schema
	Feeds  []*Feed  // the inputs that steps use, in the order of the ladle file
	Steps  []*Step  // in the order of loading
	Totals []*Total // of inputs, that are held against something
}

// Feed is an input at work.
type Feed struct {
	Input   *Input
	Header  source.Header
	Recipe  *clean.Recipe
	Columns []clean.Column // what steps use of it
}

// Step is a block at work: rows of one input into one table. A block whose table points at itself, or stands in a
// circle of relations, is at work in several steps: the first adds its rows without the columns that point in the
// circle, and further ones, each a second half, complete the rows.
type Step struct {
	Name    string
	Block   *Block
	Feed    *Feed
	Table   *schema.Table
	Columns []Fed
	Key     []int    // which of Columns; empty when rows are not recognised
	Only    []int    // which of the feed's columns are conditions that must hold
	After   []string // why it stands behind other steps

	First *Step // of a second half: the step whose rows it completes
	Later []Fed // of a first one: what second halves feed
}

// Fed is a column of the table and where its values come from.
type Fed struct {
	Column *schema.Column
	Value  Value
}

// Value is a resolved source. Exactly one of its parts is used: Find, Constant, or else Cell.
type Value struct {
	Cell     int // which of the feed's columns
	Header   string
	Constant *value.Column // of one slot
	Find     *Lookup
}

// Lookup is a resolved find.
type Lookup struct {
	Table    *schema.Table
	By       []Fed          // columns of Table; or, where Made is given, the old id, as a column of no table
	Made     []Maker        // the steps among whose rows an old id is looked for
	Yields   *schema.Column // the column of Table whose value is found
	NotFound NotFound
	Several  Several
	Similar  Similar
}

// Maker is a step that made rows which are found by their old ids.
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

// Targets lists the columns that an update may change: not the key, and never a counted id.
func (s *Step) Targets() []int {
	var all []int
	for i, c := range s.Columns {
		if !slices.Contains(s.Key, i) && !c.Column.Identity {
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

// FeedsIdentity tells whether the step gives the table's identity column its values.
func (s *Step) FeedsIdentity() bool {
	for _, f := range s.Columns {
		if f.Column.Identity {
			return true
		}
	}
	return false
}

func names(fed []Fed) []string {
	names := make([]string, len(fed))
	for i, f := range fed {
		names[i] = f.Column.Name
	}
	return names
}

// Lookups calls visit for each find of the step, those inside of others first.
func (s *Step) Lookups(visit func(*Lookup)) {
	for _, f := range s.Columns {
		f.Value.lookups(visit)
	}
}

func (v Value) lookups(visit func(*Lookup)) {
	if v.Find == nil {
		return
	}
	for _, by := range v.Find.By {
		by.Value.lookups(visit)
	}
	visit(v.Find)
}

// Label is the source in words, for messages: the header, the constant or the finds' headers.
func (v Value) Label() string {
	switch {
	case v.Constant != nil:
		return fmt.Sprintf("the constant %q", v.Constant.Text(0))
	case v.Find == nil:
		return v.Header
	}
	label := ""
	for i, by := range v.Find.By {
		if i > 0 {
			label += ", "
		}
		label += by.Value.Label()
	}
	return label
}
