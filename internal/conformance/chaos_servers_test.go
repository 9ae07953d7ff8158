package conformance

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"database/sql"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// private is a database server of a test's own, which may be killed.
type private struct {
	*testing.T
	kind, folder string
	port         int
	limit        int // kilobytes that a file of it may have, 0 for any
	running      *exec.Cmd
	ended        chan struct{}
}

// newPrivate makes and starts a server. Its programs must be there: make chaos sees to that.
func newPrivate(t *testing.T, kind string, limit int) *private {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &private{T: t, kind: kind, folder: t.TempDir(), port: l.Addr().(*net.TCPAddr).Port, limit: limit}
	require.NoError(t, l.Close())
	for f := p.folder; f != os.TempDir() && f != "/"; f = filepath.Dir(f) {
		require.NoError(t, os.Chmod(f, 0o755)) // the server is another user
	}
	data := filepath.Join(p.folder, "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	if who := p.user(); who != nil {
		uid, _ := strconv.Atoi(who.Uid)
		gid, _ := strconv.Atoi(who.Gid)
		require.NoError(t, os.Chown(data, uid, gid))
	}
	create := []string{p.program("initdb"), "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--no-sync",
		"--wal-segsize=1"}
	if kind == "mysql" {
		create = []string{p.program("mariadb-install-db"), "--no-defaults", "--datadir=" + data,
			"--auth-root-authentication-method=normal"}
	}
	out, err := p.as(create).CombinedOutput()
	require.NoError(t, err, string(out))
	p.start()
	t.Cleanup(p.kill)
	return p
}

func (p *private) program(name string) string {
	for _, pattern := range []string{"/usr/lib/postgresql/*/bin/" + name, "/usr/sbin/" + name, "/usr/bin/" + name} {
		if found, _ := filepath.Glob(pattern); len(found) > 0 {
			return found[len(found)-1]
		}
	}
	path, err := exec.LookPath(name)
	require.NoError(p, err, "make chaos needs the programs of both servers")
	return path
}

// user is who the server runs as, nil where this is not root.
func (p *private) user() *user.User {
	if os.Getuid() != 0 {
		return nil
	}
	who, err := user.Lookup(map[string]string{"postgres": "postgres", "mysql": "mysql"}[p.kind])
	require.NoError(p, err)
	return who
}

func (p *private) as(command []string) *exec.Cmd {
	if who := p.user(); who != nil {
		command = append([]string{"setpriv", "--reuid=" + who.Uid, "--regid=" + who.Gid, "--clear-groups"}, command...)
	}
	if p.limit > 0 && p.kind == "postgres" { // the other engine has a setting of its own
		command = append([]string{"bash", "-c", fmt.Sprintf(`ulimit -f %d; exec "$@"`, p.limit), "-"}, command...)
	}
	return exec.Command(command[0], command[1:]...)
}

