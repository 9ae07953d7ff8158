package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"

	"github.com/jackc/pgerrcode"

	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// tx is an open transaction. Unless it is careful, batches are sent without savepoints, one behind the other, and the
// first row that the server rejects ends it; a careful one finds all such rows.
type tx struct {
	engine.Pipe
	db        *Database
	careful   bool
	over      bool
	expecting bool            // rows were rejected that were sent last
	begun     context.Context //nolint:containedctx // its end makes that of the transaction short

	numbered  map[*schema.Table]bool // the tables that got rows with locators
	rehearsal bool
	given     map[string][]engine.Span // numbers that this transaction was given, by table
	checks    map[*schema.Table][]tableCheck
}

// Reserve reserves locators once nothing is under way.
func (t *tx) Reserve(ctx context.Context, table *schema.Table, n, past int64) ([]engine.Span, error) {
	if err := t.Settle(); err != nil {
		return nil, err
	}
	if table.Locator == "" || n == 0 {
		return nil, nil
	}
	reserve := t.db.reserve
	if t.rehearsal && !t.db.shared[table] {
		reserve = t.behind
	}
	spans, err := reserve(ctx, table, n, past)
	t.given[table.Name] = append(t.given[table.Name], spans...)
	return spans, err
}

// behind returns numbers that the sequence has not given yet, without drawing them: nobody else adds rows while the
// table is locked, and all is rolled back. A user who may not look at the sequence draws them.
func (t *tx) behind(ctx context.Context, table *schema.Table, n, past int64) ([]engine.Span, error) {
	sequence, err := t.db.sequence(ctx, table)
	if err != nil {
		return nil, err
	}
	if !sequence.see {
		return t.db.reserve(ctx, table, n, past)
	}
	last, err := t.db.one(ctx, fmt.Sprintf(`SELECT greatest((SELECT pg_catalog.max(%s)::pg_catalog.int8 FROM %s),
		(SELECT CASE WHEN is_called THEN last_value ELSE last_value OPERATOR(pg_catalog.-) 1 END FROM %s), 0)`,
		quote(table.Locator), t.db.table(table), sequence.name))
	last = max(last, past)
	for _, s := range t.given[table.Name] {
		last = max(last, s.Last())
	}
	return []engine.Span{{First: last + 1, Count: n}}, err
}

// Insert copies the rows.
func (t *tx) Insert(ctx context.Context, table *schema.Table, columns []string, rows *value.Batch) ([]engine.Rejection,
	error) {
	statement := fmt.Sprintf("COPY %s (%s) FROM STDIN", t.db.table(table), quoted(columns))
	kinds := engine.Types(table, columns)
	if slices.Contains(columns, table.Locator) {
		t.numbered[table] = true
	}
	if t.careful {
		into := fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE ", t.db.table(table), quoted(columns))
		casts := t.db.casts(table, columns)
		single := rowByRow{func(rows string) string { return into + "SELECT " + casts + " FROM " + rows },
			into + "VALUES (" + casts + ")"}
		return t.carefully(ctx, rows.Len(), func(start, end int) error {
			_, err := t.db.conn.PgConn().CopyFrom(ctx, bytes.NewReader(lines(rows, kinds, start, end)), statement)
			return err
		}, func(start, end int) ([]engine.Rejection, bool, error) {
			rejected, _, able, err := t.each(ctx, table, columns, single, rows, start, end)
			return rejected, able, err
		})
	}
	text := lines(rows, kinds, 0, rows.Len())
	return nil, t.Send(func() error {
		_, err := t.db.conn.PgConn().CopyFrom(ctx, bytes.NewReader(text), statement)
		return err
	})
}

