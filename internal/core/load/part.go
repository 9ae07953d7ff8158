package load

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/write"
)

// attempt is a piece that becomes a part of the run.
type attempt struct {
	*parts
	all     *judge.Judgement // of all lines that are left
	piece   piece
	last    bool
	decided []settled // what the part settles besides its lines, by the step
	lines   []int64   // of the piece
}

// once is one transaction. It reports that what is left must be judged again: the database rejected rows, or something else
// comes of the lines than was foreseen.
func (a *attempt) once(ctx context.Context, careful bool) (again bool, err error) {
	if a.lines, err = a.piece.all(); err != nil {
		return false, err
	}
	a.sumUp()
	alone := a.in.Plan
	if a.piece.step != nil {
		alone = a.in.Plan.Only(a.piece.step.Step)
	}
	locked := alone.Locked()
	if a.last { // what the ladle file claims holds for all of them
		locked = a.in.Plan.Locked()
	}
	tx, err := a.db.Begin(ctx, locked, a.ownTables(), a.mode(careful))
	if err != nil {
		return false, err
	}
	defer func() {
		if rollback := tx.Rollback(); rollback != nil && err == nil {
			err = rollback
		}
	}()
	if err := a.claim(ctx, tx); err != nil {
		return false, err
	}
	if a.committed != nil {
		if err := logbook.Undisturbed(ctx, tx, a.token, a.report.Run, a.committed); err != nil {
			return false, err
		}
	}
	if a.piece.step == nil {
		return false, a.finish(ctx, tx, nil, nil)
	}
	return a.write(ctx, tx, alone, careful)
}

// write judges the lines of the piece by themselves, writes and proves them.
func (a *attempt) write(ctx context.Context, tx engine.Tx, alone *plan.Plan, careful bool) (again bool, err error) {
	s, begun := a.piece.step, time.Now()
	cut, err := a.in.Rows[s.Feed.Number].Cut(slices.Values(a.lines), "")
	if cut != nil {
		defer cut.Close()
	}
	if err != nil {
		return false, err
	}
	rejected := &judge.Rejections{}
	in := a.in.Judging(tx)
	in.Plan, in.Rows = alone, make([]*clean.Rows, len(a.in.Rows))
	in.Rows[s.Feed.Number] = cut
	in.Rejected, in.Answers, in.Resident = rejected, a.answers, a.ResidentKeys
	j, err := judge.Judge(ctx, in)
	if err != nil {
		return false, err
	}
	defer j.Close()
	a.report.Seconds.Judge += since(begun)
	if is := j.Steps[0].Tally; is.Added != a.piece.added ||
		is.Updated != a.piece.updated && (a.piece.pending == nil || is.Updated+is.Unchanged != a.piece.updated) {
		return true, nil
	}
	if why := a.tooLarge(j); why != nil {
		return false, a.refuseRest(a.all, why, nil)
	}
	before := maps.Clone(a.written[write.Writing])
	w := &write.Writer{Judgement: j, Tx: tx, Rejected: rejected, Progress: a.progressOf}
	book := a.newRecorder(tx)
	book.InPart(a.part(), a.committed)
	w.Recorder = book
	earlier, err := check.LookBefore(ctx, tx, w.Proof(ctx))
	if err != nil {
		return false, err
	}
	if err := a.trust(ctx, tx, w, careful); err != nil {
		return false, err
	}
	begun, booked := time.Now(), a.report.Seconds.Book
	again, err = w.Write(ctx)
	a.report.Seconds.Write += since(begun) - (a.report.Seconds.Book - booked)
	if again || err != nil {
		a.written[write.Writing] = before
		a.rejected.AddFrom(rejected, s.Number, a.lines)
		return again, err
	}
	return false, a.finish(ctx, tx, &written{w, earlier, j}, book)
}

// written is what a part has written.
type written struct {
	*write.Writer
	earlier   *check.Earlier
	judgement *judge.Judgement
}

// progressOf adds up the rows of a step, of those that all parts write.
func (a *attempt) progressOf(phase write.Phase, step string, rows, _ int64) {
	y := a.report.Steps[a.piece.step.Number].Tally
	a.progress(phase, step, rows, y.Added+y.Updated)
}

// part is the part that the piece becomes.
func (a *attempt) part() logbook.Part {
	p := logbook.Part{Number: 1, Lines: int64(len(a.lines)), Most: a.InParts, Last: a.last}
	if a.committed != nil {
		p.Number = a.committed.Number + 1
	}
	if a.piece.step != nil {
		p.Step = a.piece.step.Name
	}
	return p
}

