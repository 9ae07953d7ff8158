package conformance

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/demo"
	"ladle/internal/seeded"
)

// rounds is how often each kind of database is disturbed: a few times in all tests, LADLE_CHAOS times in make chaos.
func rounds(few int) int {
	if n, err := strconv.Atoi(os.Getenv("LADLE_CHAOS")); err == nil {
		return n
	}
	return few
}

// chaos is a database with a flat file of the harbour, whose load is disturbed in some way again and again.
type chaos struct {
	*testing.T
	on            server
	kind          string
	w             *world
	script        string
	calls         int64
	before, after string
	few, many     string // calls before and after
	aside         string // the whole set-aside file
	whole         time.Duration
	temporary     string // where the program puts its temporary files
	seen          map[string]int
	random        *rand.Rand
}

// harbourScript is the harbour in the words of scripts.
func harbourScript() string {
	return strings.NewReplacer("INTEGER PRIMARY KEY AUTOINCREMENT,", "ID,", "DATETIME", "MOMENT", "COLLATE NOCASE", "",
		"DEFAULT 1", "DEFAULT true").Replace(demo.Script())
}

func newChaos(t *testing.T, kind string, calls int64) *chaos {
	c := &chaos{T: t, on: servers[kind], kind: kind, script: harbourScript(), calls: calls, temporary: t.TempDir(),
		seen: map[string]int{}, random: seeded.Rand(t)}
	c.fresh()
	c.before = c.content()
	few := c.callsThere()
	begun := time.Now()
	r := c.run("f.ladle.yaml")
	require.Equal(t, 4, r.status, r.stdout+r.stderr)
	c.whole = time.Since(begun)
	c.after, c.aside = c.content(), c.w.read("calls.set-aside.csv")
	c.few, c.many = few, c.callsThere()
	require.NotEqual(t, c.few, c.many)
	c.fresh()
	return c
}

// fresh makes the database and the files anew.
func (c *chaos) fresh() {
	folder := c.TempDir()
	harbour := demo.NewHarbour(0, c.calls, 7)
	harbour.Messy = 0.01
	require.NoError(c, harbour.Generate(folder))
	require.NoError(c, os.Remove(filepath.Join(folder, demo.Database)))
	require.NoError(c, os.Rename(filepath.Join(folder, demo.FlatLadle), filepath.Join(folder, "f.ladle.yaml")))
	c.w = &world{T: c.T, dir: folder, server: c.on}
	c.w.db = c.on.make(c.w, c.script)
}

// content returns all that the harbour holds, by names: gaps in auto-numbered ids are no difference.
func (c *chaos) content() string {
	c.Helper()
	var all []string
	for _, query := range []string{"SELECT name FROM vessel_type ORDER BY 1",
		"SELECT name, phone FROM agent ORDER BY 1", "SELECT code, name, depth_m FROM berth ORDER BY 1",
		"SELECT reg_no, v.name, t.name, f.name, gross_tonnage, built, last_call_id FROM vessel v JOIN vessel_type t " +
			"ON t.id = type_id JOIN flag_state f ON f.id = flag_id ORDER BY 1",
		"SELECT reg_no, arrived, departed, code, a.name, dues, entered_by FROM port_call p JOIN vessel v ON v.id = " +
			"vessel_id JOIN berth b ON b.id = berth_id LEFT JOIN agent a ON a.id = agent_id ORDER BY 1, 2",
		"SELECT call_id, commodity_id, tons FROM call_cargo ORDER BY 1, 2"} {
		all = append(append(all, "--"), c.w.query(query)...)
	}
	return strings.Join(all, "\n")
}

// calls is the number of calls in the harbour.
func (c *chaos) callsThere() string { return c.w.query("SELECT count(*) FROM port_call")[0] }

// command is a load that is yet to begin; db is another way to the database, or "".
func (c *chaos) command(db string) *exec.Cmd {
	if db == "" {
		db = c.w.db
	}
	x := exec.Command(program, "load", "f.ladle.yaml", "--db", db, "--yes")
	x.Dir = c.w.dir
	x.Env = append(os.Environ(), "TMPDIR="+c.temporary)
	return x
}

func (c *chaos) run(string) result {
	x := c.command("")
	var stdout, stderr bytes.Buffer
	x.Stdout, x.Stderr = &stdout, &stderr
	_ = x.Run()
	return result{x.ProcessState.ExitCode(), stdout.String(), stderr.String()}
}

