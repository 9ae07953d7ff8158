// Package postgres is the engine for PostgreSQL, 15 or later.
package postgres

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgerrcode"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Database is a connection to a PostgreSQL server.
type Database struct {
	conn   *pgx.Conn
	name   string // the URL without its password
	waits  engine.Waits
	names  map[*schema.Table]string
	types  map[string]string      // those that are not the database's own, in SQL, by what a column declares
	shared map[*schema.Table]bool // tables that this user may not lock

	sequences    map[string]sequence // by table, in SQL
	own          engine.OwnColumns
	drawn        map[string][]engine.Span // numbers of transactions that were rolled back, by table
	citextSchema string                   // where the type citext is, in SQL

	config  *pgx.ConnConfig
	folding sync.Mutex        // held by Fold
	folder  *pgx.Conn         // a second connection, for Fold: it is asked while rows of the first are still coming
	folds   map[string]string // its temporary tables that tell which texts a collation holds equal, by collation
}

var _ engine.Database = (*Database)(nil)

// silence is how long a server may be silent past the time after which it should have ended a statement.
const silence = 10 * time.Second

// Open connects to the server at a URL (postgresql.org/docs/current/libpq-connect.html, §34.1.1.2). What the URL leaves
// open comes from PostgreSQL's own environment variables and password file. Of several hosts it is the first that answers
// and takes writes, unless target_session_attrs asks for another. The connection runs in UTC.
func Open(ctx context.Context, database string, waits engine.Waits) (*Database, error) {
	name := engine.Masked(database)
	hosts, err := engine.EachHost(database)
	if err != nil {
		return nil, err
	}
	config, err := pgx.ParseConfig(database)
	if err != nil {
		return nil, fault.At(fault.Wrong, fault.Problem{File: name, What: "the URL of the database is not valid",
			Do: "write postgres://USER@HOST:PORT/DATABASE; the password may be in PGPASSWORD or the password file"})
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = waits.Connect
	}
	if len(hosts) > 1 && config.ValidateConnect == nil && !strings.Contains(database, "target_session_attrs") {
		config.ValidateConnect = pgconn.ValidateConnectTargetSessionAttrsReadWrite
	}
	patient := waits
	patient.Connect *= time.Duration(len(hosts))
	longer := waits // the server itself ends a statement that takes too long; this is for one that is silent
	longer.Statement += silence
	dial := config.DialFunc
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return longer.Patient(conn), nil
	}
	for key, value := range map[string]string{"application_name": "ladle", "timezone": "UTC", "datestyle": "ISO",
		"lock_timeout":       fmt.Sprint(waits.Lock.Milliseconds()),
		"statement_timeout":  fmt.Sprint(waits.Statement.Milliseconds()),
		"extra_float_digits": "1", "bytea_output": "hex",
		"jit": "off"} {
		config.RuntimeParams[key] = value
	}
	connecting, stop := patient.Connecting(ctx, database)
	defer stop()
	conn, err := pgx.ConnectConfig(connecting, config)
	if err != nil && connecting.Err() != nil {
		return nil, context.Cause(connecting)
	}
	if err != nil {
		return nil, explain(name, err)
	}
	return &Database{conn: conn, config: config, name: name, waits: waits, names: map[*schema.Table]string{},
		types: map[string]string{}, drawn: map[string][]engine.Span{}, sequences: map[string]sequence{},
		shared: map[*schema.Table]bool{}, folds: map[string]string{}}, nil
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
		switch said.Code {
		case pgerrcode.LockNotAvailable, pgerrcode.SerializationFailure, pgerrcode.DeadlockDetected:
			err = engine.Contended(err)
		}
	case errors.As(err, &connect) && strings.Contains(err.Error(), "read only connection"):
		p.What = "no server that answers takes writes"
		p.Do = "name the primary server too; to read from the others, add target_session_attrs=any to the URL"
	case errors.As(err, &connect) && strings.Contains(err.Error(), "refused TLS"):
		p.What = "the server does not encrypt connections, and the URL asks for that"
		p.Do = "turn TLS on at the server; or, where the network can be trusted, write sslmode=disable"
	case errors.As(err, &connect) && connectionTimedOut(err):
		p.What, p.Do = "the server did not answer in time", "check the host, the port, and that the server is running"
	case errors.As(err, &connect):
		p.What, p.Do = "the server can't be reached", "check the host, the port, and that the server is running"
	default:
		p.What, p.Do = "the connection to the database failed: "+err.Error(), "nothing was changed; try again"
	}
	return fault.Because(fault.Failed, err, p)
}

func connectionTimedOut(err error) bool {
	var network net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &network) && network.Timeout()
}

