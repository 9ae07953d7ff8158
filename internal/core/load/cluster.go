package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// perRow is what a cluster sends along with each row at least: where it belongs, and its keys.
const perRow = 40

// tooLarge is why a cluster would not take the transaction; nil where it would, or no cluster is asked.
func (r *run) tooLarge(j *judge.Judgement) *reason.Cause {
	c := engine.ClusterOf(r.db)
	if c == nil {
		return nil
	}
	var rows, size int64
	for _, g := range j.Growths {
		rows += int64(len(g.Rows))
	}
	for _, s := range j.Steps {
		changed := s.Tally.Added + s.Tally.Updated
		rows += changed + s.Gone.Rows()
		if of := s.Tally.Read; of > 0 {
			size += int64(float64(s.Size()) * float64(changed) / float64(of))
		}
	}
	size += rows * perRow
	why := reason.Why{Kind: reason.TooLarge}
	switch {
	case c.MostRows > 0 && rows > c.MostRows:
		why.Text = fmt.Sprintf("%s, and wsrep_max_ws_rows is %s", reason.Plural(rows, "row"), reason.Count(c.MostRows))
	case c.MostSize > 0 && size > c.MostSize:
		why.Text = fmt.Sprintf("%s, about %s, and wsrep_max_ws_size is %s", reason.Plural(rows, "row"),
			reason.Plural(size, "byte"), reason.Count(c.MostSize))
	default:
		return nil
	}
	cause := reason.Because(why)
	return &cause
}

// claim keeps other loads of the cluster from changing the same tables, by the logbook: keys and names that no constraint
// holds together are safe among them.
func (r *run) claim(ctx context.Context, tx engine.Tx) error {
	if engine.ClusterOf(r.db) == nil || r.NoLogbook || r.Try {
		return nil
	}
	return logbook.Claim(ctx, tx, r.in.Plan.Written())
}

// unheld says what a cluster doesn't keep other nodes from doing while the load runs: what no constraint of the database
// holds.
func unheld(p *plan.Plan) (notes []string) {
	const note = "at the moment of its commit, nothing on this cluster keeps another node from %s: no %s holds it; to " +
		"see whether it happened, run ladle verify with the ladle file"
	for _, s := range p.Steps {
		if names := s.KeyNames(); s.First == nil && len(names) > 0 && !held(s.Table, names) {
			notes = append(notes, fmt.Sprintf(note, fmt.Sprintf("adding the same key to %s (%s)", s.Table.Name,
				strings.Join(names, ", ")), "UNIQUE constraint"))
		}
		for _, a := range s.Columns {
			l := a.Source.Lookup
			if l == nil {
				continue
			}
			if r := s.Table.Relation(a.Column.Name); r == nil || !r.Enforced() {
				notes = append(notes, fmt.Sprintf(note, fmt.Sprintf("removing the rows of %s that %s.%s refers to", l.Table.Name,
					s.Table.Name, a.Column.Name), "foreign key"))
			}
		}
	}
	slices.Sort(notes)
	return slices.Compact(notes)
}

// held reports whether a constraint keeps columns of t unique.
func held(t *schema.Table, columns []string) bool {
	return slices.ContainsFunc(t.Keys, func(k schema.Key) bool {
		return !slices.ContainsFunc(k.Columns, func(c string) bool { return !slices.Contains(columns, c) })
	})
}
