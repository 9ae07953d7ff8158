// Package mysql is the engine for MariaDB, 10.11 or later, and MySQL, 8.0 or later. It uses only what both have.
package mysql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Database is a connection to a MariaDB or MySQL server.
type Database struct {
	pool     *sql.DB
	conn     *sql.Conn
	folding  sync.Mutex // held by Fold
	weigher  *sql.Conn  // a second connection, for Fold: it is asked while rows of the first are still coming
	url      string     // as it was given, perhaps with several hosts
	name     string     // the URL of the one that it is connected to, without its password
	schema   string     // the database of the server
	waits    engine.Waits
	id       int64       // of the connection, as the server knows it
	cut      atomic.Bool // a statement was left before its answer came
	infile   bool        // the server takes LOAD DATA LOCAL
	compound bool        // it takes compound statements outside of routines: MariaDB
	numbers  map[*schema.Table]int
	weights  map[string]map[string][]byte
	reserved map[string]int64 // the last locator given out in this transaction, by table
	firsts   map[string]int64 // the first one, also of a transaction that was rolled back
	rehearse bool             // the transaction will be rolled back
	sent     map[string]int64 // the rows sent in this transaction, by table
	working  bool             // a transaction is open
	own      engine.OwnColumns
	begun    time.Time // when it was begun
	foreseen []string  // the locks that queries of a person need besides
	lacks    string    // what the connection lacks, "" when nothing
	node     *node     // of a cluster; nil for a server by itself
	spoilt   error     // why the transaction that is open was ended by the server
}

var _ engine.Database = (*Database)(nil)

// Open connects to the server at a URL; see configOf. Where it names several hosts, it is the first that answers and can
// take a load. The connection runs in UTC and in strict mode.
func Open(ctx context.Context, database string, waits engine.Waits) (*Database, error) {
	hosts, err := engine.EachHost(database)
	if err != nil {
		return nil, err
	}
	if len(hosts) == 1 {
		return open(ctx, database, waits)
	}
	var failures []fault.Problem
	for _, host := range hosts {
		d, err := open(ctx, host, waits)
		if err == nil {
			if err = d.fit(ctx); err == nil {
				d.url = database
				return d, nil
			}
			err = errors.Join(err, d.Close())
		}
		if ctx.Err() != nil || fault.ClassOf(err) == fault.Wrong {
			return nil, err
		}
		failures = append(failures, fault.ProblemsOf(err)...)
	}
	return nil, fault.At(fault.Failed, failures...)
}