// words returns what an error of the server means to people, and what to do.
func words(e *pgconn.PgError) (what, do string) {
	switch e.Code {
	case pgerrcode.InvalidPassword, pgerrcode.InvalidAuthorizationSpecification:
		return "the server refuses the login: " + e.Message, "check the user and the password"
	case pgerrcode.InvalidCatalogName:
		return e.Message, "check the name of the database in the URL"
	case pgerrcode.InsufficientPrivilege:
		return "this user lacks a privilege: " + e.Message, "ask for the privilege, or use another user"
	case pgerrcode.QueryCanceled:
		return "the server ended a statement: " + e.Message, "load again with a longer statement timeout"
	case pgerrcode.LockNotAvailable:
		return "a table is locked by another session", "try again when that session is done"
	case pgerrcode.SerializationFailure, pgerrcode.DeadlockDetected:
		return "another session changed the same rows at the same time: " + e.Message, "nothing was changed; load again"
	case pgerrcode.DiskFull:
		return "the server's disk is full", "free some space and load again"
	case pgerrcode.AdminShutdown, pgerrcode.CrashShutdown, pgerrcode.CannotConnectNow:
		return "the server ended the connection: " + e.Message, "load again when the server is up"
	case pgerrcode.ReadOnlySQLTransaction:
		return "the database can't be written to", "connect to a server that accepts writes; this one may be a standby"
	}
	return "the database failed: " + e.Message, ""
}

// Close ends the connection.
func (d *Database) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if d.folder != nil {
		_ = d.folder.Close(ctx) // only temporary tables go with it
	}
	if d.conn.IsClosed() { // a statement was left: the driver asks the server to end it
		select {
		case <-d.conn.PgConn().CleanupDone():
		case <-ctx.Done():
		}
		return nil
	}
	return d.conn.Close(ctx)
}

func (d *Database) exec(ctx context.Context, query string, arguments ...any) error {
	_, err := d.conn.Exec(ctx, query, arguments...)
	return explain(d.name, err)
}

// Begin locks the tables of work against writers; readers go on. Deferred constraints are made immediate, so that
// each row is judged when it is sent.
func (d *Database) Begin(ctx context.Context, work, own []*schema.Table, mode engine.Mode) (engine.Tx, error) {
	if err := d.exec(ctx, "BEGIN"); err != nil {
		return nil, err
	}
	t := &tx{Pipe: engine.NewPipe(d, d.judge), db: d, begun: ctx, rehearsal: mode&engine.Rehearsal != 0,
		careful: mode&engine.Careful != 0, numbered: map[*schema.Table]bool{},
		given: map[string][]engine.Span{}, checks: map[*schema.Table][]tableCheck{}}
	d.own.Forget()
	statements, err := engine.Missing(ctx, d, own, definition, d.addition)
	if err != nil {
		return nil, errors.Join(err, t.Rollback())
	}
	if statements != nil {
		d.own.Forget()
	}
	for _, s := range append(statements, "SET CONSTRAINTS ALL IMMEDIATE") {
		if err := d.exec(ctx, s); err != nil {
			return nil, errors.Join(err, t.Rollback())
		}
	}
	for _, table := range work {
		err := d.exec(ctx, d.lock(table))
		var said *pgconn.PgError
		switch {
		case errors.As(err, &said) && said.Code == pgerrcode.LockNotAvailable:
			return nil, errors.Join(t.Rollback(), d.locked(ctx, table, err))
		case err != nil:
			return nil, errors.Join(err, t.Rollback())
		}
	}
	return t, nil
}

// locked says who holds locks on a table that could not be had; t is nil where it may be any table.
func (d *Database) locked(ctx context.Context, t *schema.Table, cause error) error {
	which, arguments := "l.mode OPERATOR(pg_catalog.=) 'AccessExclusiveLock'", []any{}
	if t != nil {
		which, arguments = "l.relation OPERATOR(pg_catalog.=) $1::pg_catalog.regclass::pg_catalog.oid",
			[]any{d.table(t)}
	}
	var holders []string
	err := d.each(ctx, `SELECT pg_catalog.format('%s is locked by session %s of user %s%s, %s since %s', c.relname, a.pid,
			a.usename, CASE WHEN a.application_name OPERATOR(pg_catalog.<>) '' THEN
			pg_catalog.format(' (%s)', a.application_name) END, coalesce(a.state, 'unknown'),
			pg_catalog.to_char(a.state_change, 'HH24:MI:SS "UTC"'))
		FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_stat_activity a ON a.pid OPERATOR(pg_catalog.=) l.pid
		JOIN pg_catalog.pg_class c ON c.oid OPERATOR(pg_catalog.=) l.relation AND c.relkind
			OPERATOR(pg_catalog.=) ANY ('{r,p}'::pg_catalog."char"[])
		WHERE l.granted AND l.pid OPERATOR(pg_catalog.<>) pg_catalog.pg_backend_pid() AND `+which+" LIMIT 3",
		func(row pgx.Rows) error {
			var holder string
			err := row.Scan(&holder)
			holders = append(holders, holder)
			return err
		}, arguments...)
	if err != nil {
		return err
	}
	what := "a table is locked by another session"
	if holders != nil {
		what = strings.Join(holders, "; ")
	}
	return fault.Because(fault.Failed, engine.Contended(cause), fault.Problem{File: d.name, What: what,
		Do: "try again when that session is done, or wait longer", Hint: fault.WaitLonger})
}

