// Package postgres is the engine for PostgreSQL, 15 or later.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

const (
	connectWait = 10 * time.Second
	lockWait    = 5 * time.Second
)

// Database is a connection to a PostgreSQL server.
type Database struct {
	conn   *pgx.Conn
	name   string // the URL without its password
	names  map[*schema.Table]string
	shared map[*schema.Table]bool // tables that this user may not lock

	config *pgx.ConnConfig
	folder *pgx.Conn         // a second connection, for Fold: it is asked while rows of the first are still coming
	folds  map[string]string // its temporary tables that tell which texts a collation holds equal, by collation
}

var _ engine.Database = (*Database)(nil)

// Open connects to the server at a URL (postgresql.org/docs/current/libpq-connect.html, §34.1.1.2). What the URL leaves
// open comes from PostgreSQL's own environment variables and password file. The connection runs in UTC.
func Open(ctx context.Context, database string) (*Database, error) {
	name := WithoutPassword(database)
	config, err := pgx.ParseConfig(database)
	if err != nil {
		return nil, fault.At(fault.Wrong, fault.Problem{File: name, What: "the URL of the database can't be read",
			Do: "write postgres://USER@HOST:PORT/DATABASE; the password may stand in PGPASSWORD or the password file"})
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = connectWait
	}
	for key, value := range map[string]string{"application_name": "ladle", "timezone": "UTC", "datestyle": "ISO",
		"lock_timeout": fmt.Sprint(lockWait.Milliseconds()), "extra_float_digits": "1", "bytea_output": "hex", "jit": "off"} {
		config.RuntimeParams[key] = value
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, explain(name, err)
	}
	return &Database{conn: conn, config: config, name: name, names: map[*schema.Table]string{}, shared: map[*schema.Table]bool{}, folds: map[string]string{}}, nil
}

// WithoutPassword is a URL as it may be shown.
func WithoutPassword(database string) string {
	u, err := url.Parse(database)
	if err != nil {
		return "the database"
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	query := u.Query()
	query.Del("password")
	u.RawQuery = query.Encode()
	return u.String()
}

// explain makes a fault of an error of the driver, without a password.
func explain(name string, err error) error {
	if err == nil || errors.As(err, new(*fault.Fault)) || errors.Is(err, context.Canceled) {
		return err
	}
	p := fault.Problem{File: name}
	var said *pgconn.PgError
	var connect *pgconn.ConnectError
	switch {
	case errors.As(err, &said):
		p.What, p.Do = words(said)
	case errors.As(err, &connect):
		p.What, p.Do = "the server can't be reached", "check the host, the port, and that the server runs"
	default:
		p.What, p.Do = "the connection to the database failed: "+err.Error(), "nothing was changed; try again"
	}
	return fault.Because(fault.Failed, err, p)
}

// words tells an error of the server by its code (postgresql.org/docs/current/errcodes-appendix.html).
func words(e *pgconn.PgError) (what, do string) {
	switch e.Code {
	case "28P01", "28000":
		return "the server does not let this user in: " + e.Message, "check the user and the password"
	case "3D000":
		return e.Message, "check the name of the database in the URL"
	case "42501":
		return "this user may not do that: " + e.Message, "ask for the right, or use another user"
	case "55P03":
		return "a table is locked by somebody else", "try again when they are done"
	case "40001", "40P01":
		return "somebody else changed the same rows at the same time: " + e.Message, "nothing was changed; load again"
	case "53100":
		return "the server's disk is full", "make room and load again"
	case "25006":
		return "the database can't be written to", "connect to a server that takes changes"
	}
	return "the database failed: " + e.Message, ""
}

// Close ends the connection.
func (d *Database) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), lockWait)
	defer stop()
	if d.folder != nil {
		_ = d.folder.Close(ctx) // only temporary tables go with it
	}
	return d.conn.Close(ctx)
}

