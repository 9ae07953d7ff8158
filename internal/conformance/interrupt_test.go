package conformance

import (
	"bytes"
	"io"
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
	w := newWorld(t, sqliteFile{}, port)
	pipe := w.path("pipe")
	require.NoError(t, exec.Command("mkfifo", pipe).Run())
	listen := func() net.Listener {
		mute, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { mute.Close() })
		return mute
	}
	postgres, mariaDB := listen(), listen()
	const more = 1<<16 + 1 // bytes than a pipe holds, so that somebody has read of them
	for name, c := range map[string]struct {
		arguments []string
		waits     func(in io.Writer) (io.Closer, error) // returns when the program waits for an answer
	}{
		"standard input": {[]string{"survey", "-"}, func(in io.Writer) (io.Closer, error) {
			_, err := in.Write(bytes.Repeat([]byte("x\n"), more/2+1))
			return io.NopCloser(nil), err
		}},
		"a pipe": {[]string{"survey", "pipe"}, func(io.Writer) (io.Closer, error) {
			return os.OpenFile(pipe, os.O_WRONLY, 0)
		}},
		"PostgreSQL": {[]string{"tables", "--db", "postgres://u@" + postgres.Addr().String() + "/h"},
			func(io.Writer) (io.Closer, error) { return postgres.Accept() }},
		"MariaDB": {[]string{"tables", "--db", "mysql://u@" + mariaDB.Addr().String() + "/h"},
			func(io.Writer) (io.Closer, error) { return mariaDB.Accept() }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			wait, c := c.waits, exec.Command(program, c.arguments...)
			c.Dir = w.dir
			in, err := c.StdinPipe()
			require.NoError(t, err)
			defer in.Close()
			var said bytes.Buffer
			c.Stderr = &said
			require.NoError(t, c.Start())
			held, err := wait(in)
			require.NoError(t, err)
			defer held.Close()
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
