package logbook

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
)

// Reopen connects to the database once more.
type Reopen func(context.Context) (engine.Database, error)

// Commitment is a transaction with a run in it that is ready to be committed.
type Commitment struct {
	Tx       engine.Tx
	Token    string        // of the run
	Database string        // its name, for messages
	Reopen   Reopen        // nil when the logbook can't be asked
	Wait     time.Duration // for an answer; 0 for the usual time
	Begins   func()        // hears that the commit begins; nil when nobody listens
}

// answerWait is how long a database may take to answer a commit. Checks that it defers to the end, and copies of it
// that must have the rows too, can take minutes.
const answerWait = 15 * time.Minute

// afterInterrupt is how long a commit that is under way may take once somebody wants to stop, and how long the
// question whether it took place.
const afterInterrupt = 900 * time.Millisecond

// Commit commits. It can't be interrupted, but then waits for the answer only a moment longer. When the answer does not
// come, or is lost with the connection, the logbook is asked over a new one: nil when the run is there. Of class
// fault.Unknown when it can't be asked.
func (c Commitment) Commit(ctx context.Context) error {
	if c.Begins != nil {
		c.Begins()
	}
	wait := c.Wait
	if wait == 0 {
		wait = answerWait
	}
	within, stop := context.WithTimeout(context.WithoutCancel(ctx), wait)
	defer stop()
	defer context.AfterFunc(ctx, func() { time.AfterFunc(afterInterrupt, stop) })()
	failed := c.Tx.Commit(within)
	if failed == nil {
		return nil
	}
	_ = c.Tx.Rollback() // the error that counts is that of the commit
	if fault.ClassOf(failed) != fault.Unknown {
		return failed
	}
	if ctx.Err() != nil && !errors.Is(within.Err(), context.DeadlineExceeded) {
		asking, stop := context.WithTimeout(context.WithoutCancel(ctx), afterInterrupt)
		defer stop()
		return c.settle(asking, fault.Because(fault.Unknown, failed, fault.Problem{File: c.Database,
			What: "interrupted before the database answered the commit"}))
	}
	if within.Err() != nil {
		failed = fault.Because(fault.Unknown, failed, fault.Problem{File: c.Database,
			What: fmt.Sprintf("the database did not answer the commit within %s", wait)})
	}
	return c.settle(context.WithoutCancel(ctx), failed)
}

// settle finds out whether a commit that ended without an answer took place.
func (c Commitment) settle(ctx context.Context, failed error) error {
	there, err := c.tookPlace(ctx)
	switch {
	case err != nil:
		return fault.Because(fault.Unknown, failed, fault.Problem{File: c.Database,
			What: "the commit got no answer, and the database can't be asked whether it took place: " +
				failed.Error(),
			Do: fmt.Sprintf("look for token %s in the table %s: if it is there, everything was loaded; if not, "+
				"nothing was",
				c.Token, runs.Name)})
	case there:
		return nil
	}
	return fault.OfClass(fault.Failed, failed)
}

// tookPlace locks the logbook first: a commit that is still under way, or a session that the server has not given up
// yet, holds it.
func (c Commitment) tookPlace(ctx context.Context) (there bool, err error) {
	if c.Reopen == nil {
		return false, errors.New("there is no way to ask")
	}
	db, err := c.Reopen(ctx)
	if err != nil {
		return false, err
	}
	defer db.Close()
	tx, err := db.Begin(ctx, Tables(), Tables(), engine.Careful)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, tx.Rollback()) }()
	return Has(ctx, tx, c.Token)
}
