package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
)

// known looks, before a file is read through, whether it was loaded before. It reports whether the load goes on.
func (r *run) known(ctx context.Context) (goOn bool, err error) {
	if r.NoLogbook || r.denied != nil || r.GoOn > 0 { // a user who may only read may not read the logbook
		return true, nil
	}
	if err := r.drift(ctx); err != nil {
		return false, err
	}
	sizes, err := logbook.Sizes(ctx, r.db)
	if err != nil || !slices.ContainsFunc(r.in.Tables, func(t source.Table) bool { return sizes[t.Size()] }) {
		return err == nil, err
	}
	why, err := r.loadedBefore(ctx, r.db)
	if why != nil || err != nil {
		r.report.Outcome, r.report.Why = report.Refused, why
		return false, err
	}
	before, err := r.sameRun(ctx, sizes)
	if before == nil || err != nil {
		return err == nil, err
	}
	if before.Unfinished() {
		r.note("this ladle file loaded parts of the same files before (run %d, which isn't finished); rows are recognised by "+
			"their keys", before.ID)
		return true, nil
	}
	if r.AskKnown == nil {
		r.report.Notes = append(r.report.Notes, fmt.Sprintf("this ladle file loaded the same files before (run %d, "+
			"%s UTC); rows are recognised by their keys",
			before.ID, before.Started.UTC().Format("2006-01-02 15:04")))
		return true, nil
	}
	if goOn, err = r.AskKnown(ctx, before); err == nil && !goOn {
		r.report.Outcome = report.Declined
	}
	return goOn, err
}

// drift says of columns that an input has and didn't have when it was loaded the last time, or the other way round.
func (r *run) drift(ctx context.Context) error {
	before, err := logbook.Before(ctx, r.db, r.file.Base())
	if before == nil || err != nil {
		return err
	}
	for i, f := range r.in.Plan.Feeds {
		at := slices.IndexFunc(before.Inputs, func(in logbook.Input) bool { return in.Name == f.Name() })
		if at < 0 || before.Inputs[at].Columns == nil {
			continue
		}
		was, is := before.Inputs[at].Columns, r.in.Tables[i].Header().Names
		if added := without(is, was); added != nil {
			r.note("%s has columns that it didn't have in run %d: %s", f.Name(), before.ID, strings.Join(added, ", "))
		}
		if gone := without(was, is); gone != nil {
			r.note("%s lacks columns that it had in run %d: %s", f.Name(), before.ID, strings.Join(gone, ", "))
		}
	}
	return nil
}

func (r *run) note(format string, arguments ...any) {
	r.report.Notes = append(r.report.Notes, fmt.Sprintf(format, arguments...))
}

// without are the columns that others don't have.
func without(columns, others []string) (all []string) {
	for _, name := range columns {
		if !slices.ContainsFunc(others, func(o string) bool { return source.FoldName(o) == source.FoldName(name) }) {
			all = append(all, name)
		}
	}
	return all
}

// queries are those of a ladle file that was never loaded into this database, since it may have come from somebody
// else: what they read is what this user may read.
func (r *run) queries(ctx context.Context) (all []string, err error) {
	for _, q := range r.file.Queries() {
		all = append(all, q.Value)
	}
	if all == nil {
		return nil, nil
	}
	runs, err := logbook.List(ctx, r.db)
	if err != nil || slices.ContainsFunc(runs, func(run *logbook.Run) bool { return run.LadleSum == r.file.Sum }) {
		return nil, err
	}
	return all, nil
}

// loadedBefore is why an input can't be loaded a second time: a table without a key would get its rows again; nil when
// there is no such input.
func (r *run) loadedBefore(ctx context.Context, db engine.Reader) (*reason.Cause, error) {
	if r.Again {
		return nil, nil
	}
	for _, s := range r.in.Plan.Steps {
		if s.Recognises() || s.First != nil {
			continue
		}
		sum, err := r.in.Tables[s.Feed.Number].Sum()
		if err != nil {
			return nil, err
		}
		runs, err := logbook.Loaded(ctx, db, sum)
		if err != nil {
			return nil, err
		}
		for _, before := range runs {
			if before.Token == r.token || !before.FilledBy(s.Table.Name, sum) {
				continue
			}
			why := reason.Why{Kind: reason.LoadedBefore, Text: s.Feed.Input.Origin(), Table: s.Table.Name, Limit: before.ID}
			if before.Unfinished() {
				why.Kind = reason.LoadedInPart
			} else if r.addsCorrected(before, s) {
				continue
			}
			return &reason.Cause{Why: why}, nil
		}
	}
	return nil, nil
}

