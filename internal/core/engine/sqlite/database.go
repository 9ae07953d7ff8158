// Package sqlite is the engine for SQLite files, on the pure-Go build of the library.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

const (
	cacheSize = 64 << 10 // kibibytes of pages that the connection keeps
)

// Database is an open SQLite file.
type Database struct {
	conn  *sqlite.Conn
	path  string
	forms map[*schema.Table]map[string]form

	reserved map[string]int64 // the last locator given out in this transaction, by table
}

var _ engine.Database = (*Database)(nil)

// Open opens the file at path, which must exist. The connection keeps the file's journal and durability settings.
// It enforces no relations while rows are written, since a load proves them all afterwards.
func Open(path string, waits engine.Waits) (*Database, error) {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: engine.Masked(path),
			What: "there is no such database file",
			Do:   "check its path; the database and its tables must exist already, since none are made"})
	}
	conn, err := sqlite.OpenConn(path, sqlite.OpenReadWrite)
	if err != nil {
		return nil, explain(path, err)
	}
	conn.SetBusyTimeout(waits.Lock)
	d := &Database{conn: conn, path: path, forms: map[*schema.Table]map[string]form{},
		reserved: map[string]int64{}}
	for _, q := range []string{
		fmt.Sprintf("PRAGMA cache_size = -%d", cacheSize),
		"PRAGMA foreign_keys = OFF",
		"SELECT count(*) FROM sqlite_schema",
	} {
		if err := sqlitex.ExecuteTransient(conn, q, nil); err != nil {
			conn.Close()
			return nil, explain(path, err)
		}
	}
	return d, nil
}

// explain makes a fault of an error of the library.
func explain(path string, err error) error {
	if err == nil || errors.As(err, new(*fault.Fault)) {
		return err
	}
	p := fault.Problem{File: path}
	switch sqlite.ErrCode(err).ToPrimary() {
	case sqlite.ResultBusy, sqlite.ResultLocked:
		p.What = "the database is locked by another program"
		p.Do, p.Hint = "try again when that program is done with it, or wait longer", fault.WaitLonger
		err = engine.Contended(err)
	case sqlite.ResultReadOnly, sqlite.ResultPerm, sqlite.ResultAuth:
		p.What = "the database can't be written to"
		p.Do = "check the permissions of the file and of its folder"
	case sqlite.ResultNotADB:
		p.What = "this file is not an SQLite database"
		p.Do = "check its path"
	case sqlite.ResultCorrupt:
		p.What = "the database file is damaged: " + words(err)
		p.Do = "restore it from a copy"
	case sqlite.ResultFull:
		p.What = "the disk is full"
		p.Do = "free some space and load again"
	case sqlite.ResultCantOpen:
		p.What = "the database can't be opened"
		p.Do = "check the permissions of the file and of its folder"
	default:
		p.What = "the database failed: " + words(err)
	}
	return fault.Because(fault.Failed, err, p)
}

// words is the library's message without the parts of the call that it came from.
func words(err error) string {
	text := strings.TrimPrefix(err.Error(), "sqlite: ")
	text = strings.TrimPrefix(text, "step: ")
	if i := strings.LastIndex(text, "SQLITE_"); i > 0 {
		text = strings.TrimRight(text[:i], " (:")
	}
	return strings.TrimPrefix(text, "constraint failed: ") // what failed stands behind it
}

// May knows no users: who may write to the file may do all.
func (d *Database) May(context.Context, engine.Privilege, *schema.Table, []string) error { return nil }

// MayLoad has nothing to ask for.
func (d *Database) MayLoad(context.Context, []*schema.Table, []*schema.Table) ([]*engine.Denied, error) {
	return nil, nil
}

// Notes has nothing to say.
func (d *Database) Notes() []string { return nil }

// Close closes the file.
func (d *Database) Close() error { return explain(d.path, d.conn.Close()) }

func (d *Database) exec(query string) error {
	return explain(d.path, sqlitex.ExecuteTransient(d.conn, query, nil))
}

// each runs a query and calls row for each of its rows.
func (d *Database) each(query string, arguments []any, row func(*sqlite.Stmt) error) error {
	return explain(d.path, sqlitex.ExecuteTransient(d.conn, query,
		&sqlitex.ExecOptions{Args: arguments, ResultFunc: row}))
}

// Begin takes the file's write lock: it keeps all other writers off all tables. SQLite makes tables inside
// a transaction, so that those of own go again with a rollback. All transactions are careful, at no cost.
func (d *Database) Begin(ctx context.Context, _, own []*schema.Table, _ engine.Mode) (engine.Tx, error) {
	if err := d.exec("BEGIN IMMEDIATE"); err != nil {
		return nil, err
	}
	clear(d.reserved)
	t := &tx{Pipe: engine.NewPipe(d, func(err error) error { return err }), db: d}
	statements, err := engine.Missing(ctx, d, own, definition, addition)
	if err != nil {
		return nil, errors.Join(err, t.Rollback())
	}
	for _, s := range statements {
		if err := d.exec(s); err != nil {
			return nil, errors.Join(err, t.Rollback())
		}
	}
	return t, ctx.Err()
}

// definition is the statement that makes a table of Ladle's own.
func definition(t *schema.Table) string {
	var lines []string
	for _, c := range t.Columns {
		lines = append(lines, columnDefinition(c))
	}
	for _, k := range t.Keys {
		if !k.Primary {
			lines = append(lines, "UNIQUE ("+quoted(k.Columns)+")")
		}
	}
	return "CREATE TABLE " + quote(t.Name) + " (" + strings.Join(lines, ", ") + ")"
}

// addition is the statement that adds a column to a table of Ladle's own.
func addition(t *schema.Table, c schema.Column) string {
	return "ALTER TABLE " + quote(t.Name) + " ADD COLUMN " + columnDefinition(c)
}

func columnDefinition(c schema.Column) string {
	line := quote(c.Name) + " " + c.Declared
	if c.Identity {
		line += " PRIMARY KEY"
	}
	if c.Required {
		line += " NOT NULL"
	}
	if c.Defaulted {
		line += " DEFAULT " + c.Default
	}
	return line
}

// tx is an open transaction.
type tx struct {
	engine.Pipe
	db        *Database
	writer    *sqlite.Stmt // the statement that wrote last
	statement string       // its text
	changed   int64        // the rows that were written
}

// Commit ends the transaction. A reader that keeps the file busy makes it wait.
func (t *tx) Commit(context.Context) error {
	if err := t.Settle(); err != nil {
		return err
	}
	t.drop()
	err := t.db.exec("COMMIT")
	if err != nil && sqlite.ErrCode(errors.Unwrap(err)).ToPrimary() == sqlite.ResultIOErr {
		return engine.Unanswered(err) // the file may have been written
	}
	return err
}

// Rollback ends the transaction and takes back what it changed.
func (t *tx) Rollback() error {
	_ = t.Settle() // what was read is not needed any more
	t.drop()
	if t.db.conn.AutocommitEnabled() {
		return nil
	}
	return t.db.exec("ROLLBACK")
}

func (t *tx) drop() {
	if t.writer != nil {
		_ = t.writer.Finalize() // repeats the error of its last step, which was told
		t.writer, t.statement = nil, ""
	}
}

// quote makes an identifier of any name (SQLite doubles a quote inside).
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func quoted(names []string) string { return strings.Join(quotedEach(names), ", ") }

func quotedEach(names []string) []string {
	q := make([]string, len(names))
	for i, n := range names {
		q[i] = quote(n)
	}
	return q
}
