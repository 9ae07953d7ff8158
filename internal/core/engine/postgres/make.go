package postgres

import (
	"context"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
)

// NameOf is that of the Database.
func (d *Database) NameOf(t *schema.Table) string { return d.table(t) }

// Restructure runs the statements in the transaction.
func (d *Database) Restructure(ctx context.Context, r engine.Restructuring) (engine.Tx, error) {
	t, err := d.Begin(ctx, r.Lock, r.Own, engine.Careful)
	if err != nil {
		return nil, err
	}
	return r.In(t, func(sql string) error { return d.exec(ctx, sql) })
}
