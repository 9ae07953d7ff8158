// Package rights finds the privileges that a user of the database needs for a ladle file, and which are missing.
package rights

import (
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
)

// Report is the privileges that a ladle file needs.
type Report struct {
	User     string        `json:"user"`
	Database string        `json:"database"`
	Rights   engine.Rights `json:"rights"`
	Missing  int           `json:"missing"`        // how many of them the user lacks
	Make     []string      `json:"logbook_tables"` // the statements that make the tables of the logbook which are not there yet
}

// Find lists what a load, a try, and an undo of a plan need; user is "" for the one who is connected.
func Find(ctx context.Context, db engine.Database, p *plan.Plan, user string) (*Report, error) {
	r := &Report{User: user, Database: p.Schema.Database}
	var err error
	if user == "" {
		if r.User, err = db.User(ctx); err != nil {
			return nil, err
		}
	}
	if r.Make, err = db.Definitions(ctx, logbook.Tables()); err != nil {
		return nil, err
	}
	if r.Rights, err = db.Rights(ctx, r.User, needs(p, engine.ClusterOf(db) != nil)); err != nil {
		return nil, err
	}
	slices.SortStableFunc(r.Rights, func(a, b *engine.Right) int { // those on one thing together
		first := func(x *engine.Right) int {
			return slices.IndexFunc(r.Rights, func(o *engine.Right) bool { return o.On == x.On })
		}
		return first(a) - first(b)
	})
	for _, right := range r.Rights {
		if !right.Has {
			r.Missing++
		}
	}
	if r.Rights == nil {
		r.Rights = engine.Rights{}
	}
	if r.Make == nil {
		r.Make = []string{}
	}
	return r, nil
}

// needs lists what is done with each table; cluster says that the database is on one.
func needs(p *plan.Plan, cluster bool) (all []engine.Need) {
	add := func(do engine.Privilege, t *schema.Table, purposes ...engine.Purpose) {
		all = append(all, engine.Need{Table: t, Do: do, For: purposes})
	}
	everything := []engine.Purpose{engine.ForTry, engine.ForLoad, engine.ForUndo}
	for _, t := range p.Locked() {
		add(engine.Select, t, everything...)
	}
	var added []*schema.Table
	adds := func(t *schema.Table) {
		add(engine.Insert, t, engine.ForTry, engine.ForLoad)
		add(engine.Delete, t, engine.ForUndo)
		added = append(added, t)
	}
	updates := func(t *schema.Table) {
		add(engine.Update, t, everything...)
	}
	for _, s := range p.Steps {
		if s.First == nil && s.Policy.NotThere == ladlefile.AddNotThere {
			adds(s.Table)
		}
		if s.Updates() {
			updates(s.Table)
		}
		if gone := s.Policy.Gone; gone != nil && s.First == nil {
			switch gone.Does {
			case plan.RemoveGone:
				add(engine.Delete, s.Table, engine.ForTry, engine.ForLoad)
				add(engine.Insert, s.Table, engine.ForUndo)
			case plan.MarkGone:
				updates(s.Table)
			}
		}
		s.Lookups(func(l *plan.Lookup) {
			if l.NotFound == ladlefile.AddNotFound {
				adds(l.Table)
			}
		})
	}
	for _, t := range added { // rows that go, and others that may refer to them
		for _, link := range p.Schema.PointingAt(t) {
			if !slices.ContainsFunc(all, func(n engine.Need) bool { return n.Table == link.Child && n.Do == engine.Select }) {
				add(engine.Select, link.Child, engine.ForUndo)
			}
		}
	}
	for _, t := range logbook.Tables() {
		add(engine.Select, t, engine.ForLoad, engine.ForUndo)
		add(engine.Insert, t, engine.ForLoad, engine.ForUndo)
	}
	if cluster {
		add(engine.Delete, logbook.ClaimedIn(), engine.ForLoad)
	}
	return all
}
