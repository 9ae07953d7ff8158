package conformance

import (
	"bytes"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestChaosWaits: at a random moment another session locks a table and keeps it, or the route to the server swallows all
// that is sent. The load ends by itself, says what it waited for, and nothing in between is there.
func TestChaosWaits(t *testing.T) {
	eachKind(t, func(t *testing.T, kind string) {
		c := newChaos(t, kind, 1500)
		for range rounds(3) {
			x := c.command("")
			x.Args = append(x.Args, "--wait", "500ms")
			var said bytes.Buffer
			x.Stdout, x.Stderr = &said, &said
			begun := time.Now()
			release := func() {}
			taken := make(chan bool, 1)
			moment := time.Duration(c.random.Float64() * float64(c.whole))
			require.NoError(t, x.Start())
			time.Sleep(moment)
			go func() { // the lock may be had only once the load has ended
				release = locks[kind](c.w)
				taken <- true
			}()
			_ = x.Wait()
			assert.Less(t, time.Since(begun), c.whole+20*time.Second, said.String())
			<-taken
			release()
			status := x.ProcessState.ExitCode()
			require.Contains(t, []int{3, 4}, status, said.String())
			if status == 3 {
				assert.Regexp(t, "lock", said.String())
				assert.Contains(t, said.String(), "--wait 10m")
			}
			c.judge("a lock is held", status, said.String())
		}
		for range rounds(2) {
			if kind == "sqlite" {
				break
			}
			u, err := url.Parse(c.w.db)
			require.NoError(t, err)
			p := newProxy(t, u.Host)
			u.Host = p.Addr().String()
			x := c.command(u.String())
			x.Args = append(x.Args, "--statement-timeout", "2s")
			var said bytes.Buffer
			x.Stdout, x.Stderr = &said, &said
			require.NoError(t, x.Start())
			time.Sleep(time.Duration((0.1 + 1.2*c.random.Float64()) * float64(c.whole)))
			p.silent.Store(true)
			sent := time.Now()
			_ = x.Wait()
			assert.Less(t, time.Since(sent), 30*time.Second, said.String())
			close(p.cut) // the server sees that its session is gone
			status := x.ProcessState.ExitCode()
			require.Contains(t, []int{3, 4, 5}, status, said.String())
			if status == 3 {
				assert.Regexp(t, "2s|no sign of life|not answer|timeout", said.String())
			}
			c.judge("the route is silent", status, said.String())
		}
		t.Log(c.seen)
	})
}