// finish proves what was written, if anything was, and commits it.
func (a *attempt) finish(ctx context.Context, tx engine.Tx, w *written, book *recorder) error {
	begun, booked := time.Now(), a.report.Seconds.Book
	proof := check.Input{}
	if w != nil {
		proof = w.Proof(ctx)
		proof.Earlier = w.earlier
	}
	proof.Level = a.Level
	if a.last {
		proof.Claims = a.in.Claims()
	}
	results, err := check.Run(ctx, tx, proof)
	if err == nil {
		err = a.mistrusts(results)
	}
	if err != nil {
		return err
	}
	a.report.Seconds.Prove += since(begun) - (a.report.Seconds.Book - booked)
	if check.Failed(results) {
		a.report.Checks = append(slices.Clone(a.in.Stated()), results...)
		return a.checkFailed()
	}
	a.checks = check.Together(a.checks, results)
	if a.last {
		a.report.Checks = slices.Concat(a.in.Stated(), a.tallyChecks(), a.checks)
		if check.Failed(a.report.Checks) {
			return a.checkFailed()
		}
		if a.report.Newest, err = report.Newest(ctx, tx, a.all, a.Newest); err != nil {
			return err
		}
	}
	if book == nil {
		book = a.newRecorder(tx)
		book.InPart(a.part(), a.committed)
	}
	now, id, err := a.writeBook(ctx, tx, w, proof, book)
	if err != nil {
		return err
	}
	if a.last {
		if err := a.placeSetAside(a.all, loaded); err != nil {
			return err
		}
	}
	if err := a.commitPart(ctx, tx); err != nil {
		if a.last && fault.ClassOf(err) != fault.Unknown {
			err = errors.Join(err, a.placeSetAside(a.all, a.others()))
		}
		return err
	}
	return a.took(ctx, w, now, id)
}

// checkFailed refuses the part, and what is left.
func (a *attempt) checkFailed() error {
	why := reason.New(reason.CheckFailed)
	if a.committed != nil {
		why = reason.New(reason.CheckFailedInPart)
	}
	return a.refuseRest(a.all, &why, nil)
}

// others says what became of the lines that were not set aside.
func (a *attempt) others() string {
	if a.committed == nil {
		return notLoaded
	}
	return partlyLoaded
}

// writeBook writes the part into the logbook, and returns what parts the run has then, and its number.
func (a *attempt) writeBook(ctx context.Context, tx engine.Tx, w *written, proof check.Input, book *recorder) (
	now *logbook.Parts, id int64, err error) {
	defer book.since(time.Now())
	entry := &logbook.Run{Token: a.token, Kind: logbook.Load, LadleFile: a.file.Base(), LadleSum: a.file.Sum,
		Program: a.Program, User: a.user, Level: string(a.Level), Started: a.started, Parts: &logbook.Parts{}}
	for step, d := range a.decided {
		s := a.all.Steps[step]
		if d.lines.Len() > 0 {
			entry.Steps = append(entry.Steps, stepEntry(s, d.tally))
			if err := book.Done(ctx, step, s.Name, d.lines.All()); err != nil {
				return nil, 0, err
			}
		}
	}
	if w != nil {
		if err := w.Uncompared(ctx, proof); err != nil {
			return nil, 0, err
		}
		if err := book.Done(ctx, a.piece.step.Number, a.piece.step.Name, slices.Values(a.lines)); err != nil {
			return nil, 0, err
		}
		entry.Steps = append(entry.Steps, stepEntry(a.piece.step, w.judgement.Steps[0].Tally))
		for _, g := range w.judgement.Growths {
			entry.Steps = append(entry.Steps, growthEntry(g))
		}
	}
	if a.last {
		for i, f := range a.in.Plan.Feeds {
			if err := book.SetAside(ctx, f.Name(), a.notLoaded(a.all, i).All()); err != nil {
				return nil, 0, err
			}
		}
		for _, s := range a.all.Steps {
			if n := s.Tally.SetAside; n > 0 {
				entry.Steps = append(entry.Steps, stepEntry(s, judge.Tally{Read: n, SetAside: n}))
			}
		}
		entry.Checks = logbook.Held(a.report.Checks)
	}
	if a.last || a.committed == nil {
		if entry.Inputs, err = a.inputEntries(a.all); err != nil {
			return nil, 0, err
		}
		for i := range entry.Inputs {
			if !a.last { // which lines are set aside is known when the last part is in
				entry.Inputs[i].SetAside = 0
			}
		}
	}
	if now, err = book.Part(ctx, a.part(), a.committed); err != nil {
		return nil, 0, err
	}
	if a.committed != nil {
		return now, a.report.Run, logbook.Add(ctx, tx, entry)
	}
	id, err = logbook.Write(ctx, tx, entry)
	return now, id, err
}

func (a *attempt) commitPart(ctx context.Context, tx engine.Tx) error {
	part := a.part()
	if engine.ClusterOf(a.db) != nil {
		if err := logbook.Announce(ctx, tx, a.token, part.Number); err != nil {
			return err
		}
	}
	c := logbook.Commitment{Tx: tx, Token: a.token, Part: &part, Database: a.report.Database, Wait: a.CommitWait,
		Begins: a.Committing, Reopen: a.Reopen}
	return c.Commit(ctx)
}

// took notes that the part is committed.
func (a *attempt) took(ctx context.Context, w *written, now *logbook.Parts, id int64) error {
	a.committed, a.here, a.report.Run = now, true, id
	for step, d := range a.decided {
		a.tallies[step], a.done[step] = a.tallies[step].Plus(d.tally), a.done[step].With(d.lines)
	}
	if w == nil {
		return nil
	}
	n := a.piece.step.Number
	a.tallies[n] = a.tallies[n].Plus(w.judgement.Steps[0].Tally)
	for _, line := range a.lines {
		a.done[n].Add(line)
	}
	a.lookups = together(a.lookups, report.Lookups(w.judgement))
	return a.listChanges(ctx, w.judgement)
}
