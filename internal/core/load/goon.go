package load

import (
	"context"
	"fmt"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
)

// goOn takes up a run of which parts are committed.
func (p *parts) goOn(ctx context.Context) error {
	run, err := logbook.Find(ctx, p.db, p.GoOn)
	if err != nil {
		return err
	}
	if err := p.mayGoOn(run); err != nil {
		return err
	}
	p.committed, p.token, p.report.Run = run.Parts, run.Token, run.ID
	p.Level = check.Level(run.Level)
	p.report.Level = p.Level
	if p.InParts == 0 {
		p.InParts = run.Parts.Most
	}
	for i, s := range p.in.Plan.Steps {
		err := run.DoneIn(ctx, p.db, i, func(line int64) { p.done[i].Add(line) })
		if err != nil {
			return err
		}
		for _, was := range run.Steps {
			if was.Name == s.Name && was.Input == s.Feed.Name() {
				p.tallies[i] = tallyFrom(was.Tally)
			}
		}
	}
	for _, was := range run.Steps {
		if was.Input == "" { // what lookups added
			p.lookups = append(p.lookups, report.Lookup{Table: was.Table, Columns: []string{}, Added: was.Tally.Added,
				Names: []string{}, Similar: []judge.Similar{}})
		}
	}
	n := int64(run.Parts.Number)
	p.note("goes on with run %d, of which %s %s in the tables", run.ID, reason.Plural(n, "part"), reason.Verb(n, "is", "are"))
	return nil
}

// mayGoOn is an error where a run can't be gone on with, or not by this load.
func (p *parts) mayGoOn(run *logbook.Run) error {
	say := func(what, do string) error {
		return fault.New(fault.Wrong, fmt.Sprintf("run %d %s", run.ID, what), do)
	}
	anew := fmt.Sprintf("take it back with ladle undo %d, and load anew", run.ID)
	switch {
	case run.Kind != logbook.Load || run.Parts == nil:
		return say("is not a load in parts, so there is nothing to go on with", "see: ladle runs")
	case run.UndoneBy != 0:
		return say(fmt.Sprintf("was taken back by run %d", run.UndoneBy), "load the files anew")
	case !run.Unfinished():
		return say("is finished: all its parts are in the tables", "load the files as a new run")
	case run.LadleSum != p.file.Sum:
		return say("was begun with another ladle file, or with this one before it was changed", "go on with that one, or "+anew)
	}
	for i, f := range p.in.Plan.Feeds {
		sum, err := p.in.Tables[i].Sum()
		if err != nil {
			return err
		}
		at := slices.IndexFunc(run.Inputs, func(in logbook.Input) bool { return in.Name == f.Name() })
		switch {
		case at < 0 || run.Inputs[at].Sum != sum:
			return say(fmt.Sprintf("was begun with other lines of %s: %s was changed since", f.Name(), f.Input.Origin()), "go on with those, or "+anew)
		case run.Inputs[at].Corrected != p.in.Kept[i].Sum():
			return say(fmt.Sprintf("was begun with other corrected lines of %s than those that are kept now", f.Name()),
				"finish it with those, and correct lines afterwards; or "+anew)
		}
	}
	return nil
}

// tallyFrom is a tally of the logbook, of a run of this version.
func tallyFrom(y logbook.Tally) judge.Tally {
	return judge.Tally{Read: y.Read, Added: y.Added, Updated: y.Updated, Unchanged: y.Unchanged, Same: y.Same,
		Differs: y.Differs, Repeated: y.Repeated, Overruled: y.Overruled, LeftOut: y.LeftOut, SetAside: y.SetAside}
}
