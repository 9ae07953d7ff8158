package sqlite

import (
	"context"
	"fmt"
	"strings"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// ColumnsOf asks the catalogue; a view has none.
func (d *Database) ColumnsOf(_ context.Context, t *schema.Table) (names []string, err error) {
	err = d.each(`SELECT c.name FROM sqlite_schema s, pragma_table_info(s.name) c
		WHERE s.type = 'table' AND s.name = ?`, []any{t.Name}, func(row *sqlite.Stmt) error {
		names = append(names, row.ColumnText(0))
		return nil
	})
	return names, err
}

// Count reads the smallest index of the table.
func (d *Database) Count(ctx context.Context, t *schema.Table) (n int64, exact bool, err error) {
	n, err = d.one(ctx, "SELECT count(*) FROM "+quote(t.Name))
	return n, true, err
}

// CountFrom reads a part of the table.
func (d *Database) CountFrom(ctx context.Context, t *schema.Table, first int64) (int64, error) {
	return d.one(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE %s >= %d", quote(t.Name), quote(t.Locator), first))
}

// one asks for a single number.
func (d *Database) one(ctx context.Context, query string) (n int64, err error) {
	defer d.heed(ctx)()
	err = d.each(query, nil, func(row *sqlite.Stmt) error {
		n = row.ColumnInt64(0)
		return nil
	})
	return n, heeded(ctx, err)
}

// heed has the work of the connection interrupted when ctx ends, until the function that it returns is called.
func (d *Database) heed(ctx context.Context) func() {
	before := d.conn.SetInterrupt(ctx.Done())
	return func() { d.conn.SetInterrupt(before) }
}

// heeded is why ctx ended, where work was interrupted by that, else err.
func heeded(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// Fold follows the column's collation: BINARY, NOCASE (for the letters of ASCII) or RTRIM.
func (d *Database) Fold(_ context.Context, c *schema.Column, values *value.Column) (*value.Column, error) {
	return fold(c.Collation, values)
}

// Scan reads the table, or an index that has all the columns.
func (d *Database) Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error {
	return d.query(ctx, t, columns, sink, "SELECT "+quoted(columns)+" FROM "+quote(t.Name))
}

// Among reads the table.
func (d *Database) Among(ctx context.Context, t *schema.Table, condition string, columns []string,
	sink func(*value.Batch) error) error {
	return d.query(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE (%s\n)", quoted(columns), quote(t.Name),
		condition))
}

// Between reads a part of an index.
func (d *Database) Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string,
	sink func(*value.Batch) error) error {
	return d.query(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE %s BETWEEN %d AND %d ORDER BY %s",
		quoted(columns), quote(t.Name), quote(column), least, most, quote(column)))
}

// query returns the rows of a query, whose columns are those of t, to sink.
func (d *Database) query(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error,
	query string) error {
	s, err := d.prepare(query)
	if err != nil {
		return err
	}
	defer s.Finalize()
	return d.drain(ctx, s, t, columns, sink)
}

func (d *Database) prepare(query string) (*sqlite.Stmt, error) {
	s, _, err := d.conn.PrepareTransient(query)
	return s, explain(d.path, err)
}

// drain returns the rows of s, whose columns are those of t, to sink.
func (d *Database) drain(ctx context.Context, s *sqlite.Stmt, t *schema.Table, columns []string,
	sink func(*value.Batch) error) error {
	codecs, types := d.codecs(t, columns)
	return engine.Stream(types, func(give func([][]byte) error) error {
		defer d.heed(ctx)()
		row := make([][]byte, len(columns))
		buffers := make([][]byte, len(columns))
		for {
			more, err := s.Step()
			if err != nil || !more {
				return heeded(ctx, explain(d.path, err))
			}
			for i := range row {
				buffers[i] = appendStored(buffers[i][:0], s, i)
				row[i] = buffers[i]
			}
			if err := give(row); err != nil {
				return err
			}
		}
	}, func(to *value.Column, column int, cell []byte) { codecs[column].read(to, cell) }, sink)
}

// Probe puts the keys into a temporary table and joins it: SQLite looks each key up in the index.
func (d *Database) Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
	sink func(*value.Batch) error) error {
	if err := d.wanted(t, by, keys); err != nil {
		return err
	}
	on := make([]string, len(by))
	for i, name := range by {
		on[i] = fmt.Sprintf("t.%s = w.k%d", quote(name), i)
	}
	selected := make([]string, len(columns))
	for i, name := range columns {
		selected[i] = "t." + quote(name)
	}
	s, err := d.prepare(fmt.Sprintf("SELECT %s FROM temp.ladle_wanted w CROSS JOIN %s t ON %s ORDER BY w.n",
		strings.Join(selected, ", "), quote(t.Name), strings.Join(on, " AND ")))
	if err != nil {
		return err
	}
	defer s.Finalize()
	return d.drain(ctx, s, t, columns, sink)
}