// judge looks at what a disturbed load left, and says which it is. status is the exit status of the program, -1 when it
// was killed.
func (c *chaos) judge(how string, status int, said string) {
	c.Helper()
	state, now := "", c.settled()
	switch now {
	case c.before:
		state = "before"
		assert.NotContains(c, []int{0, 4}, status, "%s: it says loaded, but nothing is there: %s", how, said)
	case c.after:
		state = "after"
		assert.NotContains(c, []int{1, 2, 3, 130}, status, "%s: it says that nothing was changed, but all is there: %s",
			how, said)
	default:
		c.Fatalf("%s: the database is neither as before nor fully loaded (status %d): %s", how, status, said)
	}
	c.seen[how+", "+state]++
	if left, err := os.ReadFile(c.w.path("calls.set-aside.csv")); err == nil {
		assert.Equal(c, c.aside[strings.Index(c.aside, "\n"):], string(left[strings.Index(string(left), "\n"):]),
			"%s: a set-aside file is whole or absent", how)
	}
	left, err := os.ReadDir(c.temporary)
	require.NoError(c, err)
	assert.Empty(c, left, "%s: temporary files are gone", how)
	for _, table := range c.w.tables(c.w) {
		if strings.HasPrefix(table, "ladle_") {
			assert.Regexp(c, "^ladle_run", table, "%s: no staging is left", how)
		}
	}
	if state == "after" {
		c.fresh()
	}
}

// settled returns the data once no session of a program that ended is at work any more.
func (c *chaos) settled() string {
	now := c.content()
	for range 100 {
		time.Sleep(20 * time.Millisecond)
		again := c.content()
		if again == now && (now == c.before || now == c.after) {
			return now
		}
		now = again
	}
	return now
}

// again loads once more, undisturbed: no lock is left, and what was unfinished is cleared away.
func (c *chaos) again(how string) {
	c.Helper()
	r := c.run("f.ladle.yaml")
	require.Equal(c, 4, r.status, "%s: loading again: %s%s", how, r.stdout, r.stderr)
	require.True(c, c.after == c.content(), "%s: loading again", how)
	left, err := filepath.Glob(c.w.path(".ladle-*"))
	require.NoError(c, err)
	assert.Empty(c, left, "%s: unfinished files are gone behind the next run", how)
	c.fresh()
}

// kinds returns each kind of database its own test, one beside the other.
func eachKind(t *testing.T, test func(t *testing.T, kind string)) {
	for kind := range servers {
		t.Run(kind, func(t *testing.T) { test(t, kind) })
	}
}

// starting is how much time of a processor a program may take until it listens to signals: on a busy machine that can be long.
const starting = 150 * time.Millisecond

// TestChaosKills ends loads at random moments: by force, by the request to end, and by the interrupt key.
func TestChaosKills(t *testing.T) {
	signals := []os.Signal{os.Kill, syscall.SIGTERM, os.Interrupt}
	eachKind(t, func(t *testing.T, kind string) {
		c := newChaos(t, kind, map[string]int64{"sqlite": 8000}[kind]+1500)
		for i := range rounds(6) {
			x := c.command("")
			var said bytes.Buffer
			x.Stdout, x.Stderr = &said, &said
			require.NoError(t, x.Start())
			moment := time.Duration(c.random.Float64() * 1.4 * float64(c.whole))
			time.Sleep(moment)
			signal, sent := signals[i%len(signals)], time.Now()
			_ = x.Process.Signal(signal)
			_ = x.Wait()
			took, how := time.Since(sent), fmt.Sprint(signal)
			status, worked := x.ProcessState.ExitCode(), x.ProcessState.UserTime()+x.ProcessState.SystemTime()
			if signal != os.Kill && (status >= 0 || worked > starting) {
				assert.Contains(t, []int{130, 4}, status, said.String())
				assert.Less(t, took, time.Minute, "an interrupt ends the program soon")
				if status == 130 {
					assert.Contains(t, said.String(), "interrupted, nothing was changed")
				}
			}
			c.judge(how, status, said.String())
			if i%10 == 5 {
				c.again(how)
			}
		}
		t.Log(c.seen)
	})
}

// proxy hands bytes between a program and a server until it is told to cut all connections; where it is silent, it hands on
// nothing, and cuts nothing.
type proxy struct {
	net.Listener
	cut    chan struct{}
	silent atomic.Bool
}

func newProxy(t *testing.T, server string) *proxy {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	p := &proxy{Listener: l, cut: make(chan struct{})}
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			upstream, err := net.Dial("tcp", server)
			if err != nil {
				client.Close()
				continue
			}
			go func() {
				<-p.cut
				client.Close()
				upstream.Close()
			}()
			pump := func(to, from net.Conn) {
				buf := make([]byte, 32<<10)
				for {
					n, err := from.Read(buf)
					if p.silent.Load() {
						n = 0
					}
					if _, sent := to.Write(buf[:n]); err != nil || sent != nil {
						client.Close()
						upstream.Close()
						return
					}
				}
			}
			go pump(client, upstream)
			go pump(upstream, client)
		}
	}()
	return p
}

// TestChaosConnections cuts the connection at random moments, COMMIT and its answer among them.
func TestChaosConnections(t *testing.T) {
	for _, kind := range []string{"postgres", "mysql"} {
		t.Run(kind, func(t *testing.T) {
			c := newChaos(t, kind, 1500)
			for i := range rounds(3) {
				u, err := url.Parse(c.w.db)
				require.NoError(t, err)
				p := newProxy(t, u.Host)
				u.Host = p.Addr().String()
				x := c.command(u.String())
				var said bytes.Buffer
				x.Stdout, x.Stderr = &said, &said
				require.NoError(t, x.Start())
				time.Sleep(time.Duration((0.1 + 1.2*c.random.Float64()) * float64(c.whole)))
				close(p.cut)
				_ = x.Wait()
				c.judge("cut", x.ProcessState.ExitCode(), said.String())
				if i%10 == 2 {
					c.again("cut")
				}
			}
			t.Log(c.seen)
		})
	}
}

