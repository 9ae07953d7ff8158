package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/spool"
	"ladle/internal/core/write"
)

// finish proves what was written, and commits it or rolls it back.
func (r *run) finish(ctx context.Context, tx engine.Tx, w *write.Writer, earlier *check.Earlier, book *recorder) error {
	begun, booked := time.Now(), r.report.Seconds.Book
	in := w.Proof(ctx)
	in.Level, in.Claims, in.Earlier = r.Level, r.in.Claims(), earlier
	results, err := check.Run(ctx, tx, in)
	if err == nil {
		err = r.mistrusts(results)
	}
	if err != nil {
		return err
	}
	r.report.Checks = append(append(r.report.Checks, r.tallyChecks()...), results...)
	r.report.Seconds.Prove += since(begun) - (r.report.Seconds.Book - booked)
	if check.Failed(r.report.Checks) {
		c := reason.New(reason.CheckFailed)
		return r.refuse(w.Judgement, &c, nil)
	}
	if r.report.Newest, err = report.Newest(ctx, tx, w.Judgement, r.Newest); err != nil {
		return err
	}
	if err := r.listChanges(ctx, w.Judgement); err != nil {
		return err
	}
	if r.Try {
		if err := r.finishScript(ctx); err != nil {
			return err
		}
		r.report.Outcome = report.Tried
		return r.placeSetAside(w.Judgement, notLoaded)
	}
	if err := r.writeBook(ctx, tx, w, in, book); err != nil {
		return err
	}
	if err := r.placeSetAside(w.Judgement, loaded); err != nil {
		return err
	}
	if err := r.commit(ctx, tx); err != nil {
		if fault.ClassOf(err) == fault.Unknown {
			return err
		}
		return errors.Join(err, r.placeSetAside(w.Judgement, notLoaded))
	}
	r.report.Outcome = report.Loaded
	return nil
}

// writeBook writes the run into the logbook.
func (r *run) writeBook(ctx context.Context, tx engine.Tx, w *write.Writer, in check.Input, book *recorder) error {
	if book == nil {
		return nil
	}
	defer book.since(time.Now())
	if err := w.Uncompared(ctx, in); err != nil {
		return err
	}
	for i, f := range r.in.Plan.Feeds {
		if err := book.SetAside(ctx, f.Name(), r.notLoaded(w.Judgement, i).All()); err != nil {
			return err
		}
	}
	if err := book.Close(ctx); err != nil {
		return err
	}
	entry, err := r.entry(w.Judgement)
	if err != nil {
		return err
	}
	r.report.Run, err = logbook.Write(ctx, tx, entry)
	return err
}

// notLoaded are the lines of a feed that were set aside, or dropped by a person.
func (r *run) notLoaded(j *judge.Judgement, feed int) spool.RowSet {
	all := slices.Clone(j.SetAside[feed])
	for line := range r.in.Rows[feed].Dropped.All() {
		all.Add(line)
	}
	return all
}

// commit commits the transaction.
func (r *run) commit(ctx context.Context, tx engine.Tx) error {
	c := logbook.Commitment{Tx: tx, Token: r.token, Database: r.report.Database, Wait: r.CommitWait,
		Begins: r.Committing}
	if !r.NoLogbook {
		c.Reopen = r.Reopen
	}
	return c.Commit(ctx)
}

// tallyChecks is the part of the balance that the tallies alone must hold.
func (r *run) tallyChecks() []check.Result {
	var all []check.Result
	for _, s := range r.report.Steps {
		if !s.Tally.Balanced() {
			all = append(all, check.Result{Check: "balance", Table: s.Table,
				Says: fmt.Sprintf("step %s read %s, but its tally does not add up", s.Step,
					reason.Plural(s.Tally.Read, "line"))})
		}
	}
	return all
}