func (d *Database) exec(ctx context.Context, query string, arguments ...any) error {
	_, err := d.conn.Exec(ctx, query, arguments...)
	return explain(d.name, err)
}

// Begin locks the tables of work against writers; readers go on. Deferred constraints are made immediate, so that
// each row is judged when it is sent.
func (d *Database) Begin(ctx context.Context, work, own []*schema.Table, careful bool) (engine.Tx, error) {
	if err := d.exec(ctx, "BEGIN"); err != nil {
		return nil, err
	}
	t := &tx{Pipe: engine.Pipe{Reader: d, Judge: d.judge}, db: d, careful: careful, numbered: map[*schema.Table]bool{}}
	statements := []string{"SET CONSTRAINTS ALL IMMEDIATE"}
	for _, table := range own {
		statements = append(statements, definition(table))
	}
	for _, table := range work {
		statements = append(statements, d.lock(table))
	}
	for _, s := range statements {
		if err := d.exec(ctx, s); err != nil {
			return nil, errors.Join(err, t.Rollback())
		}
	}
	return t, nil
}

// lock is the statement that keeps other writers off a table. A user who may not do that, having no more than the
// right to read and add rows, only keeps other loads off: PostgreSQL itself then sees to relations and unique keys.
func (d *Database) lock(t *schema.Table) string {
	if d.shared[t] {
		return fmt.Sprintf("SELECT pg_advisory_xact_lock(hashtextextended(%s::regclass::text, 7))", "'"+strings.ReplaceAll(d.table(t), "'", "''")+"'")
	}
	return "LOCK TABLE " + d.table(t) + " IN SHARE ROW EXCLUSIVE MODE"
}

// May does it to no row, which the server allows only to those who may do it to some.
func (d *Database) May(ctx context.Context, do engine.Right, t *schema.Table, columns []string) error {
	switch do {
	case engine.Update:
		return d.exec(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE false", d.table(t), assigned(columns, quoted)))
	case engine.Delete:
		return d.exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE false", d.table(t)))
	}
	return d.exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM %s WHERE false", d.table(t), quoted(columns),
		quoted(columns), d.table(t)))
}

// assigned lists columns, each set to what value makes of it.
func assigned(columns []string, value func([]string) string) string {
	all := make([]string, len(columns))
	for i := range columns {
		all[i] = quote(columns[i]) + " = " + value(columns[i:i+1])
	}
	return strings.Join(all, ", ")
}

// Notes names the tables that can't be locked.
func (d *Database) Notes() []string {
	var names []string
	for t := range d.shared {
		names = append(names, t.Name)
	}
	if names == nil {
		return nil
	}
	slices.Sort(names)
	return []string{"this user may not lock " + strings.Join(names, ", ") + ": other programs may write to them during the load"}
}

// definition is the statement that makes a table of Ladle's own. Two loads that make it at once wait for each other.
func definition(t *schema.Table) string {
	var lines []string
	for _, c := range t.Columns {
		declared := c.Declared
		if c.Type.Kind == value.Bytes {
			declared = "BYTEA"
		}
		line := quote(c.Name) + " " + declared
		if c.Identity {
			line = quote(c.Name) + " BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY"
		}
		lines = append(lines, line+" NOT NULL")
	}
	for _, k := range t.Keys {
		if !k.Primary {
			lines = append(lines, "UNIQUE ("+quoted(k.Columns)+")")
		}
	}
	return "CREATE TABLE IF NOT EXISTS " + quote(t.Name) + " (" + strings.Join(lines, ", ") + ")"
}

// table is the table's name in SQL.
func (d *Database) table(t *schema.Table) string {
	if name, ok := d.names[t]; ok {
		return name
	}
	return quote(t.Name)
}

// quote makes an identifier of any name.
func quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func quoted(names []string) string {
	q := make([]string, len(names))
	for i, n := range names {
		q[i] = quote(n)
	}
	return strings.Join(q, ", ")
}
