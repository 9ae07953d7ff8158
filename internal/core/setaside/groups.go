package setaside

import (
	"cmp"
	"slices"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
)

// Group is all reasons of an input that are alike: about one column, and of one kind with its arguments.
type Group struct {
	Input  string     `json:"input"`
	Column string     `json:"column,omitempty"` // "" for whole lines
	Says   string     `json:"says"`             // the reason in words
	Why    reason.Why `json:"why"`
	Count  int64      `json:"count"` // of lines
	First  []Example  `json:"examples"`
	Advice *Advice    `json:"advice,omitempty"` // what would solve them; nil where nothing is known
}

// Example is a reason of a group.
type Example struct {
	Place string `json:"place"`
	Cell  string `json:"cell"`
	Says  string `json:"says"` // all of it, in words
	// of the line, which a CHECK constraint or the database speaks of: "COLUMN is VALUE"
	Values string `json:"values,omitempty"`
}

// Groups brings reasons together. It keeps a bounded number of them, whatever there is.
type Groups struct {
	// File is the ladle file that advice is about; nil where there is none.
	File *ladlefile.File

	all   map[groupKey]*group
	order []*group
}

type groupKey struct {
	input, column string
	why           reason.Why
	step, target  string
}

type group struct {
	Group
	of Column
	advisor
}

const (
	mostGroups = 200
	firstOnes  = 3
)

// otherwise is the reason of the group of those that have none of their own.
var otherwise = reason.Why{Kind: reason.Other, Text: "for other reasons"}

// Add adds a reason of a line of an input.
func (g *Groups) Add(input string, r ColumnReason) {
	key := groupKey{input: input, column: r.Column, why: r.Why, target: r.Of.Target}
	if r.Of.Step != nil {
		key.step = r.Of.Step.Name
	}
	x := g.all[key]
	if x == nil && len(g.order) >= mostGroups {
		key = groupKey{input: input, why: otherwise}
		x = g.all[key]
	}
	if x == nil {
		if g.all == nil {
			g.all = map[groupKey]*group{}
		}
		x = &group{Group: Group{Input: input, Column: key.column, Why: key.why, Says: key.why.Words()}, of: r.Of}
		g.all[key], g.order = x, append(g.order, x)
	}
	x.Count++
	if len(x.First) < firstOnes {
		x.First = append(x.First, Example{r.Place.Short(), reason.Shorten(r.Content), r.Words(), r.Values.String()})
	}
	x.see(r)
}

// List returns the groups, the largest first.
func (g *Groups) List() []Group {
	all := []Group{}
	for _, x := range g.order {
		x.Group.Advice = x.advise(g.File)
		all = append(all, x.Group)
	}
	slices.SortStableFunc(all, func(a, b Group) int { return cmp.Compare(b.Count, a.Count) })
	return all
}
