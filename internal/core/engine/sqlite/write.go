package sqlite

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Insert sends each row once through a prepared statement that is kept for the next batch.
func (t *tx) Insert(ctx context.Context, table *schema.Table, columns []string, rows *value.Batch) ([]engine.Rejection,
	error) {
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(columns)), ", ")
	return t.write(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(table.Name), quoted(columns), marks),
		table, columns, rows)
}

// Update changes row by row: SQLite finds each by its number, or in the index of a unique constraint.
func (t *tx) Update(ctx context.Context, table *schema.Table, by, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	return t.write(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE %s", quote(table.Name), numbered(columns, ", ", len(by)),
		numbered(by, " AND ", 0)),
		table, append(slices.Clone(by), columns...), rows)
}

// numbered lists columns, each equal to the parameter of its place behind first others.
func numbered(columns []string, between string, first int) string {
	parts := make([]string, len(columns))
	for i, c := range columns {
		parts[i] = fmt.Sprintf("%s = ?%d", quote(c), first+i+1)
	}
	return strings.Join(parts, between)
}

// Remove removes row by row.
func (t *tx) Remove(ctx context.Context, table *schema.Table, by []string, keys *value.Batch) (int64, error) {
	if by == nil { // all three names of the row number are those of columns
		return 0, &engine.OwnRowError{Table: table.Name, What: "let a single row go",
			Why: "it has columns called " + strings.Join(rowNumbers, ", ")}
	}
	t.changed = 0
	refused, err := t.write(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s", quote(table.Name), numbered(by, " AND ", 0)),
		table, by, keys)
	if err == nil && len(refused) > 0 {
		err = &engine.OwnRowError{Table: table.Name, What: "let a row go", Why: refused[0].Why}
	}
	return t.changed, err
}

// write runs a statement once for each row; its parameters are columns of table. A row that breaks a constraint is a
// rejection, since SQLite takes back only that row.
func (t *tx) write(ctx context.Context, statement string, table *schema.Table, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	if err := t.Settle(); err != nil {
		return nil, err
	}
	if err := t.use(statement); err != nil {
		return nil, err
	}
	codecs, _ := t.db.codecs(table, columns)
	var rejected []engine.Rejection
	for row := range rows.Len() {
		for i := range codecs {
			codecs[i].bind(t.writer, i+1, &rows.Columns[i], row)
		}
		_, err := t.writer.Step()
		if err == nil {
			err = t.writer.Reset()
		}
		switch {
		case err == nil:
			t.changed += int64(t.db.conn.Changes())
		case ofRow(err) && !t.db.conn.AutocommitEnabled():
			rejected = append(rejected, engine.Rejection{Row: row, Why: refusal(table, err)})
		default:
			return nil, explain(t.db.path, err)
		}
	}
	return rejected, ctx.Err()
}

// refusal is why a row was not taken. Of a CHECK constraint SQLite says the name or, where it has none, the condition.
func refusal(t *schema.Table, err error) string {
	said := words(err)
	failed, _ := strings.CutPrefix(said, "CHECK constraint failed: ")
	for _, c := range t.Checks {
		if condition := strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(c.Condition, "("), ")")); failed == cmp.Or(c.Name, condition) {
			return engine.CheckFails(cmp.Or(c.Name, c.Condition))
		}
	}
	return said
}

// ofRow reports whether an error is about the row that is written: it breaks a constraint, or a CHECK constraint or
// trigger has no result for it.
func ofRow(err error) bool {
	code := sqlite.ErrCode(err).ToPrimary()
	return code == sqlite.ResultConstraint || code == sqlite.ResultError
}

// use prepares a statement, unless it is the one of the last batch.
func (t *tx) use(statement string) error {
	if t.statement == statement {
		return nil
	}
	t.drop()
	s, err := t.db.prepare(statement)
	if err == nil {
		t.writer, t.statement = s, statement
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
	return t.Between(ctx, table, table.Locator, first, last, columns, take)
}
