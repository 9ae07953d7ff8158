package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// node is a server of a Galera cluster (mariadb.com/kb/en/galera-cluster-status-variables,
// mariadb.com/kb/en/galera-cluster-system-variables).
//
// LOCK TABLES holds on one node only. Rows that other nodes have committed can't be applied there meanwhile, and the
// commit of the load would wait behind them, and the whole cluster with it. So a transaction locks nothing there but
// the rows that it writes. It reads a snapshot that has all that was committed on any node before; a row that was changed
// since can't be changed or referred to (innodb_snapshot_isolation); and what other nodes commit meanwhile, or have
// committed by the time of its own commit, ends it where both have written the same key, or one a row that the other
// refers to.
//
// It sets no savepoints: where a temporary table was written to before, a rollback to one makes the other nodes stand still
// once the transaction is committed (seen with MariaDB 10.11.19 and Galera 26.4.23).
type node struct {
	cluster      engine.Cluster
	step, offset int64 // of the ids that this node gives
	primary      bool  // it is connected to most of the others, and takes statements
	state        string
	snapshots    bool  // it can tell whether rows were changed since they were read
	collisions   int   // keys of others that were not seen, so far
	snapshot     int64 // the number of the last transaction of the cluster that the snapshot has
	passed       bool  // the cluster is known to have committed something since
}

// mostCollisions is how often a key that is there, though it wasn't when the load was judged, is taken for one that another
// session has added meanwhile. From then on, only the server knows why: it is a row that it rejects.
const mostCollisions = 6

// Cluster is that of [engine.ClusterOf].
func (d *Database) Cluster() *engine.Cluster {
	if d.node == nil {
		return nil
	}
	return &d.node.cluster
}

