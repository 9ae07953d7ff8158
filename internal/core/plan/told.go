package plan

import (
	"fmt"
	"slices"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

// tellSchema tells the schema what the database doesn't know and the ladle file does: as what columns without a type
// are stored, and relations. All that is planned, judged and proved then goes by it.
func (r *resolver) tellSchema() {
	for _, b := range r.blocks {
		t := r.schema.Table(b.Table().Value)
		if t == nil {
			continue // said elsewhere
		}
		for _, c := range b.Columns {
			column := t.Column(c.Name.Value)
			if column == nil {
				continue // said elsewhere
			}
			r.storeAs(t, column, c.Source)
			if c.Source.PointsAt != nil {
				r.pointsAt(t, column, c.Source.PointsAt)
			}
		}
	}
}

// storeAs gives a column without a type the one that the ladle file says.
func (r *resolver) storeAs(t *schema.Table, column *schema.Column, s ladlefile.Source) {
	switch {
	case s.StoreAs == "":
	case !column.Typeless:
		r.problem(s.StoreAt, fmt.Sprintf("store_as: has no effect on %s.%s, which is declared as %s", t.Name,
			column.Name, column.Declared), "delete store_as:")
	case s.StoreAs == ladlefile.StoreNumbers:
		column.StoreNumbers()
	}
}

// pointsAt adds a relation that the database doesn't declare.
func (r *resolver) pointsAt(t *schema.Table, column *schema.Column, at *ladlefile.Target) {
	parent := r.table(at.Table)
	if parent == nil {
		return
	}
	to := parent.Column(at.Column.Value)
	switch known := t.Relation(column.Name); {
	case to == nil:
		r.problem(at.Column.Place, fmt.Sprintf("table %s has no column %q", parent.Name, at.Column.Value),
			fault.DidYouMean(at.Column.Value, parent.Names()))
	case known != nil && (known.Parent != parent.Name || !slices.Equal(known.ParentColumns, []string{to.Name})):
		r.problem(at.Table.Place, fmt.Sprintf("%s.%s refers to %s already", t.Name, column.Name, known.Parent),
			"delete points_at:")
	case known != nil:
	case !slices.ContainsFunc(parent.Keys, func(k schema.Key) bool { return slices.Equal(k.Columns, []string{to.Name}) }):
		r.problem(at.Column.Place, fmt.Sprintf("%s.%s is not a key by itself, so a value of it can mean several rows",
			parent.Name, to.Name), "name the primary key, or another unique column")
	case to.Type.Kind != column.Type.Kind:
		r.problem(at.Column.Place, fmt.Sprintf("%s.%s is a %s, but %s.%s is a %s", t.Name, column.Name,
			column.Type.Kind, parent.Name, to.Name, to.Type.Kind), "name a column of the same type")
	default:
		t.Relations = append(t.Relations, schema.Relation{Columns: []string{column.Name}, Parent: parent.Name,
			ParentColumns: []string{to.Name}, ParentTable: parent, Assumed: true})
	}
}
