package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// carefully finds all rows that the server rejects.
func (t *tx) carefully(ctx context.Context, rows int, send func(start, end int) error,
	each func(start, end int) ([]engine.Rejection, bool, error)) ([]engine.Rejection, error) {
	c := engine.CarefulSender{Send: send, Each: each, Expecting: &t.expecting, Refusal: refusal,
		Exec: func(statement string) error { return t.db.exec(ctx, statement) }}
	rejected, err := c.Rows(rows)
	return rejected, explain(t.db.name, err)
}

// casts are the columns of w as values for columns of t.
func (d *Database) casts(t *schema.Table, columns []string) string {
	all := make([]string, len(columns))
	for i, name := range columns {
		all[i] = d.cast(t, name, i)
	}
	return strings.Join(all, ", ")
}

// rowByRow is a statement in two forms: for the rows of a table w, and for one row that the variable w holds.
type rowByRow struct {
	many func(rows string) string
	one  string
}

// loop runs a statement for some rows of the arrays at a time, and where the server rejects one of them, for each row in
// a block of its own, so that it leaves the others as they are
// (postgresql.org/docs/current/plpgsql-control-structures.html, §43.6.8). It needs no privilege but that to use the
// language: the arrays come, and the rejections go, as settings of the transaction.
const loop = `#variable_conflict use_column
DECLARE
	%s;
	w record;
	rejected pg_catalog.text[] := '{}';
	said pg_catalog.text;
	failed pg_catalog.text;
	code pg_catalog.text;
	relation pg_catalog.text;
	done pg_catalog.int8 := 0;
	once pg_catalog.int8;
	a pg_catalog.int4 := 1;
	z pg_catalog.int4;
BEGIN
	WHILE a OPERATOR(pg_catalog.<=) pg_catalog.array_length(a0, 1) LOOP
		z := a OPERATOR(pg_catalog.+) 63;
		BEGIN
			%s;
			GET DIAGNOSTICS once = ROW_COUNT;
			done := done OPERATOR(pg_catalog.+) once;
		EXCEPTION WHEN ` + rejecting + ` THEN
			FOR w IN SELECT s.* FROM %s LOOP
				BEGIN
					%s;
					GET DIAGNOSTICS once = ROW_COUNT;
					done := done OPERATOR(pg_catalog.+) once;
				EXCEPTION WHEN ` + rejecting + ` THEN
					GET STACKED DIAGNOSTICS said = MESSAGE_TEXT, failed = CONSTRAINT_NAME, code = RETURNED_SQLSTATE,
						relation = TABLE_NAME;
					rejected := pg_catalog.array_append(rejected, pg_catalog.json_build_array(
						w.n OPERATOR(pg_catalog.+) a OPERATOR(pg_catalog.-) 2, code, said, failed, relation)::pg_catalog.text);
				END;
			END LOOP;
		END;
		a := z OPERATOR(pg_catalog.+) 1;
	END LOOP;
	PERFORM pg_catalog.set_config('ladle.rejected', pg_catalog.array_to_string(rejected, E'\n'), true),
		pg_catalog.set_config('ladle.done', done::pg_catalog.text, true);
END`

// rejecting are the conditions that are about a row; see rejects.
const rejecting = `data_exception OR integrity_constraint_violation OR with_check_option_violation OR plpgsql_error ` +
	`OR triggered_action_exception OR triggered_data_change_violation`

// each runs a statement for each row from start to end, but for those that surely break a CHECK constraint; see oneByOne.
func (t *tx) each(ctx context.Context, table *schema.Table, columns []string, statement rowByRow, rows *value.Batch,
	start, end int) (rejected []engine.Rejection, done int64, able bool, err error) {
	rows = rows.Some(start, end, nil)
	why, err := t.breaking(ctx, table, columns, rows)
	if err != nil {
		return nil, 0, false, err
	}
	kept := rows.Some(0, rows.Len(), func(row int) bool { return why[row] == "" })
	if kept.Len() > 0 {
		rejected, done, able, err = t.db.oneByOne(ctx, statement, arrays(kept, engine.Types(table, columns), 0, kept.Len()))
		if err != nil || !able {
			return nil, 0, able, err
		}
	}
	return among(rejected, why, rows.Len()), done, true, nil
}

