package verify

import (
	"context"
	"errors"
	"fmt"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/intake"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/spool"
)

// excepted finds, for each feed, the lines that can't be compared and that the newest run which loaded the same files
// into the same tables has set aside.
func (v *Verification) excepted(ctx context.Context, db engine.Reader, in *intake.Intake,
	j *judge.Judgement) ([]spool.RowSet, error) {
	all := make([]spool.RowSet, len(in.Plan.Feeds))
	for i, f := range in.Plan.Feeds {
		if j.SetAside[i].Len() == 0 {
			continue
		}
		run, err := ranBefore(ctx, db, in, f)
		if err != nil && ctx.Err() == nil && !errors.As(err, new(*fault.Fault)) {
			return nil, err
		}
		if err != nil {
			v.Notes = append(v.Notes, fmt.Sprintf("the logbook can't be read, so lines that a run has set aside count as "+
				"not compared: %s", fault.ProblemsOf(err)[0].What))
			return all, ctx.Err()
		}
		if run == nil {
			continue
		}
		if err := run.SetAsideIn(ctx, db, f.Name(), func(line int64) {
			if j.SetAside[i].Has(line) {
				all[i].Add(line)
			}
		}); err != nil {
			return nil, err
		}
		if n := all[i].Len(); n > 0 {
			v.Excepted = append(v.Excepted, Excepted{f.Name(), run.ID, SetAside, n})
		}
	}
	return all, nil
}

// ranBefore is the newest run that loaded the files of a feed into a table that it feeds now; nil where there is none.
func ranBefore(ctx context.Context, db engine.Reader, in *intake.Intake, f *plan.Feed) (*logbook.Run, error) {
	sum, err := in.Tables[f.Number].Sum()
	if err != nil {
		return nil, err
	}
	runs, err := logbook.Loaded(ctx, db, sum)
	if err != nil {
		return nil, err
	}
	for _, run := range runs {
		for _, s := range in.Plan.Steps {
			if s.Feed == f && run.FilledBy(s.Table.Name, sum) {
				return run, nil
			}
		}
	}
	return nil, nil
}