// meet finds out whether the server is a node of a cluster, and has the session read what was committed on any node.
func (d *Database) meet(ctx context.Context) error {
	said, err := d.settings(ctx, "SHOW GLOBAL VARIABLES WHERE Variable_name IN ('wsrep_on', 'wsrep_max_ws_rows', "+
		"'wsrep_max_ws_size', 'innodb_snapshot_isolation')")
	if err != nil || said["wsrep_on"] != "ON" {
		return err
	}
	status, err := d.settings(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_cluster_size', "+
		"'wsrep_cluster_status', 'wsrep_ready', 'wsrep_local_state_comment')")
	if err != nil {
		return err
	}
	if d.node == nil {
		d.node = &node{}
	}
	n := d.node
	n.cluster.Servers, _ = strconv.Atoi(status["wsrep_cluster_size"]) // a server that has no cluster says 0
	n.cluster.MostRows, _ = strconv.ParseInt(said["wsrep_max_ws_rows"], 10, 64)
	n.cluster.MostSize, _ = strconv.ParseInt(said["wsrep_max_ws_size"], 10, 64)
	n.primary = status["wsrep_cluster_status"] == "Primary" && status["wsrep_ready"] == "ON"
	n.state = status["wsrep_local_state_comment"]
	_, n.snapshots = said["innodb_snapshot_isolation"]
	if !n.primary || !n.snapshots {
		return nil
	}
	return errors.Join(d.exec(ctx, "SET SESSION wsrep_sync_wait = 7, innodb_snapshot_isolation = ON"),
		d.exec(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ"))
}

// settings are the rows of a SHOW by their names in small letters.
func (d *Database) settings(ctx context.Context, show string) (map[string]string, error) {
	said := map[string]string{}
	err := d.each(ctx, show, func(row *sql.Rows) error {
		var name, value string
		err := row.Scan(&name, &value)
		said[strings.ToLower(name)] = value
		return err
	})
	return said, err
}

// revive connects anew where a transaction on a node has lost its connection: the node is gone, or it was reading rows when
// it ended the transaction for those of another node, and reads on where nobody writes.
func (d *Database) revive(ctx context.Context) error {
	if d.node == nil || !d.cut.Load() {
		return nil
	}
	anew, err := Open(ctx, d.url, d.waits)
	if err != nil {
		return err
	}
	_ = d.Close() // it is lost already
	d.pool, d.conn, d.weigher, d.id, d.name = anew.pool, anew.conn, nil, anew.id, anew.name
	d.cut.Store(false)
	d.infile, d.compound, d.lacks = anew.infile, anew.compound, anew.lacks
	if anew.node != nil {
		anew.node.collisions = d.node.collisions
	}
	d.node = anew.node
	return nil
}

// fit is an error when the server is a node of a cluster that can't take a load now.
func (d *Database) fit(ctx context.Context) error {
	if err := d.meet(ctx); err != nil || d.node == nil {
		return err
	}
	p := fault.Problem{File: d.name, Do: "connect to another node of the cluster, or name several of them: " +
		"mysql://USER@HOST,HOST/DATABASE"}
	switch n := d.node; {
	case !n.primary:
		p.What = "this node of the cluster is cut off from most of the others, and takes no statements"
	case n.state != "Synced":
		p.What = fmt.Sprintf("this node of the cluster is not in step with the others: its state is %q", n.state)
	case !n.snapshots:
		p.What, p.Do = "a load into a cluster needs a server that can tell whether rows were changed since they were read, "+
			"and this one can't (it has no innodb_snapshot_isolation)", "use MariaDB 10.11.8 or later"
	default:
		n.step, n.offset = 1, 1
		err := d.conn.QueryRowContext(ctx, "SELECT @@auto_increment_increment, @@auto_increment_offset").Scan(&n.step, &n.offset)
		return d.explain(err)
	}
	return fault.At(fault.Failed, p)
}

// overtakes reports whether an error on a node says that others came first: it may have been ended for what other nodes
// have committed, at any statement, which a rollback to a savepoint doesn't tell but that the savepoint is gone; or a row
// that it read was changed, or it waits for them too long.
func (d *Database) overtakes(e *mysql.MySQLError) bool {
	return d.node != nil && slices.Contains([]uint16{errDeadlock, errChanged, errNotReady, errLockWaitTimeout,
		errNoSavepoint}, e.Number)
}

// collides reports whether an error is about a key that another session has probably added since the snapshot was made:
// the cluster has committed something since, and it didn't happen too often before.
func (d *Database) collides(err error) bool {
	var said *mysql.MySQLError
	if d.node == nil || !errors.As(err, &said) || said.Number != errDuplicateKey {
		return false
	}
	if n := d.node; !n.passed && n.collisions < mostCollisions {
		ctx, stop := context.WithTimeout(context.Background(), d.waits.Connect)
		defer stop()
		last, err := d.lastCommitted(ctx)
		n.passed = err == nil && last > n.snapshot || errors.Is(err, engine.ErrOvertaken) // it is told at the next statement
	}
	return d.node.passed && d.node.collisions < mostCollisions
}

// lastCommitted is the number of the last transaction of the cluster that the node has.
func (d *Database) lastCommitted(ctx context.Context) (int64, error) {
	said, err := d.settings(ctx, "SHOW GLOBAL STATUS LIKE 'wsrep_last_committed'")
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(said["wsrep_last_committed"], 10, 64)
}

// snap begins a transaction with a snapshot.
func (d *Database) snap(ctx context.Context) (err error) {
	d.node.passed = false
	if d.node.snapshot, err = d.lastCommitted(ctx); err != nil {
		return err
	}
	return d.exec(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT")
}

// rejects reports whether an error is about a row, and not about what others have done.
func (d *Database) rejects(err error) bool { return rejects(err) && !d.collides(err) }

// reserveOnNode returns the next of the numbers that this node gives, behind past, the counter, the largest in the
// snapshot, and those given in this transaction. Where rows of other sessions on this node took some of them before, it
// keeps a distance from the counter.
func (d *Database) reserveOnNode(t *schema.Table, n, largest, next, past int64) []engine.Span {
	const distance = 1000
	step := d.node.step
	first := max(largest+1, next+int64(d.node.collisions)*distance*step, past+1, d.reserved[t.Name]+1)
	first += ((d.node.offset-first)%step + step) % step
	span := engine.Span{First: first, Count: n, Step: step}
	d.reserved[t.Name] = span.Last()
	return []engine.Span{span}
}

// passOver moves the counter of a table behind the numbers that were reserved in it, so that no other session on this node
// is given one of them before its row is there: InnoDB moves it when a row with such a number is added, also where that is
// taken back (dev.mysql.com/doc/refman/8.0/en/innodb-auto-increment-handling.html).
func (t *tx) passOver(ctx context.Context, table *schema.Table, columns []string, kinds []value.Type,
	rows *value.Batch) error {
	at := slices.Index(columns, table.Locator)
	last := t.db.reserved[table.Name]
	if t.db.node == nil || t.db.rehearse || t.passed[table.Name] || at < 0 || last == 0 || rows.Len() == 0 ||
		!table.UniqueOn(columns[at:at+1]) { // it must be refused
		return nil
	}
	if err := t.Settle(); err != nil {
		return err
	}
	t.passed[table.Name] = true
	one := value.NewBatch(kinds) // twice, so that the server takes the statement back
	one.Columns[at].AppendNum(last)
	for i := range one.Columns {
		if i != at {
			one.Columns[i].AppendFrom(&rows.Columns[i], 0)
			one.Columns[i].AppendFrom(&rows.Columns[i], 0)
		}
	}
	one.Columns[at].AppendNum(last)
	err := t.db.insert(ctx, quote(table.Name), columns, kinds, one, 0, 2)
	if err == nil {
		return fmt.Errorf("%s took two rows with the same %s", table.Name, table.Locator)
	}
	if rejects(err) { // as it must be; what becomes of the row itself shows when it is sent
		err = nil
	}
	return t.db.explain(err)
}

// singly sends rows one by one, within the server or from here.
func (t *tx) singly(rows int, send func(start, end int) error,
	each func(start, end int) ([]engine.Rejection, bool, error)) (rejected []engine.Rejection, err error) {
	rejected, able, err := each(0, rows)
	for i := 0; i < rows && !able && err == nil; i++ {
		if err = send(i, i+1); t.db.rejects(err) {
			rejected = append(rejected, engine.Rejection{Row: i, Why: reason(err)})
			err = nil
		}
	}
	return rejected, t.db.explain(err)
}

// unchanged does something in the transaction that may not change rows, and ends the transaction where it has.
func (d *Database) unchanged(ctx context.Context, do func() error) error {
	before, err := d.rowsWritten(ctx)
	if err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	after, err := d.rowsWritten(ctx)
	if err != nil || after == before {
		return err
	}
	d.spoilt = fault.At(fault.Wrong, fault.Problem{File: d.name, What: "a query changes rows, by a function that it calls",
		Do: "write one SELECT that only reads"})
	return d.spoilt
}

// rowsWritten is how many rows the session has written so far, besides those of the server's own temporary tables.
func (d *Database) rowsWritten(ctx context.Context) (sum int64, err error) {
	said, err := d.settings(ctx, "SHOW SESSION STATUS WHERE Variable_name IN ('Handler_write', 'Handler_update', "+
		"'Handler_delete')")
	for _, value := range said {
		n, _ := strconv.ParseInt(value, 10, 64) // a counter
		sum += n
	}
	return sum, err
}
