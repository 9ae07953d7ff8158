// Package judge decides what becomes of every line of a load before anything is written.
//
// [Judge] takes an [Input]: a plan, the cleaned lines of its inputs, and a database as one transaction sees it. It goes
// through the steps in order, with three passes over the lines of each: lookups and what is wrong with a line by itself
// (resolve), keys against each other and against the table (match), and a verdict for each line (decide). What a step
// adds, changes or sets aside, the indexes learn for the steps behind it.
//
// The outcome is a [Judgement]: for each [Step] its tally, the lines with their verdicts, which [Step.Lines] reads, the
// rows that go, and what is wrong with the lines that are set aside; and the rows that lookups add. Rows that are to be
// added have no ids yet: a column that refers to one holds a [NewRow] in state value.New. Nothing is written, and no id
// is taken.
package judge

import (
	"context"
	"fmt"

	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
)

// Judge decides on all lines. What becomes clear only when all of them were judged - that a second half of one is set
// aside, that a new name it needs is not added - is taken into account by judging once more. The judgement must be
// closed; after an error there is none.
func Judge(ctx context.Context, in Input) (*Judgement, error) {
	if in.Resident == 0 {
		in.Resident = resident
	}
	if in.Rejected == nil {
		in.Rejected = &Rejections{}
	}
	found := newInsight()
	defer found.close()
	for {
		r := &round{Input: in, insight: found, Judgement: &Judgement{Before: map[*schema.Table]Count{},
			SetAside: make([]spool.RowSet, len(in.Plan.Feeds))}}
		again, err := r.judge(ctx)
		if err != nil {
			r.Close()
			return nil, err
		}
		if !again {
			return r.Judgement, nil
		}
		found.carry(r.Steps)
		r.Close()
	}
}

// judge decides on all lines, and reports whether it learned what was not taken into account.
func (r *round) judge(ctx context.Context) (again bool, err error) {
	if err := r.steps(ctx); err != nil {
		return false, err
	}
	halved, spoilt := r.halve(), r.spoil()
	unfit, err := r.unfit(ctx)
	if err != nil || unfit {
		return unfit, err
	}
	alike, err := r.alike(ctx)
	return halved || spoilt || alike, err
}

// steps decides on all lines, step by step, in one direction.
func (r *round) steps(ctx context.Context) error {
	r.newRows = map[*schema.Table]int64{}
	for _, t := range r.Plan.Tables() {
		n, exact, err := r.Database.Count(ctx, t)
		if err != nil {
			return err
		}
		r.Before[t] = Count{n, exact}
	}
	for _, s := range r.Plan.Steps {
		r.Steps = append(r.Steps, r.prepare(s))
	}
	for _, s := range r.Steps {
		if err := r.step(ctx, s); err != nil {
			return fmt.Errorf("step %s: %w", s.Name, err)
		}
	}
	r.Growths = r.growths()
	if r.ReadOnly {
		return nil
	}
	return r.referred(ctx)
}

// prepare makes the evaluators and indexes of a step.
func (r *round) prepare(p *plan.Step) *Step {
	s := newStep(p, r.Rows[p.Feed.Number])
	for _, c := range p.Columns {
		s.sources = append(s.sources, r.evaluator(c.Source, p.Table))
	}
	for _, c := range p.Later {
		s.later = append(s.later, cellsOf([]*evaluator{r.evaluator(c.Source, p.Table)})...)
	}
	if p.First != nil {
		s.first = r.stepOf(p.First)
		s.Problems, r.carried[p.Number] = r.carried[p.Number], nil
	} else if len(p.Key) > 0 {
		r.readContents(s, r.keyIndex(p))
	}
	return s
}

func (r *round) step(ctx context.Context, s *Step) error {
	for _, l := range lookupsIn(s.sources) {
		if err := r.prepareLookup(ctx, l, s); err != nil {
			return err
		}
		defer l.close()
	}
	keys := r.newMatch(s)
	defer keys.close()
	filled := r.fillAhead(ctx, keys)
	err := r.resolve(ctx, s, keys)
	if failed := filled(); err == nil {
		err = failed
	}
	if err != nil {
		return err
	}
	if err := r.match(ctx, keys); err != nil {
		return err
	}
	return r.decide(ctx, s, keys)
}
