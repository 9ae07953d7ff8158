// Package load brings rows of files into tables: it judges every row before the first is written, writes all of them
// in one transaction, has the database checked, and commits or takes everything back.
package load

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"ladle/internal/core/aside"
	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/logbook"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
)

// Options say how a load runs.
type Options struct {
	Try     bool     // roll back at the end
	Again   bool     // load inputs into tables without a key even if they were loaded before
	Program string   // the version of the program, for the logbook
	Mended  []string // set-aside files whose lines a person has mended; INPUT=FILE, where the name doesn't tell

	// Ask is shown what would be done and gives the answer of the person; nil means yes.
	Ask func(context.Context, *Report) (bool, error)

	// AskSimilar is shown, before Ask, each new name that looks like another one, unless the ladle file says what
	// becomes of it, and gives the answer of the person; nil means that none is added.
	AskSimilar func(context.Context, Similar) (bool, error)

	NoLogbook bool        // the run is not written into the logbook, and can't be taken back
	Level     check.Level // how much is checked; all where it is empty

	// AskKnown is shown, before a file is read through, the run in which the same ladle file loaded the same files, and
	// gives the answer of the person whether to go on; nil means yes.
	AskKnown func(context.Context, *logbook.Run) (bool, error)

	Removal bool  // rows that are gone from the file may be removed without a question
	First   int64 // only so many rows of each input are read; 0 for all

	// Tell hears how far a phase is; nil when nobody listens.
	Tell func(Progress)

	// Reopen connects to the database once more, when a commit ended without an answer; nil when that can't be done.
	Reopen logbook.Reopen

	ResidentKeys int64 // the number of keys that are held in memory at a time; 0 for the usual one
}

// Progress is how far a phase is.
type Progress struct {
	Phase string // reading, writing or proving
	What  string // the file or step
	Done  int64
	Of    int64
	Unit  string // bytes or rows
}

// run is a load at work.
type run struct {
	Options
	file      *ladlefile.File
	db        engine.Database
	plan      *ladlefile.Plan
	sources   []source.Table // of the plan's feeds
	originals []source.Table // the same, without mended lines
	groups    aside.Groups
	rows      []*clean.Rows
	dir       string // for temporary files
	resident  int64
	refused   map[refusal]string          // additions that the database does not take
	rejected  map[int]*rejections         // rows of steps that it does not take
	unlike    map[refusal]string          // additions that look too much like others
	accepted  map[Similar]bool            // the answers of the person about such additions
	reading   bool                        // nothing is written, not even to be taken back
	asking    bool                        // a person is there to answer
	halved    map[*ladlefile.Block]rowSet // rows of which a second half is set aside
	carried   map[int][]*spool.Log        // what was told of them, by the step of the second half
	done      map[string]int64
	report    *Report
	token     string
	user      string // of the database
	notes     []string
	totals    []check.Stated // of the plan's totals
	started   time.Time
}

// Run loads what the ladle file says into the database. The report tells how it ended; the error, a *fault.Fault or
// of the context, that it could not be done. Without an outcome of Loaded the database is as before.
func Run(ctx context.Context, file *ladlefile.File, db engine.Database, o Options) (*Report, error) {
	r := newRun(file, db, o)
	defer r.close()
	if err := r.prepare(ctx); err != nil {
		return nil, err
	}
	if goOn, err := r.known(ctx); err != nil || !goOn {
		return r.report, err
	}
	if err := r.read(ctx); err != nil {
		return nil, err
	}
	if r.Ask != nil {
		goOn, err := r.ask(ctx)
		if err != nil || !goOn {
			return r.report, err
		}
	}
	err := r.attempt(ctx)
	if r.report != nil {
		r.report.Seconds.Total = since(r.started)
	}
	return r.report, err
}

