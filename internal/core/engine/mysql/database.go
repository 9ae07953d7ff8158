// Package mysql is the engine for MariaDB, 10.11 or later, and MySQL, 8.0 or later. It uses only what both have.
package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
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
	weigher  *sql.Conn // a second connection, for Fold: it is asked while rows of the first are still coming
	name     string    // the URL without its password
	infile   bool      // the server takes LOAD DATA LOCAL
	numbers  map[*schema.Table]int
	weights  map[string]map[string][]byte
	reserved map[string]int64 // the last locator given out in this transaction, by table
	sent     map[string]int64 // the rows sent in this transaction, by table
	working  bool             // a transaction is open
	foreseen []string         // the locks that queries of a person need besides
}

var _ engine.Database = (*Database)(nil)

// Open connects to the server at a URL; see configOf. The connection runs in UTC and in strict mode.
func Open(ctx context.Context, database string) (*Database, error) {
	config, err := configOf(database)
	if err != nil {
		return nil, err
	}
	d := &Database{name: WithoutPassword(database), weights: map[string]map[string][]byte{}, reserved: map[string]int64{}, sent: map[string]int64{},
		numbers: map[*schema.Table]int{}}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, fault.Because(fault.Wrong, err, fault.Problem{File: d.name, What: "the database can't be connected to: " + err.Error()})
	}
	d.pool = sql.OpenDB(connector)
	d.conn, err = d.pool.Conn(ctx)
	if err != nil {
		d.pool.Close()
		return nil, d.explain(err)
	}
	n, err := d.one(ctx, "SELECT @@local_infile")
	d.infile = n == 1
	return d, err
}

// explain makes a fault of an error of the driver, without a password.
func (d *Database) explain(err error) error {
	if err == nil || errors.As(err, new(*fault.Fault)) || errors.Is(err, context.Canceled) {
		return err
	}
	p := fault.Problem{File: d.name}
	var said *mysql.MySQLError
	if errors.As(err, &said) {
		p.What, p.Do = words(said)
	} else {
		p.What, p.Do = "the connection to the database failed: "+err.Error(), "check the host, the port, and that the server runs"
	}
	return fault.Because(fault.Failed, err, p)
}

// words tells an error of the server by its number (mariadb.com/kb/en/mariadb-error-codes).
func words(e *mysql.MySQLError) (what, do string) {
	switch e.Number {
	case 1045, 1698:
		return "the server does not let this user in: " + e.Message, "check the user and the password"
	case 1049:
		return e.Message, "check the name of the database in the URL"
	case 1044, 1142, 1143, 1227:
		return "this user may not do that: " + e.Message, "ask for the right, or use another user"
	case 1205:
		return "a table is locked by somebody else", "try again when they are done"
	case 1213:
		return "somebody else changed the same rows at the same time: " + e.Message, "nothing was changed; load again"
	case 1290, 1792, 1836:
		return "the database can't be written to: " + e.Message, "connect to a server that takes changes"
	case 1021, 1114:
		return "the server's disk is full", "make room and load again"
	}
	return fmt.Sprintf("the database failed: %s (%d)", e.Message, e.Number), ""
}

// May does it to no row, which the server allows only to those who may do it to some.
func (d *Database) May(ctx context.Context, do engine.Right, t *schema.Table, columns []string) error {
	switch do {
	case engine.Update:
		var set []string
		for _, c := range columns {
			set = append(set, quote(c)+" = "+quote(c))
		}
		return d.exec(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE 1 = 0", quote(t.Name), strings.Join(set, ", ")))
	case engine.Delete:
		return d.exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE 1 = 0", quote(t.Name)))
	}
	return d.exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE 1 = 0", quote(t.Name), quoted(columns), quoted(columns), quote(t.Name)))
}

// Notes tells of a server that doesn't take rows in bulk.
func (d *Database) Notes() []string {
	if d.infile {
		return nil
	}
	return []string{"the server does not allow LOAD DATA LOCAL (local_infile is off), so rows go by INSERT, which makes writing about 1.6 times as long"}
}

// Close ends the connection; the server takes an open transaction back.
func (d *Database) Close() error {
	if d.weigher != nil {
		d.weigher.Close()
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

func (d *Database) eachOn(ctx context.Context, conn *sql.Conn, query string, take func(*sql.Rows) error, arguments ...any) error {
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
// others: LOCK TABLES opens the transaction where autocommit is off, and takes no other table in until it ends.
func (d *Database) Begin(ctx context.Context, work, own []*schema.Table, careful bool) (engine.Tx, error) {
	for _, table := range own {
		if err := d.exec(ctx, definition(table)); err != nil {
			return nil, err
		}
	}
	clear(d.reserved)
	clear(d.sent)
	var locks []string
	for _, table := range work {
		if _, known := d.numbers[table]; !known {
			continue // one of Ladle's own, which are all locked below
		}
		locks = append(locks, quote(table.Name)+" WRITE")
		for n := range aliases {
			locks = append(locks, quote(table.Name)+" AS "+d.alias(table, n)+" WRITE")
		}
	}
	err := d.each(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = database() AND table_name LIKE 'ladle\_%'`,
		func(row *sql.Rows) error {
			var name string
			err := row.Scan(&name)
			locks = append(locks, quote(name)+" WRITE")
			return err
		})
	if err != nil {
		return nil, err
	}
	for _, lock := range d.foreseen {
		if !slices.Contains(locks, strings.TrimSuffix(lock, "READ")+"WRITE") {
			locks = append(locks, lock)
		}
	}
	t := &tx{Pipe: engine.Pipe{Reader: d, Judge: d.judge}, db: d, careful: careful}
	for _, s := range []string{"SET autocommit = 0", "LOCK TABLES " + strings.Join(locks, ", ")} {
		if err := d.exec(ctx, s); err != nil {
			return nil, errors.Join(err, t.Rollback())
		}
	}
	d.working = true
	return t, nil
}

// definition is the statement that makes a table of Ladle's own.
func definition(t *schema.Table) string {
	var lines []string
	for _, c := range t.Columns {
		declared := c.Declared
		if c.Type.Kind == value.Bytes || declared == "TEXT" {
			declared = "LONG" + declared
		}
		line := quote(c.Name) + " " + declared + " NOT NULL"
		if c.Identity {
			line = quote(c.Name) + " BIGINT AUTO_INCREMENT PRIMARY KEY"
		}
		lines = append(lines, line)
	}
	for _, k := range t.Keys {
		if !k.Primary {
			lines = append(lines, "UNIQUE ("+quoted(k.Columns)+")")
		}
	}
	return "CREATE TABLE IF NOT EXISTS " + quote(t.Name) + " (" + strings.Join(lines, ", ") + ") ENGINE = InnoDB CHARACTER SET utf8mb4"
}

// ending is how long the end of a transaction may take after an interrupt.
const ending = time.Minute

// quote makes an identifier of any name.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func quoted(names []string) string {
	q := make([]string, len(names))
	for i, n := range names {
		q[i] = quote(n)
	}
	return strings.Join(q, ", ")
}
