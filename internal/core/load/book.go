package load

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"ladle/internal/core/aside"
	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// The turns of what a load does with rows, in the order of writing: what is removed, what finds add, then the steps.
const (
	turnEmptied = iota
	turnRemoved
	turnLookups
)

// turn is the turn in which a step changes rows; those that it adds follow in the next one.
func (j *judgement) turn(s *judged) int { return turnLookups + len(j.growing()) + 2*s.number }

// keepsBook tells whether the load writes into the logbook.
func (r *run) keepsBook() bool { return !r.Try && !r.NoLogbook }

// own lists the tables of the logbook that the load needs.
func (r *run) own() []*schema.Table {
	if !r.keepsBook() {
		return nil
	}
	return logbook.Tables()
}

// openBook looks, before a file is read, whether the logbook is there or can be made.
func (r *run) openBook(ctx context.Context) error {
	var err error
	if r.user, err = r.db.User(ctx); err != nil || !r.keepsBook() {
		return err
	}
	missing, err := logbook.Ready(ctx, r.db)
	if missing {
		r.notes = append(r.notes, fmt.Sprintf("this is the first run here: the logbook's tables (%s and others that begin with it) are made in the database", logbook.Prefix))
	}
	return err
}

// noteRows shows each row that was read back to the logbook.
func (j *judgement) noteRows(ctx context.Context, w *check.Work, turn int) {
	if j.book == nil {
		return
	}
	what := logbook.Added
	if w.Updated > 0 {
		what = logbook.Changed
	}
	w.Whole = logbook.Hashed(w.Table)
	w.See = func(b *value.Batch) error {
		defer j.run.booked(time.Now())
		return j.book.Rows(ctx, turn, what, w.Table, w.By, w.Whole, b)
	}
}

// booked counts the time since the logbook was turned to.
func (r *run) booked(since time.Time) { r.report.Seconds.Book += time.Since(since).Seconds() }

// noteWas keeps what rows held that are about to be updated.
func (j *judgement) noteWas(ctx context.Context, turn int, t *schema.Table, by, columns []string, before *value.Batch) error {
	if j.book == nil {
		return nil
	}
	defer j.run.booked(time.Now())
	return j.book.Rows(ctx, turn, logbook.Was, t, by, columns, before)
}

// noteRemoved keeps what rows held that are about to be removed.
func (j *judgement) noteRemoved(ctx context.Context, t *schema.Table, by []string, keys *value.Batch) error {
	return j.note(ctx, turnRemoved, logbook.Removed, t, by, logbook.Hashed(t), keys)
}

// noteEmptied keeps the cells of a column that are about to be emptied.
func (j *judgement) noteEmptied(ctx context.Context, t *schema.Table, by []string, column string, keys *value.Batch) error {
	return j.note(ctx, turnEmptied, logbook.Was, t, by, []string{column}, keys)
}

// note keeps columns of the rows with the given keys.
func (j *judgement) note(ctx context.Context, turn int, what logbook.What, t *schema.Table, by, columns []string, keys *value.Batch) error {
	if j.book == nil {
		return nil
	}
	defer j.run.booked(time.Now())
	var there value.Batch
	names := append(slices.Clone(by), columns...)
	if err := j.db.Probe(ctx, t, by, keys, names, engine.Collect(&there, t, names)); err != nil {
		return err
	}
	return j.book.Rows(ctx, turn, what, t, by, columns, &there)
}

// noteCounts keeps the number of rows that nothing tells apart, or that were not read back.
func (j *judgement) noteCounts(ctx context.Context, done check.Done) error {
	for i, w := range done.Work {
		if w.Added+w.Updated > 0 && (len(w.By) == 0 || done.Level != check.Cells) {
			if err := j.book.Count(ctx, i, w.Table, w.Added+w.Updated); err != nil {
				return err
			}
		}
	}
	return nil
}

// logEntry is the run as the logbook keeps it.
func (r *run) logEntry(j *judgement) (*logbook.Run, error) {
	entry := &logbook.Run{Token: r.token, Kind: logbook.Load, LadleFile: filepath.Base(r.file.Path), LadleSum: r.file.Sum, Program: r.Program,
		User: r.user, Level: string(r.level()), Started: r.started}
	for i, f := range r.plan.Feeds {
		sum, err := r.sources[i].Sum()
		if err != nil {
			return nil, err
		}
		entry.Inputs = append(entry.Inputs, logbook.Input{Name: f.Input.Name.Value, File: filepath.Base(aside.FileNames(r.sources[i])), Size: r.sources[i].Size(), Sum: sum,
			Rows: r.rows[i].Spool.Rows(), SetAside: j.asides[i].len()})
	}
	for _, s := range j.steps {
		y := s.tally
		entry.Steps = append(entry.Steps, logbook.Step{Name: s.Name, Table: s.Table.Name, Input: s.Feed.Input.Name.Value, Read: y.Read, Added: y.Added, Updated: y.Updated,
			Unchanged: y.Unchanged, Kept: y.Kept, Repeated: y.Repeated, LeftOut: y.LeftOut, SetAside: y.SetAside, Removed: s.gone.removed()})
	}
	for _, x := range j.growing() {
		n := int64(len(j.additionsTo(x)))
		entry.Steps = append(entry.Steps, logbook.Step{Name: "new names", Table: x.table.Name, Read: n, Added: n})
	}
	entry.Checks = logbook.Held(r.report.Checks)
	return entry, nil
}

// writeBook writes the run into the logbook.
func (r *run) writeBook(ctx context.Context, tx engine.Tx, j *judgement, done check.Done) error {
	if j.book == nil {
		return nil
	}
	defer r.booked(time.Now())
	err := j.noteCounts(ctx, done)
	if err == nil {
		err = j.book.Close(ctx)
	}
	if err != nil {
		return err
	}
	entry, err := r.logEntry(j)
	if err != nil {
		return err
	}
	r.report.Run, err = logbook.Write(ctx, tx, entry)
	return err
}
