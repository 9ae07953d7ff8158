package conformance

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

// nodes are the URLs of the nodes of a cluster, LADLE_TEST_CLUSTER.
var nodes = strings.Fields(os.Getenv("LADLE_TEST_CLUSTER"))

// clustered reports whether a kind of database is a node of a cluster in this run.
func clustered(on server) bool {
	_, mysql := on.(mysqlDatabase)
	return mysql && slices.Contains(nodes, mysqlURL())
}

// alone skips a test that is about a server by itself.
func alone(t *testing.T, on server) {
	t.Helper()
	if clustered(on) {
		t.Skip("a cluster does otherwise")
	}
}

// cluster is a world in a database on all nodes.
type cluster struct {
	*world
	hosts []string
	name  string // of the database
}

// newCluster makes a database on the cluster, whose nodes give ids in steps.
func newCluster(t *testing.T) *cluster {
	if len(nodes) == 0 {
		t.Skip("make cluster")
	}
	t.Setenv("LADLE_TEST_MYSQL", nodes[0])
	c := &cluster{world: newWorld(t, mysqlDatabase{}, `CREATE TABLE kind (id ID, name VARCHAR(20) NOT NULL UNIQUE);
		CREATE TABLE vessel (id ID, reg VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(40), kind_id INT NOT NULL,
		FOREIGN KEY (kind_id) REFERENCES kind (id), CHECK (name <> 'refused'))`)}
	for _, node := range nodes {
		u, err := url.Parse(node)
		require.NoError(t, err)
		c.hosts = append(c.hosts, u.Host)
	}
	c.name = c.db[strings.LastIndex(c.db, "/")+1:]
	for node := range c.hosts { // which hears of the database after the first one has made it
		db := c.open(node)
		require.Eventually(t, func() bool { return db.Ping() == nil }, time.Minute, 5*time.Millisecond, "node %d", node+1)
	}
	c.steps(len(c.hosts))
	t.Cleanup(func() { c.steps(1) })
	c.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: v.csv}}\ntables: {vessel: {from: in, columns: {reg: R, name: N, "+
		"kind_id: {from: K, lookup: kind.name, not_found: add}}}}\nset_aside_limit: any\n")
	return c
}

// vessels writes the file, of n vessels of so many kinds, whose numbers begin with prefix.
func (c *cluster) vessels(prefix string, n, kinds int) {
	var rows strings.Builder
	rows.WriteString("R,N,K\n")
	for i := range n {
		fmt.Fprintf(&rows, "%s-%06d,Vessel %d,Kind %d\n", prefix, i, i, i%kinds)
	}
	c.write("v.csv", rows.String())
}

// on is the database on a node, from 0, with the others behind it.
func (c *cluster) on(node int) string {
	return "mysql://root@" + strings.Join(append(append([]string{}, c.hosts[node:]...), c.hosts[:node]...), ",") + "/" + c.name
}

// open connects to a node alone; what it asks sees all that was committed before on any node.
func (c *cluster) open(node int) *sql.DB {
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(%s)/%s?wsrep_sync_wait=7", c.hosts[node], c.name))
	require.NoError(c, err)
	c.Cleanup(func() { db.Close() })
	return db
}

func (c *cluster) do(node int, statement string) {
	c.Helper()
	db := c.open(node)
	defer db.Close()
	_, err := db.Exec(statement)
	require.NoError(c, err)
}

// ask returns the only cell of the answer of a node.
func (c *cluster) ask(node int, query string) (cell string) {
	c.Helper()
	db := c.open(node)
	defer db.Close()
	require.NoError(c, db.QueryRow(query).Scan(&cell))
	return cell
}

// steps has each node give each n-th id, beginning with its own.
func (c *cluster) steps(n int) {
	for node := range c.hosts {
		c.do(node, fmt.Sprintf("SET GLOBAL auto_increment_increment = %d, auto_increment_offset = %d", n, min(node+1, n)))
	}
}

// same holds that the rows on all nodes are the same, and that tables can still be made: no node stands still.
func (c *cluster) same() {
	c.Helper()
	var first string
	for node := range c.hosts {
		sums := ""
		for _, table := range c.tables(c.world) {
			var name, sum string
			db := c.open(node)
			require.NoError(c, db.QueryRow("SELECT count(*) FROM "+table).Scan(&sum)) // waits until all is there
			require.NoError(c, db.QueryRow("CHECKSUM TABLE "+table).Scan(&name, &sum))
			db.Close()
			sums += table + " " + sum + "\n"
		}
		if node == 0 {
			first = sums
		}
		assert.Equal(c, first, sums, "node %d", node+1)
	}
	made := make(chan error, 1)
	go func() {
		_, err := c.open(0).Exec("CREATE OR REPLACE TABLE moves (n INT)")
		made <- err
	}()
	select {
	case err := <-made:
		assert.NoError(c, err)
	case <-time.After(30 * time.Second):
		c.Fatal("the cluster stands still")
	}
}

// TestClusterLoad: rows, ids and the logbook are the same on all nodes, and each of them can go on with them.
func TestClusterLoad(t *testing.T) {
	c := newCluster(t)
	c.vessels("PM", 5000, 40)
	for round, outcome := range []string{"5040|0", "0|5000"} {
		c.db = c.on(round)
		doc, r := c.load("load")
		require.Equal(t, 0, r.status, r.stdout)
		var added, unchanged int64
		for _, s := range doc.Steps {
			added, unchanged = s.Tally.Added, s.Tally.Unchanged+s.Tally.Same
		}
		if round == 0 {
			added += 40
		}
		assert.Equal(t, outcome, fmt.Sprintf("%d|%d", added, unchanged))
		c.same()
	}
	assert.Equal(t, "5000", c.ask(1, "SELECT count(*) FROM vessel WHERE id % 3 = 1"), "they are ids of the first node")
	for _, number := range strings.Fields(strings.ReplaceAll(c.ask(1, "SELECT group_concat(id ORDER BY id) FROM ladle_run"), ",", " ")) {
		r := c.run("verify", number, "--db", c.on(2))
		assert.Equal(t, 0, r.status, r.stdout+r.stderr)
	}
	c.do(1, "INSERT INTO vessel (reg, name, kind_id) SELECT 'X1', 'Other', min(id) FROM kind")
	c.write("v.csv", "R,N,K\nPM-000001,Renamed,Kind 3\nX2,refused,Kind 3\nX3,New,Kind new\n")
	c.write("f.ladle.yaml", strings.Replace(c.read("f.ladle.yaml"), "from: in,", "from: in, already_there: update,", 1))
	c.db = c.on(2)
	doc, r := c.load("load")
	require.Equal(t, 4, r.status, r.stdout)
	assert.Equal(t, []string{`v.csv:3: CHECK CONSTRAINT_1 does not hold: name is refused`}, doc.asides())
	c.same()
	undone := c.run("undo", fmt.Sprint(doc.Run), "--db", c.on(1), "--yes")
	require.Equal(t, 0, undone.status, undone.stdout+undone.stderr)
	assert.Equal(t, "5001", c.ask(0, "SELECT count(*) FROM vessel"))
	assert.Equal(t, "Vessel 1", c.ask(0, "SELECT name FROM vessel WHERE reg = 'PM-000001'"))
	c.same()
}

// TestClusterCrowd: two loads of the same file on two nodes, while others write to a third one: the new names are there
// once, and whatever stands in the way of a load has it judged anew.
func TestClusterCrowd(t *testing.T) {
	c := newCluster(t)
	c.vessels("PM", 8000, 40)
	var stop atomic.Bool
	var written atomic.Int64
	var wait sync.WaitGroup
	foreign := c.open(2)
	wait.Go(func() {
		for i := 0; !stop.Load(); i++ {
			for _, statement := range []string{
				fmt.Sprintf("INSERT IGNORE INTO kind (name) VALUES ('Kind %d')", i%60),
				fmt.Sprintf("INSERT INTO vessel (reg, name, kind_id) SELECT 'X-%d', 'x', min(id) FROM kind", i),
				fmt.Sprintf("UPDATE vessel SET name = 'y' WHERE reg = 'PM-%06d'", i%8000),
			} {
				if _, err := foreign.Exec(statement); err == nil && strings.Contains(statement, "INTO vessel") {
					written.Add(1)
				}
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
	results := make([]result, 2)
	var loads sync.WaitGroup
	for node := range results {
		loads.Go(func() { results[node] = c.run("load", "f.ladle.yaml", "--db", c.on(node), "--yes") })
	}
	loads.Wait()
	stop.Store(true)
	wait.Wait()
	for _, r := range results {
		assert.Equal(t, 0, r.status, r.stdout+r.stderr)
	}
	c.same()
	assert.Equal(t, fmt.Sprint(8000+written.Load()), c.ask(1, "SELECT count(*) FROM vessel"))
	assert.Equal(t, "0", c.ask(1, "SELECT count(*) FROM kind WHERE name LIKE 'Kind %' AND id NOT IN (SELECT max(id) FROM kind GROUP BY name)"))
}

// TestClusterTwice: of two loads of the same file into a table without a key, one is done.
func TestClusterTwice(t *testing.T) {
	c := newCluster(t)
	c.do(0, "CREATE TABLE pilot (id INT AUTO_INCREMENT PRIMARY KEY, code VARCHAR(20))")
	c.vessels("PM", 3000, 3)
	c.write("g.ladle.yaml", "ladle: 1\ninputs: {in: {file: v.csv}}\ntables: {pilot: {from: in, key: none, columns: {code: R}}}\n")
	c.write("first.ladle.yaml", "ladle: 1\ninputs: {in: {file: v.csv}}\ntables: {kind: {from: in, columns: {name: K}}}\n")
	require.Equal(t, 0, c.run("load", "first.ladle.yaml", "--db", c.on(2), "--yes").status) // makes the logbook
	var loads sync.WaitGroup
	statuses := make([]int, 2)
	for node := range statuses {
		loads.Go(func() { statuses[node] = c.run("load", "g.ladle.yaml", "--db", c.on(node), "--yes").status })
	}
	loads.Wait()
	slices.Sort(statuses)
	assert.Equal(t, []int{0, 1}, statuses)
	assert.Equal(t, "3000", c.ask(2, "SELECT count(*) FROM pilot"))
	c.same()
}

// TestClusterRefusals: what a cluster, or a node, doesn't take is said before anything is written.
func TestClusterRefusals(t *testing.T) {
	c := newCluster(t)
	c.vessels("PM", 500, 5)
	c.db = "mysql://root@" + c.hosts[0] + "/" + c.name
	set := func(node int, variable string, value any) {
		before := c.ask(node, "SELECT @@GLOBAL."+variable)
		c.do(node, fmt.Sprintf("SET GLOBAL %s = %v", variable, value))
		t.Cleanup(func() { c.do(node, fmt.Sprintf("SET GLOBAL %s = %s", variable, before)) })
	}
	set(0, "wsrep_max_ws_rows", 400)
	doc, r := c.load("load")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, string(doc.Why), "it changes 505 rows, and wsrep_max_ws_rows is 400")
	set(0, "wsrep_max_ws_rows", 507) // and more with the logbook's
	r = c.run("load", "f.ladle.yaml", "--db", c.db, "--yes")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.stderr, "the transaction is too large for the cluster: wsrep_max_ws_rows exceeded")
	set(0, "wsrep_max_ws_rows", 0)
	set(0, "wsrep_max_ws_size", 20_000)
	doc, r = c.load("load")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, string(doc.Why), "wsrep_max_ws_size")
	set(0, "wsrep_desync", 1)
	r = c.run("load", "f.ladle.yaml", "--db", c.db, "--yes")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.stderr, "this node of the cluster is not in step with the others: its state is \"Donor/Desynced\"")
	assert.Equal(t, "0", c.ask(1, "SELECT count(*) FROM vessel"))
	r = c.run("load", "f.ladle.yaml", "--db", c.on(0), "--yes") // goes to the next node
	assert.Equal(t, 0, r.status, r.stderr)
	c.do(1, "CREATE TABLE pilot (id INT AUTO_INCREMENT PRIMARY KEY, code VARCHAR(9), kind_id INT)")
	c.write("g.ladle.yaml", "ladle: 1\ninputs: {in: {file: v.csv}}\ntables: {pilot: {from: in, key: code, columns: {code: R, "+
		"kind_id: {from: K, lookup: kind.name}}}}\n")
	r = c.run("load", "g.ladle.yaml", "--db", c.on(1), "--yes")
	assert.Equal(t, 0, r.status, r.stderr)
	for _, says := range []string{"adding the same key to pilot (code): no UNIQUE constraint holds it", "removing the rows of kind that " +
		"pilot.kind_id refers to: no foreign key holds it", "run ladle verify with the ladle file"} {
		assert.Contains(t, strings.Join(strings.Fields(r.stdout), " "), says)
	}
	r = c.run("script", "f.ladle.yaml", "--db", c.on(1), "-o", "x.sql")
	assert.Equal(t, 2, r.status)
	assert.Contains(t, r.stderr, "a script locks tables, and on a Galera cluster that holds on one node only")
	c.same()
}

// TestChaosCluster kills or stops the node under a load, at any moment: what the program says is so on the other nodes, and
// none of them stands still. It is part of make chaos only.
func TestChaosCluster(t *testing.T) {
	if os.Getenv("LADLE_CHAOS") == "" {
		t.Skip("make chaos")
	}
	c := newCluster(t)
	random := seeded.Rand(t)
	c.vessels("PM", 4000, 7)
	begun := time.Now()
	require.Equal(t, 0, c.run("load", "f.ladle.yaml", "--db", c.on(0), "--yes").status)
	whole := time.Since(begun)
	seen := map[string]int{}
	for round := range max(rounds(0)/10, 3) {
		c.vessels(fmt.Sprintf("R%d", round), 4000, 7)
		victim := random.IntN(len(c.hosts))
		other := (victim + 1) % len(c.hosts)
		n := c.node(victim)
		x := exec.Command(program, "load", "f.ladle.yaml", "--db", c.on(victim), "--yes", "--statement-timeout", "8s")
		x.Dir = c.dir
		var said bytes.Buffer
		x.Stdout, x.Stderr = &said, &said
		require.NoError(t, x.Start())
		time.Sleep(time.Duration((0.1 + 1.1*random.Float64()) * float64(whole)))
		how := "killed"
		if random.IntN(3) == 0 {
			how = "stopped"
			require.NoError(t, n.process.Signal(syscall.SIGSTOP))
		} else {
			require.NoError(t, n.process.Kill())
		}
		struck := time.Now()
		_ = x.Wait()
		assert.Less(t, time.Since(struck), 3*time.Minute, "it ends")
		status := x.ProcessState.ExitCode()
		require.Eventually(t, func() bool { return c.synced(other) }, time.Minute, 100*time.Millisecond)
		there := c.ask(other, fmt.Sprintf("SELECT count(*) FROM vessel WHERE reg LIKE 'R%d-%%'", round))
		runs := c.ask(other, "SELECT count(*) FROM ladle_run")
		t.Logf("round %d: node %d %s, status %d, %s rows: %s", round, victim+1, how, status, there, lastLine(said.String()))
		seen[fmt.Sprintf("%s: status %d, %s rows", how, status, there)]++
		switch status {
		case 0:
			assert.Equal(t, "4000", there, said.String())
		case 3:
			assert.Equal(t, "0", there, said.String())
		case 5:
			assert.Contains(t, []string{"0", "4000"}, there, said.String())
		default:
			t.Errorf("status %d: %s", status, said.String())
		}
		if how == "stopped" {
			require.NoError(t, n.process.Signal(syscall.SIGCONT))
		} else {
			n.start(c)
		}
		require.Eventually(t, func() bool { return c.together() }, 3*time.Minute, 200*time.Millisecond)
		assert.Equal(t, there, c.ask(victim, fmt.Sprintf("SELECT count(*) FROM vessel WHERE reg LIKE 'R%d-%%'", round)))
		assert.Equal(t, runs, c.ask(victim, "SELECT count(*) FROM ladle_run"))
		c.same()
	}
	t.Log(seen)
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

// process is a node's.
type process struct {
	process *os.Process
	command []string
}

// node finds the process of a node.
func (c *cluster) node(n int) process {
	c.Helper()
	pid, err := os.ReadFile(c.ask(n, "SELECT @@pid_file"))
	require.NoError(c, err)
	id, err := strconv.Atoi(strings.TrimSpace(string(pid)))
	require.NoError(c, err)
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", id))
	require.NoError(c, err)
	words := slices.DeleteFunc(strings.Split(strings.TrimRight(string(line), "\x00"), "\x00"), func(w string) bool {
		return w == "--wsrep-new-cluster"
	})
	p, err := os.FindProcess(id)
	require.NoError(c, err)
	return process{p, words}
}

// start starts a node again that was killed.
func (p process) start(c *cluster) {
	command := p.command
	if os.Getuid() == 0 {
		command = append([]string{"setpriv", "--reuid=mysql", "--regid=mysql", "--clear-groups"}, command...)
	}
	x := exec.Command(command[0], command[1:]...)
	require.NoError(c, x.Start())
	go func() { _ = x.Wait() }()
}

// together reports whether all nodes have come together again: a node that was stopped doesn't know at once that it has to.
func (c *cluster) together() bool {
	for node := range c.hosts {
		var name, size string
		db := c.open(node)
		defer db.Close()
		if !c.synced(node) || db.QueryRow("SHOW GLOBAL STATUS LIKE 'wsrep_cluster_size'").Scan(&name, &size) != nil ||
			size != strconv.Itoa(len(c.hosts)) || db.QueryRow("SELECT count(*) FROM vessel").Scan(&size) != nil {
			return false
		}
	}
	return true
}

// synced reports whether a node takes part in the cluster.
func (c *cluster) synced(n int) bool {
	var name, state string
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(%s)/", c.hosts[n]))
	if err != nil {
		return false
	}
	defer db.Close()
	ctx, stop := context.WithTimeout(c.Context(), 2*time.Second)
	defer stop()
	for variable, want := range map[string]string{"wsrep_local_state_comment": "Synced", "wsrep_cluster_status": "Primary"} {
		if db.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE '"+variable+"'").Scan(&name, &state) != nil || state != want {
			return false
		}
	}
	return true
}
