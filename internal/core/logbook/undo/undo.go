// Package undo takes runs back.
//
// [TakeBack] removes what a run added and restores what it updated and removed, in the reverse order of writing, in one
// transaction that the checks of a load prove, and is itself a run in the logbook. It refuses where rows were changed
// since, or where others refer to them.
package undo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ladle/internal/core/changes"
	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// Options say how a run is taken back.
type Options struct {
	Program string // the version of the program

	// Ask is shown what would be done, in sum and row by row, and returns the answer of the person; nil means yes.
	Ask func(context.Context, *Report, changes.Walk) (bool, error)

	// Change is given what becomes of each row, before the commit; nil when nobody wants to know.
	Change func(changes.Record) error

	// Noted hears, before anything is done, what will take long, and why; nil when nobody listens.
	Noted func(note string)

	// Progress hears how far a phase is, in rows; nil when nobody listens.
	Progress func(phase string, done, of int64)

	// Committing hears that the commit begins, after which nothing can be taken back; nil when nobody listens.
	Committing func()

	// Reopen connects to the database once more, when the commit ended without an answer; nil when that can't be done.
	Reopen logbook.Reopen
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
	Outcome  Outcome        `json:"-"`
	Why      *reason.Cause  `json:"why,omitempty"`
	Problems []string       `json:"obstacles"` // the first rows that stand in the way
	Database string         `json:"database"`
	Of       *logbook.Run   `json:"undone"`        // what is taken back
	Run      int64          `json:"run,omitempty"` // the number of this run in the logbook
	Tables   []*Table       `json:"tables"`        // in the order in which they are dealt with
	Notes    []string       `json:"notes"`         // what will take long, and why
	Checks   []check.Result `json:"checks"`
	Seconds  float64        `json:"seconds"`
}

// Table is what is done with the rows of one table.
type Table struct {
	Table    string `json:"table"`
	Removed  int64  `json:"removed"`  // rows that the run added
	Restored int64  `json:"restored"` // rows that it updated get their old values
	PutBack  int64  `json:"put_back"` // rows that it removed
	Dropped  bool   `json:"dropped"`  // the run made it
}

// undoing takes a run back in one transaction.
type undoing struct {
	*logbook.Book
	tx      engine.Tx
	begun   time.Time
	report  *Report
	before  map[*schema.Table]check.Before
	earlier *check.Earlier
	added   map[*schema.Table]*logbook.KeySet // rows that the run added, where some of the same table are restored too
	kept    map[string]bool                   // rows that can't be removed, by table and identity
	keeping map[*schema.Relation]bool         // whether the database keeps rows that a relation refers to
	change  func(changes.Record) error
	told    func(phase string, done, of int64)
	done    int64 // rows of the phase
}

// tellOf tells of more rows of a phase.
func (u *undoing) tellOf(phase string, rows int64) {
	if u.done += rows; u.told != nil {
		u.told(phase, min(u.done, u.Total()), u.Total())
	}
}

// TakeBack removes what a run added and restores what it updated and removed, in the reverse order of writing, in one
// transaction that checks prove; it is itself a run. It refuses where rows were changed since, or others refer to them.
func TakeBack(ctx context.Context, db engine.Database, id int64, o Options) (*Report, error) {
	started := time.Now()
	run, err := logbook.Find(ctx, db, id)
	if err != nil {
		return nil, err
	}
	s, err := db.Schema(ctx)
	if err != nil {
		return nil, err
	}
	report := newReport(run, s.Database)
	if why := final(run); why != nil {
		report.Outcome, report.Why = Refused, why
		return report, nil
	}
	if run.Kind == logbook.Make {
		err := dropMade(ctx, db, s, report, o)
		report.Seconds = time.Since(started).Seconds()
		return report, err
	}
	if err := foresee(ctx, db, s, run, o); err != nil {
		return nil, err
	}
	if o.Ask != nil {
		goOn, err := once(ctx, db, s, run, report, nil, hears{told: o.Progress})
		if err != nil || !goOn {
			return report, err
		}
		report.Outcome = Asking
		asked := time.Now()
		yes, err := o.Ask(ctx, report, func(take func(changes.Record) error) error {
			return walk(ctx, db, s, run, take)
		})
		started = started.Add(time.Since(asked))
		if err != nil || !yes {
			report.Outcome = Declined
			return report, err
		}
	}
	_, err = once(ctx, db, s, run, report, &o, hears{o.Change, o.Progress, false})
	if errors.Is(err, engine.ErrBusy) {
		_, err = once(ctx, db, s, run, report, &o, hears{o.Change, o.Progress, true})
	}
	report.Seconds = time.Since(started).Seconds()
	return report, err
}

