package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5"
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

// sentChecks are the enforced CHECK constraints of a table that speak of columns among those of rows that are sent, and of
// nothing else: what these rows break, they break whatever stands in their other columns. There are none where triggers may
// change the rows first.
func (t *tx) sentChecks(ctx context.Context, table *schema.Table, columns []string) (all []schema.Check, err error) {
	if len(table.Triggers) > 0 {
		return nil, nil
	}
	if t.checks[table] == nil {
		t.checks[table] = []tableCheck{}
		err = t.db.each(ctx, `SELECT c.conname, pg_catalog.pg_get_expr(c.conbin, c.conrelid), ARRAY(SELECT a.attname::pg_catalog.text
			FROM pg_catalog.unnest(c.conkey) k(n) LEFT JOIN pg_catalog.pg_attribute a ON a.attrelid = c.conrelid
				AND a.attnum = k.n AND k.n OPERATOR(pg_catalog.>) 0)
			FROM pg_catalog.pg_constraint c WHERE c.contype = 'c' AND c.conrelid = $1::pg_catalog.regclass
				AND coalesce(pg_catalog.to_jsonb(c)->>'conenforced', 'true') = 'true' ORDER BY c.conname`,
			func(row pgx.Rows) error {
				var c tableCheck
				err := row.Scan(&c.Name, &c.Condition, &c.columns)
				t.checks[table] = append(t.checks[table], c)
				return err
			}, t.db.table(table))
	}
	for _, c := range t.checks[table] {
		if !slices.ContainsFunc(c.columns, func(name *string) bool { return name == nil || !slices.Contains(columns, *name) }) {
			all = append(all, c.Check)
		}
	}
	return all, err
}

// tableCheck is a CHECK constraint with the columns that it speaks of; nil for what is none of the table's.
type tableCheck struct {
	schema.Check
	columns []*string
}

// breaking finds the rows that a CHECK constraint of the table surely keeps out, and why, without having each of them
// refused: that is most of the time that many of them would take.
func (t *tx) breaking(ctx context.Context, table *schema.Table, columns []string, rows *value.Batch) (map[int]string, error) {
	why := map[int]string{}
	checks, err := t.sentChecks(ctx, table, columns)
	for _, c := range checks {
		broken, err := t.db.broken(ctx, table, c, columns, rows)
		if err != nil {
			return nil, err
		}
		for _, x := range broken {
			if why[x.Row] == "" {
				why[x.Row] = cmp.Or(x.Why, engine.CheckFails(c.Name))
			}
		}
	}
	return why, err
}
