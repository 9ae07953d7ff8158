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

// Insert sends each row once through a prepared statement that is kept for the next batch. A row that breaks a
// constraint is a rejection, since SQLite takes back only that row.
func (t *tx) Insert(ctx context.Context, table *schema.Table, columns []string, rows *value.Batch) ([]engine.Rejection, error) {
	if err := t.use(table, columns); err != nil {
		return nil, err
	}
	codecs, _ := t.codecs(table, columns)
	var rejected []engine.Rejection
	for row := range rows.Len() {
		for i := range codecs {
			codecs[i].bind(t.insert, i+1, &rows.Columns[i], row)
		}
		_, err := t.insert.Step()
		if err == nil {
			err = t.insert.Reset()
		}
		switch {
		case err == nil:
		case sqlite.ErrCode(err).ToPrimary() == sqlite.ResultConstraint && !t.conn.AutocommitEnabled():
			rejected = append(rejected, engine.Rejection{Row: row, Why: words(err)})
		default:
			return nil, explain(t.path, err)
		}
	}
	return rejected, ctx.Err()
}

// use prepares the statement that inserts into columns of table, unless it is the one of the last batch.
func (t *tx) use(table *schema.Table, columns []string) error {
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(columns)), ", ")
	statement := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(table.Name), quoted(columns), marks)
	if t.statement == statement {
		return nil
	}
	t.drop()
	s, err := t.prepare(statement)
	if err == nil {
		t.insert, t.statement = s, statement
	}
	return err
}

// ReadBack reads a run of locators in one go, and looks up other keys.
func (t *tx) ReadBack(ctx context.Context, table *schema.Table, by []string, keys *value.Batch, columns []string,
	into *value.Batch) error {
	take := engine.Collect(into, table, columns)
	first, last, run := engine.Run(table, by, keys)
	if !run {
		return t.Probe(ctx, table, by, keys, columns, take)
	}
	place := quote(table.Locator)
	s, err := t.prepare(fmt.Sprintf("SELECT %s FROM %s WHERE %s BETWEEN ? AND ? ORDER BY %s", quoted(columns),
		quote(table.Name), place, place))
	if err != nil {
		return err
	}
	defer s.Finalize()
	s.BindInt64(1, first)
	s.BindInt64(2, last)
	return t.drain(ctx, s, table, columns, take)
}
