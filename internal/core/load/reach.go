package load

import (
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

// mayRun asks, before a file is read, whether the database will do what the load asks of it.
func (r *run) mayRun(ctx context.Context) error {
	if err := r.foresee(ctx); err != nil || r.reading {
		return err
	}
	if err := r.may(ctx); err != nil {
		return err
	}
	return r.openBook(ctx)
}

// may asks, before a file is read, whether this user may do what the load could do.
func (r *run) may(ctx context.Context) error {
	for _, s := range r.plan.Steps {
		var err error
		if s.First == nil && s.Block.NotThere == ladlefile.AddNotThere {
			err = r.db.May(ctx, engine.Insert, s.Table, s.Names())
		}
		if err == nil && (s.First != nil || s.Block.There == ladlefile.UpdateThere) {
			err = r.db.May(ctx, engine.Update, s.Table, s.TargetNames())
		}
		if err == nil && s.Block.Gone != nil {
			err = r.mayRemoveFrom(ctx, s)
		}
		s.Lookups(func(l *ladlefile.Lookup) {
			if err == nil && l.NotFound == ladlefile.AddNotFound {
				err = r.db.May(ctx, engine.Insert, l.Table, append([]string{l.Yields.Name}, l.Names()...))
			}
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// locked lists the tables that must stand still: those in use, and those that rows point at.
func (r *run) locked() []*schema.Table {
	all := r.tables()
	for _, t := range all {
		for _, relation := range t.Relations {
			if p := relation.ParentTable; p != nil && !slices.Contains(all, p) {
				all = append(all, p)
			}
		}
	}
	for _, s := range r.plan.Steps {
		if s.Block.Gone == nil {
			continue
		}
		for _, child := range r.plan.Schema.Tables {
			points := slices.ContainsFunc(child.Relations, func(relation schema.Relation) bool { return relation.ParentTable == s.Table })
			if points && !slices.Contains(all, child) {
				all = append(all, child)
			}
		}
	}
	return all
}

// tables lists the tables that the load writes to or finds in.
func (r *run) tables() []*schema.Table {
	var all []*schema.Table
	use := func(t *schema.Table) {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, s := range r.plan.Steps {
		s.Lookups(func(l *ladlefile.Lookup) { use(l.Table) })
		use(s.Table)
	}
	return all
}
