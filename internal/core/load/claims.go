package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/value"
)

// level is how much is checked.
func (r *run) level() check.Level {
	if r.Level == "" {
		return check.Cells
	}
	return r.Level
}

// foresee asks, before a file is read, whether the database understands the queries of the claims.
func (r *run) foresee(ctx context.Context) error {
	var problems []fault.Problem
	for _, c := range r.file.Claims {
		queries := []ladlefile.Text{c.NoRows, c.HowMany}
		for _, s := range c.Equal {
			queries = append(queries, s.Query)
		}
		for _, q := range queries {
			if !q.Given() {
				continue
			}
			err := r.db.Foresee(ctx, q.Value)
			if err != nil && fault.ClassOf(err) != fault.Wrong {
				return err
			}
			if err != nil {
				p := fault.ProblemsOf(err)[0]
				problems = append(problems, fault.Problem{File: r.file.Path, Line: q.Line, Column: q.Column,
					What: fmt.Sprintf("the query of the claim %q can't be asked: %s", c.Says.Value, p.What), Do: p.Do})
			}
		}
	}
	if problems != nil {
		return fault.At(fault.Wrong, problems...)
	}
	return nil
}

// claims are the claims of the ladle file, with the totals of the inputs.
func (r *run) claims() []check.Claim {
	var all []check.Claim
	for _, c := range r.file.Claims {
		claim := check.Claim{Says: c.Says.Value, NoRows: c.NoRows.Value, HowMany: c.HowMany.Value, Least: c.Least, Most: c.Most}
		for i, s := range c.Equal {
			claim.Equal[i] = check.Side{Query: s.Query.Value}
			if !s.Query.Given() {
				t := r.plan.Totals[s.Total]
				claim.Equal[i] = check.Side{Total: r.totals[s.Total].Read, Of: fmt.Sprintf("the total of %s in %s", t.Of, s.Input.Value)}
			}
		}
		all = append(all, claim)
	}
	return all
}

// addUp adds up the totals of the inputs, once they are read.
func (r *run) addUp() error {
	for _, t := range r.plan.Totals {
		s := check.Stated{Input: t.Feed.Input.Name.Value, Of: t.Of, Says: t.Stated.Value, Want: t.Want}
		var err error
		if s.Read, s.Unread, err = r.total(t); err != nil {
			return err
		}
		r.totals = append(r.totals, s)
	}
	return nil
}

// total adds up one column of an input, or counts its rows.
func (r *run) total(t *ladlefile.Total) (sum string, unread int64, err error) {
	rows := r.rows[slices.Index(r.plan.Feeds, t.Feed)]
	if t.Column < 0 && t.Only < 0 {
		return fmt.Sprint(rows.Spool.Rows()), 0, nil
	}
	want, all, kept := []int{clean.Lines, 1 + max(t.Column, 0), 1 + max(t.Only, 0)}, check.Sum{}, int64(0)
	batch := &value.Batch{}
	for i := range rows.Spool.Batches() {
		if err := rows.Spool.Read(i, want, batch); err != nil {
			return "", 0, err
		}
		column, only := batch.Columns[1+max(t.Column, 0)], &batch.Columns[1+max(t.Only, 0)]
		column.States = slices.Clone(column.States)
		for row, state := range column.States {
			switch {
			case t.Only >= 0 && (only.States[row] != value.Given || only.Nums[row] == 0):
				column.States[row] = value.Null
				continue
			case state == value.Bad:
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

// stated holds what was read against what the senders state. It gives why the load must stop, or "".
func (r *run) stated() string {
	var wrong []string
	for i, t := range r.plan.Totals {
		if !t.Stated.Given() {
			continue
		}
		result := r.totals[i].Result()
		r.report.Checks = append(r.report.Checks, result)
		if !result.OK {
			wrong = append(wrong, fmt.Sprintf("%s in %s: %s", t.Of, t.Feed.Input.Name.Value, result.Says))
		}
	}
	if wrong == nil {
		return ""
	}
	return "what was read is not what the sender states: " + strings.Join(wrong, "; ")
}
