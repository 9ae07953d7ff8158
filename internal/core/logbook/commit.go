package logbook

import (
	"cmp"
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
	fenced := c.mark()
	if c.Part != nil {
		fenced = announced(c.Token, c.Part.Number)
	}
	if err = pass(ctx, tx, fenced); err != nil {
		return false, err
	}
	return false, tx.Commit(ctx)
}

// Announce has this transaction, which is about to commit a part of a run, be one that fence can keep from doing so.
func Announce(ctx context.Context, tx engine.Tx, token string, part int) error {
	return pass(ctx, tx, announced(token, part))
}

// announced is what is added to the runs and taken away again for a part: users of a cluster may delete only there.
func announced(token string, part int) mark { return runMark(fmt.Sprintf("%s %d", token, part)) }

// mark is a row of the logbook that is there once a transaction is committed.
type mark struct {
	table  *schema.Table
	by     []string // the columns that only one row has so
	row    []cell
	name   string // tells it from other marks of the table
	advice string // for a person who looks for it
}

// mark is that of the commit.
func (c Commitment) mark() mark {
	if c.Part == nil {
		return runMark(c.Token)
	}
	return mark{table: spans, by: []string{"token", "place"}, row: c.Part.chunk(c.Token),
		name: fmt.Sprintf("%s %d", c.Token, c.Part.Number),
		advice: fmt.Sprintf("look for token %s with place %d in the table %s: if it is there, the part was loaded; if not, it "+
			"was not", c.Token, -c.Part.Number, spans.Name)}
}

// runMark is the mark of a run.
func runMark(token string) mark {
	none := text("")
	return mark{table: runs, by: []string{"token"}, name: token,
		row: []cell{text(token), none, number(0), none, none, none, none, none, none, none, number(format)},
		advice: fmt.Sprintf("look for token %s in the table %s: if it is there, everything was loaded; if not, nothing was",
			token, runs.Name)}
}

// which are the rows that the mark is among.
func (m mark) which() which {
	w := which{by: m.by}
	for _, name := range m.by {
		w.values = append(w.values, m.row[slices.Index(m.table.Names(), name)-1]) // the first column is id
	}
	return w
}

// in reports whether the mark is in the logbook.
func (m mark) in(ctx context.Context, db engine.Reader) (found bool, err error) {
	err = read(ctx, db, m.table, m.which(), []string{"id"}, func(record) error {
		found = true
		return nil
	})
	return found, err
}

// pass adds marks of one table and takes them away again: of several transactions of a cluster that do so at once, one is
// committed. The rows have ids of their own, below zero, so that the numbers of runs are without gaps.
func pass(ctx context.Context, tx engine.Tx, all ...mark) error {
	if len(all) == 0 {
		return nil
	}
	slices.SortFunc(all, func(a, b mark) int { return cmp.Compare(a.name, b.name) }) // in the same order everywhere
	t, by := all[0].table, all[0].by
	added, keys := newRows(t), value.NewBatch(engine.Types(t, by))
	for i, m := range all {
		added.add(m.row...)
		sum := sha256.Sum256([]byte(m.name))
		added.batch.Columns[0].Nums[i] = -1 - int64(binary.BigEndian.Uint64(sum[:])>>1)
		for c, name := range by {
			keys.Columns[c].AppendFrom(&added.batch.Columns[slices.Index(t.Names(), name)], i)
		}
	}
	if added.err != nil {
		return added.err
	}
	rejected, err := tx.Insert(ctx, t, t.Names(), added.batch)
	if err == nil && len(rejected) > 0 {
		err = &engine.OwnRowError{Table: t.Name, What: "take a row", Why: rejected[0].Why}
	}
	if err == nil {
		_, err = tx.Remove(ctx, t, by, keys)
	}
	return err
}

// ClaimedIn is the table to which Claim adds rows, and from which it takes them away again.
func ClaimedIn() *schema.Table { return runs }

// Claim has this transaction, which has just begun, be the only one of its cluster that changes rows of some tables: of
// those that claim them too, the others wait or are ended.
func Claim(ctx context.Context, tx engine.Tx, tables []*schema.Table) error {
	var marks []mark
	for _, t := range tables {
		marks = append(marks, runMark(fmt.Sprintf("rows of %x", sha256.Sum256([]byte(t.Name)))[:40]))
	}
	return pass(ctx, tx, marks...)
}
