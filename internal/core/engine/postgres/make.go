package postgres

import (
	"context"
	"errors"

	"ladle/internal/core/engine"
)

// MakeTables makes them in one transaction.
func (d *Database) MakeTables(ctx context.Context, all []engine.TableScript) error {
	if err := d.MayMake(ctx); err != nil {
		return err
	}
	if err := d.exec(ctx, "BEGIN"); err != nil {
		return err
	}
	for _, t := range all {
		for _, s := range t.Statements {
			if err := d.exec(ctx, s); err != nil {
				return errors.Join(err, d.exec(context.WithoutCancel(ctx), "ROLLBACK"))
			}
		}
	}
	return d.exec(ctx, "COMMIT")
}
