package postgres

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Broken asks for the condition of rows that come as arrays, in the types of their columns, with a search path of
// nothing but the database's own, as the condition was read.
func (d *Database) Broken(ctx context.Context, t *schema.Table, c schema.Check, columns []string,
	rows *value.Batch) (broken []engine.Rejection, err error) {
	err = d.readOnly(ctx, func() error {
		if err := d.exec(ctx, "SET LOCAL search_path TO pg_catalog, pg_temp"); err != nil {
			return err
		}
		broken, err = d.broken(ctx, t, c, columns, rows)
		return err
	})
	return broken, err
}

func (d *Database) broken(ctx context.Context, t *schema.Table, c schema.Check, columns []string,
	rows *value.Batch) (broken []engine.Rejection, err error) {
	selected := []string{`w.n AS "ladle n"`}
	for i, name := range columns {
		collate := ""
		if on := t.Column(name).Collation; on != "" && on != citext {
			collate = " COLLATE " + on
		}
		selected = append(selected, d.cast(t, name, i)+collate+" AS "+quote(name))
	}
	query := fmt.Sprintf(`SELECT "ladle n" FROM (SELECT %s FROM %s) AS r WHERE (%s) IS FALSE`,
		strings.Join(selected, ", "), unnested(len(columns)), c.Condition)
	kinds := engine.Types(t, columns)
	unjudged := false
	sender := engine.CarefulSender{
		Exec: func(statement string) error { return d.exec(ctx, statement) },
		Send: func(start, end int) error {
			found, err := d.numbers(ctx, query, arrays(rows, kinds, start, end))
			for _, n := range found {
				broken = append(broken, engine.Rejection{Row: start + n - 1})
			}
			return err
		},
		Refusal: func(err error) (int, string, bool) {
			var said *pgconn.PgError
			if !errors.As(err, &said) {
				return 0, "", false
			}
			unjudged = unjudged || !pgerrcode.IsDataException(said.Code)
			return -1, said.Message, !unjudged
		},
	}
	rejected, err := sender.Rows(rows.Len())
	if unjudged {
		return nil, nil
	}
	return append(broken, rejected...), explain(d.name, err)
}

// numbers asks for whole numbers; none are returned with an error.
func (d *Database) numbers(ctx context.Context, query string, arguments [][]byte) (all []int, err error) {
	reader := d.conn.PgConn().ExecParams(ctx, query, arguments, nil, nil, nil)
	for reader.NextRow() {
		n, err := strconv.Atoi(string(reader.Values()[0]))
		if err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	if _, err := reader.Close(); err != nil {
		return nil, err
	}
	return all, nil
}
