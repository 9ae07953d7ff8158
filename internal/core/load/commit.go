package load

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
)

// finish proves what was written, and commits it or takes it back.
func (r *run) finish(ctx context.Context, tx engine.Tx, j *judgement, done check.Done) error {
	begun := time.Now()
	results, err := check.Run(ctx, tx, done)
	if err != nil {
		return err
	}
	r.report.Checks = append(r.tallyChecks(), results...)
	r.report.Seconds.Prove += since(begun)
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
	entry, err := r.logEntry(j)
	if err != nil {
		return err
	}
	if r.report.Run, err = logbook.Write(ctx, tx, entry); err != nil {
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
	if there, err := r.tookPlace(ctx); err == nil {
		if there {
			return nil
		}
		return failed
	}
	return fault.Because(fault.Unknown, failed, fault.Problem{File: r.report.Database,
		What: "the commit got no answer, and the database can't be asked whether it took place: " + failed.Error(),
		Do:   fmt.Sprintf("look for token %s in its table ladle_run: when it is there, all was loaded; when not, nothing was", r.token)})
}

// tookPlace asks the logbook, over a new connection, for this run. It locks the logbook first: a commit that is still
// under way, or a session that the server has not given up yet, holds it.
func (r *run) tookPlace(ctx context.Context) (there bool, err error) {
	if r.Reopen == nil {
		return false, errors.New("there is no way to connect again")
	}
	db, err := r.Reopen(ctx)
	if err != nil {
		return false, err
	}
	defer db.Close()
	tx, err := db.Begin(ctx, logbook.Tables(), logbook.Tables(), true)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, tx.Rollback()) }()
	return logbook.Has(ctx, tx, r.token)
}

func (r *run) logEntry(j *judgement) (*logbook.Run, error) {
	entry := &logbook.Run{Token: r.token, LadleFile: filepath.Base(r.file.Path), LadleSum: r.file.Sum, Program: r.Program,
		Started: r.started}
	sums := make([]string, len(r.sources)) // a file is read through for it once, however many steps it feeds
	for _, s := range j.steps {
		if sums[s.feed] == "" {
			var err error
			if sums[s.feed], err = r.sources[s.feed].Sum(); err != nil {
				return nil, err
			}
		}
		entry.Steps = append(entry.Steps, logbook.Step{Name: s.Name, Table: s.Table.Name, Input: s.Feed.Input.Name.Value,
			InputSum: sums[s.feed], Read: s.tally.Read, Added: s.tally.Added, Updated: s.tally.Updated, Removed: s.gone.removed(), Kept: s.tally.Kept,
			Repeated: s.tally.Repeated, SetAside: s.tally.SetAside})
	}
	return entry, nil
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
