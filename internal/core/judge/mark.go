package judge

import (
	"fmt"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Marking is rows that get the same values, because they are gone from the input or there again.
type Marking struct {
	Table   *schema.Table
	Columns []string        // that get a value
	Values  []*value.Column // of one slot each: what all the rows get

	gone *Gone
	key  []string
	rows *spool.RowSet
}

// mark tells rows that are marked.
type mark struct {
	values []*value.Column // by column, of one slot: what a marked row has; nil for any value at all
	rows   spool.RowSet
}

// on reports whether a row is marked: it has what the mark gives all rows and, where that is computed anew for each
// load, a value.
func (m *mark) on(columns []*value.Column, row int) bool {
	for i, v := range m.values {
		null := columns[i].States[row] == value.Null
		switch {
		case v == nil && null, v != nil && v.States[0] == value.Null && !null:
			return false
		case v != nil && v.States[0] != value.Null && (null || !v.Same(0, columns[i], row)):
			return false
		}
	}
	return true
}

// readyMarks computes what rows are marked with.
func (g *Gone) readyMarks(s *Step) error {
	does := s.Policy.Gone
	g.Marked = &Marking{gone: g, Table: s.Table, key: s.RecognisedBy(), rows: &g.missing}
	g.Returned = &Marking{gone: g, Table: s.Table, key: s.RecognisedBy(), rows: &spool.RowSet{}}
	for _, m := range does.Mark {
		g.mark.values = append(g.mark.values, m.Constant)
	}
	for to, marks := range map[*Marking][]plan.Mark{g.Marked: does.Mark, g.Returned: does.Back} {
		to.Columns = plan.MarkNames(marks)
		for _, m := range marks {
			v := m.Constant
			if v == nil {
				var err error
				if v, err = s.Feed.Recipe.Compute(m.Formula, m.Column.Type, s.Feed.Input.Zone); err != nil {
					return fault.New(fault.Wrong, fmt.Sprintf("gone_from_file: in block %s can't mark %s: %s: %s", s.Name,
						m.Column.Name, m.Formula, err), "change the formula")
				}
			}
			to.Values = append(to.Values, v)
		}
	}
	return nil
}

// Rows is the number of rows; none where the lines of the input themselves change all that is marked.
func (m *Marking) Rows() int64 {
	if len(m.Columns) == 0 {
		return 0
	}
	return m.rows.Len()
}

// Texts are the Values as texts, nil for NULL.
func (m *Marking) Texts() []*string {
	texts := make([]*string, len(m.Values))
	for i, v := range m.Values {
		texts[i] = textIn(v, 0)
	}
	return texts
}

// By lists the columns by which the rows are found.
func (m *Marking) By() []string { return m.gone.By }

// Each returns the rows in batches: the columns By, then Columns, as they are before and as they will be.
func (m *Marking) Each(take func(before, after *value.Batch) error) error {
	if m.Rows() == 0 {
		return nil
	}
	by := len(m.gone.By)
	return m.gone.each(m.rows, len(m.gone.columns), func(b *value.Batch) error {
		before, after := value.NewBatch(m.types()), value.NewBatch(m.types())
		for i, c := range m.gone.pick(slices.Concat(m.gone.By, m.Columns), b) {
			before.Columns[i] = *c
			if i < by {
				after.Columns[i] = *c
				continue
			}
			for range b.Len() {
				after.Columns[i].AppendFrom(m.Values[i-by], 0)
			}
		}
		return take(before, after)
	})
}

func (m *Marking) types() []value.Type {
	return engine.Types(m.Table, slices.Concat(m.gone.By, m.Columns))
}

// EachName names the rows by their keys.
func (m *Marking) EachName(take func(name string) error) error {
	if m.Rows() == 0 {
		return nil
	}
	return m.gone.eachName(m.rows, m.key, take)
}

// Names names the first of the rows, at most so many.
func (m *Marking) Names(most int) ([]string, error) { return firstNames(m.EachName, most) }

// EachCell tells of each cell that changes: the key of its row, its column, and its values as texts, nil for NULL.
func (m *Marking) EachCell(take func(key, column string, before, after *string) error) error {
	if m.Rows() == 0 {
		return nil
	}
	return m.gone.each(m.rows, len(m.gone.columns), func(b *value.Batch) error {
		key, cells := m.gone.pick(m.key, b), m.gone.pick(m.Columns, b)
		for row := range b.Len() {
			for i, name := range m.Columns {
				if err := take(rowName(key, row), name, textIn(cells[i], row), textIn(m.Values[i], 0)); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// textIn is a value as a text, nil for NULL.
func textIn(c *value.Column, row int) *string {
	if c.States[row] == value.Null {
		return nil
	}
	text := c.Text(row)
	return &text
}
