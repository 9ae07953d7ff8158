package draft

import (
	"cmp"
	"slices"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// byType feeds a date, or a time, that is required, from the only column of the file that is left and has such.
func (b *block) byType() {
	for i := range b.table.Columns {
		c := &b.table.Columns[i]
		if b.feeds(c.Name) || !c.Required || c.Generated || c.Identity || c.Type.Kind != value.Date &&
			c.Type.Kind != value.DateTime && c.Type.Kind != value.Time {
			continue
		}
		var left []*column
		for _, from := range b.file.columns {
			if from.Type != "blank" && compatible(from.Type, c) && b.unused(from) {
				left = append(left, from)
			}
		}
		others := slices.ContainsFunc(b.table.Columns, func(o schema.Column) bool {
			return o.Name != c.Name && o.Type.Kind == c.Type.Kind && !b.feeds(o.Name)
		})
		if len(left) == 1 && !others {
			b.fed = append(b.fed, assignment{guess: guess{likely, "the only " + left[0].Type + " that is left"}, of: c,
				column: left[0]})
		}
	}
}

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
		why := "the only text column left whose values are all different, as those of a key are"
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