// newRun makes a run that is yet to begin.
func newRun(file *ladlefile.File, db engine.Database, o Options) *run {
	r := &run{Options: o, file: file, db: db, dir: os.TempDir(), resident: o.ResidentKeys, refused: map[refusal]string{},
		rejected: map[int]*rejections{}, accepted: map[Similar]bool{}, done: map[string]int64{}, token: logbook.NewToken(), started: time.Now()}
	if r.resident == 0 {
		r.resident = resident
	}
	return r
}

func (r *run) close() {
	r.forget()
	for _, s := range r.sources {
		s.Close()
	}
	for _, rows := range r.rows {
		rows.Close()
	}
}

// prepare opens the inputs and holds the ladle file against them and the database.
func (r *run) prepare(ctx context.Context) error {
	opened := map[string]source.Table{}
	headers := map[string]source.Header{}
	var failed []error
	for _, in := range r.file.Inputs {
		s, err := source.Open(in.Paths, in.Asked)
		if err == nil && r.First > 0 {
			s = source.First(s, r.First)
		}
		if err != nil {
			failed = append(failed, err)
			continue
		}
		headers[in.Name.Value], opened[in.Name.Value] = s.Header(), s
		r.sources = append(r.sources, s)
	}
	if failed != nil {
		return source.Together(errors.Join(failed...))
	}
	db, err := r.db.Schema(ctx)
	if err != nil {
		return err
	}
	if r.plan, err = ladlefile.Resolve(r.file, headers, db); err != nil {
		return err
	}
	if err := r.mayRun(ctx); err != nil {
		return err
	}
	used := make([]source.Table, len(r.plan.Feeds))
	for i, f := range r.plan.Feeds {
		used[i] = opened[f.Input.Name.Value]
		delete(opened, f.Input.Name.Value)
	}
	for _, s := range opened {
		s.Close()
	}
	r.sources, r.originals = used, slices.Clone(used)
	return r.mend()
}

func (r *run) rejections(step int) *rejections {
	if r.rejected[step] == nil {
		r.rejected[step] = &rejections{}
	}
	return r.rejected[step]
}

func (r *run) tell(phase, what string, more, of int64) {
	r.done[phase+what] += more
	r.told(phase, what, r.done[phase+what], of)
}

func (r *run) told(phase, what string, done, of int64) {
	if r.Tell != nil {
		unit := "rows"
		if phase == "reading" {
			unit = "bytes"
		}
		r.Tell(Progress{phase, what, done, of, unit})
	}
}

// read cleans all inputs into spools.
func (r *run) read(ctx context.Context) error {
	notes := r.notes
	for i, f := range r.plan.Feeds {
		rows, err := clean.Read(ctx, r.sources[i], f.Recipe, f.Columns, r.dir, func(done int64) {
			r.told("reading", f.Input.Name.Value, done, r.sources[i].Size())
		})
		if err != nil {
			return err
		}
		r.rows = append(r.rows, rows)
		if m, ok := r.sources[i].(*aside.Mended); ok {
			if err := m.Unused(); err != nil {
				return err
			}
		}
		guesses, err := guessed(r.sources[i])
		if err != nil {
			return err
		}
		notes = append(notes, guesses...)
	}
	if err := r.addUp(); err != nil {
		return err
	}
	r.report = r.newReport()
	r.report.Notes = append(r.report.Notes, notes...)
	r.report.Seconds.Read = since(r.started)
	return nil
}

// ask judges without locks, shows what would be done, and waits for the answer.
func (r *run) ask(ctx context.Context) (bool, error) {
	begun := time.Now()
	r.asking = true
	j, err := r.judge(ctx, r.db)
	r.asking = false
	defer j.close()
	if err != nil {
		return false, err
	}
	r.fill(j)
	if err := r.sample(ctx, j); err != nil {
		return false, err
	}
	r.report.Seconds.Judge = since(begun)
	if stop, err := r.mayWrite(ctx, r.db, j, nil); stop || err != nil {
		return false, err
	}
	if err := r.placeAside(j, false); err != nil { // the reasons belong to the question
		return false, err
	}
	r.report.Outcome = Asking
	asked := time.Now()
	yes, err := r.Ask(ctx, r.report)
	r.started = r.started.Add(time.Since(asked))
	if err != nil || !yes {
		r.report.Outcome = Declined
	}
	return yes, err
}