// wanted fills temp.ladle_wanted with the keys, numbered in n.
func (d *Database) wanted(t *schema.Table, by []string, keys *value.Batch) error {
	names := make([]string, len(by))
	for i := range by {
		names[i] = fmt.Sprintf("k%d", i)
	}
	if err := d.exec("DROP TABLE IF EXISTS temp.ladle_wanted"); err != nil {
		return err
	}
	columns := strings.Join(names, ", ")
	if err := d.exec("CREATE TEMP TABLE ladle_wanted (n INTEGER PRIMARY KEY, " + columns + ")"); err != nil {
		return err
	}
	return d.fill("temp.ladle_wanted", t, by, names, keys)
}

// Reserve returns the numbers behind past, the largest that the table has or had, and those that were given in this
// transaction.
func (tx *tx) Reserve(_ context.Context, t *schema.Table, n, past int64) ([]engine.Span, error) {
	if err := tx.Settle(); err != nil || t.Locator == "" || n == 0 {
		return nil, err
	}
	d := tx.db
	last := max(past, d.reserved[t.Name])
	take := func(row *sqlite.Stmt) error {
		last = max(last, row.ColumnInt64(0))
		return nil
	}
	if err := d.each(fmt.Sprintf("SELECT max(%s) FROM %s", quote(t.Locator), quote(t.Name)), nil, take); err != nil {
		return nil, err
	}
	counted := false
	err := d.each("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'", nil, func(*sqlite.Stmt) error {
		counted = true
		return nil
	})
	if err == nil && counted {
		err = d.each("SELECT seq FROM sqlite_sequence WHERE name = ?", []any{t.Name}, take)
	}
	d.reserved[t.Name] = last + n
	return []engine.Span{{First: last + 1, Count: n}}, err
}

// Orphans asks for each row whether there is a parent.
func (d *Database) Orphans(ctx context.Context, t *schema.Table, r schema.Relation) (int64, error) {
	given, same := make([]string, len(r.Columns)), make([]string, len(r.Columns))
	for i, c := range r.Columns {
		given[i] = "c." + quote(c) + " IS NOT NULL"
		same[i] = "p." + quote(r.ParentColumns[i]) + " = c." + quote(c)
	}
	return d.one(ctx, fmt.Sprintf("SELECT count(*) FROM %s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p WHERE %s)",
		quote(t.Name),
		strings.Join(given, " AND "), quote(r.Parent), strings.Join(same, " AND ")))
}

// Rows orders by the locator, so by coming; a table without one by its primary key.
func (d *Database) Rows(_ context.Context, t *schema.Table, shown []engine.DisplayColumn, w engine.Window) ([][]*string,
	error) {
	selected := make([]string, len(shown))
	for i, s := range shown {
		selected[i] = expression("t", s, 0)
	}
	var rows [][]*string
	query := fmt.Sprintf("SELECT %s FROM %s t %s", strings.Join(selected, ", "), quote(t.Name),
		w.Clauses(t, func(c string) string { return "t." + quote(c) }, ">="))
	err := d.each(query, nil, func(row *sqlite.Stmt) error {
		cells := make([]*string, len(shown))
		for i := range cells {
			if !row.ColumnIsNull(i) {
				text := row.ColumnText(i)
				cells[i] = &text
			}
		}
		rows = append(rows, cells)
		return nil
	})
	return rows, err
}

// expression is the SQL for a shown column of the table that goes by alias.
func expression(alias string, s engine.DisplayColumn, depth int) string {
	own := alias + "." + quote(s.Column)
	if len(s.Names) == 0 {
		return own
	}
	parent := fmt.Sprintf("p%d", depth)
	names := make([]string, len(s.Names))
	for i, name := range s.Names {
		names[i] = expression(parent, name, depth+1)
	}
	return fmt.Sprintf("(SELECT %s FROM %s %s WHERE %s.%s = %s)", strings.Join(names, " || ' · ' || "),
		quote(s.Relation.Parent), parent, parent, quote(s.Relation.ParentColumns[0]), own)
}
