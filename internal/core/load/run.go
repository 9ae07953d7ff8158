// Package load conducts a load: it opens and reads the inputs (package intake), has every line judged (judge), asks a
// person, writes in one transaction (write), has the database checked (check), and commits or rolls back. [Run] does it
// all and returns the report.
package load

import (
	"context"
	"errors"
	"time"

	"ladle/internal/core/changes"
	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/intake"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/script"
	"ladle/internal/core/spool"
	"ladle/internal/core/write"
)

// Options say how a load runs.
type Options struct {
	Try       bool        // roll back at the end
	Again     bool        // load inputs into tables without a key even if they were loaded before
	Removal   bool        // rows that are gone from the file may be removed without a question
	NoLogbook bool        // the run is not recorded, and can't be undone
	Level     check.Level // how much is checked; all where it is empty
	Corrected []string    // set-aside files whose lines a person has corrected; INPUT=FILE, where the name doesn't tell
	First     int64       // only so many lines of each input are read; 0 for all
	SetAside  string      // the folder for set-aside lines; that of the ladle file where it is empty
	Newest    int         // the newest rows of each table that are told, at most; 0 for the usual number
	Program   string      // the version of the program, for the logbook

	// Ask is shown what would be done, in sum and row by row, and returns the answer of the person; nil means yes.
	Ask func(context.Context, *report.Report, changes.Walk) (bool, error)

	// AskSimilar is shown, before Ask, each new name that looks like another one, unless the ladle file says what
	// becomes of it, and returns the answer of the person, or judge.ErrStopped; nil means that none is added.
	AskSimilar func(context.Context, judge.SimilarQuestion) (bool, error)

	// AskKnown is shown, before a file is read through, the run in which the same ladle file loaded the same files, and
	// returns the answer of the person whether to go on; nil means yes.
	AskKnown func(context.Context, *logbook.Run) (bool, error)

	// Begins hears that the load begins: no run is known that loaded the same files. nil when nobody listens.
	Begins func() error

	// Progress hears how far a phase is; nil when nobody listens.
	Progress func(Progress)

	// Others are databases that queries of inputs read, by the names that the ladle file gives them.
	Others map[string]engine.Database

	// Change is given what becomes of each row, once it is sure that the database takes all of it and before the
	// commit;
	// nil when nobody wants to know.
	Change func(changes.Record) error

	// Committing hears that the commit begins, after which nothing can be taken back; nil when nobody listens.
	Committing func()

	// Script asks for the load as an SQL script, once it was rehearsed; nil when nobody wants one. It goes with Try.
	Script *Script

	// Reopen connects to the database once more, when a commit ended without an answer; nil when that can't be done.
	Reopen logbook.Reopen

	// Retrying hears that an attempt, from 1, failed by what others do, and that another one follows; nil when nobody
	// listens.
	Retrying func(attempt int, why error)

	// Retries is how often a transaction that others stood in the way of is done anew, from judging on. Below zero it is the
	// usual number: none, but where a transaction can't keep others out.
	Retries int

	// InParts has parts of so many lines, which add or change a row, committed by themselves; 0 for one transaction. GoOn is
	// the number of such a run, of which parts are committed: it goes on with the others.
	InParts, GoOn int64

	CommitWait   time.Duration // for the answer to the commit; 0 for the usual time
	ResidentKeys int64         // the number of keys that are held in memory at a time; 0 for the usual one
}

// Progress is how far a phase is.
type Progress struct {
	Phase string // reading, writing or proving
	What  string // the input or step
	Done  int64
	Of    int64
	Unit  string // bytes or rows
}

// run is a load at work.
type run struct {
	Options
	file     *ladlefile.File
	db       engine.Database
	in       *intake.Intake
	report   *report.Report
	rejected *judge.Rejections // what the database rejected while writing
	answers  judge.Answers     // of the person, about names that look like others
	written  map[write.Phase]map[string]int64
	token    string
	user     string // of the database
	started  time.Time
	failed   int              // attempts
	why      string           // the last of them failed
	denied   []*engine.Denied // what the user may not do
	script   *script.Script
	adding   script.Additions         // of a script in standard SQL
	loaded   map[int]spool.RowSet     // lines that earlier runs have loaded, by the step: they are left out
	parts    *parts                   // of a load in parts
	trusted  bool                     // the database may have looked up no parents, see trust
	sums     func() ([]string, error) // the checksums of the inputs, see sumUp
}

