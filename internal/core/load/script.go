package load

import (
	"context"
	"io"

	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/script"
	"ladle/internal/core/write"
)

// Script is a script that is asked for.
type Script struct {
	To   io.Writer
	Path string // of the file that To writes

	// Standard has it be in standard SQL, judged against the tables of a database without rows, which are those of a server
	// that can't be asked; else it is for the database's own client.
	Standard bool

	// Unrehearsed has it written from what was judged, with nothing written to the database. That is faster, and it doesn't
	// show what only the database rejects.
	Unrehearsed bool
}

// standard reports whether a script in standard SQL is asked for.
func (r *run) standard() bool { return r.Script != nil && r.Script.Standard }

// mayScript asks, before a file is read, whether the load can be written as a script: that takes a rehearsal that writes.
func (r *run) mayScript(ctx context.Context) error {
	if r.Script == nil || r.standard() {
		return nil
	}
	if engine.ClusterOf(r.db) != nil {
		return fault.New(fault.Wrong, "a script locks tables, and on a Galera cluster that holds on one node only",
			"have it written for a server by itself, or load")
	}
	if r.denied != nil {
		return fault.New(fault.Wrong, "a script is written from a rehearsal, which this user may not do: "+
			r.denied[0].What, "ask for the privilege (ladle rights lists them all), or use another user")
	}
	for _, q := range script.Queries(r.in.Plan, r.db.Script()) {
		if err := r.db.Foresee(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// beginScript has all that is written from now on written down.
func (r *run) beginScript(ctx context.Context, tx engine.Tx, w *write.Writer) (err error) {
	if r.Script == nil {
		return nil
	}
	o := r.scriptOptions()
	o.Dialect, o.Locked, o.Unrehearsed = r.db.Script(), r.in.Plan.Locked(), r.Script.Unrehearsed
	o.RunWith = o.Dialect.Run(r.Script.Path)
	r.script, err = script.New(ctx, tx, w.Judgement, o)
	if err == nil {
		w.Tx, w.Next = r.script, r.script.Next
	}
	return err
}

func (r *run) scriptOptions() script.Options {
	files := map[string]string{}
	for _, in := range r.report.Inputs {
		files[in.Input] = in.File
	}
	return script.Options{Plan: r.in.Plan, Program: r.Program, Place: r.placeOfLine(), Claims: r.in.Claims(), Files: files}
}

// writeStandard writes what was judged in standard SQL.
func (r *run) writeStandard(ctx context.Context, db engine.Reader, j *judge.Judgement) error {
	r.report.Lookups = []report.Lookup{} // whether names are new, only the server knows
	r.report.Notes = append(r.report.Notes, "judged without the rows that are there: which keys are there already, and "+
		"whether lookups find their names, shows when the script runs")
	if err := script.NewStandard(db, j, r.adding, r.scriptOptions()).Write(ctx, r.Script.To); err != nil {
		return err
	}
	r.report.Outcome = report.Tried
	return r.placeSetAside(j, notLoaded)
}

// placeOfLine returns what says where a line of an input stands, by its number.
func (r *run) placeOfLine() func(feed int, line int64) (reason.Place, error) {
	batches := make([]clean.Batch, len(r.in.Rows))
	return func(feed int, line int64) (reason.Place, error) {
		b := &batches[feed]
		if line < b.First || line >= b.First+int64(b.Len()) {
			if err := r.in.Rows[feed].Read(r.in.Rows[feed].Holding(line), nil, b); err != nil {
				return reason.Place{}, err
			}
		}
		return r.in.Place(feed, b.Position(int(line-b.First))), nil
	}
}

// finishScript writes the script of what was written and checked.
func (r *run) finishScript(ctx context.Context) error {
	if r.script == nil {
		return nil
	}
	r.report.RunWith = r.script.RunWith
	return r.script.Finish(ctx, r.Script.To)
}

// unrehearsed writes the script of what was judged, where that is all that is asked for.
func (r *run) unrehearsed(ctx context.Context, j *judge.Judgement) (done bool, err error) {
	if r.script == nil || !r.Script.Unrehearsed {
		return false, nil
	}
	r.report.Notes = append(r.report.Notes, "judged, and not rehearsed: what only the database rejects, and whether the checks "+
		"of the ladle file hold, shows when the script runs; it changes nothing then")
	r.report.Checks = append(r.report.Checks, r.tallyChecks()...)
	if err := r.finishScript(ctx); err != nil {
		return true, err
	}
	r.report.Outcome = report.Tried
	return true, r.placeSetAside(j, notLoaded)
}

func (r *run) endScript() {
	if r.script != nil {
		_ = r.script.End() // temporary files, which the next program removes where this one can't
	}
	r.script = nil
}