// start starts the server and waits until it answers.
func (p *private) start() {
	data := filepath.Join(p.folder, "data")
	command := []string{p.program("postgres"), "-D", data, "-p", strconv.Itoa(p.port), "-k", data, "-h", "127.0.0.1",
		"-c", "max_wal_size=4MB", "-c", "min_wal_size=2MB"}
	if p.kind == "mysql" {
		command = []string{p.program("mariadbd"), "--no-defaults", "--datadir=" + data,
			fmt.Sprintf("--port=%d", p.port), "--bind-address=127.0.0.1", "--socket=" + filepath.Join(data, "socket"),
			"--local-infile=1", "--innodb-log-file-size=8M"}
		if p.limit > 0 {
			command = append(command, "--innodb-file-per-table=0",
				fmt.Sprintf("--innodb-data-file-path=ibdata1:12M:autoextend:max:%dM", p.limit>>10))
		}
	}
	deadline := time.Now().Add(time.Minute)
	// sessions of a server that was killed keep a new one from starting until they notice
	for time.Now().Before(deadline) {
		p.launch(command)
		for p.lives() && time.Now().Before(deadline) {
			if p.answers() {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	p.Fatal("the server did not start")
}

func (p *private) launch(command []string) {
	p.running, p.ended = p.as(command), make(chan struct{})
	p.running.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(p, p.running.Start())
	go func(x *exec.Cmd, ended chan struct{}) {
		_ = x.Wait()
		close(ended)
	}(p.running, p.ended)
}

// lives reports whether the server's process has not ended.
func (p *private) lives() bool {
	select {
	case <-p.ended:
		return false
	default:
		return true
	}
}

func (p *private) answers() bool {
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if p.kind == "postgres" {
		conn, err := pgx.Connect(ctx, p.url("postgres"))
		if err != nil {
			return false
		}
		defer conn.Close(ctx)
		return conn.Ping(ctx) == nil
	}
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/", p.port))
	if err != nil {
		return false
	}
	defer db.Close()
	return db.PingContext(ctx) == nil
}

func (p *private) url(database string) string {
	if p.kind == "postgres" {
		return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/%s", p.port, database)
	}
	return fmt.Sprintf("mysql://root@127.0.0.1:%d", p.port)
}

// kill ends all processes of the server at once, as a power cut does.
func (p *private) kill() {
	if p.running != nil {
		_ = syscall.Kill(-p.running.Process.Pid, syscall.SIGKILL)
		<-p.ended
		p.running = nil
	}
}

// signal sends a signal to all processes of the server; those of sessions are in groups of their own.
func (p *private) signal(s syscall.Signal) {
	pid := p.running.Process.Pid
	require.NoError(p, syscall.Kill(-pid, s))
	_ = exec.Command("pkill", fmt.Sprintf("-%d", s), "-P", strconv.Itoa(pid)).Run() // there may be none
}

// use has the tests of this kind use the server.
func (p *private) use() {
	p.Setenv(map[string]string{"postgres": "LADLE_TEST_POSTGRES", "mysql": "LADLE_TEST_MYSQL"}[p.kind],
		p.url("postgres"))
}

// TestChaosServers kills servers under loads and starts them again, and lets their disks run full. It is part of make
// chaos only, since it starts servers of its own.
func TestChaosServers(t *testing.T) {
	if os.Getenv("LADLE_CHAOS") == "" {
		t.Skip("make chaos")
	}
	for _, kind := range []string{"postgres", "mysql"} {
		for how, c := range map[string]struct {
			rounds       int
			more         []string
			strike, mend func(*private)
		}{
			"killed": {max(rounds(0)/10, 1), nil, (*private).kill, (*private).start},
			"stopped": {max(rounds(0)/20, 1), []string{"--statement-timeout", "2s"},
				func(p *private) { p.signal(syscall.SIGSTOP) }, func(p *private) { p.signal(syscall.SIGCONT) }},
		} {
			t.Run(kind+" is "+how, func(t *testing.T) {
				p := newPrivate(t, kind, 0)
				p.use()
				w := newChaos(t, kind, 1500)
				for range c.rounds {
					x := w.command("")
					x.Args = append(x.Args, c.more...)
					var said bytes.Buffer
					x.Stdout, x.Stderr = &said, &said
					require.NoError(t, x.Start())
					time.Sleep(time.Duration((0.1 + 1.1*w.random.Float64()) * float64(w.whole)))
					c.strike(p)
					struck := time.Now()
					_ = x.Wait()
					assert.Less(t, time.Since(struck), time.Minute, "the program ends without its server: %s", said.String())
					c.mend(p)
					w.judge("server "+how, x.ProcessState.ExitCode(), said.String())
				}
				w.again("server " + how)
				t.Log(w.seen)
			})
		}
		t.Run(kind+" has no room", func(t *testing.T) {
			p := newPrivate(t, kind, 24<<10)
			p.use()
			c := newChaos(t, kind, 1500)
			wide := strings.Repeat("x", 180)
			var file strings.Builder
			file.WriteString("Entry\n")
			for i := range 250_000 {
				fmt.Fprintf(&file, "%d %s\n", i, wide)
			}
			c.w.write("big.csv", file.String())
			c.w.write("big.ladle.yaml", "ladle: 1\ninputs: {in: {file: big.csv, header: 1}}\n"+
				"tables: {harbour_log: {from: in, key: none, columns: {entry: Entry, logged_at: {constant: "+
				"2026-01-01 00:00:00}}}}\n")
			before := c.w.data()
			r := c.w.run("load", "big.ladle.yaml", "--db", c.w.db, "--yes")
			assert.Equal(t, 3, r.status, r.stdout+r.stderr)
			t.Log(r.stderr)
			for !p.answers() { // some end when the disk is full
				p.kill()
				p.start()
			}
			assert.True(t, before == c.w.data(), "a load for which there is no buf changes nothing")
			again := c.run("f.ladle.yaml")
			assert.Equal(t, 4, again.status, again.stdout+again.stderr)
		})
	}
}
