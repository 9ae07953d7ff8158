package logbook

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Reopen connects to the database once more.
type Reopen func(context.Context) (engine.Database, error)

// Commitment is a transaction with a run in it that is ready to be committed.
type Commitment struct {
	Tx       engine.Tx
	Token    string        // of the run
	Part     *Part         // of the run, that is committed; nil for a run without parts
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
			Do: c.mark().advice})
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
	if engine.ClusterOf(db) != nil {
		return c.fence(ctx, db)
	}
	tx, err := db.Begin(ctx, Tables(), Tables(), engine.Careful)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, tx.Rollback()) }()
	return c.mark().in(ctx, tx)
}

// mostFences is how often fence tries, a second apart.
const mostFences = 30

// fence finds out whether the run is in the logbook of a cluster, where nothing keeps its commit from taking place later, on
// a server that can't be asked. So where it isn't there, a transaction of its own adds its mark and takes it away again:
// once that is committed, the cluster takes the run no more, which would add the same mark.
func (c Commitment) fence(ctx context.Context, db engine.Database) (there bool, err error) {
	for n := range mostFences {
		if n > 0 {
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
				return false, ctx.Err()
			}
		}
		there, err = c.claim(ctx, db)
		if !errors.Is(err, engine.ErrContended) {
			break
		}
	}
	return there, err
}

func (c Commitment) claim(ctx context.Context, db engine.Database) (there bool, err error) {
	tx, err := db.Begin(ctx, Tables(), Tables(), 0)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, tx.Rollback()) }()
	if there, err = c.mark().in(ctx, tx); there || err != nil {
		return there, err
	}
	token := c.Token
	if c.Part != nil {
		token = announced(c.Token, c.Part.Number)
	}
	if err = pass(ctx, tx, token); err != nil {
		return false, err
	}
	return false, tx.Commit(ctx)
}

// Announce has this transaction, which is about to commit a part of a run, be one that fence can keep from doing so.
func Announce(ctx context.Context, tx engine.Tx, token string, part int) error {
	return pass(ctx, tx, announced(token, part))
}

// announced is the token that stands for a part among those of runs: users of a cluster may delete only there.
func announced(token string, part int) string { return fmt.Sprintf("%s %d", token, part) }

// mark is a row of the logbook that is there once a transaction is committed.
type mark struct {
	table *schema.Table
	which
	advice string // for a person who looks for it
}

// mark is that of the commit.
func (c Commitment) mark() mark {
	if c.Part == nil {
		return mark{runs, of(c.Token), fmt.Sprintf("look for token %s in the table %s: if it is there, everything was loaded; "+
			"if not, nothing was", c.Token, runs.Name)}
	}
	return mark{spans, at(c.Token, c.Part.place()),
		fmt.Sprintf("look for token %s with place %d in the table %s: if it is there, the part was loaded; if not, it was not",
			c.Token, c.Part.place(), spans.Name)}
}

// in reports whether the mark is in the logbook.
func (m mark) in(ctx context.Context, db engine.Reader) (found bool, err error) {
	err = read(ctx, db, m.table, m.which, []string{"id"}, func(record) error {
		found = true
		return nil
	})
	return found, err
}

// pass adds tokens to the runs and takes them away again: of several transactions of a cluster that do so at once, one is
// committed. The rows have ids of their own, below zero, so that the numbers of runs are without gaps.
func pass(ctx context.Context, tx engine.Tx, tokens ...string) error {
	slices.Sort(tokens) // in the same order in all transactions
	marks, none := newRows(runs), text("")
	for i, token := range tokens {
		marks.add(text(token), none, number(0), none, none, none, none, none, none, none, number(format))
		sum := sha256.Sum256([]byte(token))
		marks.batch.Columns[0].Nums[i] = -1 - int64(binary.BigEndian.Uint64(sum[:])>>1)
	}
	if marks.err != nil || len(tokens) == 0 {
		return marks.err
	}
	rejected, err := tx.Insert(ctx, runs, runs.Names(), marks.batch)
	if err == nil && len(rejected) > 0 {
		err = &engine.OwnRowError{Table: runs.Name, What: "take a row", Why: rejected[0].Why}
	}
	if err == nil {
		_, err = tx.Remove(ctx, runs, []string{"token"}, &value.Batch{Columns: marks.batch.Columns[1:2]})
	}
	return err
}

// ClaimedIn is the table to which Claim adds rows, and from which it takes them away again.
func ClaimedIn() *schema.Table { return runs }

// Claim has this transaction, which has just begun, be the only one of its cluster that changes rows of some tables: of
// those that claim them too, the others wait or are ended.
func Claim(ctx context.Context, tx engine.Tx, tables []*schema.Table) error {
	var tokens []string
	for _, t := range tables {
		tokens = append(tokens, fmt.Sprintf("rows of %x", sha256.Sum256([]byte(t.Name)))[:40])
	}
	return pass(ctx, tx, tokens...)
}