// among brings what was said of rows that are known to be bad together with what was said of the others, which were counted
// without those.
func among(others []engine.Rejection, known map[int]string, rows int) (all []engine.Rejection) {
	other := 0
	for i := range rows {
		if why, bad := known[i]; bad {
			all = append(all, engine.Rejection{Row: i, Why: why})
			continue
		}
		if len(others) > 0 && others[0].Row == other {
			all = append(all, engine.Rejection{Row: i, Why: others[0].Why})
			others = others[1:]
		}
		other++
	}
	return all
}

// oneByOne runs a statement for each row of arrays, and returns those that the server rejects, and how many rows were
// changed. Where it can't, nothing is done and able is false. The numbers of the rows are those in the arrays.
func (d *Database) oneByOne(ctx context.Context, statement rowByRow, arrays [][]byte) (rejected []engine.Rejection,
	done int64, able bool, err error) {
	if err := d.exec(ctx, "SAVEPOINT ladle_each"); err != nil {
		return nil, 0, false, err
	}
	said, done, err := d.runLoop(ctx, statement, arrays)
	if err != nil {
		if ctx.Err() != nil || !errors.As(err, new(*pgconn.PgError)) {
			return nil, 0, false, err
		}
		return nil, 0, false, errors.Join(d.exec(ctx, "ROLLBACK TO SAVEPOINT ladle_each"),
			d.exec(ctx, "RELEASE SAVEPOINT ladle_each"))
	}
	if err := d.exec(ctx, "RELEASE SAVEPOINT ladle_each"); err != nil {
		return nil, 0, false, err
	}
	for line := range strings.Lines(said) {
		var n int
		var code, message, constraint, table string
		if err := json.Unmarshal([]byte(line), &[]any{&n, &code, &message, &constraint, &table}); err != nil {
			return nil, 0, false, fmt.Errorf("the server's list of rejected rows: %w", err)
		}
		_, why, _ := refusal(&pgconn.PgError{Code: code, Message: message, ConstraintName: constraint,
			TableName: table})
		rejected = append(rejected, engine.Rejection{Row: n, Why: why})
	}
	return rejected, done, true, nil
}

// runLoop runs the loop over arrays and returns what it says: the rejections, and how many rows were changed.
func (d *Database) runLoop(ctx context.Context, statement rowByRow, arrays [][]byte) (rejected string, done int64,
	err error) {
	var settings, variables, sources, names []string
	for i := range arrays {
		name := fmt.Sprintf("ladle.v%d", i)
		settings = append(settings, fmt.Sprintf("pg_catalog.set_config('%s', $%d, true)", name, i+1))
		variables = append(variables, fmt.Sprintf("a%d pg_catalog.text[] := pg_catalog.current_setting('%s')", i, name))
		sources = append(sources, fmt.Sprintf("pg_catalog.unnest(a%d[a:z])", i))
		names = append(names, fmt.Sprintf("v%d", i))
	}
	rows := func(alias string) string {
		return fmt.Sprintf("ROWS FROM (%s) WITH ORDINALITY %s(%s, n)", strings.Join(sources, ", "), alias,
			strings.Join(names, ", "))
	}
	server := d.conn.PgConn()
	if _, err := server.ExecParams(ctx, "SELECT "+strings.Join(settings, ", "), arrays, nil, nil, nil).Close(); err != nil {
		return "", 0, err
	}
	body := fmt.Sprintf(loop, strings.Join(variables, ";\n\t"), statement.many(rows("w")), rows("s"), statement.one)
	tag := "$ladle"
	for strings.Contains(body, tag) {
		tag += "_"
	}
	if _, err := server.Exec(ctx, "DO "+tag+"$"+body+tag+"$").ReadAll(); err != nil {
		return "", 0, err
	}
	err = d.conn.QueryRow(ctx, "SELECT pg_catalog.current_setting('ladle.rejected'), "+
		"pg_catalog.current_setting('ladle.done')::pg_catalog.int8").Scan(&rejected, &done)
	return rejected, done, err
}