// lock is the statement that keeps other writers off a table. A user who may not do that, having no more than the
// right to read and add rows, only keeps other loads off: PostgreSQL itself then sees to relations and unique keys.
func (d *Database) lock(t *schema.Table) string {
	if d.shared[t] {
		return fmt.Sprintf("SELECT "+
			"pg_catalog.pg_advisory_xact_lock(pg_catalog.hashtextextended(%s::pg_catalog.regclass::pg_catalog.text, "+
			"7))",
			"'"+strings.ReplaceAll(d.table(t), "'", "''")+"'")
	}
	return "LOCK TABLE " + d.table(t) + " IN SHARE ROW EXCLUSIVE MODE"
}

// May does it to no row, which the server allows only to those who may do it to some.
func (d *Database) May(ctx context.Context, do engine.Privilege, t *schema.Table, columns []string) error {
	err := d.may(ctx, do, t, columns)
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == pgerrcode.LockNotAvailable {
		return d.locked(ctx, t, err)
	}
	if errors.As(err, &said) && said.Code == pgerrcode.InsufficientPrivilege {
		return &engine.Denied{What: engine.Verbs[do] + " " + t.Name,
			Grant: fmt.Sprintf("GRANT %s ON %s TO %s", engine.Words[do], d.table(t), quote(d.config.User))}
	}
	return err
}

// MayLoad asks for the sequences from which rows get their ids.
func (d *Database) MayLoad(ctx context.Context, _, adds []*schema.Table) (denied []*engine.Denied, err error) {
	for _, t := range adds {
		if t.Locator == "" {
			continue
		}
		sequence, err := d.sequence(ctx, t)
		if err != nil {
			return nil, err
		}
		if !sequence.use {
			denied = append(denied, &engine.Denied{What: "number rows of " + t.Name,
				Grant: fmt.Sprintf("GRANT USAGE ON SEQUENCE %s TO %s", sequence.name, quote(d.config.User))})
		}
	}
	return denied, nil
}

func (d *Database) may(ctx context.Context, do engine.Privilege, t *schema.Table, columns []string) error {
	switch do {
	case engine.Update:
		return d.exec(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE false", d.table(t), assigned(columns, quoted)))
	case engine.Delete:
		return d.exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE false", d.table(t)))
	}
	return d.exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM %s WHERE false",
		d.table(t), quoted(columns),
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

// unprotected says what the connection lacks.
func (d *Database) unprotected() string {
	used := d.config.TLSConfig
	verified := used != nil && (!used.InsecureSkipVerify || used.VerifyPeerCertificate != nil)
	_, encrypted := d.conn.PgConn().Conn().(*tls.Conn)
	return engine.Unprotected(d.config.Host, encrypted, encrypted && verified)
}

// Notes tells of a connection that others could read, and names the tables that can't be locked.
func (d *Database) Notes() (notes []string) {
	if lacks := d.unprotected(); lacks != "" {
		notes = append(notes, lacks)
	}
	var names []string
	for t := range d.shared {
		names = append(names, t.Name)
	}
	if names == nil {
		return notes
	}
	slices.Sort(names)
	return append(notes, "this user may not lock "+strings.Join(names, ", ")+
		": other programs may write to them during the load")
}

// definition is the statement that makes a table of Ladle's own. Two loads that make it at once wait for each other.
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
	return "CREATE TABLE IF NOT EXISTS " + quote(t.Name) + " (" + strings.Join(lines, ", ") + ")"
}

// addition is the statement that adds a column to a table of Ladle's own.
func (d *Database) addition(t *schema.Table, c schema.Column) string {
	return "ALTER TABLE " + d.table(t) + " ADD COLUMN IF NOT EXISTS " + columnDefinition(c)
}

func columnDefinition(c schema.Column) string {
	declared := c.Declared
	switch {
	case c.Identity:
		return quote(c.Name) + " BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY"
	case c.Type.Kind == value.Bytes:
		declared = "BYTEA"
	}
	line := quote(c.Name) + " " + declared + " NOT NULL"
	if c.Defaulted {
		line += " DEFAULT " + c.Default
	}
	return line
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
