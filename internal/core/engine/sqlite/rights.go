package sqlite

import (
	"context"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
)

// Rights lists none: SQLite knows no users, and whoever may write to the file may do everything.
func (d *Database) Rights(context.Context, string, []engine.Need) (engine.Rights, error) {
	return nil, nil
}

// Definitions are the statements that make those of the tables which are missing.
func (d *Database) Definitions(ctx context.Context, own []*schema.Table) ([]string, error) {
	return engine.Missing(ctx, d, own, definition, addition)
}
