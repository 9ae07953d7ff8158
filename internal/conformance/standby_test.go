package conformance

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

// pair is a PostgreSQL server and its standby, which has each transaction before it is answered.
type pair struct {
	*world
	primary, standby *private
}

// newPair makes both, with a table of marks.
func newPair(t *testing.T) *pair {
	p := &pair{primary: newPrivate(t, "postgres", 0)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p.standby = &private{T: t, kind: "postgres", folder: filepath.Join(p.primary.folder, "standby"),
		port: l.Addr().(*net.TCPAddr).Port}
	require.NoError(t, l.Close())
	require.NoError(t, os.Mkdir(p.standby.folder, 0o777))
	require.NoError(t, os.Chmod(p.standby.folder, 0o777))
	out, err := p.primary.as([]string{p.primary.program("pg_basebackup"), "-h", "127.0.0.1", "-p", fmt.Sprint(p.primary.port),
		"-U", "postgres", "-D", filepath.Join(p.standby.folder, "data"), "-R", "--no-sync", "-c", "fast"}).CombinedOutput()
	require.NoError(t, err, string(out))
	p.standby.start()
	t.Cleanup(p.standby.kill)
	require.NoError(t, onPostgres(p.primary.url("postgres"), "ALTER SYSTEM SET synchronous_standby_names = '*'"))
	require.NoError(t, onPostgres(p.primary.url("postgres"), "ALTER SYSTEM SET synchronous_commit = remote_apply"))
	require.NoError(t, onPostgres(p.primary.url("postgres"), "SELECT pg_reload_conf()"))
	p.world = &world{T: t, dir: t.TempDir(), server: postgresSchema{}, db: p.primary.url("postgres")}
	require.NoError(t, onPostgres(p.db, postgresWords.Replace("CREATE TABLE mark (id ID, code VARCHAR(12) NOT NULL UNIQUE)")))
	p.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {mark: {from: in, columns: {code: C}}}\n")
	p.marks("A")
	return p
}

// marks writes the file, of 3,000 marks that begin with a prefix.
func (p *pair) marks(prefix string) {
	var rows strings.Builder
	rows.WriteString("C\n")
	for i := range 3000 {
		fmt.Fprintf(&rows, "%s%05d\n", prefix, i)
	}
	p.write("in.csv", rows.String())
}

// at is the database at some of the servers, in order.
func (p *pair) at(servers ...*private) string {
	var hosts []string
	for _, s := range servers {
		hosts = append(hosts, fmt.Sprintf("127.0.0.1:%d", s.port))
	}
	return change(p.db, func(u *url.URL) { u.Host = strings.Join(hosts, ",") })
}

// count is the number of marks at a server.
func (p *pair) count(at *private) (n int) {
	conn, err := pgx.Connect(context.Background(), p.at(at))
	require.NoError(p, err)
	defer conn.Close(context.Background())
	require.NoError(p, conn.QueryRow(context.Background(), "SELECT count(*) FROM mark").Scan(&n))
	return n
}

// TestStandby: a load goes to no server that can't be written to, and finds the one that can.
func TestStandby(t *testing.T) {
	p := newPair(t)
	for name, c := range map[string]struct {
		at   []*private
		says string
	}{
		"the standby alone": {[]*private{p.standby}, "this one may be a standby"},
		"only standbys":     {[]*private{p.standby, p.standby}, "no server that answers takes writes"},
	} {
		r := p.run("load", "f.ladle.yaml", "--db", p.at(c.at...), "--yes")
		assert.Equal(t, 3, r.status, name)
		assert.Contains(t, r.stderr, c.says, name)
	}
	r := p.run("tables", "--db", p.at(p.standby))
	assert.Equal(t, 0, r.status, r.stderr)
	r = p.run("load", "f.ladle.yaml", "--db", p.at(p.standby, p.primary), "--yes")
	assert.Equal(t, 0, r.status, r.stdout+r.stderr)
	assert.Equal(t, 3000, p.count(p.standby))
	r = p.run("runs", "--db", p.at(p.standby, p.standby)+"?target_session_attrs=any")
	assert.Equal(t, 0, r.status, r.stderr)
}

// TestChaosStandby kills the server under a load, at any moment, and has the standby take its place: what the program says is
// so there. It is part of make chaos only.
func TestChaosStandby(t *testing.T) {
	if os.Getenv("LADLE_CHAOS") == "" {
		t.Skip("make chaos")
	}
	random := seeded.Rand(t)
	seen := map[string]int{}
	for round := range max(rounds(0)/20, 3) {
		p := newPair(t)
		begun := time.Now()
		require.Equal(t, 0, p.run("load", "f.ladle.yaml", "--db", p.at(p.primary, p.standby), "--yes").status)
		whole := time.Since(begun)
		p.marks("B")
		x := exec.Command(program, "load", "f.ladle.yaml", "--db", p.at(p.primary, p.standby), "--yes")
		x.Dir = p.dir
		var said bytes.Buffer
		x.Stdout, x.Stderr = &said, &said
		require.NoError(t, x.Start())
		time.Sleep(time.Duration((0.1 + random.Float64()) * float64(whole)))
		p.primary.kill()
		if random.IntN(2) == 0 { // else it is asked before it has taken its place
			require.NoError(t, onPostgres(p.standby.url("postgres"), "SELECT pg_promote()"))
		}
		_ = x.Wait()
		status, there := x.ProcessState.ExitCode(), p.count(p.standby)
		seen[fmt.Sprintf("status %d, %d rows", status, there)]++
		may := map[int][]int{0: {6000}, 3: {3000}, 5: {3000, 6000}}[status]
		assert.Contains(t, may, there, "round %d: status %d: %s", round, status, said.String())
		p.standby.kill()
	}
	t.Log(seen)
}
