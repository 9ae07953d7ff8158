package conformance

import (
	"bytes"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// cut is what happens to a connection when COMMIT passes through it.
type cut int

const (
	answerLost  cut = iota // the server gets it, its answer is lost
	neverSent              // it never reaches the server
	nothingLeft            // it never reaches the server, and the server can't be reached any more
)

// between listens in front of a server and cuts the first connection that commits.
func between(t *testing.T, server string, how cut) (address string) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	var done atomic.Bool
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			if done.Load() && how == nothingLeft {
				client.Close()
				continue
			}
			upstream, err := net.Dial("tcp", server)
			if err != nil {
				client.Close()
				continue
			}
			go pass(client, upstream, how, &done)
		}
	}()
	return listener.Addr().String()
}

// pass hands bytes to and fro until a COMMIT comes by.
func pass(client, upstream net.Conn, how cut, done *atomic.Bool) {
	var lost atomic.Bool
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := upstream.Read(buf)
			if err != nil || lost.Load() {
				client.Close()
				return
			}
			_, _ = client.Write(buf[:n])
		}
	}()
	buf := make([]byte, 64<<10)
	for {
		n, err := client.Read(buf)
		if err == io.EOF || err != nil {
			upstream.Close()
			return
		}
		if bytes.Contains(buf[:n], []byte("COMMIT")) && !done.Swap(true) {
			lost.Store(true)
			if how != answerLost {
				upstream.Close()
				client.Close()
				return
			}
		}
		_, _ = upstream.Write(buf[:n])
	}
}

// TestALostCommitIsAskedFor cuts the connection at the worst moment: the logbook tells what came of it.
func TestALostCommitIsAskedFor(t *testing.T) {
	for _, kind := range []string{"postgres", "mysql"} {
		for how, want := range map[cut]struct {
			status int
			rows   []string
		}{answerLost: {0, []string{"2"}}, neverSent: {3, []string{"1"}}, nothingLeft: {5, []string{"1"}}} {
			t.Run(kind+[]string{", the answer is lost", ", it is never sent", ", the server is gone"}[how],
				func(t *testing.T) {
					if how == neverSent {
						alone(t, servers[kind])
					}
					w := newWorld(t, servers[kind], port)
					w.write("in.csv", goodFile)
					w.write("f.ladle.yaml", vesselBlock)
					u, err := url.Parse(w.db)
					require.NoError(t, err)
					q := u.Query() // in the clear, so that COMMIT can be seen
					q.Set(map[string]string{"postgres": "sslmode", "mysql": "tls"}[kind],
						map[string]string{"postgres": "disable", "mysql": "false"}[kind])
					u.RawQuery = q.Encode()
					u.Host = between(t, u.Host, how)
					r := w.run("load", "f.ladle.yaml", "--db", u.String(), "--yes")
					assert.Equal(t, want.status, r.status, r.stdout+r.stderr)
					assert.Equal(t, want.rows, w.query("SELECT count(*) FROM vessel"))
					if want.status == 5 {
						assert.Contains(t, r.stderr, "the commit got no answer")
					}
				})
		}
	}
}
