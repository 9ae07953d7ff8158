package logbook

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
)

// Options say how a run is taken back.
type Options struct {
	Program string // the version of the program

	// Ask is shown what would be done and gives the answer of the person; nil means yes.
	Ask func(context.Context, *Report) (bool, error)

	// Reopen connects to the database once more, when the commit ended without an answer; nil when that can't be done.
	Reopen Reopen
}

// Outcome is how the taking back of a run ended.
type Outcome string

const (
	Undone   Outcome = "undone"
	Refused  Outcome = "refused"  // nothing was changed
	Declined Outcome = "declined" // the person said no; nothing was changed
	Asking   Outcome = "asking"   // not ended yet: this is what would be done
)

// Report is the account of taking a run back.
type Report struct {
	Outcome  Outcome        `json:"outcome"`
	Why      string         `json:"why,omitempty"`
	Problems []string       `json:"problems,omitempty"` // the first rows that stand in the way
	Database string         `json:"database"`
	Of       *Run           `json:"of"`              // what is taken back
	Run      int64          `json:"run,omitempty"`   // the number of this run in the logbook
	Tables   []*TableUndone `json:"tables"`          // in the order in which they are dealt with
	Notes    []string       `json:"notes,omitempty"` // what will take long, and why
	Checks   []check.Result `json:"checks,omitempty"`
	Seconds  float64        `json:"seconds"`
}

// TableUndone is what is done with the rows of one table.
type TableUndone struct {
	Table    string `json:"table"`
	Removed  int64  `json:"removed"`  // rows that the run added
	Restored int64  `json:"restored"` // rows that it updated get their old values
	PutBack  int64  `json:"put_back"` // rows that it removed
}

// Status is the exit status of the program for this outcome.
func (r *Report) Status() int {
	switch r.Outcome {
	case Refused:
		return 1
	case Declined:
		return 2
	}
	return 0
}

// undoing takes a run back in one transaction.
type undoing struct {
	*book
	tx     engine.Tx
	begun  time.Time
	report *Report
	before map[*schema.Table]check.Before
	added  map[*schema.Table]*rowSet // rows that the run added, where some of the same table are restored too
	kept   map[string]bool           // rows that can't be removed, by table and identity
}

// TakeBack removes what a run added and restores what it updated and removed, in the reverse order of writing, in one
// transaction that checks prove; it is itself a run. It refuses where rows were changed since, or others stand on them.
func TakeBack(ctx context.Context, db engine.Database, id int64, o Options) (*Report, error) {
	started := time.Now()
	run, err := Find(ctx, db, id)
	if err != nil {
		return nil, err
	}
	s, err := db.Schema(ctx)
	if err != nil {
		return nil, err
	}
	report := &Report{Of: run, Database: s.Database}
	if why := run.final(); why != "" {
		report.Outcome, report.Why = Refused, why
		return report, nil
	}
	if o.Ask != nil {
		goOn, err := once(ctx, db, s, run, report, nil)
		if err != nil || !goOn {
			return report, err
		}
		report.Outcome = Asking
		asked := time.Now()
		yes, err := o.Ask(ctx, report)
		started = started.Add(time.Since(asked))
		if err != nil || !yes {
			report.Outcome = Declined
			return report, err
		}
	}
	_, err = once(ctx, db, s, run, report, &o)
	report.Seconds = time.Since(started).Seconds()
	return report, err
}

// final says why a run can't be taken back, whatever became of its rows.
func (r *Run) final() string {
	switch {
	case r.Kind == Undo:
		return fmt.Sprintf("run %d took run %d back; load the files again to have its rows back", r.ID, r.Undoes)
	case r.UndoneBy != 0:
		return fmt.Sprintf("run %d was taken back already, by run %d", r.ID, r.UndoneBy)
	case r.Level != string(check.Cells):
		return fmt.Sprintf("run %d was loaded with --check-level %s, so its rows were not read back, and it can't be told whether they were changed since", r.ID, r.Level)
	}
	return ""
}

// once does it all in a transaction, and takes it back again where o is nil. It tells whether all could be done.
func once(ctx context.Context, db engine.Database, s *schema.Schema, run *Run, report *Report, o *Options) (done bool, err error) {
	b, err := openBook(ctx, db, s, run.Token)
	if err != nil {
		return false, err
	}
	*report = Report{Of: run, Database: report.Database, Notes: b.slow()}
	var own []*schema.Table
	if o != nil {
		own = Tables()
	}
	tx, err := db.Begin(ctx, b.locked(), own, true)
	if err != nil {
		return false, err
	}
	defer func() {
		if rollback := tx.Rollback(); rollback != nil && err == nil {
			err = rollback
		}
	}()
	b.db = tx
	u := &undoing{book: b, tx: tx, begun: time.Now(), report: report, before: map[*schema.Table]check.Before{}, added: map[*schema.Table]*rowSet{}, kept: map[string]bool{}}
	if goOn, err := u.may(ctx); err != nil || !goOn {
		return false, err
	}
	if goOn, err := u.do(ctx); err != nil || !goOn {
		return false, err
	}
	if report.Checks, err = u.prove(ctx); err != nil {
		return false, err
	}
	if check.Failed(report.Checks) {
		return false, u.refuse("a check failed, so everything was left as it was")
	}
	if o == nil {
		return true, nil
	}
	return true, u.commit(ctx, db, o)
}

