package intake

import (
	"context"
	"fmt"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/plan"
	"ladle/internal/core/value"
)

// Foresee asks, before a file is read, whether the database understands the queries of the claims.
func (in *Intake) Foresee(ctx context.Context, db engine.Database) error {
	var problems []fault.Problem
	for _, c := range in.File.Claims {
		for _, q := range c.Queries() {
			err := db.Foresee(ctx, q.Value)
			if err != nil && fault.ClassOf(err) != fault.Wrong {
				return err
			}
			if err != nil {
				p := fault.ProblemsOf(err)[0]
				problems = append(problems, fault.Problem{File: in.File.Path, Line: q.Line, Column: q.Column,
					What: fmt.Sprintf("the query of the check %q can't be run: %s", c.Says.Value, p.What), Do: p.Do})
			}
		}
	}
	if problems != nil {
		return fault.At(fault.Wrong, problems...)
	}
	return nil
}

// Claims are the claims of the ladle file, with the totals of the inputs.
func (in *Intake) Claims() []check.Claim {
	var all []check.Claim
	for _, c := range in.Plan.Claims {
		claim := check.Claim{Says: c.Says.Value, NoRows: c.NoRows.Value, HowMany: c.HowMany.Value, Least: c.Least,
			Most: c.Most}
		for i, s := range c.Equal {
			claim.Equal[i] = check.Side{Query: s.Query.Value}
			if !s.Query.Given() {
				t := in.Plan.Totals[c.Totals[i]]
				claim.Equal[i] = check.Side{Total: in.Totals[c.Totals[i]].Read,
					Of: fmt.Sprintf("the total of %s in %s", t.Of, s.Input.Value)}
			}
		}
		all = append(all, claim)
	}
	return all
}

// addUp adds up the totals of the inputs, once they are read.
func (in *Intake) addUp() error {
	for _, t := range in.Plan.Totals {
		s := check.ControlTotal{Input: t.Feed.Input.Name.Value, Of: t.Of, Says: t.Stated.Value, Want: t.Want}
		var err error
		if s.Read, s.Unread, err = in.total(t); err != nil {
			return err
		}
		in.Totals = append(in.Totals, s)
	}
	return nil
}

// total adds up one column of an input, or counts its rows.
func (in *Intake) total(t *plan.Total) (sum string, unread int64, err error) {
	rows := in.Rows[t.Feed.Number]
	if t.Column < 0 && t.Only < 0 {
		return fmt.Sprint(rows.Len()), 0, nil
	}
	var wanted []int
	for _, c := range []int{t.Column, t.Only} {
		if c >= 0 {
			wanted = append(wanted, c)
		}
	}
	var all check.Sum
	kept := int64(0)
	var batch clean.Batch
	for i := range rows.Batches() {
		if err := rows.Read(i, wanted, &batch); err != nil {
			return "", 0, err
		}
		var column value.Column
		if t.Column >= 0 {
			column = *batch.Cell(t.Column)
			column.States = slices.Clone(column.States)
		}
		for line := range batch.Len() {
			switch {
			case t.Only >= 0 && !batch.Cell(t.Only).True(line):
				if t.Column >= 0 {
					column.States[line] = value.Null
				}
				continue
			case t.Column >= 0 && column.States[line] == value.Bad:
				unread++
			}
			kept++
		}
		if t.Column >= 0 {
			all.Add(&column)
		}
	}
	if t.Column < 0 {
		return fmt.Sprint(kept), 0, nil
	}
	sum, _ = all.Total()
	return sum, unread, nil
}

// Stated are the answers about the totals that the senders state.
func (in *Intake) Stated() []check.Result {
	var all []check.Result
	for i, t := range in.Plan.Totals {
		if t.Stated.Given() {
			all = append(all, in.Totals[i].Result())
		}
	}
	return all
}
