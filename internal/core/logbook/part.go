package logbook

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
)

// Part is a part of a run whose parts are committed one after the other. A run with parts has one that ends it, or it
// is not finished: its first parts are in the tables, and the others are not.
type Part struct {
	Number int    // from 1
	Step   string // whose lines it took; "" for one that took none
	Lines  int64  // that it took
	Most   int64  // that a part of the run takes, at most
	Last   bool   // it ends the run
}

// Parts are the parts of a run.
type Parts struct {
	Number   int       `json:"number"`          // of the last one that is committed
	Most     int64     `json:"lines_at_most"`   // that one of them may take
	Lines    int64     `json:"lines_committed"` // that they took in all
	Finished bool      `json:"finished"`        // the last one is committed
	next     int64     // the place of the next chunk
	done     time.Time // when the last one was
}

// turnsOfPart is the number of turns that are kept for each part.
const turnsOfPart = 1 << 16

// place is that of the part among the chunks of its run: below zero, so that it is there once.
func (p Part) place() int64 { return int64(-p.Number) }

// chunk is the part as a row of the chunks: its number is the turn, first_id is Most, and columns has the moment.
func (p Part) chunk(token string) []cell {
	what := OnePart
	if p.Last {
		what = LastPart
	}
	return []cell{text(token), number(p.place()), number(int64(p.Number)), text(what), text(p.Step), text("[]"),
		text(list([]string{time.Now().UTC().Format(moment)})), number(p.Most), number(p.Lines), blob(nil), blob(nil)}
}

// InPart has the writer keep what a part does, behind that of those before it.
func (w *Writer) InPart(p Part, before *Parts) {
	w.turns = p.Number * turnsOfPart
	if before != nil {
		w.place = before.next
	}
}

// Done keeps the lines of a step, by its number and name, that need not be looked at again when the run goes on.
func (w *Writer) Done(ctx context.Context, step int, name string, lines iter.Seq[int64]) error {
	return w.lines(ctx, Done, step, name, lines)
}

// Part keeps the part itself; before it comes all that it did. It returns what the run has then.
func (w *Writer) Part(ctx context.Context, p Part, before *Parts) (*Parts, error) {
	if err := w.Close(ctx); err != nil {
		return nil, err
	}
	w.waiting.add(p.chunk(w.token)...)
	now := &Parts{Number: p.Number, Most: p.Most, Lines: p.Lines, Finished: p.Last, next: w.place}
	if before != nil {
		now.Lines, now.Most = now.Lines+before.Lines, max(now.Most, before.Most)
	}
	return now, w.flush(ctx)
}

// findParts reads the parts of the run, and the moment when the last of them was done.
func (r *Run) findParts(ctx context.Context, db engine.Reader) (err error) {
	r.Parts, err = PartsOf(ctx, db, r.Token)
	if r.Parts != nil {
		r.Finished = r.Parts.done
	}
	return err
}

// Unfinished reports whether parts of the run are not in the tables.
func (r *Run) Unfinished() bool { return r.Parts != nil && !r.Parts.Finished }

// join makes one of all that the parts of the run say of a step, and leaves of each input what was said last.
func (r *Run) join() {
	var inputs []Input
	for _, in := range r.Inputs {
		if at := slices.IndexFunc(inputs, func(o Input) bool { return o.Name == in.Name }); at >= 0 {
			inputs[at] = in
		} else {
			inputs = append(inputs, in)
		}
	}
	var steps []Step
	for _, s := range r.Steps {
		at := slices.IndexFunc(steps, func(o Step) bool {
			return r.Parts != nil && o.Name == s.Name && o.Table == s.Table && o.Input == s.Input
		})
		if at < 0 {
			steps = append(steps, s)
			continue
		}
		steps[at].Tally = steps[at].Tally.plus(s.Tally)
	}
	r.Inputs, r.Steps = inputs, steps
}

// plus adds up tallies of a run of this version.
func (y Tally) plus(o Tally) Tally {
	return Tally{Read: y.Read + o.Read, Added: y.Added + o.Added, Updated: y.Updated + o.Updated,
		Unchanged: y.Unchanged + o.Unchanged, Same: y.Same + o.Same, Differs: y.Differs + o.Differs,
		Repeated: y.Repeated + o.Repeated, Overruled: y.Overruled + o.Overruled, LeftOut: y.LeftOut + o.LeftOut,
		SetAside: y.SetAside + o.SetAside}
}

// PartsOf returns the parts of the run with a token; nil for a run without.
func PartsOf(ctx context.Context, db engine.Reader, token string) (*Parts, error) {
	all, err := chunks(ctx, db, token)
	var parts *Parts
	next := int64(0)
	for _, c := range all {
		next = max(next, c.place+1)
		if c.What != OnePart && c.What != LastPart {
			continue
		}
		if parts == nil {
			parts = &Parts{}
		}
		if n := int(-c.place); n > parts.Number {
			parts.Number = n
			parts.done, _ = time.Parse(moment, c.Columns[0])
		}
		parts.Most, parts.Lines = max(parts.Most, c.First), parts.Lines+c.Rows
		parts.Finished = parts.Finished || c.What == LastPart
	}
	if parts != nil {
		parts.next = next
	}
	return parts, err
}

// ErrDisturbed is in the errors of Undisturbed.
var ErrDisturbed = errors.New("another session works on the run")

// Undisturbed is an error where somebody else goes on with a run behind some of its parts, or has taken it back.
func Undisturbed(ctx context.Context, db engine.Reader, token string, run int64, behind *Parts) error {
	further, err := Commitment{Token: token, Part: &Part{Number: behind.Number + 1}}.mark().in(ctx, db)
	if err != nil {
		return err
	}
	if further {
		return fault.Because(fault.Failed, ErrDisturbed, fault.Problem{What: fmt.Sprintf("another session goes on with run %d", run),
			Do: "let that one end"})
	}
	return read(ctx, db, runs, which{}, []string{"id", "undoes"}, func(c record) error {
		if c.number("undoes") == run {
			return fault.Because(fault.Failed, ErrDisturbed, fault.Problem{What: fmt.Sprintf("run %d was taken back meanwhile, by "+
				"run %d", run, c.number("id")), Do: "load the files anew"})
		}
		return nil
	})
}

// DoneIn gives take the lines of a step, by its number, that need not be looked at again.
func (r *Run) DoneIn(ctx context.Context, db engine.Reader, step int, take func(line int64)) error {
	all, err := chunks(ctx, db, r.Token)
	for _, c := range all {
		if c.What == Done && c.Turn%turnsOfPart == step && err == nil {
			err = c.eachLine(ctx, db, r.Token, take)
		}
	}
	return err
}