// Update joins the table with arrays of the rows.
func (t *tx) Update(ctx context.Context, table *schema.Table, by, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	all := append(slices.Clone(by), columns...)
	kinds := engine.Types(table, all)
	next := len(by)
	set := assigned(columns, func(column []string) string {
		next++
		return t.db.cast(table, column[0], next-1)
	})
	update := rowByRow{func(rows string) string {
		return fmt.Sprintf("UPDATE %s t SET %s FROM %s WHERE %s", t.db.table(table), set, rows, t.db.on(table, by))
	}, fmt.Sprintf("UPDATE %s t SET %s WHERE %s", t.db.table(table), set, t.db.on(table, by))}
	statement := update.many(unnested(len(all)))
	change := func(arguments [][]byte, count int) error {
		done, err := t.db.byIndex(ctx, table, by, statement, arguments)
		if err == nil {
			err = t.db.allUpdated(done, count)
		}
		return err
	}
	if t.careful {
		return t.carefully(ctx, rows.Len(), func(start, end int) error {
			return change(arrays(rows, kinds, start, end), end-start)
		}, func(start, end int) ([]engine.Rejection, bool, error) {
			rejected, done, able, err := t.each(ctx, table, all, update, rows, start, end)
			if able && err == nil {
				err = t.db.allUpdated(done, end-start-len(rejected))
			}
			return rejected, able, err
		})
	}
	arguments, count := arrays(rows, kinds, 0, rows.Len()), rows.Len()
	return nil, t.Send(func() error { return change(arguments, count) })
}

// byIndex runs a statement that joins t with arrays of its columns by, and returns the number of rows that it changed.
// Where there is an index, each row is found in it: the planner would read the whole table for each batch instead, as long
// as that is not much larger.
func (d *Database) byIndex(ctx context.Context, t *schema.Table, by []string, statement string, arguments [][]byte) (int64, error) {
	conn := d.conn.PgConn()
	plan := func(how string) error {
		if !t.Indexed(by) {
			return nil
		}
		return conn.Exec(ctx, "SET LOCAL enable_hashjoin TO "+how+"; SET LOCAL enable_mergejoin TO "+how).Close()
	}
	if err := plan("off"); err != nil {
		return 0, err
	}
	done, err := conn.ExecParams(ctx, statement, arguments, nil, nil, nil).Close()
	if err == nil { // else the server takes the settings back with the rows
		err = plan("DEFAULT")
	}
	return done.RowsAffected(), err
}

// allUpdated is the error for rows that the server was told to update and did not.
func (d *Database) allUpdated(done int64, of int) error {
	if done == int64(of) {
		return nil
	}
	return fault.At(fault.Failed, fault.Problem{File: d.name,
		What: fmt.Sprintf("of %d rows to be updated, the server updated %d", of, done),
		Do:   "a trigger or a policy prevents it; nothing was changed"})
}

// Remove removes a run of locators as such; else it joins the table with arrays of the keys, or of whole rows.
func (t *tx) Remove(ctx context.Context, table *schema.Table, by []string, keys *value.Batch) (int64, error) {
	if err := t.Settle(); err != nil {
		return 0, err
	}
	if first, last, run := engine.Run(table, by, keys); run {
		done, err := t.db.conn.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s", t.db.table(table),
			between(table.Locator, first, last)))
		return done.RowsAffected(), t.db.keptBack(table, err)
	}
	statement := fmt.Sprintf("DELETE FROM %s t USING %s WHERE %s", t.db.table(table), unnested(len(by)),
		t.db.on(table, by))
	sent := by
	if by == nil {
		sent, statement = table.Kept(), t.db.removeEqual(table)
	}
	done, err := t.db.byIndex(ctx, table, by, statement, arrays(keys, engine.Types(table, sent), 0, keys.Len()))
	return done, t.db.keptBack(table, err)
}

// keptBack explains why rows could not be removed.
func (d *Database) keptBack(t *schema.Table, err error) error {
	var said *pgconn.PgError
	if rejects(err) && errors.As(err, &said) {
		err = &engine.OwnRowError{Table: t.Name, What: "let a row go", Why: said.Message}
	}
	return explain(d.name, err)
}

// judge asks for a careful transaction where the server did not take a row.
func (d *Database) judge(err error) error {
	if rejects(err) {
		return engine.ErrCareful
	}
	return explain(d.name, err)
}

