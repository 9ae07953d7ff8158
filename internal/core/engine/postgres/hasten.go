package postgres

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
)

var _ engine.Hastener = (*tx)(nil)

// Hasten makes an index for the time of the transaction, where the user owns the table. To drop it again nobody else may
// use the table for a moment; it is waited for that for a second at most, since others wait behind it.
func (t *tx) Hasten(ctx context.Context, table *schema.Table, columns []string) (end func(context.Context) error,
	err error) {
	if err := t.Settle(); err != nil {
		return nil, err
	}
	if err := t.db.exec(ctx, "SAVEPOINT ladle_index"); err != nil {
		return nil, err
	}
	name := fmt.Sprintf("ladle_%016x", rand.Uint64())
	_, err = t.db.conn.Exec(ctx, fmt.Sprintf("CREATE INDEX %s ON %s (%s)", name, t.db.table(table), quoted(columns)))
	var said *pgconn.PgError
	if errors.As(err, &said) && ctx.Err() == nil {
		return nil, errors.Join(t.db.exec(ctx, "ROLLBACK TO SAVEPOINT ladle_index"),
			t.db.exec(ctx, "RELEASE SAVEPOINT ladle_index"))
	}
	var index string
	if err == nil {
		err = t.db.conn.QueryRow(ctx, `SELECT pg_catalog.format('%I.%I', n.nspname, c.relname) FROM pg_catalog.pg_class c
			JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) c.relnamespace
			WHERE c.relname OPERATOR(pg_catalog.=) $1`, name).Scan(&index)
	}
	if err == nil {
		err = t.db.exec(ctx, "RELEASE SAVEPOINT ladle_index")
	}
	return func(ctx context.Context) error { return t.dropIndex(ctx, index) }, explain(t.db.name, err)
}

func (t *tx) dropIndex(ctx context.Context, index string) error {
	if err := t.Settle(); err != nil {
		return err
	}
	if err := t.db.exec(ctx, "SET LOCAL lock_timeout TO '1s'"); err != nil {
		return err
	}
	_, err := t.db.conn.Exec(ctx, "DROP INDEX "+index)
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == pgerrcode.LockNotAvailable {
		return engine.ErrBusy
	}
	return explain(t.db.name, err)
}
