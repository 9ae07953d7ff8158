package survey

import (
	"slices"
	"strings"

	"ladle/internal/core/source"
)

const (
	nearlyWithin = 0.95 // of the distinct values, that a relation has in common
	fewValues    = 3    // distinct values, of which fewer prove nothing
	fewMissing   = 3    // that may be missing in a short file too
)

// relate finds the columns whose values are keys of another input.
func relate(inputs []*Input) []Relation {
	var all []Relation
	for i, child := range inputs {
		for j, parent := range inputs {
			if i == j {
				continue
			}
			for _, k := range parent.Keys {
				if k.column >= 0 {
					all = append(all, related(child, parent, k.column)...)
				}
			}
		}
	}
	return all
}

// RefersToItself finds the columns whose values are keys of the same input; not those that are keys themselves.
func (in *Input) RefersToItself() (all []Relation) {
	isKey := func(column string) bool {
		return slices.ContainsFunc(in.Keys, func(k Key) bool { return len(k.Columns) == 1 && k.Columns[0] == column })
	}
	for _, k := range in.Keys {
		if k.column < 0 {
			continue
		}
		for _, r := range related(in, in, k.column) {
			if !isKey(r.Column) {
				all = append(all, r)
			}
		}
	}
	return all
}

// related finds the columns of child whose values are in the key of parent.
func related(child, parent *Input, key int) []Relation {
	var all []Relation
	for i, c := range child.Columns {
		if c.Distinct < fewValues && parent.Columns[key].Distinct > fewValues || c.Distinct == 0 ||
			c.Type != parent.Columns[key].Type {
			continue
		}
		if numeric(c.Type) && !alike(c.Name, parent.Columns[key].Name) {
			continue // small numbers are within each other by chance
		}
		shared, values := child.values[i].within(parent.values[key])
		if c.Blank > 0 && values > 0 && child.values[i].find(hashOf(nil)).hash == hashOf(nil) {
			values--
		}
		if lost := values - shared; shared == 0 || float64(lost) > (1-nearlyWithin)*float64(values) &&
			(lost > fewMissing || shared < 2*fewMissing) {
			continue
		}
		all = append(all, Relation{Missing: child.values[i].missing(parent.values[key], fewMissing),
			Input: child.Read.Name(), Column: c.Name, Parent: parent.Read.Name(), Key: parent.Columns[key].Name,
			Shared: shared, Values: values, Sampled: child.values[i].level+parent.values[key].level > 0})
	}
	return all
}

func numeric(t string) bool {
	return t == typeWhole || t == typeDecimal || t == typeDate || t == typeTime
}

// alike reports whether names of columns share a word.
func alike(a, b string) bool {
	words := strings.FieldsFunc(source.FoldName(a), func(c rune) bool { return c == ' ' || c == '_' || c == '.' })
	for _, w := range strings.FieldsFunc(source.FoldName(b),
		func(c rune) bool { return c == ' ' || c == '_' || c == '.' }) {
		for _, v := range words {
			if v == w && len(w) > 2 {
				return true
			}
		}
	}
	return false
}
