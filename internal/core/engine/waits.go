package engine

import (
	"context"
	"fmt"
	"net"
	"sync"
	"time"

	"ladle/internal/core/fault"
)

// Waits are how long is waited for a database. Whatever Ladle waits for has an end.
type Waits struct {
	Connect   time.Duration // for a connection that can be used
	Lock      time.Duration // for a lock that somebody else holds
	Statement time.Duration // for a sign of life of the server, while it works
}

// UsualWaits are those that nobody asked to be others.
var UsualWaits = Waits{Connect: 10 * time.Second, Lock: 5 * time.Second, Statement: time.Hour}

// Connecting limits ctx to the time for a connection.
func (w Waits) Connecting(ctx context.Context, database string) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, w.Connect, fault.At(fault.Failed, fault.Problem{File: Masked(database),
		What: fmt.Sprintf("the server did not answer within %s", w.Connect),
		Do:   "check the host, the port, and that the server is running"}))
}

// Patient is conn with an end to each read and each write: after so long without a byte, or without room for one at the other
// end, it is an error that is a net.Error of a timeout.
func (w Waits) Patient(conn net.Conn) net.Conn { return &patient{Conn: conn, wait: w.Statement} }

type patient struct {
	net.Conn
	wait time.Duration

	mu                    sync.Mutex
	askedRead, askedWrite time.Time // the deadlines that the driver has set; zero for none
}

func (p *patient) Read(b []byte) (int, error) {
	p.patiently(&p.askedRead, p.Conn.SetReadDeadline)
	return p.Conn.Read(b)
}

func (p *patient) Write(b []byte) (int, error) {
	p.patiently(&p.askedWrite, p.Conn.SetWriteDeadline)
	return p.Conn.Write(b)
}

// patiently sets a deadline where the driver has set none.
func (p *patient) patiently(asked *time.Time, set func(time.Time) error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if asked.IsZero() {
		_ = set(time.Now().Add(p.wait)) // a connection that takes no deadline says so when it is used
	}
}

func (p *patient) SetDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.askedRead, p.askedWrite = t, t
	return p.Conn.SetDeadline(t)
}

func (p *patient) SetReadDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.askedRead = t
	return p.Conn.SetReadDeadline(t)
}

func (p *patient) SetWriteDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.askedWrite = t
	return p.Conn.SetWriteDeadline(t)
}

// the time that the end of a transaction may take: the database takes it back itself when the connection ends, but
// then nobody is told when that is done.
const (
	ending            = time.Minute
	interruptedEnding = 300 * time.Millisecond
)

// Ending is a context for the rollback of a transaction that was begun in ctx: short when ctx has ended, so that an
// interrupt ends soon.
func Ending(ctx context.Context) (context.Context, context.CancelFunc) {
	if ctx.Err() != nil {
		return context.WithTimeout(context.Background(), interruptedEnding)
	}
	return context.WithTimeout(context.WithoutCancel(ctx), ending)
}

// Silent is what to say of a server that gave no sign of life for so long.
func (w Waits) Silent(database string) fault.Problem {
	return fault.Problem{File: database, What: fmt.Sprintf("the server gave no sign of life for %s", w.Statement),
		Do: "look at the server; load again with a longer statement timeout when it was only busy"}
}
