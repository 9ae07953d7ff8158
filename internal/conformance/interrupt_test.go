package conformance

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatNeverAnswersCanBeInterrupted: standard input that never ends, a pipe that nobody writes to, a server that
// says nothing. The bound is generous; bench has the time.
func TestWhatNeverAnswersCanBeInterrupted(t *testing.T) {
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { mute.Close() })
	w := newWorld(t, sqliteFile{}, port)
	require.NoError(t, exec.Command("mkfifo", w.path("pipe")).Run())
	for name, arguments := range map[string][]string{
		"standard input": {"survey", "-"},
		"a pipe":         {"survey", "pipe"},
		"PostgreSQL":     {"tables", "--db", "postgres://u@" + mute.Addr().String() + "/h"},
		"MariaDB":        {"tables", "--db", "mysql://u@" + mute.Addr().String() + "/h"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := exec.Command(program, arguments...)
			c.Dir = w.dir
			in, err := c.StdinPipe()
			require.NoError(t, err)
			defer in.Close()
			var said bytes.Buffer
			c.Stderr = &said
			require.NoError(t, c.Start())
			time.Sleep(300 * time.Millisecond)
			require.NoError(t, c.Process.Signal(os.Interrupt))
			ended := make(chan error, 1)
			go func() { ended <- c.Wait() }()
			select {
			case <-ended:
			case <-time.After(time.Minute):
				_ = c.Process.Kill()
				t.Fatal("it never ended")
			}
			assert.Equal(t, 130, c.ProcessState.ExitCode(), said.String())
			assert.Contains(t, said.String(), "interrupted, nothing was changed")
		})
	}
}

// TestTheServerStopsToo: what a server still does for a program that is interrupted, or that gave up, ends with it.
func TestTheServerStopsToo(t *testing.T) {
	for kind, c := range map[string]struct{ query, busy string }{
		"mysql": {"select sleep(41) from vessel where 1 = 0 union select sleep(42)",
			"SELECT count(*) FROM information_schema.processlist WHERE info LIKE '%sleep(42%' AND id <> " +
				"connection_id()"},
		"postgres": {"select pg_sleep(42)::text",
			"SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep(42%' AND state = 'active' AND pid <> " +
				"pg_backend_pid()"},
	} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t, servers[kind], port)
			w.write("in.csv", goodFile)
			w.write("f.ladle.yaml", vesselBlock+"checks: [{claim: slow, no_rows: \""+c.query+"\"}]\n")
			idle := func() bool { return w.query(c.busy)[0] == "0" }
			r := w.run("verify", "f.ladle.yaml", "--db", w.db, "--statement-timeout", "1s")
			assert.Equal(t, 3, r.status, r.stdout)
			assert.Contains(t, r.stderr, "statement timeout")
			assert.Eventually(t, idle, 20*time.Second, 50*time.Millisecond, "it gave up")
			p := exec.Command(program, "verify", "f.ladle.yaml", "--db", w.db)
			p.Dir = w.dir
			require.NoError(t, p.Start())
			assert.Eventually(t, func() bool { return !idle() }, 20*time.Second, 20*time.Millisecond)
			require.NoError(t, p.Process.Signal(os.Interrupt))
			_ = p.Wait()
			assert.Equal(t, 130, p.ProcessState.ExitCode())
			assert.Eventually(t, idle, 20*time.Second, 50*time.Millisecond, "it was interrupted")
		})
	}
}
