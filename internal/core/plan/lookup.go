package plan

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// lookup resolves what fills a column by looking up rows of another table. It is nil after a problem.
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
	switch own, found := column.Type, l.Yields.Type; {
	case own.Kind.String() != found.Kind.String():
		r.problem(f.Place, fmt.Sprintf("%s.%s is a %s, but %s.%s, which it refers to, is a %s", t.Name, column.Name, own.Kind,
			l.Table.Name, l.Yields.Name, found.Kind), "fill the column directly, with from:")
	case own.Kind != found.Kind, own.Kind == value.Fixed && own.Scale != found.Scale: // numbers are taken over as they are kept
		r.problem(f.Place, fmt.Sprintf("%s.%s is declared %s, but %s.%s, which it refers to, is declared %s", t.Name, column.Name,
			column.Declared, l.Table.Name, l.Yields.Name, l.Yields.Declared),
			"declare both the same way, or fill the column directly, with from:")
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
