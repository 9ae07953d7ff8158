package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// User is that of the server.
func (d *Database) User(ctx context.Context) (name string, err error) {
	err = d.conn.QueryRow(ctx, "SELECT current_user::pg_catalog.text").Scan(&name)
	return name, explain(d.name, err)
}

// MayMake looks at the privileges in the schema that new tables go to.
func (d *Database) MayMake(ctx context.Context) error {
	n, err := d.one(ctx, "SELECT coalesce(pg_catalog.has_schema_privilege(pg_catalog.current_schema(), 'CREATE'), "+
		"false)::pg_catalog.int4")
	if err == nil && n == 0 {
		err = fault.At(fault.Failed, fault.Problem{File: d.name, What: "this user may not create tables in the schema",
			Do: "ask for the privilege, or use another user"})
	}
	return err
}

// SelectAll is that of the Database.
func (d *Database) SelectAll(t *schema.Table) string { return "SELECT * FROM " + d.table(t) }

// Foresee has the server prepare the query: it takes a single statement, and returns no columns for one that is no
// query.
func (d *Database) Foresee(ctx context.Context, query string) error {
	if err := engine.IsQuery(query); err != nil {
		return err
	}
	s, err := d.conn.PgConn().Prepare(ctx, "", query, nil)
	switch {
	case err != nil:
		return d.ofQuery(err)
	case len(s.Fields) == 0 || len(s.ParamOIDs) > 0:
		return fault.New(fault.Wrong, "it is not a query", "write one SELECT")
	}
	return nil
}

// Ask puts the query in a savepoint in which nothing can be written.
func (d *Database) Ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	return d.readOnly(ctx, func() error { return d.ask(ctx, query, take) })
}

// readOnly does something while nothing can be written: in a savepoint, or, where no transaction is open, in one.
func (d *Database) readOnly(ctx context.Context, do func() error) error {
	open, close := "SAVEPOINT ladle_ask", "ROLLBACK TO SAVEPOINT ladle_ask"
	if d.conn.PgConn().TxStatus() == 'I' {
		open, close = "BEGIN", "ROLLBACK"
	}
	if err := d.exec(ctx, open); err != nil {
		return err
	}
	done := d.exec(ctx, "SET TRANSACTION READ ONLY")
	if done == nil {
		done = do()
	}
	return errors.Join(done, d.exec(ctx, close))
}

func (d *Database) ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	reader := d.conn.PgConn().ExecParams(ctx, query, nil, nil, nil, nil)
	var names []string
	var err error
	begin := func() {
		for _, f := range reader.FieldDescriptions() {
			names = append(names, f.Name)
		}
		if names != nil {
			err = take(names, nil)
		}
	}
	for err == nil && reader.NextRow() {
		if names == nil {
			if begin(); err != nil {
				break
			}
		}
		row := reader.Values()
		for _, text := range row {
			err = errors.Join(err, engine.TooLong(text))
		}
		if err == nil {
			err = take(names, row)
		}
	}
	if names == nil && err == nil {
		begin() // there were no rows
	}
	_, closed := reader.Close()
	if err != nil {
		return err
	}
	return d.ofQuery(closed)
}

// ofQuery explains the error of a person's query: what the server says of it, or what happened to the server.
func (d *Database) ofQuery(err error) error {
	var said *pgconn.PgError
	if !errors.As(err, &said) || pgerrcode.IsTransactionRollback(said.Code) ||
		pgerrcode.IsInsufficientResources(said.Code) || pgerrcode.IsOperatorIntervention(said.Code) {
		return explain(d.name, err)
	}
	return fault.Because(fault.Wrong, err, fault.Problem{What: said.Message, Do: said.Hint})
}