func newReport(run *logbook.Run, database string) *Report {
	return &Report{Of: run, Database: database, Problems: []string{}, Tables: []*Table{}, Notes: []string{},
		Checks: []check.Result{}}
}

// final is why a run can't be taken back, whatever became of its rows; nil when it may be possible.
func final(r *logbook.Run) *reason.Cause {
	why := reason.Why{Limit: r.ID}
	switch {
	case r.Kind == logbook.Undo:
		why.Kind, why.Text = reason.RunIsUndo, fmt.Sprint(r.Undoes)
	case r.UndoneBy != 0:
		why.Kind, why.Text = reason.RunUndone, fmt.Sprint(r.UndoneBy)
	case r.Kind == logbook.Load && r.Level != string(check.Cells):
		why.Kind, why.Text = reason.RunNotChecked, r.Level
	default:
		return nil
	}
	return &reason.Cause{Why: why}
}

// walk gives take what becomes of each row. All of it is kept first, so that no lock is held while a person reads.
func walk(ctx context.Context, db engine.Database, s *schema.Schema, run *logbook.Run,
	take func(changes.Record) error) error {
	kept := changes.NewKept()
	defer kept.Close()
	if _, err := once(ctx, db, s, run, newReport(run, s.Database), nil, hears{change: kept.Add}); err != nil {
		return err
	}
	return kept.Walk(take)
}

// foresee tells what will take long.
func foresee(ctx context.Context, db engine.Database, s *schema.Schema, run *logbook.Run, o Options) error {
	if o.Noted == nil {
		return nil
	}
	b, err := logbook.Open(ctx, db, s, run)
	if err != nil {
		return err
	}
	slow, err := slowRelations(ctx, db, b)
	for _, r := range slow {
		o.Noted(r.String())
	}
	return err
}

// hears is who hears of what is done, and how far it is; each may be nil.
type hears struct {
	change func(changes.Record) error
	told   func(phase string, done, of int64)
	slow   bool // without an index for the time of the transaction
}

// once does it all in a transaction, and takes it back again where o is nil. It reports whether all could be done.
func once(ctx context.Context, db engine.Database, s *schema.Schema, run *logbook.Run, report *Report,
	o *Options, to hears) (done bool, err error) {
	b, err := logbook.Open(ctx, db, s, run)
	if err != nil {
		return false, err
	}
	*report = *newReport(run, report.Database)
	slow, err := slowRelations(ctx, db, b)
	if err != nil {
		return false, err
	}
	for _, r := range slow {
		report.Notes = append(report.Notes, r.String())
	}
	var own []*schema.Table
	if o != nil {
		own = logbook.Tables()
	}
	tx, err := db.Begin(ctx, locked(b), own, engine.Careful)
	if err != nil {
		return false, err
	}
	defer func() {
		if rollback := tx.Rollback(); rollback != nil && err == nil {
			err = rollback
		}
	}()
	b.DB = tx
	u := &undoing{Book: b, tx: tx, begun: time.Now(), report: report, before: map[*schema.Table]check.Before{},
		added: map[*schema.Table]*logbook.KeySet{}, kept: map[string]bool{},
		keeping: map[*schema.Relation]bool{}, change: to.change, told: to.told}
	b.Progress = func(rows int64) { u.tellOf("comparing", rows) }
	if goOn, err := u.may(ctx); err != nil || !goOn {
		return false, err
	}
	u.done = 0
	fast, err := u.hasten(ctx, to.slow)
	if err != nil {
		return false, err
	}
	if goOn, err := u.do(ctx); err != nil || !goOn {
		return false, err
	}
	u.done = 0
	if report.Checks, err = u.prove(ctx); err != nil {
		return false, err
	}
	if check.Failed(report.Checks) {
		return false, u.refuse(reason.Why{Kind: reason.CheckFailed})
	}
	if o == nil {
		return true, nil
	}
	for _, end := range fast {
		if err := end(ctx); err != nil {
			return false, err
		}
	}
	return true, u.commit(ctx, db, o)
}