// attempt judges under the lock, writes, proves and commits; rows that the database does not take are set aside, and
// everything is judged and written anew without them.
func (r *run) attempt(ctx context.Context) error {
	var shown *Report
	if r.Ask != nil {
		before := *r.report
		shown = &before
	}
	for careful := false; ; {
		again, err := r.once(ctx, shown, careful)
		if errors.Is(err, engine.ErrCareful) && !careful {
			careful = true
			continue
		}
		if err != nil || !again {
			return err
		}
		shown = nil // what is set aside now, nobody could know before
	}
}

// once is one transaction. It says that it must be tried again when the database did not take all rows.
func (r *run) once(ctx context.Context, shown *Report, careful bool) (again bool, err error) {
	tx, err := r.db.Begin(ctx, r.locked(), r.own(), careful)
	if err != nil {
		return false, err
	}
	defer func() {
		if rollback := tx.Rollback(); rollback != nil && err == nil {
			err = rollback
		}
	}()
	begun := time.Now()
	j, err := r.judge(ctx, tx)
	defer j.close()
	if err != nil {
		return false, err
	}
	r.fill(j)
	r.report.Seconds.Judge += since(begun)
	if stop, err := r.mayWrite(ctx, tx, j, shown); stop || err != nil {
		return false, err
	}
	if r.Try {
		if err := r.sample(ctx, j); err != nil {
			return false, err
		}
	}
	older, err := check.Older(ctx, tx, j.work(ctx), j.before)
	if err != nil {
		return false, err
	}
	prints, err := check.Prints(ctx, tx, j.work(ctx))
	if err != nil {
		return false, err
	}
	if r.keepsBook() {
		j.book = logbook.NewWriter(tx, r.token)
	}
	begun, booked := time.Now(), r.report.Seconds.Book
	again, err = j.write(ctx, tx)
	r.report.Seconds.Write += since(begun) - (r.report.Seconds.Book - booked)
	if err != nil || again {
		clear(r.done)
		return again, err
	}
	return false, r.finish(ctx, tx, j, check.Done{Work: j.work(ctx), Removed: j.removals(), Before: j.before, Older: older, Prints: prints,
		Level: r.level(), Claims: r.claims()})
}

// mayWrite tells whether the load must stop before the first write, and reports why.
func (r *run) mayWrite(ctx context.Context, db engine.Reader, j *judgement, shown *Report) (stop bool, err error) {
	r.report.Checks = nil
	if why := r.stated(); why != "" {
		return true, r.refuse(j, why)
	}
	if refused, err := r.overLimit(j); refused || err != nil {
		return true, err
	}
	if shown != nil && !r.report.sameTallies(shown) {
		return true, r.refuse(j, "somebody changed the tables since the question was asked; what would be done now is "+
			"something else than what you agreed to")
	}
	if why := r.mayRemove(j); why != "" {
		return true, r.refuse(j, why)
	}
	why, err := r.loadedBefore(ctx, db)
	if why == "" || err != nil {
		return err != nil, err
	}
	return true, r.refuse(j, why)
}

func (r *run) overLimit(j *judgement) (bool, error) {
	if !r.file.Limit.Passed(r.report.Aside(), r.report.Read()) {
		return false, nil
	}
	return true, r.refuse(j, fmt.Sprintf("%d of %d lines are set aside, and set_aside_limit is %s", r.report.Aside(),
		r.report.Read(), r.report.Limit))
}

// refuse ends the load with nothing changed and the set-aside files written.
func (r *run) refuse(j *judgement, why string) error {
	r.report.Outcome, r.report.Why = Refused, why
	return r.placeAside(j, false)
}