// open connects to the server at a URL with one host.
func open(ctx context.Context, database string, waits engine.Waits) (*Database, error) {
	config, err := configOf(database, waits)
	if err != nil {
		return nil, err
	}
	d := &Database{url: database, name: engine.Masked(database), waits: waits, schema: config.DBName,
		weights:  map[string]map[string][]byte{},
		reserved: map[string]int64{}, firsts: map[string]int64{}, sent: map[string]int64{},
		numbers: map[*schema.Table]int{}}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, fault.Because(fault.Wrong, err, fault.Problem{File: d.name,
			What: "the database can't be connected to: " + err.Error()})
	}
	d.pool = sql.OpenDB(connector)
	connecting, stop := waits.Connecting(ctx, database)
	defer stop()
	d.conn, err = d.pool.Conn(connecting)
	if err == nil {
		err = d.conn.QueryRowContext(connecting, "SELECT connection_id()").Scan(&d.id)
	}
	if err != nil {
		d.pool.Close()
		return nil, heeded(connecting, d.explain(err))
	}
	d.lacks = unprotected(config)
	n, err := d.one(ctx, "SELECT @@local_infile")
	if d.infile = n == 1; err == nil {
		n, err = d.one(ctx, "SELECT VERSION() LIKE '%MariaDB%'")
		d.compound = n == 1
	}
	if err == nil {
		err = d.meet(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// heeded is why ctx ended, where that is why err came.
func heeded(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// explain makes a fault of an error of the driver, without a password.
func (d *Database) explain(err error) error {
	if err == nil {
		return nil
	}
	lost := errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) // also of a read that took too long
	if lost || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		d.cut.Store(true)
	}
	if errors.As(err, new(*fault.Fault)) || errors.Is(err, context.Canceled) {
		return err
	}
	p := fault.Problem{File: d.name}
	var said *mysql.MySQLError
	var network net.Error
	switch {
	case errors.As(err, &said):
		return d.answered(said, err)
	case errors.As(err, &network) && network.Timeout():
		p = d.waits.Silent(d.name)
	case lost:
		p = d.waits.Silent(d.name)
		if p.What = "the connection was lost, or " + p.What; d.working && time.Since(d.begun) < d.waits.Statement {
			p.What = "the connection was lost"
		}
		if d.node != nil && d.working {
			err = engine.Overtaken(err)
		}
	default:
		p.What, p.Do = "the connection to the database failed: "+err.Error(),
			"check the host, the port, and that the server is running"
	}
	return d.spoils(fault.Because(fault.Failed, err, p))
}

// spoils keeps in mind that an error has ended the transaction that is open.
func (d *Database) spoils(err error) error {
	if d.working && errors.Is(err, engine.ErrOvertaken) {
		d.spoilt = err
	}
	return err
}

// answered makes a fault of what the server answered.
func (d *Database) answered(said *mysql.MySQLError, err error) error {
	p := fault.Problem{File: d.name}
	p.What, p.Do = words(said)
	switch {
	case d.collides(said):
		d.node.collisions++
		p.What, p.Do = "another session has added the same key meanwhile: "+said.Message, "nothing was changed; load again"
		err = engine.Overtaken(err)
	case d.overtakes(said):
		err = engine.Overtaken(err)
	case said.Number == errLockWaitTimeout || said.Number == errDeadlock:
		err = engine.Contended(err)
	}
	return d.spoils(fault.Because(fault.Failed, err, p))
}

// Notes tells of a connection that others could read, and of a server that doesn't take rows in bulk.
func (d *Database) Notes() (notes []string) {
	if d.lacks != "" {
		notes = append(notes, d.lacks)
	}
	if d.infile {
		return notes
	}
	return append(notes, "the server does not allow LOAD DATA LOCAL (local_infile is off), so rows are written by "+
		"INSERT, which takes about 1.6 times as long")
}

// kill has the server end what it still does for the connection: it would notice only at the end that nobody wants
// it any more.
func (d *Database) kill() {
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if other, err := d.pool.Conn(ctx); err == nil {
		_, _ = other.ExecContext(ctx, fmt.Sprintf("KILL %d", d.id)) // it may be gone already
		other.Close()
	}
}

// Close ends the connection; the server takes an open transaction back.
func (d *Database) Close() error {
	if d.weigher != nil {
		d.weigher.Close()
	}
	if d.cut.Load() {
		d.kill()
	}
	return errors.Join(d.conn.Close(), d.pool.Close())
}

func (d *Database) exec(ctx context.Context, query string, arguments ...any) error {
	_, err := d.conn.ExecContext(ctx, query, arguments...)
	return d.explain(err)
}

// one asks for a single number; NULL is 0.
func (d *Database) one(ctx context.Context, query string, arguments ...any) (int64, error) {
	var n sql.NullInt64
	err := d.conn.QueryRowContext(ctx, query, arguments...).Scan(&n)
	return n.Int64, d.explain(err)
}

// each runs a query of the catalogue and calls take for each of its rows.
func (d *Database) each(ctx context.Context, query string, take func(*sql.Rows) error, arguments ...any) error {
	return d.eachOn(ctx, d.conn, query, take, arguments...)
}

func (d *Database) eachOn(ctx context.Context, conn *sql.Conn, query string, take func(*sql.Rows) error,
	arguments ...any) error {
	rows, err := conn.QueryContext(ctx, query, arguments...)
	if err != nil {
		return d.explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := take(rows); err != nil {
			return d.explain(err)
		}
	}
	return d.explain(rows.Err())
}

// aliases is how often a statement may use a table besides by its own name: each use wants a lock under a name of its
// own (dev.mysql.com/doc/refman/8.0/en/lock-tables.html).
const aliases = 6

// alias is the name for use number n of a table in a statement.
func (d *Database) alias(t *schema.Table, n int) string {
	return fmt.Sprintf("ladle_%d_%d", d.numbers[t], n)
}

// Begin makes the tables of own, which MySQL can't do inside of a transaction, and locks those of work against all
// others: LOCK TABLES opens the transaction where autocommit is off, and takes no other table in until it ends. On a node
// of a cluster it locks nothing; see node.
func (d *Database) Begin(ctx context.Context, work, own []*schema.Table, mode engine.Mode) (engine.Tx, error) {
	if err := d.revive(ctx); err != nil {
		return nil, err
	}
	if err := d.fit(ctx); err != nil {
		return nil, err
	}
	d.own.Forget()
	statements, err := engine.Missing(ctx, d, own, definition, addition)
	if err != nil {
		return nil, err
	}
	for _, s := range statements {
		if err := d.exec(ctx, s); err != nil {
			return nil, err
		}
	}
	if statements != nil {
		d.own.Forget()
	}
	clear(d.reserved)
	d.rehearse = mode&engine.Rehearsal != 0
	clear(d.sent)
	var books []string
	err = d.each(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = database()
		AND table_name LIKE 'ladle\_%'`,
		func(row *sql.Rows) error {
			var name string
			err := row.Scan(&name)
			books = append(books, quote(name)+" WRITE")
			return err
		})
	if err != nil {
		return nil, err
	}
	t := &tx{Pipe: engine.NewPipe(d, d.judge), db: d, begun: ctx, careful: mode&engine.Careful != 0,
		passed: map[string]bool{}}
	d.spoilt = nil
	statements = []string{"SET autocommit = 0"}
	if locks := d.locks(work, books); locks != nil && d.node == nil {
		statements = append(statements, "LOCK TABLES "+strings.Join(locks, ", "))
	}
	for _, s := range statements {
		err := d.exec(ctx, s)
		var said *mysql.MySQLError
		switch {
		case d.node == nil && errors.As(err, &said) && said.Number == errLockWaitTimeout:
			return nil, errors.Join(t.Rollback(), d.locked(ctx, work, err))
		case err != nil:
			return nil, errors.Join(err, t.Rollback())
		}
	}
	d.working, d.begun = true, time.Now()
	if d.node != nil {
		if err := d.snap(ctx); err != nil {
			return nil, errors.Join(err, t.Rollback())
		}
	}
	return t, nil
}

// locks are the tables of work for LOCK TABLES, with the other names that statements have for them, and what the queries
// of a person need besides; books are the locks on tables of Ladle's own.
func (d *Database) locks(work []*schema.Table, books []string) (locks []string) {
	for _, table := range work {
		if _, known := d.numbers[table]; !known {
			continue // one of Ladle's own, which are in books
		}
		locks = append(locks, quote(table.Name)+" WRITE")
		for n := range aliases {
			locks = append(locks, quote(table.Name)+" AS "+d.alias(table, n)+" WRITE")
		}
	}
	locks = append(locks, books...)
	for _, lock := range d.foreseen {
		if !slices.Contains(locks, strings.TrimSuffix(lock, "READ")+"WRITE") {
			locks = append(locks, lock)
		}
	}
	return locks
}

// locked names the tables that others use, since a lock could not be had; the server does not say who they are.
func (d *Database) locked(ctx context.Context, work []*schema.Table, cause error) error {
	var names []string
	err := d.each(ctx, "SHOW OPEN TABLES WHERE `Database` = database() AND In_use > 0", func(row *sql.Rows) error {
		var database, table string
		var used, locked int
		err := row.Scan(&database, &table, &used, &locked)
		if slices.ContainsFunc(work, func(t *schema.Table) bool { return strings.EqualFold(t.Name, table) }) {
			names = append(names, table)
		}
		return err
	})
	if err != nil {
		return err
	}
	slices.Sort(names)
	what := "a table is locked by another session"
	if len(names) > 0 {
		what = fmt.Sprintf("%s: in use by other sessions, which keep them from being locked", strings.Join(names, ", "))
	}
	return fault.Because(fault.Failed, engine.Contended(cause), fault.Problem{File: d.name, What: what,
		Do: "try again when that session is done, or wait longer", Hint: fault.WaitLonger})
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
	return "CREATE TABLE IF NOT EXISTS " + quote(t.Name) + " (" + strings.Join(lines, ", ") +
		") ENGINE = InnoDB CHARACTER SET utf8mb4"
}

// addition is the statement that adds a column to a table of Ladle's own.
func addition(t *schema.Table, c schema.Column) string {
	return "ALTER TABLE " + quote(t.Name) + " ADD COLUMN " + columnDefinition(c)
}

func columnDefinition(c schema.Column) string {
	declared := c.Declared
	switch {
	case c.Identity:
		return quote(c.Name) + " BIGINT AUTO_INCREMENT PRIMARY KEY"
	case c.Type.Kind == value.Bytes || declared == "TEXT":
		declared = "LONG" + declared
	}
	line := quote(c.Name) + " " + declared + " NOT NULL"
	if c.Defaulted {
		line += " DEFAULT " + c.Default
	}
	return line
}

// quote makes an identifier of any name.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func quoted(names []string) string {
	q := make([]string, len(names))
	for i, n := range names {
		q[i] = quote(n)
	}
	return strings.Join(q, ", ")
}
