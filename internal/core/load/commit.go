package load

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
)

// finish proves what was written, and commits it or takes it back.
func (r *run) finish(ctx context.Context, tx engine.Tx, j *judgement, done check.Done) error {
	begun, booked := time.Now(), r.report.Seconds.Book
	results, err := check.Run(ctx, tx, done)
	if err != nil {
		return err
	}
	r.report.Checks = append(append(r.report.Checks, r.tallyChecks()...), results...)
	r.report.Seconds.Prove += since(begun) - (r.report.Seconds.Book - booked)
	if check.Failed(r.report.Checks) {
		return r.refuse(j, "a check failed, so everything was taken back")
	}
	if r.report.Newest, err = j.newest(ctx, tx); err != nil {
		return err
	}
	if r.Try {
		r.report.Outcome = Tried
		return r.placeAside(j, false)
	}
	if err := r.writeBook(ctx, tx, j, done); err != nil {
		return err
	}
	if err := r.placeAside(j, true); err != nil {
		return err
	}
	if err := r.commit(context.WithoutCancel(ctx), tx); err != nil { // an interrupt now would leave the outcome open
		if fault.ClassOf(err) == fault.Unknown {
			return err
		}
		return errors.Join(err, r.placeAside(j, false))
	}
	r.report.Outcome = Loaded
	r.noteMended()
	return nil
}

// commit commits. When that ends without a clear answer, the logbook is asked whether it took place.
func (r *run) commit(ctx context.Context, tx engine.Tx) error {
	failed := tx.Commit(ctx)
	if failed == nil {
		return nil
	}
	_ = tx.Rollback() // the error that counts is that of the commit
	reopen := r.Reopen
	if r.NoLogbook {
		reopen = nil
	}
	return logbook.Settle(ctx, reopen, r.token, r.report.Database, failed)
}

// tallyChecks is the part of the balance that the tallies alone must hold.
func (r *run) tallyChecks() []check.Result {
	var all []check.Result
	for _, s := range r.report.Steps {
		if !s.Tally.Balanced() {
			all = append(all, check.Result{Check: "balance", Table: s.Table,
				Says: fmt.Sprintf("step %s read %d rows, but its tally has another sum", s.Step, s.Tally.Read)})
		}
	}
	return all
}
