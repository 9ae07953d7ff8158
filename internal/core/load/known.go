package load

import (
	"context"
	"fmt"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/source"
)

// known looks, before a file is read through, whether it was loaded before. It tells whether the load goes on.
func (r *run) known(ctx context.Context) (goOn bool, err error) {
	if r.NoLogbook || len(r.Mended) > 0 {
		return true, nil
	}
	sizes, err := logbook.Sizes(ctx, r.db)
	if err != nil || !slices.ContainsFunc(r.sources, func(s source.Table) bool { return sizes[s.Size()] }) {
		return err == nil, err
	}
	why, err := r.loadedBefore(ctx, r.db)
	if err != nil {
		return false, err
	}
	if why != "" {
		r.report = r.newReport()
		r.report.Outcome, r.report.Why = Refused, why
		return false, nil
	}
	before, err := r.sameRun(ctx, sizes)
	if before == nil || err != nil {
		return err == nil, err
	}
	if r.AskKnown == nil {
		r.notes = append(r.notes, fmt.Sprintf("the same files were loaded by this ladle file before, as run %d of %s UTC; rows are recognised by their keys",
			before.ID, before.Started.UTC().Format("2006-01-02 15:04")))
		return true, nil
	}
	if goOn, err = r.AskKnown(ctx, before); err == nil && !goOn {
		r.report = r.newReport()
		r.report.Outcome = Declined
	}
	return goOn, err
}

// loadedBefore says why an input can't be loaded a second time: a table without a key would get its rows again; "" when
// there is no such input.
func (r *run) loadedBefore(ctx context.Context, db engine.Reader) (why string, err error) {
	if r.Again {
		return "", nil
	}
	for _, s := range r.plan.Steps {
		if len(s.Key) > 0 || s.First != nil {
			continue
		}
		sum, err := r.sources[slices.Index(r.plan.Feeds, s.Feed)].Sum()
		if err != nil {
			return "", err
		}
		runs, err := logbook.Loaded(ctx, db, sum)
		if err != nil {
			return "", err
		}
		for _, before := range runs {
			if before.FilledBy(s.Table.Name, sum) {
				return fmt.Sprintf("%s was loaded into %s before, by run %d, and without a key its rows would be added a second time; --again adds them",
					s.Feed.Input.File.Value, s.Table.Name, before.ID), nil
			}
		}
	}
	return "", nil
}

// sameRun is the newest run in which the same ladle file loaded the same files, nil when there is none.
func (r *run) sameRun(ctx context.Context, sizes map[int64]bool) (*logbook.Run, error) {
	sums := map[string]string{}
	for i, s := range r.sources {
		if !sizes[s.Size()] {
			return nil, nil
		}
		sum, err := s.Sum()
		if err != nil {
			return nil, err
		}
		sums[r.plan.Feeds[i].Input.Name.Value] = sum
	}
	first := r.plan.Feeds[0].Input.Name.Value
	runs, err := logbook.Loaded(ctx, r.db, sums[first])
	for _, run := range runs {
		same := func(in logbook.Input) bool { return sums[in.Name] == in.Sum }
		if run.LadleSum == r.file.Sum && len(run.Inputs) == len(sums) && !slices.ContainsFunc(run.Inputs, func(in logbook.Input) bool { return !same(in) }) {
			return run, nil
		}
	}
	return nil, err
}
