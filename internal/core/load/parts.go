package load

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/spool"
	"ladle/internal/core/write"
)

// parts is a load in parts at work. All lines that are left are judged together first, which decides what is loaded at all.
// Then those that change something are judged again under the lock, written, proved and committed, a part after the other.
// Where something comes of a part that was not foreseen, what is left is judged together once more.
type parts struct {
	*run
	committed *logbook.Parts  // of the run, by this process or by those before it; nil for none
	shown     *report.Report  // what a person was asked about
	done      []spool.RowSet  // by the step: lines that need not be looked at again
	tallies   []judge.Tally   // by the step: those of the lines that are done
	lookups   []report.Lookup // what lookups have added
	checks    []check.Result  // of all parts, as one
	attempts  int             // transactions that were done anew
	here      bool            // this process has committed some of them
	idle      int             // times of judging, one after the other, behind which no part was committed
}

// mostIdle is how often what is left is judged with no part committed behind it, before the load gives up.
const mostIdle = 10

// piece is a part that is yet to be written: the lines of a step, from the first to the last, that add or change a row.
type piece struct {
	step           *judge.Step // nil for one without a line
	first, last    int64
	added, updated int64
	pending        spool.RowSet // see parts.pending
}

func (p *piece) lines() int64 { return p.added + p.updated }

// beginParts makes a load of parts, once its inputs are open.
func (r *run) beginParts(ctx context.Context) error {
	if r.InParts == 0 && r.GoOn == 0 {
		return nil
	}
	if r.Try || r.NoLogbook {
		return fault.New(fault.Wrong, "a load in parts needs the logbook, and can't be rehearsed", "load without parts")
	}
	if err := r.in.Plan.Divisible(); err != nil {
		return err
	}
	n := len(r.in.Plan.Steps)
	r.parts = &parts{run: r, done: make([]spool.RowSet, n), tallies: make([]judge.Tally, n)}
	if r.GoOn > 0 {
		if err := r.parts.goOn(ctx); err != nil {
			return err
		}
	}
	r.note("loaded in parts of up to %s that add or change a row, parents before children, each checked and committed by "+
		"itself: until the last one is in, the tables hold part of the load, and if one fails, those before it stay",
		reason.Plural(r.InParts, "line"))
	return nil
}

// load loads what is left.
func (p *parts) load(ctx context.Context) error {
	p.written = map[write.Phase]map[string]int64{}
	if p.Ask != nil {
		before := *p.report
		p.shown = &before
	}
	for {
		again, err := p.rest(ctx)
		if err != nil {
			return p.stopped(err)
		}
		if !again {
			break
		}
		p.idle++
		if p.idle > mostIdle {
			return p.stopped(fault.New(fault.Failed, fmt.Sprintf("the tables changed %d times between the judging of lines and "+
				"their writing", p.idle), "load when others don't change the same rows"))
		}
	}
	if p.attempts > 0 {
		p.note("%s of parts failed and %s done anew, the last one because %s", reason.Plural(int64(p.attempts), "transaction"),
			reason.Verb(int64(p.attempts), "was", "were"), p.why)
	}
	p.report.Parts = p.told()
	return nil
}

// told is what the report says of the parts.
func (p *parts) told() *report.Parts {
	c := p.committed
	if c == nil {
		return nil
	}
	return &report.Parts{Number: c.Number, Most: c.Most, Lines: c.Lines, Finished: c.Finished}
}

// stopped is an error behind which parts are committed.
func (p *parts) stopped(err error) error {
	switch {
	case p.committed == nil:
		return err
	case errors.Is(err, logbook.ErrDisturbed): // what is in the tables is for the other session to say
		if p.here {
			return fault.OfClass(fault.Partly, err)
		}
		return err
	}
	class, others := fault.Partly, "the others are not"
	if fault.ClassOf(err) == fault.Unknown {
		class, others = fault.Unknown, "the next one may be, and those after it are not"
	}
	n := int64(p.committed.Number)
	stands := fmt.Sprintf("%s of run %d %s in the tables, %s", reason.Plural(n, "part"), p.report.Run, reason.Verb(n, "is", "are"),
		others)
	f := fault.OfClass(class, err)
	if class == fault.Partly && errors.Is(err, context.Canceled) {
		f.Problems = []fault.Problem{{What: "interrupted"}}
	}
	f.Problems = slices.Clone(f.Problems)
	for i := range f.Problems {
		if strings.Contains(f.Problems[i].Do, "nothing was changed") { // by the part that failed
			f.Problems[i].Do = ""
		}
	}
	f.Problems = append(f.Problems, fault.Problem{What: stands, Do: fmt.Sprintf("take them back with ladle undo %d", p.report.Run),
		Hint: fault.GoOn})
	return f
}

// excluded are the lines that are left out of judging, by the step: what earlier runs have loaded, and what is done.
func (p *parts) excluded() map[int]spool.RowSet {
	all := map[int]spool.RowSet{}
	for step, done := range p.done {
		all[step] = done.With(p.loaded[step])
	}
	return all
}

// pending are the lines of a second half whose first half is done: they are left out of judging with that, and it is not
// known whether they change their row, since somebody else may have done that.
func (p *parts) pending(s *judge.Step) spool.RowSet {
	if s.First == nil {
		return nil
	}
	return p.done[s.First.Number].Without(p.done[s.Number])
}

