package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// mayRun asks whether this user may do what the load could do, and whether the logbook is there or can be made.
func (r *run) mayRun(ctx context.Context) error {
	r.denied = nil
	for _, s := range r.in.Plan.Steps {
		if err := r.mayStep(ctx, s); err != nil {
			return err
		}
	}
	more, err := r.db.MayLoad(ctx, r.in.Plan.Locked(), r.adds())
	if err != nil {
		return err
	}
	for _, d := range more {
		r.deny(d)
	}
	if r.user, err = r.db.User(ctx); err != nil {
		return err
	}
	if r.keepsBook() {
		err = r.mayBook(ctx)
	}
	if r.denied == nil || err != nil && fault.ClassOf(err) != fault.Failed || ctx.Err() != nil {
		return err
	}
	var problems []fault.Problem
	reads := false
	for _, d := range r.denied {
		problems = append(problems, fault.Problem{What: "this user may not " + d.What, Do: "ask for: " + d.Grant})
		reads = reads || d.Reads
		if r.Try {
			r.report.Notes = append(r.report.Notes, fmt.Sprintf("this user may not %s, so nothing was written and "+
				"rolled back: only what can be judged by reading was judged; a load needs: %s", d.What, d.Grant))
		}
	}
	if r.Try && !reads {
		return nil
	}
	if err != nil {
		problems = append(problems, fault.ProblemsOf(err)...)
	}
	return fault.At(fault.Failed, problems...)
}

// deny keeps what the user may not do, once.
func (r *run) deny(d *engine.Denied) {
	if !slices.ContainsFunc(r.denied, func(known *engine.Denied) bool { return *known == *d }) {
		r.denied = append(r.denied, d)
	}
}

// adds lists the tables that get rows.
func (r *run) adds() (all []*schema.Table) {
	add := func(t *schema.Table) {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, s := range r.in.Plan.Steps {
		if s.Locates() && s.Policy.NotThere == ladlefile.AddNotThere {
			add(s.Table)
		}
		s.Lookups(func(l *plan.Lookup) {
			if l.NotFound == ladlefile.AddNotFound {
				add(l.Table)
			}
		})
	}
	return all
}

// mayBook asks whether the logbook is there, or can be made.
func (r *run) mayBook(ctx context.Context) error {
	missing, err := logbook.Ready(ctx, r.db)
	if missing {
		r.report.Notes = append(r.report.Notes, fmt.Sprintf("this is the first run here: the logbook's tables (%s and "+
			"others that begin with it) are created in the database", logbook.Prefix))
	}
	return err
}

// mayStep asks whether this user may do what a step could do.
func (r *run) mayStep(ctx context.Context, s *plan.Step) error {
	may := func(err error, do engine.Privilege, t *schema.Table, columns []string) error {
		if err != nil {
			return err
		}
		err = r.db.May(ctx, do, t, columns)
		var denied *engine.Denied
		if errors.As(err, &denied) {
			r.deny(denied)
			return nil
		}
		return err
	}
	var err error
	if s.First == nil && s.Policy.NotThere == ladlefile.AddNotThere {
		err = may(err, engine.Insert, s.Table, s.Names())
	}
	if s.Updates() {
		err = may(err, engine.Update, s.Table, s.WrittenNames())
	}
	if s.First == nil && s.Policy.Gone != nil {
		switch does := s.Policy.Gone; does.Does {
		case plan.RemoveGone:
			err = may(err, engine.Delete, s.Table, nil)
		case plan.MarkGone:
			err = may(err, engine.Update, s.Table, plan.MarkNames(does.Mark))
		}
		if err == nil {
			err = r.knowsScope(ctx, s)
		}
	}
	s.Lookups(func(l *plan.Lookup) {
		if l.NotFound == ladlefile.AddNotFound {
			err = may(err, engine.Insert, l.Table, append([]string{l.Yields.Name}, l.Names()...))
		}
	})
	return err
}

// knowsScope asks whether the database understands among which rows those that are gone are looked for.
func (r *run) knowsScope(ctx context.Context, s *plan.Step) error {
	where := s.Policy.Gone.Where
	if !where.Given() {
		return nil
	}
	err := r.db.Among(ctx, s.Table, "("+where.Value+"\n) AND 1 = 0", s.RecognisedBy(),
		func(*value.Batch) error { return nil })
	if err == nil || ctx.Err() != nil {
		return err
	}
	return fault.Because(fault.Wrong, err, fault.Problem{File: r.file.Path, Line: where.Line, Column: where.Column,
		What: fmt.Sprintf("where_sql: %q is not a condition on the rows of %s: %s", where.Value, s.Table.Name,
			fault.ProblemsOf(err)[0].What),
		Do: "write a condition in the SQL of this database, for example where_sql: kind = 'tug'"})
}