// sameRun is the newest run in which the same ladle file loaded the same files, nil when there is none.
func (r *run) sameRun(ctx context.Context, sizes map[int64]bool) (*logbook.Run, error) {
	sums, corrected := map[string]string{}, map[string]string{}
	for i, t := range r.in.Tables {
		corrected[r.in.Plan.Feeds[i].Name()] = r.in.Kept[i].Sum()
		if !sizes[t.Size()] {
			return nil, nil
		}
		sum, err := t.Sum()
		if err != nil {
			return nil, err
		}
		sums[r.in.Plan.Feeds[i].Name()] = sum
	}
	runs, err := logbook.Loaded(ctx, r.db, sums[r.in.Plan.Feeds[0].Name()])
	for _, run := range runs {
		other := func(in logbook.Input) bool {
			return sums[in.Name] != in.Sum || corrected[in.Name] != in.Corrected
		}
		if run.LadleSum == r.file.Sum && len(run.Inputs) == len(sums) && !slices.ContainsFunc(run.Inputs, other) {
			return run, nil
		}
	}
	return nil, err
}

// addsCorrected reports whether a step without a key adds only lines that an earlier run has not loaded, since some of
// those that it set aside were corrected.
func (r *run) addsCorrected(before *logbook.Run, s *plan.Step) bool {
	return r.in.Kept[s.Feed.Number].Any() && before.NotLoaded(s.Feed.Name()) > 0
}

// leaveOutLoaded finds the lines of steps without a key that earlier runs have loaded, where corrected lines are used:
// they are left out.
func (r *run) leaveOutLoaded(ctx context.Context) error {
	if r.NoLogbook || r.denied != nil {
		return nil
	}
	for _, s := range r.in.Plan.Steps {
		if s.Recognises() || s.First != nil || !r.in.Kept[s.Feed.Number].Any() {
			continue
		}
		sum, err := r.in.Tables[s.Feed.Number].Sum()
		if err != nil {
			return err
		}
		runs, err := logbook.Loaded(ctx, r.db, sum)
		if err != nil {
			return err
		}
		if err := r.leaveOut(ctx, s, slices.DeleteFunc(runs, func(before *logbook.Run) bool {
			return before.Token == r.token || !before.FilledBy(s.Table.Name, sum) || !r.addsCorrected(before, s)
		})); err != nil {
			return err
		}
	}
	return nil
}

// leaveOut leaves out the lines that one of some runs has loaded into the table of a step: all but those that it set
// aside.
func (r *run) leaveOut(ctx context.Context, s *plan.Step, runs []*logbook.Run) error {
	if len(runs) == 0 {
		return nil
	}
	var loaded spool.RowSet
	var numbers []string
	for _, before := range runs {
		var notLoaded spool.RowSet
		if err := before.SetAsideIn(ctx, r.db, s.Feed.Name(), func(line int64) { notLoaded.Add(line) }); err != nil {
			return err
		}
		if notLoaded.Len() == 0 {
			return fault.New(fault.Refused, fmt.Sprintf("run %d does not tell which lines it set aside, so it is "+
				"not clear which lines of %s are in %s already", before.ID, s.Feed.Input.Origin(), s.Table.Name),
				"give the block a key")
		}
		for line := range r.in.Rows[s.Feed.Number].Len() {
			if !notLoaded.Has(line) {
				loaded.Add(line)
			}
		}
		numbers = append(numbers, fmt.Sprint(before.ID))
	}
	if r.loaded == nil {
		r.loaded = map[int]spool.RowSet{}
	}
	r.loaded[s.Number] = loaded
	which := "run " + numbers[0]
	if len(numbers) > 1 {
		slices.Reverse(numbers)
		which = "runs " + strings.Join(numbers, ", ")
	}
	r.report.Notes = append(r.report.Notes, fmt.Sprintf("%s: %s of the input %s left out, since %s loaded %s", s.Name,
		reason.Plural(loaded.Len(), "line"), map[bool]string{true: "is", false: "are"}[loaded.Len() == 1], which,
		map[bool]string{true: "it", false: "them"}[loaded.Len() == 1]))
	return nil
}
