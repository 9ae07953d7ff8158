package report

import (
	"context"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
)

// Newest reads the newest rows of each table that grew, at most so many of each; 0 stands for the usual number.
func Newest(ctx context.Context, db engine.Reader, j *judge.Judgement, most int) ([]Rows, error) {
	if most == 0 {
		most = mostRows
	}
	all := []Rows{}
	seen := map[*schema.Table]bool{}
	read := func(t *schema.Table, added int64) error {
		if added == 0 || seen[t] {
			return nil
		}
		seen[t] = true
		rows, err := db.Rows(ctx, t, displayed(j, t), engine.Window{N: most, Newest: true})
		all = append(all, Rows{Table: t.Name, Columns: t.Names(), Rows: rows})
		return err
	}
	for _, g := range j.Growths {
		if err := read(g.Table, int64(len(g.Rows))); err != nil {
			return nil, err
		}
	}
	for _, s := range j.Steps {
		if err := read(s.Table, s.Tally.Added); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// displayed is how the columns of t are shown: those that refer to other rows by the names that people know these by.
func displayed(j *judge.Judgement, t *schema.Table) []engine.DisplayColumn {
	var all []engine.DisplayColumn
	for _, c := range t.Columns {
		all = append(all, displayColumn(j, t, c.Name))
	}
	return all
}

func displayColumn(j *judge.Judgement, t *schema.Table, column string) engine.DisplayColumn {
	d := engine.DisplayColumn{Column: column}
	if l := lookupOf(j, t, column); l != nil {
		d.Relation = &schema.Relation{Columns: []string{column}, Parent: l.Table.Name,
			ParentColumns: []string{l.Yields.Name}, ParentTable: l.Table}
		for _, name := range l.Names() {
			d.Names = append(d.Names, displayColumn(j, l.Table, name))
		}
		return d
	}
	if relation := t.Relation(column); relation != nil && relation.ParentTable != nil {
		d.Relation = relation
		if name := relation.NameColumn(); name != "" {
			d.Names = []engine.DisplayColumn{{Column: name}}
		}
	}
	return d
}

// lookupOf is the lookup that feeds a column of t, in a step or inside of another lookup; nil where there is none.
func lookupOf(j *judge.Judgement, t *schema.Table, column string) *plan.Lookup {
	var direct, inner *plan.Lookup
	take := func(into *schema.Table, a plan.Assignment, to **plan.Lookup) {
		if l := a.Source.Lookup; l != nil && l.Makers == nil && into == t && a.Column.Name == column && *to == nil {
			*to = l
		}
	}
	for _, s := range j.Steps {
		for _, a := range s.Columns {
			take(s.Table, a, &direct)
		}
		s.Lookups(func(l *plan.Lookup) {
			for _, a := range l.By {
				take(l.Table, a, &inner)
			}
		})
	}
	if direct != nil {
		return direct
	}
	return inner
}
