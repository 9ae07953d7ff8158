package plan

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// oldID is as what old ids are read: two are the same when they are written the same.
var oldID = value.Type{Kind: value.Text}

// oldLookup is a lookup by an old id whose makers are yet to be found.
type oldLookup struct {
	lookup *Lookup
	from   *ladlefile.Lookup
}

// foundIn is the table in which a lookup looks.
func (r *resolver) foundIn(f *ladlefile.Lookup) *schema.Table {
	if !f.Block.Given() {
		return r.table(f.Table)
	}
	var names []string
	for _, b := range r.blocks {
		if b.Name.Value == f.Block.Value {
			return r.table(b.Table())
		}
		names = append(names, b.Name.Value)
	}
	r.problem(f.Block.Place, fmt.Sprintf("there is no block %q", f.Block.Value), fault.DidYouMean(f.Block.Value, names))
	return nil
}

// makers finds, for each lookup by an old id, the steps that make such rows and the column that holds the old id.
func (r *resolver) makers(steps []*Step) {
	for _, o := range r.byOldID {
		var inputs []string
		for _, s := range steps {
			if s.Table != o.lookup.Table || o.from.Block.Given() && s.Name != o.from.Block.Value {
				continue
			}
			inputs = append(inputs, s.Feed.Input.Name.Value)
			if fields := s.Feed.Recipe.Find(o.from.There.Value); len(fields) == 1 {
				o.lookup.Makers = append(o.lookup.Makers, Maker{s,
					s.Feed.use(clean.Column{Of: fields[0], Type: oldID})})
			}
		}
		switch {
		case inputs == nil:
			r.problem(o.from.Place, fmt.Sprintf("no block fills %s, so no row of it has an old id",
				o.lookup.Table.Name), "add a block for it, or look its rows up by columns: by:")
		case o.lookup.Makers == nil:
			r.problem(o.from.There.Place, fmt.Sprintf("%s (input %s) has no single column %q", o.lookup.Table.Name,
				strings.Join(slices.Compact(inputs), ", "), o.from.There.Value),
				"write by_old_id: {there: COLUMN OF THE INPUT THAT FILLS IT, here: COLUMN OF THIS INPUT}")
		case wide(o.lookup.Yields):
			r.problem(o.from.Place, fmt.Sprintf("%s.%s is not a number, so its rows can't be looked up by an old id",
				o.lookup.Table.Name, o.lookup.Yields.Name),
				"look them up by columns: by:")
		}
	}
}

func wide(c *schema.Column) bool {
	column := value.NewColumn(c.Type)
	return column.Wide()
}