// Run loads what the ladle file says into the database. The report says how it ended; the error, a *fault.Fault or
// of the context, that it could not be done. Without an outcome of Loaded the database is as before.
func Run(ctx context.Context, file *ladlefile.File, db engine.Database, o Options) (*report.Report, error) {
	if o.Level == "" {
		o.Level = check.Cells
	}
	r := &run{Options: o, file: file, db: db, rejected: &judge.Rejections{}, answers: judge.Answers{},
		token: logbook.NewToken(), started: time.Now()}
	if err := r.retry(ctx, r.open); err != nil {
		return nil, err
	}
	defer r.in.Close()
	if goOn, err := r.known(ctx); err != nil || !goOn {
		return r.report, err
	}
	if r.Begins != nil {
		if err := r.Begins(); err != nil {
			return nil, err
		}
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
	if r.parts != nil {
		err := r.parts.load(ctx)
		r.report.Seconds.Total = since(r.started)
		return r.report, err
	}
	attempt := r.attempt
	if r.denied != nil { // a rehearsal by a user who may only read
		attempt = r.judgeOnly
	}
	err := r.retry(ctx, attempt)
	if err == nil {
		r.noteRetries()
	}
	r.report.Seconds.Total = since(r.started)
	return r.report, err
}

func since(start time.Time) float64 { return time.Since(start).Seconds() }

// open opens the inputs, and asks before a file is read whether the database will do what the load asks of it.
func (r *run) open(ctx context.Context) (err error) {
	if r.standard() {
		if err := script.Apart(r.file); err != nil {
			return err
		}
	}
	for _, part := range r.file.Parts { // what is wrong with one of several ladle files is said of that one
		in, err := intake.Open(ctx, part, r.db, intake.Options{First: r.First, Others: r.Others})
		if err != nil {
			return err
		}
		in.Close()
	}
	if r.in, err = intake.Open(ctx, r.file, r.db, intake.Options{Corrected: r.Corrected, First: r.First,
		Others: r.Others}); err != nil {
		return err
	}
	r.report = report.New(r.in.Plan, r.in.FileNames(), r.Level, r.db.Notes())
	if engine.ClusterOf(r.db) != nil {
		r.report.Notes = append(r.report.Notes, unheld(r.in.Plan)...)
	}
	if r.standard() {
		r.adding, err = script.Loosen(r.in.Plan)
	} else if err = r.in.Foresee(ctx, r.db); err == nil {
		err = r.mayRun(ctx)
	}
	if err == nil {
		err = r.mayScript(ctx)
	}
	if err == nil {
		err = r.beginParts(ctx)
	}
	if err != nil {
		r.in.Close()
	}
	return err
}

// read reads the inputs.
func (r *run) read(ctx context.Context) error {
	err := r.in.Read(ctx, func(input string, done, of int64) { r.tell("reading", input, done, of, "bytes") })
	if err != nil {
		return err
	}
	for i, rows := range r.in.Rows {
		r.report.Inputs[i].Lines = rows.Len()
		r.report.Did(r.in.Plan.Feeds[i], rows, func(position int64) reason.Place { return r.in.Place(i, position) })
	}
	r.report.Notes = append(r.report.Notes, r.in.Notes...)
	r.report.Seconds.Read = since(r.started)
	return r.leaveOutLoaded(ctx)
}

func (r *run) tell(phase, what string, done, of int64, unit string) {
	if r.Progress != nil {
		r.Progress(Progress{phase, what, done, of, unit})
	}
}

// progress adds up the rows of a step that were written or proved.
func (r *run) progress(p write.Phase, step string, rows, of int64) {
	if r.written[p] == nil {
		r.written[p] = map[string]int64{}
	}
	r.written[p][step] += rows
	r.tell(string(p), step, r.written[p][step], of, "rows")
}

// judge judges all lines against the database as a transaction sees it, and brings that into the report. asking says
// that a person is there to answer.
func (r *run) judge(ctx context.Context, db engine.Reader, asking bool) (*judge.Judgement, error) {
	begun := time.Now()
	in := r.in.Judging(db)
	in.Rejected, in.Answers, in.Resident, in.Loaded = r.rejected, r.answers, r.ResidentKeys, r.loaded
	if r.parts != nil {
		in.Loaded = r.parts.excluded()
	}
	if asking {
		in.AskSimilar = r.AskSimilar
	}
	j, err := judge.Judge(ctx, in)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(r.report.Fill(j), r.report.Compare(ctx, db, j, r.in.Place)); err != nil {
		j.Close()
		return nil, err
	}
	if r.parts != nil {
		r.parts.account(j)
	}
	r.report.Seconds.Judge += since(begun)
	return j, nil
}

// ask judges without locks, shows what would be done, and waits for the answer.
func (r *run) ask(ctx context.Context) (bool, error) {
	j, err := r.judge(ctx, r.db, true)
	if errors.Is(err, judge.ErrStopped) {
		r.report.Outcome = report.Declined
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer j.Close()
	if err := r.report.Sample(ctx, j); err != nil {
		return false, err
	}
	if why, err := r.stops(ctx, r.db, j, nil); why != nil || err != nil {
		return false, r.refuse(j, why, err)
	}
	if err := r.placeSetAside(j, notLoaded); err != nil { // the reasons belong to the question
		return false, err
	}
	if r.report.Queries, err = r.queries(ctx); err != nil {
		return false, err
	}
	r.report.Outcome = report.Asking
	asked := time.Now()
	yes, err := r.Ask(ctx, r.report, func(take func(changes.Record) error) error {
		return changes.Each(ctx, j, r.in.Place, take)
	})
	r.started = r.started.Add(time.Since(asked))
	if err != nil || !yes {
		r.report.Outcome = report.Declined
	}
	return yes, err
}

// attempt judges under the lock, writes, proves and commits; rows that the database rejects are set aside, and
// everything is judged and written anew without them.
func (r *run) attempt(ctx context.Context) error {
	var shown *report.Report
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

// mode is that of the transaction.
func (r *run) mode(careful bool) (m engine.Mode) {
	if careful {
		m |= engine.Careful
	}
	if r.Try {
		m |= engine.Rehearsal
	}
	return m
}

// judgeOnly judges without locks, and writes nothing.
func (r *run) judgeOnly(ctx context.Context) error {
	j, err := r.judge(ctx, r.db, false)
	if err != nil {
		return err
	}
	defer j.Close()
	if why, err := r.stops(ctx, r.db, j, nil); why != nil || err != nil {
		return r.refuse(j, why, err)
	}
	if err := r.report.Sample(ctx, j); err != nil {
		return err
	}
	if err := r.listChanges(ctx, j); err != nil {
		return err
	}
	r.report.Outcome = report.Tried
	return r.placeSetAside(j, notLoaded)
}

// listChanges tells what becomes of each row.
func (r *run) listChanges(ctx context.Context, j *judge.Judgement) error {
	if r.Change == nil {
		return nil
	}
	return changes.Each(ctx, j, r.in.Place, r.Change)
}

// once is one transaction. It reports that it must be tried again when the database rejected rows.
func (r *run) once(ctx context.Context, shown *report.Report, careful bool) (again bool, err error) {
	r.written = map[write.Phase]map[string]int64{}
	tx, err := r.db.Begin(ctx, r.in.Plan.Locked(), r.ownTables(), r.mode(careful))
	if err != nil {
		return false, err
	}
	defer func() {
		if rollback := tx.Rollback(); rollback != nil && err == nil {
			err = rollback
		}
	}()
	if err := r.claim(ctx, tx); err != nil {
		return false, err
	}
	j, err := r.judge(ctx, tx, false)
	if err != nil {
		return false, err
	}
	defer j.Close()
	if input, same, err := r.in.SameRows(ctx, tx); err != nil || !same {
		return false, r.refuse(j, &reason.Cause{Why: reason.Why{Kind: reason.QueryChanged, Text: input}}, err)
	}
	if why, err := r.stops(ctx, tx, j, shown); why != nil || err != nil {
		return false, r.refuse(j, why, err)
	}
	if r.standard() {
		return false, r.writeStandard(ctx, tx, j)
	}
	if r.Try {
		if err := r.report.Sample(ctx, j); err != nil {
			return false, err
		}
	}
	w := &write.Writer{Judgement: j, Tx: tx, Rejected: r.rejected, Progress: r.progress}
	book := r.newRecorder(tx)
	if book != nil {
		w.Recorder = book
	}
	if err := r.beginScript(ctx, tx, w); err != nil {
		return false, err
	}
	defer r.endScript()
	earlier, err := check.LookBefore(ctx, tx, w.Proof(ctx))
	if err != nil {
		return false, err
	}
	r.sumUp()
	if err := r.trust(ctx, tx, w, careful); err != nil {
		return false, err
	}
	begun, booked := time.Now(), r.report.Seconds.Book
	again, err = w.Write(ctx)
	r.report.Seconds.Write += since(begun) - (r.report.Seconds.Book - booked)
	if err != nil || again {
		return again, err
	}
	if done, err := r.unrehearsed(ctx, j); done || err != nil {
		return false, err
	}
	return false, r.finish(ctx, tx, w, earlier, book)
}

// stops is why the load must stop before the first write; nil when it need not. shown is what a person was asked about.
func (r *run) stops(ctx context.Context, db engine.Reader, j *judge.Judgement, shown *report.Report) (*reason.Cause,
	error) {
	r.report.Checks = append([]check.Result{}, r.in.Stated()...)
	switch over := r.file.Limit.Passed(r.report.LinesSetAside(), r.report.LinesRead()); {
	case check.Failed(r.report.Checks):
		return differingTotals(r.report.Checks), nil
	case over:
		c := reason.Because(reason.Why{Kind: reason.OverLimit, Limit: r.report.LinesRead(), Text: r.report.Limit})
		c.Length = r.report.LinesSetAside()
		return &c, nil
	case shown != nil && !r.report.SameTallies(shown):
		c := reason.New(reason.TablesChanged)
		return &c, nil
	}
	if why := r.mayRemove(j); why != nil {
		return why, nil
	}
	if why := r.tooLarge(j); why != nil && r.parts == nil {
		return why, nil
	}
	return r.loadedBefore(ctx, db)
}

// differingTotals is the cause for totals that are not what the senders state.
func differingTotals(results []check.Result) *reason.Cause {
	var wrong []string
	for _, c := range results {
		if !c.OK {
			wrong = append(wrong, c.Claim+": "+c.Says)
		}
	}
	return &reason.Cause{Why: reason.Why{Kind: reason.TotalsDiffer, List: reason.List(wrong...)}}
}

// mayRemove is why the rows that are gone can't be removed; nil when they can.
func (r *run) mayRemove(j *judge.Judgement) *reason.Cause {
	for _, s := range j.Steps {
		g := s.Gone
		n := g.Rows()
		if n == 0 {
			continue
		}
		c := reason.Because(reason.Why{Table: s.Table.Name})
		switch most := s.Policy.Gone.AtMost; {
		case g.Unknown > 0:
			c.Kind, c.Limit = reason.RemovalUnknown, g.Unknown
		case g.References != nil:
			c.Kind, c.List = reason.RemovalReferenced, reason.List(g.References...)
		case most.Passed(n, g.Among) && g.Removed() == 0:
			c.Kind, c.Limit, c.Length, c.Text = reason.MarksOverCap, g.Among, n, most.String()
		case most.Passed(n, g.Among):
			c.Kind, c.Limit, c.Length, c.Text = reason.RemovalOverCap, g.Among, n, most.String()
		case !r.Removal && r.Ask == nil && g.Removed() > 0:
			c.Kind, c.Limit = reason.RemovalNotAllowed, n
		default:
			continue
		}
		return &c
	}
	return nil
}

// refuse ends the load with nothing changed and the set-aside files written, unless there is an error.
func (r *run) refuse(j *judge.Judgement, why *reason.Cause, err error) error {
	if err != nil {
		return err
	}
	r.report.Outcome, r.report.Why = report.Refused, why
	return r.placeSetAside(j, notLoaded)
}
