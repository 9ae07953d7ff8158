package report

import (
	"context"
	"slices"
	"strings"

	"ladle/internal/core/judge"
	"ladle/internal/core/value"
)

// newID stands for an id that a row is yet to get.
const newID = "new"

// Sample puts the first rows of each step into the report, as they would be stored: those that are added, and those
// that are changed, with what they hold now.
func (r *Report) Sample(ctx context.Context, j *judge.Judgement) error {
	for i, s := range j.Steps {
		rows, err := firstRows(ctx, j, s)
		if err != nil {
			return err
		}
		r.Steps[i].First = rows
	}
	return nil
}

// firstRows are the first rows that a step adds or changes, in the order of the input; nil where there are none.
func firstRows(ctx context.Context, j *judge.Judgement, s *judge.Step) (*Rows, error) {
	if s.Tally.Added+s.Tally.Updated == 0 {
		return nil, nil
	}
	rows := &Rows{Table: s.Table.Name, Columns: s.Names()}
	id := s.Table.Identity()
	numbered := id != nil && id.Name == s.Table.Locator && !s.FeedsIdentity()
	if numbered {
		rows.Columns = append([]string{id.Name}, rows.Columns...)
	}
	lines := s.Lines(ctx, s.LookedUpCells()...)
	for lines.Next() {
		for i := range lines.Len() {
			row := Row{j, s, lines, i}
			cells := row.cells()
			if cells == nil {
				continue
			}
			if numbered {
				id := row.id()
				cells = append([]*string{&id}, cells...)
			}
			if rows.Rows = append(rows.Rows, cells); len(rows.Rows) == mostRows {
				return rows, nil
			}
		}
	}
	return rows, lines.Err()
}

// Row is line I of a batch as people read the row that it becomes. The Lines must have been told to read the step's
// LookedUpCells.
type Row struct {
	Judgement *judge.Judgement
	Step      *judge.Step
	Lines     *judge.Lines
	I         int
}

// cells are the cells of a row that is added or changed; nil for other lines.
func (r Row) cells() []*string {
	cells := make([]*string, len(r.Step.Columns))
	switch r.Lines.Verdict(r.I) {
	case judge.Added:
		for c := range cells {
			cells[c] = r.Cell(c)
		}
	case judge.Updated:
		change := r.Lines.Change(r.I)
		for c := range cells {
			cells[c] = r.changed(change, c)
		}
	default:
		return nil
	}
	return cells
}

// id is the id of the row: new, or the one that it has.
func (r Row) id() string {
	if r.Lines.Verdict(r.I) == judge.Added || r.Lines.Change(r.I).IsNew() {
		return newID
	}
	return r.Lines.Change(r.I).Key()[0].Text(0)
}

// Cell is the value of a column of the step; nil for NULL. A value that is looked up is followed by its name.
func (r Row) Cell(c int) *string {
	column, text, name := r.Lines.Value(c), "", r.Lines.NameBehind(c, r.I)
	if name != "" && (column.States[r.I] != value.Given || column.Text(r.I) != name) {
		name = " (" + name + ")"
	} else {
		name = ""
	}
	switch state := column.States[r.I]; {
	case state == value.Null:
		return nil
	case state == value.New && judge.NewRow(column.Nums[r.I]).OfLookup():
		if added := r.Judgement.NameOf(judge.NewRow(column.Nums[r.I])); added != "" {
			name = " (" + added + ")"
		}
		text = newID + name
	case state == value.New:
		text = newID + name
	default:
		text = column.Text(r.I) + name
	}
	return &text
}

// Key names the row by its key.
func (r Row) Key() string {
	var parts []string
	key := r.Step.Key
	if r.Step.Pairs {
		key = r.Step.Paired()
	}
	for _, k := range key {
		parts = append(parts, r.Step.Columns[k].Column.Name+" "+OrNull(r.Cell(k)))
	}
	return strings.Join(parts, ", ")
}

// OrNull is a cell as people read it, with nil as NULL.
func OrNull(cell *string) string {
	if cell == nil {
		return "NULL"
	}
	return *cell
}

// changed is a value of a row that is there: both values where it changes.
func (r Row) changed(change judge.Change, c int) *string {
	t := slices.Index(r.Step.Targets(), c)
	is := r.Cell(c)
	if t < 0 {
		return is
	}
	before := value.Column{Kind: r.Lines.Value(c).Kind, Scale: r.Lines.Value(c).Scale}
	change.Before(t, &before)
	var was *string
	if before.States[0] != value.Null {
		text := before.Text(0)
		was = &text
	}
	switch {
	case !change.Has(t) && is == nil: // a blank that changes nothing
		return was
	case !change.Has(t):
		return is
	}
	text := OrNull(was) + " → " + OrNull(is)
	return &text
}
