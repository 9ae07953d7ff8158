package mysql

import (
	"context"
	"errors"
	"slices"

	"ladle/internal/core/engine"
)

// MakeTables makes them one by one: each CREATE TABLE commits by itself (dev.mysql.com/doc/refman/8.0/en/implicit-commit.html).
// When one fails, those that were made before it are dropped.
func (d *Database) MakeTables(ctx context.Context, all []engine.TableScript) error {
	if err := d.MayMake(ctx); err != nil {
		return err
	}
	for i, t := range all {
		for _, s := range t.Statements {
			err := d.exec(ctx, s)
			if err == nil {
				continue
			}
			for _, made := range slices.Backward(all[:i]) {
				err = errors.Join(err, d.exec(context.WithoutCancel(ctx), "DROP TABLE "+quote(made.Table)))
			}
			return err
		}
	}
	return nil
}
