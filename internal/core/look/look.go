// Package look takes a few rows out of files and tables, as people look at them before and after every step. [File]
// takes them from a table of source, as it stands or as it is cleaned, [Rows] from a table of a database; neither reads
// more than it shows. [Beside] puts the columns of a file beside those of a table.
package look

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Page is some rows under the names of their columns.
type Page struct {
	Of      string   `json:"of"` // a file, sheet, input or table
	Columns []string `json:"columns"`
	Rows    []Row    `json:"rows"`
	More    bool     `json:"more"` // there are others behind these
}

// Row is a row, or a line of a file.
type Row struct {
	Line  int64     `json:"line,omitempty"` // of the file, or row of the sheet
	Cells []*string `json:"cells"`          // NULL is nil
	Odd   string    `json:"odd,omitempty"`  // what is wrong with it
}

// File returns at most n lines of a table, from a line of its file on.
func File(ctx context.Context, name string, t source.Table, from int64, n int) (*Page, error) {
	p := &Page{Of: name, Columns: t.Header().Names, Rows: []Row{}}
	r := source.Record{}
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		chunk, err := t.Next()
		if errors.Is(err, io.EOF) {
			return p, nil
		}
		if err != nil {
			return nil, err
		}
		for chunk.Next(&r) {
			_, line := source.PositionIn(r.Position)
			if line < from {
				continue
			}
			if len(p.Rows) == n {
				p.More = true
				return p, nil
			}
			p.Rows = append(p.Rows, fileRow(&r, line, len(p.Columns)))
		}
		if err := chunk.Err(); err != nil {
			return nil, err
		}
		chunk.Release()
	}
}

// fileRow is a record as a row; of one without the shape of the file, what there is.
func fileRow(r *source.Record, line int64, columns int) Row {
	row := Row{Line: line, Cells: make([]*string, columns)}
	for i := range row.Cells {
		text := ""
		if i < len(r.Fields) {
			text = string(r.Fields[i])
		}
		row.Cells[i] = &text
	}
	var odd []string
	if why := source.Misshapen(r, columns); why != nil {
		odd = append(odd, why.Words())
	}
	for _, f := range r.Faults {
		odd = append(odd, f.Why.Words())
	}
	row.Odd = strings.Join(odd, "; ")
	return row
}

// Rows returns rows of a table of the database, with what its foreign keys refer to by name. from, when it isn't nil,
// is the least value of its whole-number key.
func Rows(ctx context.Context, db engine.Reader, t *schema.Table, from *int64, newest bool, n int) (*Page, error) {
	if t.Odd != "" {
		return nil, fault.New(fault.Refused, fmt.Sprintf("%s can't be read: %s", t.Name, t.Odd),
			"look at another table")
	}
	w := engine.Window{N: n + 1, Newest: newest}
	if from != nil {
		if w.By, w.From = numberKey(t), *from; w.By == "" {
			return nil, fault.New(fault.Wrong, fmt.Sprintf("%s has no whole-number key to begin from", t.Name),
				"leave --from out")
		}
	}
	p := &Page{Of: t.Name, Columns: t.Names(), Rows: []Row{}}
	rows, err := db.Rows(ctx, t, displayed(t), w)
	if err != nil {
		return nil, err
	}
	if p.More = len(rows) > n; p.More {
		rows = rows[:n]
	}
	for _, cells := range rows {
		p.Rows = append(p.Rows, Row{Cells: cells})
	}
	return p, nil
}

// numberKey is the column that tells rows of t apart by a whole number; "" for none.
func numberKey(t *schema.Table) string {
	if t.Locator != "" && t.Column(t.Locator) != nil {
		return t.Locator
	}
	for _, k := range t.Keys {
		if c := t.Column(k.Columns[0]); len(k.Columns) == 1 && c.Type.Kind == value.Int {
			return c.Name
		}
	}
	return ""
}

// displayed shows the columns of t, foreign keys by the names of the rows that they refer to.
func displayed(t *schema.Table) (all []engine.DisplayColumn) {
	for _, c := range t.Columns {
		d := engine.DisplayColumn{Column: c.Name}
		if r := t.Relation(c.Name); r != nil && r.ParentTable != nil && len(r.ParentColumns) == 1 {
			if name := r.NameColumn(); name != "" {
				d.Relation, d.Names = r, []engine.DisplayColumn{{Column: name}}
			}
		}
		all = append(all, d)
	}
	return all
}
