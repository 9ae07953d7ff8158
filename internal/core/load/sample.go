package load

import (
	"context"
	"errors"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// newID stands for an id that a row is yet to get.
const newID = "new"

// errEnough ends a pass over rows.
var errEnough = errors.New("enough")

// sample puts the first rows of each step into the report, as they would be stored: those that are added, and those that
// are changed, with what stands there now.
func (r *run) sample(ctx context.Context, j *judgement) error {
	for i, s := range j.steps {
		table := &TableReport{Table: s.Table.Name, Columns: s.Names()}
		own := s.Table.Identity() != nil && s.Table.Identity().Name == s.Table.Locator && !s.FeedsIdentity()
		if own {
			table.Columns = append([]string{s.Table.Identity().Name}, table.Columns...)
		}
		err := j.firstRows(ctx, s, func(cells []*string, id *string) error {
			if own {
				cells = append([]*string{id}, cells...)
			}
			if table.Rows = append(table.Rows, cells); len(table.Rows) == shownRows {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			return err
		}
		if table.Rows != nil {
			r.report.Steps[i].First = table
		}
	}
	return nil
}

// firstRows gives rows that a step adds or changes, in the order of the input.
func (j *judgement) firstRows(ctx context.Context, s *judged, take func(cells []*string, id *string) error) error {
	if s.tally.Added+s.tally.Updated == 0 {
		return nil
	}
	var changes *changeReader
	if s.changes != nil {
		changes = s.changes.reader()
	}
	return j.eachVerdict(ctx, s, func(v *view, columns []*value.Column, verdicts *value.Batch) error {
		for row, what := range verdicts.Columns[0].Nums {
			id := newID
			cells := make([]*string, len(columns))
			switch verdict(what) {
			case added:
				for c := range columns {
					cells[c] = j.shownCell(s, v, columns[c], c, row)
				}
			case updated:
				if err := changes.next(); err != nil {
					return err
				}
				by := &changes.batch.Columns[changedBy]
				if id = by.Text(changes.at); s.Table.Locator != "" && j.reserved(s.Table, by.Nums[changes.at]) {
					id = newID
				}
				for c := range columns {
					cells[c] = j.changedCell(s, changes, v, columns[c], c, row)
				}
			default:
				continue
			}
			if err := take(cells, &id); err != nil {
				return err
			}
		}
		return nil
	}, cells(s.columns)...)
}

// reserved tells whether a locator is one that a row of this run gets.
func (j *judgement) reserved(t *schema.Table, id int64) bool {
	return slices.ContainsFunc(j.steps, func(s *judged) bool {
		return s.Table == t && slices.ContainsFunc(s.spans, func(span engine.Span) bool { return id >= span.First && id < span.First+span.Count })
	})
}

// shownCell is a value as a person reads it before there are ids; nil for NULL.
func (j *judgement) shownCell(s *judged, v *view, c *value.Column, column, row int) *string {
	text, name := "", ""
	find := s.Columns[column].Value.Find
	if find != nil && len(find.By) == 1 && find.By[0].Value.Find == nil && find.By[0].Value.Constant == nil {
		name = " (" + v.rows.Columns[1+find.By[0].Value.Cell].Text(row) + ")"
	}
	switch {
	case c.States[row] == value.Null:
		return nil
	case c.States[row] == value.New:
		a := j.additions[c.Nums[row]]
		text = newID + " (" + words(value.Pointers(a.values.Columns), 0) + ")"
	case find != nil && !c.Wide() && find.Yields.Name == find.Table.Locator && j.reserved(find.Table, c.Nums[row]):
		text = newID + name
	default:
		text = c.Text(row) + name
	}
	return &text
}

// changedCell is a value of a row that is there: both values where it changes.
func (j *judgement) changedCell(s *judged, changes *changeReader, v *view, c *value.Column, column, row int) *string {
	t := slices.Index(changes.targets, column)
	is := j.shownCell(s, v, c, column, row)
	if t < 0 {
		return is
	}
	before := &changes.batch.Columns[changedBy+len(changes.by)+t]
	null, was := "NULL", before.Text(changes.at)
	if before.States[changes.at] == value.Null {
		was = null
	}
	switch {
	case !among(changes.mask(), t) && is == nil: // a blank that changes nothing
		return &was
	case !among(changes.mask(), t):
		return is
	case is == nil:
		is = &null
	}
	text := was + " → " + *is
	return &text
}
