package undo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// dropping takes a run back that made tables: it drops them where they are as they were made, empty, and no other table
// refers to them.
type dropping struct {
	db     engine.Database
	report *Report
	made   []logbook.Made
	begun  time.Time
}

// errStop ends a change of tables that is refused.
var errStop = errors.New("refused")

// dropMade drops the tables that a run made.
func dropMade(ctx context.Context, db engine.Database, s *schema.Schema, report *Report, o Options) error {
	made, err := report.Of.Made(ctx, db)
	if err != nil {
		return err
	}
	d := &dropping{db, report, made, time.Now()}
	for _, m := range slices.Backward(made) {
		report.Tables = append(report.Tables, &Table{Table: m.Table, Dropped: true})
	}
	if err := d.may(ctx, db, s); err != nil || report.Outcome == Refused {
		return err
	}
	if o.Ask != nil {
		report.Outcome = Asking
		yes, err := o.Ask(ctx, report, nil)
		if err != nil || !yes {
			report.Outcome = Declined
			return err
		}
		d.begun = time.Now()
	}
	return d.drop(ctx, s, o)
}

// may looks whether the tables can be dropped, and refuses where they can't.
func (d *dropping) may(ctx context.Context, r engine.Reader, s *schema.Schema) error {
	d.report.Problems = []string{}
	for _, m := range d.made {
		problems := m.Altered(s)
		if t := s.Table(m.Table); t != nil {
			n, _, err := r.Count(ctx, t)
			if err != nil {
				return err
			}
			if n > 0 {
				problems = append(problems, fmt.Sprintf("%s has %s", m.Table, reason.Plural(n, "row")))
			}
			for _, p := range s.PointingAt(t) {
				if !d.makes(p.Child) {
					problems = append(problems, fmt.Sprintf("%s refers to %s", p.Child.Name, m.Table))
				}
			}
		}
		d.report.Problems = append(d.report.Problems, problems...)
	}
	if len(d.report.Problems) > 0 {
		why := reason.Because(reason.Why{Kind: reason.TablesInUse, Limit: d.report.Of.ID})
		d.report.Outcome, d.report.Why = Refused, &why
	}
	return nil
}

func (d *dropping) makes(t *schema.Table) bool {
	return slices.ContainsFunc(d.made, func(m logbook.Made) bool { return m.Table == t.Name })
}

// drop drops the tables once they are locked and still as they were looked at, and notes that as a run.
func (d *dropping) drop(ctx context.Context, s *schema.Schema, o Options) error {
	change := engine.Restructuring{Own: logbook.Tables(), May: func(r engine.Reader) error {
		now, err := d.db.Schema(ctx)
		if err == nil {
			err = d.may(ctx, r, now)
		}
		if err == nil && d.report.Outcome == Refused {
			err = errStop
		}
		return err
	}}
	for _, m := range slices.Backward(d.made) {
		t := s.Table(m.Table)
		change.Lock = append(change.Lock, t)
		change.Statements = append(change.Statements, engine.Statement{SQL: "DROP TABLE " + d.db.NameOf(t),
			Back: m.Statements})
	}
	tx, err := d.db.Restructure(ctx, change)
	if err != nil && d.report.Outcome == Refused {
		return nil
	}
	if err != nil {
		return err
	}
	u := &undoing{tx: tx, begun: d.begun, report: d.report}
	d.report.Checks = []check.Result{}
	return u.commit(ctx, d.db, &o)
}