// locked lists the tables that must stand still: those of the run, those that they point at, and those that point at them.
func (b *book) locked() []*schema.Table {
	var all []*schema.Table
	add := func(t *schema.Table) {
		if t != nil && !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, c := range b.chunks {
		add(b.schema.Table(c.Table))
	}
	for _, t := range slices.Clone(all) {
		for _, r := range t.Relations {
			add(r.ParentTable)
		}
		for _, p := range b.schema.PointingAt(t) {
			add(p.Child)
		}
	}
	return all
}

func (u *undoing) refuse(why string) error {
	u.report.Outcome, u.report.Why = Refused, why
	return nil
}

// may holds the rows against what the run left, and notes what is there before anything is changed.
func (u *undoing) may(ctx context.Context) (bool, error) {
	since, err := u.compare(ctx)
	if err != nil {
		return false, err
	}
	if !since.Same() {
		u.report.Problems = since.Problems
		return false, u.refuse(since.why(u.report.Of.ID))
	}
	for _, c := range u.chunks {
		t := u.schema.Table(c.Table)
		if _, counted := u.before[t]; counted {
			continue
		}
		n, exact, err := u.tx.Count(ctx, t)
		if err != nil {
			return false, err
		}
		u.before[t] = check.Before{Rows: n, Exact: exact}
	}
	return true, nil
}

// manyGone is the number of rows of a table whose removal takes long without an index on what points at them.
const manyGone = 10_000

// slow notes relations without an index: for each row that goes, all rows must be read that could point at it.
func (b *book) slow() (notes []string) {
	gone := map[*schema.Table]int64{}
	for _, c := range b.chunks {
		if c.What == Added {
			gone[b.schema.Table(c.Table)] += c.Rows
		}
	}
	for _, t := range b.schema.Tables {
		for _, p := range b.schema.PointingAt(t) {
			if gone[t] > manyGone && !p.Child.Indexed(p.Columns) {
				notes = append(notes, fmt.Sprintf("%s has no index on %s, so taking %d rows of %s back takes long; an index there makes it fast",
					p.Child.Name, strings.Join(p.Columns, ", "), gone[t], t.Name))
			}
		}
	}
	return notes
}

// why says why a run can't be taken back.
func (s *Since) why(id int64) string {
	var parts []string
	add := func(n int64, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	add(s.Changed, "were changed since")
	add(s.Gone, "are not there any more")
	add(s.Back, "that it removed are there again")
	add(s.Untold, "can't be told from others")
	return fmt.Sprintf("of the rows of run %d, %s", id, strings.Join(parts, ", "))
}

// of gives the account of a table.
func (u *undoing) of(table string) *TableUndone {
	for _, t := range u.report.Tables {
		if t.Table == table {
			return t
		}
	}
	t := &TableUndone{Table: table}
	u.report.Tables = append(u.report.Tables, t)
	return t
}

// commit writes the run into the logbook and ends the transaction.
func (u *undoing) commit(ctx context.Context, db engine.Database, o *Options) error {
	who, err := db.User(ctx)
	if err != nil {
		return err
	}
	of := u.report.Of
	run := &Run{Token: NewToken(), Kind: Undo, Undoes: of.ID, LadleFile: of.LadleFile, LadleSum: of.LadleSum, Program: o.Program, User: who,
		Level: string(check.Cells), Started: u.begun}
	for _, t := range u.report.Tables {
		run.Steps = append(run.Steps, Step{Name: "undo", Table: t.Table, Added: t.PutBack, Updated: t.Restored, Removed: t.Removed})
	}
	run.Checks = Held(u.report.Checks)
	if u.report.Run, err = Write(ctx, u.tx, run); err != nil {
		return err
	}
	if err := u.tx.Commit(context.WithoutCancel(ctx)); err != nil { // an interrupt now would leave the outcome open
		_ = u.tx.Rollback() // the error that counts is that of the commit
		if err := Settle(context.WithoutCancel(ctx), o.Reopen, run.Token, u.report.Database, err); err != nil {
			return err
		}
	}
	u.report.Outcome = Undone
	return nil
}