// locked lists the tables that must stand still: those of the run, those that they refer to, and those that refer to
// them.
func locked(b *logbook.Book) []*schema.Table {
	var all []*schema.Table
	add := func(t *schema.Table) {
		if t != nil && !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, c := range b.Chunks {
		add(b.Schema.Table(c.Table))
	}
	for _, t := range slices.Clone(all) {
		for _, r := range t.Relations {
			add(r.ParentTable)
		}
		for _, p := range b.Schema.PointingAt(t) {
			add(p.Child)
		}
	}
	return all
}

func (u *undoing) refuse(why reason.Why) error {
	c := reason.Because(why)
	u.report.Outcome, u.report.Why = Refused, &c
	return nil
}

// may holds the rows against what the run left, and notes what is there before anything is changed.
func (u *undoing) may(ctx context.Context) (bool, error) {
	since, err := u.Compare(ctx)
	if err != nil {
		return false, err
	}
	if !since.Same() {
		u.report.Problems = since.Problems
		return false, u.refuse(whyChanged(since, u.report.Of.ID))
	}
	for _, c := range u.Chunks {
		t := u.Schema.Table(c.Table)
		if _, counted := u.before[t]; counted {
			continue
		}
		n, exact, err := u.tx.Count(ctx, t)
		if err != nil {
			return false, err
		}
		u.before[t] = check.Before{Rows: n, Exact: exact}
	}
	u.earlier, err = check.Print(ctx, u.tx, u.input(ctx))
	return err == nil, err
}

// mostPairs is the number of pairs of a row that goes and one that could refer to it, over which looking at all of them
// takes more than a few seconds.
const mostPairs = 50_000_000

// slowRelation is a relation to rows that go for which no index is there: for each of them, all rows must be read that
// could refer to it.
type slowRelation struct {
	schema.Link
	parent     *schema.Table
	gone, rows int64
}

func slowRelations(ctx context.Context, db engine.Reader, b *logbook.Book) (all []slowRelation, err error) {
	gone := map[*schema.Table]int64{}
	for _, c := range b.Chunks {
		if c.What == logbook.Added {
			gone[b.Schema.Table(c.Table)] += c.Rows
		}
	}
	for _, t := range b.Schema.Tables {
		for _, p := range b.Schema.PointingAt(t) {
			if gone[t] == 0 || p.Child.Indexed(p.Columns) {
				continue
			}
			rows, _, err := db.Count(ctx, p.Child)
			if err != nil {
				return nil, err
			}
			if gone[t]*rows > mostPairs {
				all = append(all, slowRelation{p, t, gone[t], rows})
			}
		}
	}
	return all, nil
}

func (r slowRelation) String() string {
	return fmt.Sprintf("%s has no index on %s: without one, its %s rows are read for each of the %s rows of %s that go; an "+
		"index there makes it fast", r.Child.Name, strings.Join(r.Columns, ", "), reason.Count(r.rows),
		reason.Count(r.gone), r.parent.Name)
}

// hasten makes slow relations fast, where the database can, and returns what takes that back. It does nothing where slow
// says so.
func (u *undoing) hasten(ctx context.Context, slow bool) (ends []func(context.Context) error, err error) {
	h, able := u.tx.(engine.Hastener)
	if slow || !able {
		return nil, nil
	}
	all, err := slowRelations(ctx, u.tx, u.Book)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		end, err := h.Hasten(ctx, r.Child, r.Columns)
		if err != nil {
			return nil, err
		}
		if end != nil {
			ends = append(ends, end)
		}
	}
	return ends, nil
}

// whyChanged is why a run can't be taken back whose rows are not as it left them.
func whyChanged(s *logbook.Since, id int64) reason.Why {
	var parts []string
	add := func(n int64, one, many string) {
		if n == 1 {
			parts = append(parts, "1 "+one)
		} else if n > 0 {
			parts = append(parts, reason.Count(n)+" "+many)
		}
	}
	add(s.Changed, "has been changed since", "have been changed since")
	add(s.Gone, "no longer exists", "no longer exist")
	add(s.Back, "that it removed exists again", "that it removed exist again")
	add(s.Untold, "can't be identified", "can't be identified")
	return reason.Why{Kind: reason.RowsChangedSince, Limit: id, List: reason.List(parts...)}
}

// of returns the account of a table.
func (u *undoing) of(table string) *Table {
	for _, t := range u.report.Tables {
		if t.Table == table {
			return t
		}
	}
	t := &Table{Table: table}
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
	level := string(check.Cells)
	if of.Kind == logbook.Make {
		level = ""
	}
	run := &logbook.Run{Token: logbook.NewToken(), Kind: logbook.Undo, Undoes: of.ID, LadleFile: of.LadleFile,
		LadleSum: of.LadleSum, Program: o.Program, User: who,
		Level: level, Started: u.begun}
	for _, t := range u.report.Tables {
		run.Steps = append(run.Steps, logbook.Step{Name: "undo", Table: t.Table,
			Tally: logbook.Tally{Added: t.PutBack, Updated: t.Restored}, Removed: t.Removed})
	}
	run.Checks = logbook.Held(u.report.Checks)
	if u.report.Run, err = logbook.Write(ctx, u.tx, run); err != nil {
		return err
	}
	c := logbook.Commitment{Tx: u.tx, Token: run.Token, Database: u.report.Database, Reopen: o.Reopen,
		Begins: o.Committing}
	if err := c.Commit(ctx); err != nil {
		return err
	}
	u.report.Outcome = Undone
	return nil
}