// rejects reports whether an error is about a row: a data exception, a broken constraint, or what a trigger raises.
func rejects(err error) bool {
	var said *pgconn.PgError
	if !errors.As(err, &said) {
		return false
	}
	for _, is := range []func(code string) bool{pgerrcode.IsDataException, pgerrcode.IsIntegrityConstraintViolation,
		pgerrcode.IsWithCheckOptionViolation, pgerrcode.IsPLpgSQLError, pgerrcode.IsTriggeredActionException,
		pgerrcode.IsTriggeredDataChangeViolation} {
		if is(said.Code) {
			return true
		}
	}
	return false
}

// lines writes rows from start to end in COPY's text format.
func lines(rows *value.Batch, kinds []value.Type, start, end int) []byte {
	b := make([]byte, 0, (end-start)*16*len(kinds))
	for row := start; row < end; row++ {
		for i := range kinds {
			if i > 0 {
				b = append(b, '\t')
			}
			b = appendCopy(b, &rows.Columns[i], kinds[i], row)
		}
		b = append(b, '\n')
	}
	return b
}

var copyLine = regexp.MustCompile(`COPY .*, line (\d+)`)

// lineOf is the line, from 0, that the context of an error names. Triggers that run at the end of the statement, as
// those of relations do, have no line.
func lineOf(said *pgconn.PgError) (int, bool) {
	m := copyLine.FindStringSubmatch(said.Where)
	if m == nil || said.Code == pgerrcode.ForeignKeyViolation {
		return 0, false
	}
	n, err := strconv.Atoi(m[1])
	return n - 1, err == nil && n > 0
}

// refusal is what an error says of a row.
func refusal(err error) (row int, why string, refused bool) {
	var said *pgconn.PgError
	if !rejects(err) || !errors.As(err, &said) {
		return 0, "", false
	}
	row = -1
	if line, named := lineOf(said); named {
		row = line
	}
	why = said.Message
	if said.ConstraintName != "" && said.TableName != "" && said.Code == pgerrcode.CheckViolation { // not of a domain
		why = engine.CheckFails(said.ConstraintName)
	}
	return row, why, true
}

// ReadBack reads a run of locators in one go, and looks up other keys.
func (t *tx) ReadBack(ctx context.Context, table *schema.Table, by []string, keys *value.Batch, columns []string,
	into *value.Batch) error {
	if err := t.Settle(); err != nil {
		return err
	}
	take := engine.Collect(into, table, columns)
	first, last, run := engine.Run(table, by, keys)
	if !run {
		return t.Probe(ctx, table, by, keys, columns, take)
	}
	return t.db.Between(ctx, table, table.Locator, first, last, columns, take)
}

// Commit ends the transaction.
func (t *tx) Commit(ctx context.Context) error {
	if err := t.Settle(); err != nil {
		return err
	}
	for table := range t.numbered { // left past rows that came with numbers of their own
		sequence, err := t.db.sequence(ctx, table)
		if err == nil {
			err = t.db.pastRows(ctx, table, sequence, 0)
		}
		if err != nil {
			return err
		}
	}
	t.over = true
	clear(t.db.drawn)
	tag, err := t.db.conn.Exec(ctx, "COMMIT")
	if err == nil && tag.String() != "COMMIT" {
		return fault.At(fault.Failed, fault.Problem{File: t.db.name, What: "the server rolled the transaction back",
			Do: "load again"})
	}
	if err = explain(t.db.name, err); err != nil && !errors.As(err, new(*pgconn.PgError)) {
		return engine.Unanswered(err)
	}
	return err
}

// Rollback ends the transaction; where the connection is gone, the server has done so itself.
func (t *tx) Rollback() error {
	if t.over {
		return nil
	}
	t.over = true
	if !t.rehearsal {
		t.db.drawn = t.given // they are this program's, and serve the transaction that follows
	}
	clear(t.db.sequences) // some may be of tables that are taken back
	t.db.own.Forget()
	_ = t.Settle() // what was sent is taken back
	if t.db.conn.IsClosed() {
		return nil
	}
	ctx, stop := engine.Ending(t.begun)
	defer stop()
	err := t.db.exec(ctx, "ROLLBACK")
	if t.begun.Err() != nil {
		return nil // the connection ends now, and the transaction with it
	}
	return err
}
