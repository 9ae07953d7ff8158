package sqlite

import (
	"context"
	"errors"

	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
)

// MakeTables makes them in one transaction.
func (d *Database) MakeTables(ctx context.Context, all []engine.TableScript) error {
	if err := d.MayMake(ctx); err != nil {
		return err
	}
	if err := sqlitex.ExecuteTransient(d.conn, "BEGIN IMMEDIATE", nil); err != nil {
		return explain(d.path, err)
	}
	for _, t := range all {
		for _, s := range t.Statements {
			if err := sqlitex.ExecuteTransient(d.conn, s, nil); err != nil {
				return errors.Join(explain(d.path, err), sqlitex.ExecuteTransient(d.conn, "ROLLBACK", nil))
			}
		}
	}
	return explain(d.path, sqlitex.ExecuteTransient(d.conn, "COMMIT", nil))
}
