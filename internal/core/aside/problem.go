package aside

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Problem is something wrong with a line.
type Problem struct {
	Column string // as it is called in the input; "" for the whole line
	At     string // the name of its cell in a sheet, or ""
	Cell   string // what stands there
	Why    string // in words that go behind both
}

// String says what is wrong.
func (p Problem) String() string {
	name := p.Column
	if p.At != "" {
		name += " (" + p.At + ")"
	}
	switch {
	case name == "":
		return p.Why
	case p.Cell == "":
		return name + " " + p.Why
	}
	return fmt.Sprintf("%s %q %s", name, Shorten(p.Cell), p.Why)
}

// Shorten keeps a reason readable when the cell is not.
func Shorten(cell string) string {
	const most = 80
	if r := []rune(cell); len(r) > most {
		return string(r[:most]) + "…"
	}
	return cell
}

// Group is all problems of an input with one column and one reason.
type Group struct {
	Input  string    `json:"input"`
	Column string    `json:"column,omitempty"` // "" for whole lines
	Why    string    `json:"why"`
	Count  int64     `json:"count"`
	First  []Example `json:"first"`
	Advice string    `json:"advice,omitempty"` // what to put into the ladle file
}

// Example is a problem of a group.
type Example struct {
	Place string `json:"place"`
	Cell  string `json:"cell"`
	Says  string `json:"says"` // all of the problem, in words
}

// Groups brings problems together. It keeps a bounded number of them, whatever there is.
type Groups struct {
	all   map[[3]string]*group
	order []*group
}

type group struct {
	Group
	advisor
}

const (
	mostGroups = 200
	firstOnes  = 3
	otherWhys  = "for other reasons"
)

// Add adds a problem of a line of an input, at a place.
func (g *Groups) Add(input string, p Problem, place string) {
	key := [3]string{input, p.Column, general(p.Why)}
	x := g.all[key]
	if x == nil && len(g.order) >= mostGroups {
		key = [3]string{input, "", otherWhys}
		x = g.all[key]
	}
	if x == nil {
		if g.all == nil {
			g.all = map[[3]string]*group{}
		}
		x = &group{Group: Group{Input: input, Column: key[1], Why: key[2]}}
		g.all[key], g.order = x, append(g.order, x)
	}
	x.Count++
	if len(x.First) < firstOnes {
		x.First = append(x.First, Example{place, Shorten(p.Cell), p.String()})
	}
	x.see(p)
}

// List gives the groups, the largest first.
func (g *Groups) List() []Group {
	var all []Group
	for _, x := range g.order {
		x.Advice = x.advice(&x.Group)
		all = append(all, x.Group)
	}
	slices.SortStableFunc(all, func(a, b Group) int { return cmp.Compare(b.Count, a.Count) })
	return all
}

// What differs between the lines of a group.
var (
	sameKey = regexp.MustCompile(`^(?:(?:line|row) \d+|\S+[:!]\d+) has the same key`)
	spots   = regexp.MustCompile(`\S+[:!]\d+ is set aside`)
)

const plainNumber = "is not a plain number like 1234.5"

// general is a reason without what only one line has.
func general(why string) string {
	if strings.Contains(why, "has the same key") {
		why = sameKey.ReplaceAllString(why, "another line has the same key")
	}
	if strings.Contains(why, "is set aside") {
		why = spots.ReplaceAllString(why, "its line is set aside")
	}
	if strings.Contains(why, "not a plain number") {
		return plainNumber
	}
	why, _, _ = strings.Cut(why, "; ")
	why, _, _ = strings.Cut(why, " don't agree: ")
	return why
}