// account puts into the report what the run has done, and what is decided of the lines that are left.
func (p *parts) account(j *judge.Judgement) {
	for i, s := range j.Steps {
		left := s.Tally
		n := p.done[i].Len()
		left.Read, left.LeftOut = left.Read-n, left.LeftOut-n
		n = p.pending(s).Len()
		left.Updated, left.LeftOut = left.Updated+n, left.LeftOut-n
		p.report.Steps[i].Tally = p.tallies[i].Plus(left)
	}
	p.report.Lookups = together(p.lookups, p.report.Lookups)
}

// together joins what lookups add to the same columns.
func together(all, more []report.Lookup) []report.Lookup {
	all = slices.Clone(all)
	for _, l := range more {
		at := slices.IndexFunc(all, func(o report.Lookup) bool {
			return o.Table == l.Table && slices.Equal(o.Columns, l.Columns)
		})
		if at < 0 {
			all = append(all, l)
			continue
		}
		all[at].Added += l.Added
		all[at].Names = append(slices.Clone(all[at].Names), l.Names[:min(len(l.Names), max(0,
			report.MostNames-len(all[at].Names)))]...)
		all[at].Similar = append(slices.Clone(all[at].Similar), l.Similar...)
	}
	return all
}

// rest judges what is left, and commits a part after the other. It reports that it must be done again.
func (p *parts) rest(ctx context.Context) (again bool, err error) {
	j, err := p.judge(ctx, p.db, false)
	if err != nil {
		return false, err
	}
	defer j.Close()
	if why, err := p.stops(ctx, p.db, j, p.shown); why != nil || err != nil {
		return false, p.refuseRest(j, why, err)
	}
	decided, pieces, err := p.divide(j)
	if err != nil {
		return false, err
	}
	for i := range pieces {
		a := &attempt{parts: p, all: j, piece: pieces[i], last: i == len(pieces)-1}
		a.decided = decided
		if !a.last { // what is decided of later steps can change, where the database rejects a row
			a.decided = decided[:pieces[i].step.Number+1]
		}
		again, err := p.commitPiece(ctx, a)
		if err != nil || again || p.report.Outcome == report.Refused || p.report.Outcome == report.Unfinished {
			return again, err
		}
		clear(a.decided)
		p.idle = 0
	}
	for i, s := range j.Steps { // as it came to be
		aside := s.Tally.SetAside
		p.report.Steps[i].Tally = p.tallies[i].Plus(judge.Tally{Read: aside, SetAside: aside})
	}
	p.report.Outcome = report.Loaded
	return false, nil
}

// refuseRest refuses what is left.
func (p *parts) refuseRest(j *judge.Judgement, why *reason.Cause, err error) error {
	if err != nil || p.committed == nil {
		return p.refuse(j, why, err)
	}
	p.report.Outcome, p.report.Why, p.report.Parts = report.Unfinished, why, p.told()
	for i := range p.report.Steps {
		p.report.Steps[i].Tally = p.tallies[i]
	}
	p.report.Lookups = p.lookups
	return p.placeSetAside(j, partlyLoaded)
}

// settled is what was decided of lines of a step that change nothing, and are not set aside.
type settled struct {
	lines spool.RowSet
	tally judge.Tally
}

// divide divides the lines that add or change a row into pieces, and tells which others are settled. There is one piece at
// least.
func (p *parts) divide(j *judge.Judgement) (decided []settled, pieces []piece, err error) {
	decided = make([]settled, len(j.Steps))
	for i, s := range j.Steps {
		var next piece
		pending := p.pending(s)
		cut := func() {
			if next.lines() > 0 {
				pieces = append(pieces, next)
			}
			next = piece{step: s, pending: pending}
		}
		cut()
		d := &decided[i]
		err := s.EachVerdict(0, math.MaxInt64, func(line int64, v judge.Verdict) {
			switch {
			case changesRow(v, line, pending):
				if next.lines() == 0 {
					next.first = line
				}
				next.last = line
				if v == judge.Added {
					next.added++
				} else {
					next.updated++
				}
				if next.lines() == p.InParts {
					cut()
				}
			case v != judge.SetAside && !p.done[i].Has(line):
				d.lines.Add(line)
				d.tally.Count(v)
			}
		})
		if err != nil {
			return nil, nil, err
		}
		cut()
	}
	if pieces == nil {
		pieces = []piece{{}}
	}
	return decided, pieces, nil
}

// changesRow reports whether a line adds or changes a row.
func changesRow(v judge.Verdict, line int64, pending spool.RowSet) bool {
	return v == judge.Added || v == judge.Updated || pending.Has(line)
}

// all are the lines of a piece.
func (p *piece) all() (lines []int64, err error) {
	if p.step == nil {
		return nil, nil
	}
	err = p.step.EachVerdict(p.first, p.last, func(line int64, v judge.Verdict) {
		if changesRow(v, line, p.pending) {
			lines = append(lines, line)
		}
	})
	return lines, err
}

// commitPiece commits a piece, where others stand in the way as often as a transaction is done anew.
func (p *parts) commitPiece(ctx context.Context, a *attempt) (again bool, err error) {
	p.failed = 0
	err = p.retry(ctx, func(ctx context.Context) (err error) {
		again, err = a.once(ctx, false)
		if errors.Is(err, engine.ErrCareful) {
			again, err = a.once(ctx, true)
		}
		return err
	})
	p.attempts += p.failed
	return again, err
}
