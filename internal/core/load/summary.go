package load

import (
	"context"
	"errors"

	"ladle/internal/core/aside"
	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

const (
	shownNames  = 20 // names of a lookup in a report
	shownRows   = 3  // newest rows of a table
	shownAsides = 100
)

func (r *run) newReport() *Report {
	report := &Report{LadleFile: r.file.Path, Database: r.plan.Schema.Database, Limit: r.file.Limit.String(), Level: r.level(),
		Notes: r.db.Notes()}
	for i, f := range r.plan.Feeds {
		in := InputReport{Input: f.Input.Name.Value, File: aside.FileNames(r.sources[i])}
		if i < len(r.rows) { // else nothing was read
			in.Rows = r.rows[i].Spool.Rows()
		}
		report.Inputs = append(report.Inputs, in)
	}
	return report
}

// fill brings what was judged into the report.
func (r *run) fill(j *judgement) {
	r.report.Steps, r.report.Lookups = nil, nil
	for _, s := range j.steps {
		recognised := s.Step
		if s.First != nil {
			recognised = s.First
		}
		r.report.Steps = append(r.report.Steps, StepReport{Step: s.Name, Table: s.Table.Name, Input: s.Feed.Input.Name.Value,
			Key: recognised.KeyNames(), After: s.After, Tally: s.tally, Removed: s.gone.removed(), Gone: s.gone.keys(s, shownNames)})
	}
	for _, x := range j.growing() {
		r.report.Lookups = append(r.report.Lookups, LookupReport{Table: x.table.Name, Columns: x.columns,
			Added: int64(len(j.additionsTo(x))), Names: j.names(x, shownNames), Similar: j.similarIn(x)})
	}
	for i := range r.report.Inputs {
		r.report.Inputs[i].SetAside = j.asides[i].len()
	}
}

// close gives back what the judgement holds on disk.
func (j *judgement) close() {
	var errs []error
	for _, s := range j.steps {
		if s.found != nil {
			errs = append(errs, s.found.Close())
		}
		if s.verdicts != nil {
			errs = append(errs, s.verdicts.Close())
		}
		if s.changes != nil {
			errs = append(errs, s.changes.rows.Close())
		}
		s.gone.close()
		for _, log := range s.problems {
			errs = append(errs, log.Close())
		}
	}
	for _, x := range j.indexes {
		errs = append(errs, x.close())
	}
	_ = errors.Join(errs...) // temporary files without a name: nothing is left of them
}

// newest reads the newest rows of each table that grew.
func (j *judgement) newest(ctx context.Context, db engine.Reader) ([]TableReport, error) {
	var all []TableReport
	seen := map[*schema.Table]bool{}
	for _, w := range j.work(ctx) {
		if w.Added == 0 || seen[w.Table] {
			continue
		}
		seen[w.Table] = true
		shown := j.shown(w.Table)
		rows, err := db.Newest(ctx, w.Table, shown, shownRows)
		if err != nil {
			return nil, err
		}
		all = append(all, TableReport{Table: w.Table.Name, Columns: w.Table.Names(), Rows: rows})
	}
	return all, nil
}

// shown is how the columns of t are shown: those that point at other rows by the names that people know these by.
func (j *judgement) shown(t *schema.Table) []engine.Shown {
	var all []engine.Shown
	for _, c := range t.Columns {
		all = append(all, j.shownColumn(t, c.Name))
	}
	return all
}

func (j *judgement) shownColumn(t *schema.Table, column string) engine.Shown {
	s := engine.Shown{Column: column}
	if l := j.lookupOf(t, column); l != nil {
		s.Relation = &schema.Relation{Columns: []string{column}, Parent: l.Table.Name, ParentColumns: []string{l.Yields.Name},
			ParentTable: l.Table}
		for _, name := range l.Names() {
			s.Names = append(s.Names, j.shownColumn(l.Table, name))
		}
		return s
	}
	if relation := t.Relation(column); relation != nil && relation.ParentTable != nil {
		s.Relation = relation
		s.Names = names(relation)
	}
	return s
}

// lookupOf is the find that feeds a column of t, in a step or inside of another find.
func (j *judgement) lookupOf(t *schema.Table, column string) *ladlefile.Lookup {
	for _, s := range j.steps {
		if s.Table == t {
			for _, c := range s.Columns {
				if c.Column.Name == column && c.Value.Find != nil && c.Value.Find.Made == nil {
					return c.Value.Find
				}
			}
		}
	}
	for _, s := range j.steps {
		var found *ladlefile.Lookup
		s.Lookups(func(l *ladlefile.Lookup) {
			for _, by := range l.By {
				if l.Table == t && by.Column.Name == column && by.Value.Find != nil && by.Value.Find.Made == nil {
					found = by.Value.Find
				}
			}
		})
		if found != nil {
			return found
		}
	}
	return nil
}

// names is the first unique constraint of a parent that people could know its rows by: not the one pointed at.
func names(r *schema.Relation) []engine.Shown {
	for _, k := range r.ParentTable.Keys {
		if len(k.Columns) == 1 && k.Columns[0] != r.ParentColumns[0] {
			return []engine.Shown{{Column: k.Columns[0]}}
		}
	}
	return nil
}
