package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// Rights are those on schemas, tables, and the sequences that number added rows
// (postgresql.org/docs/current/ddl-priv.html).
func (d *Database) Rights(ctx context.Context, user string, needs []engine.Need) (engine.Rights, error) {
	var here string
	if err := d.conn.QueryRow(ctx, "SELECT pg_catalog.current_schema()::pg_catalog.text").Scan(&here); err != nil {
		return nil, explain(d.name, err)
	}
	var all engine.Rights
	asked := map[*engine.Right]string{} // the function that reports whether a privilege is there, and its arguments
	to := " TO " + quote(user)
	for _, n := range needs {
		name, known := d.names[n.Table]
		if !known { // a table of Ladle's own
			name = quote(here) + "." + quote(n.Table.Name)
		}
		in, _, _ := strings.Cut(name, ".")
		word := engine.Words[n.Do]
		asked[all.Add("schema "+bare(in), "use it", "GRANT USAGE ON SCHEMA "+in+to, n.For)] = call("has_schema_privilege",
			user,
			strings.ReplaceAll(strings.Trim(in, `"`), `""`, `"`), "USAGE")
		asked[all.Add(n.Table.Name, engine.Acts[n.Do], "GRANT "+word+" ON "+name+to, n.For)] = call("has_table_privilege",
			user, name, word)
		if n.Do != engine.Insert || n.Table.Locator == "" {
			continue
		}
		sequence := quote(here) + "." + quote(n.Table.Name+"_"+n.Table.Locator+"_seq")
		if known {
			numbers, err := d.sequence(ctx, n.Table)
			if err != nil {
				return nil, err
			}
			sequence = numbers.name
		}
		asked[all.Add("sequence "+bare(sequence), "number rows", "GRANT USAGE ON SEQUENCE "+sequence+to, n.For)] =
			call("has_sequence_privilege", user, sequence, "USAGE")
	}
	var makes bool
	err := d.conn.QueryRow(ctx, "SELECT "+call("has_schema_privilege", user, here, "CREATE")).Scan(&makes)
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == pgerrcode.UndefinedObject {
		return nil, fault.At(fault.Wrong, fault.Problem{File: d.name, What: fmt.Sprintf("there is no user %q", user)})
	}
	if err != nil {
		return nil, explain(d.name, err)
	}
	for _, right := range all {
		err := d.conn.QueryRow(ctx, "SELECT "+asked[right]).Scan(&right.Has)
		switch {
		case errors.As(err, &said) && (said.Code == pgerrcode.UndefinedTable || said.Code == pgerrcode.InvalidSchemaName):
			right.Has = makes // the table is yet to be made, and belongs to who makes it
		case err != nil:
			return nil, explain(d.name, err)
		}
	}
	return all, nil
}

// bare is a name as people read it.
func bare(name string) string { return strings.ReplaceAll(name, `"`, "") }

// call is that of a function which reports whether somebody has a privilege.
func call(function string, arguments ...string) string {
	for i, a := range arguments {
		arguments[i] = "'" + strings.ReplaceAll(a, "'", "''") + "'::pg_catalog.text"
	}
	arguments[0] = strings.TrimSuffix(arguments[0], "::pg_catalog.text") + "::pg_catalog.name"
	return "pg_catalog." + function + "(" + strings.Join(arguments, ", ") + ")"
}

// Definitions are the statements that make those of the tables which are missing.
func (d *Database) Definitions(ctx context.Context, own []*schema.Table) ([]string, error) {
	return engine.Missing(ctx, d, own, definition, d.addition)
}
