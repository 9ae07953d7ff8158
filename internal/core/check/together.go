package check

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/reason"
)

// counted are the numbers of a result, where results of the same check can be added up.
type counted struct {
	known                bool
	before, added, after int64  // rows of a balance, where they were counted and none was removed
	cells                int64  // that were read back, or rows that were removed
	tail                 string // behind their number
}

// Together brings the results of a part of a load together with those of the parts before it: what holds for a table in
// all of them is one result. Totals of what was read back are of a part alone, and left out.
func Together(all, more []Result) []Result {
	for _, c := range more {
		c.Totals = nil
		at := slices.IndexFunc(all, func(o Result) bool {
			return o.Check == c.Check && o.Table == c.Table && o.Claim == c.Claim && o.counted.tail == c.counted.tail
		})
		if at < 0 {
			all = append(all, c)
			continue
		}
		all[at].join(c)
	}
	return all
}

// join takes in what the same check found in a later part.
func (r *Result) join(o Result) {
	for _, w := range o.Warnings {
		if !slices.Contains(r.Warnings, w) {
			r.Warnings = append(slices.Clone(r.Warnings), w)
		}
	}
	switch {
	case r.counted.known && o.counted.known && r.Check == "removed":
		r.counted.cells += o.counted.cells
		r.Short = reason.Count(r.counted.cells)
		r.Says = reason.Plural(r.counted.cells, "row") + " removed, and none of them exists"
	case r.counted.known && o.counted.known && r.Check == "cells":
		r.counted.cells += o.counted.cells
		r.Short = reason.Count(r.counted.cells) + r.counted.tail
		r.Says = reason.Plural(r.counted.cells, "cell") + " read back, part by part, all unchanged"
	case r.counted.known && o.counted.known && r.counted.after == o.counted.before:
		r.counted.added, r.counted.after = r.counted.added+o.counted.added, o.counted.after
		r.Says, r.Short = r.counted.words()
	case r.Check == "balance":
		r.counted.known = false
		r.Says, r.Short = "in each part, rows before + added = rows after", "in each part"
	case r.Check == "relations":
		if r.Short = union(r.Short, o.Short); r.Short != "" {
			r.Says = r.Short + ": every row finds one"
		}
	case r.Short != o.Short:
		r.Short = union(r.Short, o.Short)
	}
}

// words say that a balance holds, in a sentence and in short.
func (c counted) words() (says, short string) {
	had, has, plus := reason.Count(c.before), reason.Count(c.after), reason.Count(c.added)
	return fmt.Sprintf("%s rows before + %s added = %s", had, plus, has), fmt.Sprintf("%s + %s = %s", had, plus, has)
}

// union joins lists of words.
func union(list, more string) string {
	words := strings.Split(list, ", ")
	for _, w := range strings.Split(more, ", ") {
		if !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	return strings.TrimPrefix(strings.TrimSuffix(strings.Join(words, ", "), ", "), ", ")
}
