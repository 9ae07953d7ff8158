package undo

import (
	"context"
	"slices"
	"strings"

	"ladle/internal/core/changes"
	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// list tells what becomes of the rows of a chunk, before anything is done with them.
func (u *undoing) list(ctx context.Context, t *schema.Table, c *logbook.Chunk, rows *value.Batch) error {
	if u.change == nil {
		return nil
	}
	switch {
	case c.What == logbook.Added:
		keys := identified(t, nil, c.Columns)
		if c.By != nil {
			var err error
			if keys, err = u.keys(ctx, t, c.By, rows); err != nil {
				return err
			}
		}
		for row := range rows.Len() {
			if err := u.tell(t, changes.Record{What: changes.Removed, Key: keys(rows.Columns, row)}); err != nil {
				return err
			}
		}
	case c.What == logbook.Was && c.Turn > 0:
		return u.listRestored(ctx, t, c, u.staying(t, c, rows))
	case c.What == logbook.Was: // cells of rows that are put back
		return u.listCells(ctx, t, c.By, c.Columns, rows)
	case c.What == logbook.Removed:
		return u.listCells(ctx, t, c.By, c.Columns, u.unemptied(c, rows))
	}
	return nil
}

func (u *undoing) tell(t *schema.Table, r changes.Record) error {
	r.Table = t.Name
	return u.change(r)
}

// listCells tells of cells of rows that are put back.
func (u *undoing) listCells(ctx context.Context, t *schema.Table, by, columns []string, rows *value.Batch) error {
	keys := identified(t, by, columns)
	for i, name := range columns {
		text, err := u.texts(ctx, t, name, &rows.Columns[len(by)+i])
		if err != nil {
			return err
		}
		for row := range rows.Len() {
			if rows.Columns[len(by)+i].States[row] == check.Untouched {
				continue
			}
			r := changes.Record{What: changes.Added, Key: keys(rows.Columns, row), Column: name, After: text(row)}
			if err := u.tell(t, r); err != nil {
				return err
			}
		}
	}
	return nil
}

// listRestored tells of cells that get old values.
func (u *undoing) listRestored(ctx context.Context, t *schema.Table, c *logbook.Chunk, rows *value.Batch) error {
	if rows.Len() == 0 {
		return nil
	}
	by := &value.Batch{Columns: rows.Columns[:len(c.By)]}
	keys, err := u.keys(ctx, t, c.By, by)
	if err != nil {
		return err
	}
	there, at, err := u.there(ctx, t, c.By, by, c.Columns)
	if err != nil {
		return err
	}
	for i, name := range c.Columns {
		old, now := &rows.Columns[len(c.By)+i], &there.Columns[len(c.By)+i]
		before, err := u.texts(ctx, t, name, now)
		if err != nil {
			return err
		}
		after, err := u.texts(ctx, t, name, old)
		if err != nil {
			return err
		}
		for row := range rows.Len() {
			is, found := at[value.Identity(by.Columns, row)]
			if !found || now.Same(is, old, row) {
				continue
			}
			r := changes.Record{What: changes.Changed, Key: keys(by.Columns, row), Column: name, Before: before(is),
				After: after(row)}
			if err := u.tell(t, r); err != nil {
				return err
			}
		}
	}
	return nil
}

// there reads rows by their keys, and says where each of them stands in what was read.
func (u *undoing) there(ctx context.Context, t *schema.Table, by []string, keys *value.Batch,
	columns []string) (*value.Batch, map[string]int, error) {
	names := append(slices.Clone(by), columns...)
	rows, at := value.NewBatch(engine.Types(t, names)), map[string]int{}
	if err := u.Rows(ctx, t, by, keys, names, engine.Collect(rows, t, names)); err != nil {
		return nil, nil, err
	}
	for row := range rows.Len() {
		at[value.Identity(rows.Columns[:len(by)], row)] = row
	}
	return rows, at, nil
}

// naming returns the words for a row with the given key.
type naming func(key []value.Column, row int) string

// keys are the words for rows that are there: by the columns by which people know them, else by their keys.
func (u *undoing) keys(ctx context.Context, t *schema.Table, by []string, keys *value.Batch) (naming, error) {
	plain := func(key []value.Column, row int) string {
		return logbook.Words(by, &value.Batch{Columns: key}, row)
	}
	known := t.KnownBy()
	if known == nil || slices.Equal(known, by) {
		return plain, nil
	}
	rows, at, err := u.there(ctx, t, by, keys, known)
	if err != nil {
		return nil, err
	}
	texts := make([]func(int) *string, len(known))
	for i, name := range known {
		if texts[i], err = u.texts(ctx, t, name, &rows.Columns[len(by)+i]); err != nil {
			return nil, err
		}
	}
	return func(key []value.Column, row int) string {
		is, found := at[value.Identity(key, row)]
		if !found {
			return plain(key, row)
		}
		parts := make([]string, len(known))
		for i, name := range known {
			parts[i] = name + " NULL"
			if text := texts[i](is); text != nil {
				parts[i] = name + " " + *text
			}
		}
		return strings.Join(parts, ", ")
	}, nil
}

// identified are the words for rows that are not there yet, from their columns behind by.
func identified(t *schema.Table, by, columns []string) naming {
	var names []string
	var from []int
	for _, name := range t.KnownBy() {
		at := slices.Index(columns, name)
		if at < 0 {
			names, from = nil, nil
			break
		}
		names, from = append(names, name), append(from, len(by)+at)
	}
	if names == nil {
		names = by
		if by == nil { // rows that nothing tells apart are all columns
			names = columns
		}
		for i := range names {
			from = append(from, i)
		}
	}
	return func(all []value.Column, row int) string {
		shown := &value.Batch{}
		for _, i := range from {
			shown.Columns = append(shown.Columns, all[i])
		}
		return logbook.Words(names, shown, row)
	}
}

// texts are the values of a column of t as people know them: rows that it refers to by their names, where these are
// there.
func (u *undoing) texts(ctx context.Context, t *schema.Table, column string, values *value.Column) (func(row int) *string,
	error) {
	var names *value.Batch
	at := map[string]int{}
	if r := t.Relation(column); r != nil && r.ParentTable != nil {
		if name := r.NameColumn(); name != "" {
			var err error
			if names, at, err = u.parents(ctx, r, name, values); err != nil {
				return nil, err
			}
		}
	}
	return func(row int) *string {
		if values.States[row] == value.Null {
			return nil
		}
		text := values.Text(row)
		if is, found := at[text]; found && names.Columns[1].States[is] == value.Given {
			text = names.Columns[1].Text(is)
		}
		return &text
	}, nil
}

// parents reads the names of the rows that values refer to, and says where each stands by the text of the value.
func (u *undoing) parents(ctx context.Context, r *schema.Relation, name string, values *value.Column) (*value.Batch,
	map[string]int, error) {
	keys, seen := &value.Batch{Columns: []value.Column{{Kind: values.Kind, Scale: values.Scale}}}, map[string]bool{}
	for row, state := range values.States {
		if state != value.Given || seen[values.Text(row)] {
			continue
		}
		seen[values.Text(row)] = true
		keys.Columns[0].AppendFrom(values, row)
	}
	columns := []string{r.ParentColumns[0], name}
	names, at := &value.Batch{}, map[string]int{}
	keys = keys.As(engine.Types(r.ParentTable, r.ParentColumns))
	err := u.tx.Probe(ctx, r.ParentTable, r.ParentColumns, keys, columns, engine.Collect(names, r.ParentTable, columns))
	for row := range names.Len() {
		at[names.Columns[0].Text(row)] = row
	}
	return names, at, err
}
