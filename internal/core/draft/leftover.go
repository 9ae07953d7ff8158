package draft

import (
	"cmp"
	"slices"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// measures are the kinds of values that say what they are by how they look.
var measures = []value.Kind{value.Date, value.DateTime, value.Time, value.Fixed, value.Decimal, value.Float}

// byType feeds a column from the only one of the file that is left and has such values: one that is required, or one
// of dates, times or decimal numbers that is the only one of the table that is left.
func (b *block) byType() {
	for i := range b.table.Columns {
		c := &b.table.Columns[i]
		measure := slices.Contains(measures, c.Type.Kind)
		if b.feeds(c.Name) || !feedable(c) || b.table.Relation(c.Name) != nil ||
			!measure && (!c.Required || kinds[c.Type.Kind] == "" || b.table.UniqueOn([]string{c.Name})) {
			continue
		}
		var left []*column
		for _, from := range b.file.columns {
			if from.Type != "blank" && alike(from.Type, c.Type.Kind) && b.unused(from) && !(c.Required &&
				from.Blank > 0) {
				left = append(left, from)
			}
		}
		others := slices.ContainsFunc(b.table.Columns, func(o schema.Column) bool {
			same := o.Type.Kind == c.Type.Kind || measure && compatible(kinds[c.Type.Kind], &o) &&
				o.Type.Kind != value.Text
			return o.Name != c.Name && same && feedable(&o) && (o.Required || !c.Required || measure) &&
				!b.feeds(o.Name) &&
				b.table.Relation(o.Name) == nil
		})
		if len(left) == 1 && !others {
			b.fed = append(b.fed, assignment{guess: guess{likely, "the only " + left[0].Type + " column that is left"},
				of:     c,
				column: left[0], left: true})
		}
	}
}

// kinds are the types of a survey whose cells are values of a kind.
var kinds = map[value.Kind]string{value.Date: "date", value.DateTime: "date and time", value.Time: "time",
	value.Fixed: "decimal number", value.Decimal: "decimal number", value.Float: "decimal number", value.Text: "text",
	value.Int: "whole number"}

// alike reports whether cells of a type of a survey are just those of a kind, and not only possible there.
func alike(cells string, k value.Kind) bool {
	return cells == kinds[k] || k == value.DateTime && cells == "date"
}

// feedable reports whether files can hold the values of a column: the database doesn't make them itself.
func feedable(c *schema.Column) bool { return !c.Generated && !c.Identity && c.Odd == "" }

// byDifference feeds a key of texts that is required from the only column of the file that is left and whose values are
// all different.
func (b *block) byDifference() {
	if !slices.ContainsFunc(b.fed, func(x assignment) bool { return x.lookup == nil && x.Score >= sure }) {
		return // nothing says that the rows are of this table
	}
	var left []*column
	for _, k := range b.file.Survey.Keys {
		for _, from := range b.file.columns {
			if len(k.Columns) == 1 && k.Columns[0] == from.Name && k.Repeats == 0 && from.Type == "text" &&
				b.unused(from) {
				left = append(left, from)
			}
		}
	}
	var keys []*schema.Column
	for i := range b.table.Columns {
		if c := &b.table.Columns[i]; c.Required && c.Type.Kind == value.Text && b.table.UniqueOn([]string{c.Name}) &&
			b.table.Relation(c.Name) == nil && !c.Generated && !b.feeds(c.Name) {
			keys = append(keys, c)
		}
	}
	if len(left) == 1 && len(keys) == 1 {
		why := "the only text column left whose values are all distinct, as those of a key are"
		b.fed = append(b.fed, assignment{guess: guess{likely, why}, of: keys[0], column: left[0]})
	}
}

// rivals notes columns of the file that fit as well as those that were chosen, and are not used for anything likelier.
func (b *block) rivals(all []assignment) {
	const near = 0.03 // between scores that are about the same
	for i := range b.fed {
		x := &b.fed[i]
		for _, o := range all {
			column := cmp.Or(o.column, o.single())
			if o.of == x.of && column != nil && !x.uses(column) && o.Score >= x.Score-near &&
				o.exact() >= x.exact() && b.bestOf(column) <= min(o.Score, valuesAlone) {
				x.rival = column
				break
			}
		}
	}
}
