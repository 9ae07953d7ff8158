package logbook

import (
	"context"
	"errors"
	"fmt"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
)

// Reopen connects to the database once more.
type Reopen func(context.Context) (engine.Database, error)

// Settle tells whether a commit that ended with the error failed took place all the same: over a new connection it looks
// for the run with the token. It is nil when the run is there, failed when it is not, and of class Unknown when the
// database can't be asked.
func Settle(ctx context.Context, reopen Reopen, token, database string, failed error) error {
	there, err := tookPlace(ctx, reopen, token)
	switch {
	case err != nil:
		return fault.Because(fault.Unknown, failed, fault.Problem{File: database,
			What: "the commit got no answer, and the database can't be asked whether it took place: " + failed.Error(),
			Do:   fmt.Sprintf("look for token %s in its table %s: when it is there, all was done; when not, nothing was", token, runs.Name)})
	case there:
		return nil
	}
	return failed
}

// tookPlace locks the logbook first: a commit that is still under way, or a session that the server has not given up
// yet, holds it.
func tookPlace(ctx context.Context, reopen Reopen, token string) (there bool, err error) {
	if reopen == nil {
		return false, errors.New("there is no way to ask")
	}
	db, err := reopen(ctx)
	if err != nil {
		return false, err
	}
	defer db.Close()
	tx, err := db.Begin(ctx, Tables(), Tables(), true)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, tx.Rollback()) }()
	return Has(ctx, tx, token)
}