// TestChaosCompany: another client writes into the tables meanwhile, or changes the schema. The load is done on top of
// that, or not at all.
func TestChaosCompany(t *testing.T) {
	others := map[string]string{
		"another client adds a row": "INSERT INTO vessel (reg_no, name, type_id, flag_id, gross_tonnage) VALUES " +
			"('ZZ-1', 'Stranger', 1, 1, 5)",
		"another client changes a row":  "UPDATE berth SET name = 'Elsewhere' WHERE code = 'N1'",
		"another client adds a column":  "ALTER TABLE port_call ADD COLUMN extra INTEGER",
		"another client drops a column": "ALTER TABLE vessel DROP COLUMN surveyed",
		"another client drops a table":  "DROP TABLE call_cargo",
	}
	eachKind(t, func(t *testing.T, kind string) {
		c := newChaos(t, kind, 1500)
		for how, statement := range others {
			for range max(rounds(3)/20, 1) {
				c.fresh()
				x := c.command("")
				var said bytes.Buffer
				x.Stdout, x.Stderr = &said, &said
				require.NoError(t, x.Start())
				time.Sleep(time.Duration(c.random.Float64() * float64(c.whole)))
				done := make(chan string, 1)
				go func() { done <- c.tries(statement) }()
				_ = x.Wait()
				problem := <-done
				want := c.few
				if x.ProcessState.ExitCode() == 4 {
					want = c.many
				}
				assert.Contains(t, []int{1, 2, 3, 4}, x.ProcessState.ExitCode(), "%s: %s", how, said.String())
				assert.Equal(t, want, c.callsThere(), "%s: loaded on top of it, or not at all: %s", how, said.String())
				c.seen[fmt.Sprintf("%s: %s %d", how, problem, x.ProcessState.ExitCode())]++
			}
		}
		t.Log(c.seen)
	})
}

// tries runs a statement as another client, and says whether it was let.
func (c *chaos) tries(statement string) string {
	program := map[string][]string{"postgres": {"psql", c.w.db, "-qAtc"}, "mysql": {"mariadb"}}[c.kind]
	switch c.kind {
	case "sqlite":
		for range 50 {
			if sqliteTry(c.w.path(c.w.db), statement) == nil {
				return "let"
			}
			time.Sleep(20 * time.Millisecond)
		}
		return "kept out"
	case "mysql":
		u, err := url.Parse(c.w.db)
		require.NoError(c, err)
		program = []string{"mariadb", "--no-defaults", "-h", u.Hostname(), "-P", u.Port(), "-u", u.User.Username(),
			strings.Trim(u.Path, "/"), "-e"}
	case "postgres":
		u, err := url.Parse(c.w.db)
		require.NoError(c, err)
		path := u.Query().Get("search_path")
		u.RawQuery = ""
		program = []string{"psql", u.String(), "-qAt", "-c", "SET search_path = " + path, "-c"}
	}
	if err := exec.Command(program[0], append(program[1:], statement)...).Run(); err != nil {
		return "kept out"
	}
	return "let"
}

// TestChaosRoom: a disk that is full, and outputs that can't be written.
func TestChaosRoom(t *testing.T) {
	eachKind(t, func(t *testing.T, kind string) {
		c := newChaos(t, kind, 1500)
		limited := func(kilobytes int) *exec.Cmd {
			inner := c.command("")
			x := exec.Command("bash", append([]string{"-c", fmt.Sprintf(`ulimit -f %d; exec "$@"`, kilobytes), "-"},
				inner.Args...)...)
			x.Dir, x.Env = inner.Dir, inner.Env
			return x
		}
		for _, kilobytes := range []int{1, 8, 24, 64, 120, 160, 200}[:min(7, rounds(5))] {
			x := limited(kilobytes)
			out, _ := x.CombinedOutput()
			c.judge("no room", x.ProcessState.ExitCode(), string(out))
		}
		c.again("no room")

		require.NoError(t, os.MkdirAll(c.w.path("calls.set-aside.csv/taken"), 0o755))
		x := c.command("")
		out, _ := x.CombinedOutput()
		assert.Equal(t, 3, x.ProcessState.ExitCode(), string(out))
		assert.True(t, c.before == c.content(), "the set-aside file can't be written, so nothing is loaded")
		require.NoError(t, os.RemoveAll(c.w.path("calls.set-aside.csv")))

		full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		require.NoError(t, err)
		defer full.Close()
		var said bytes.Buffer
		x = c.command("")
		x.Stdout, x.Stderr = full, &said
		_ = x.Run()
		assert.Equal(t, 4, x.ProcessState.ExitCode())
		assert.Contains(t, said.String(), "the output can't be written")
		assert.Contains(t, said.String(), "the database was changed all the same")
		assert.True(t, c.after == c.content())
		t.Log(c.seen)
	})
}
