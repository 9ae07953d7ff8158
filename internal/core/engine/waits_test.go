package engine_test

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine"
	"ladle/internal/core/engine/mysql"
	"ladle/internal/core/engine/postgres"
	"ladle/internal/core/fault"
)

// TestAServerThatNeverGreetsIsGivenUp: it takes the connection, and says nothing.
func TestAServerThatNeverGreetsIsGivenUp(t *testing.T) {
	mute, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer mute.Close()
	waits := engine.UsualWaits
	waits.Connect = 100 * time.Millisecond
	address := mute.Addr().String()
	for name, open := range map[string]func() error{
		"mysql": func() error {
			_, err := mysql.Open(context.Background(), "mysql://u:S3cret@"+address+"/h", waits)
			return err
		},
		"postgres": func() error {
			_, err := postgres.Open(context.Background(), "postgres://u:S3cret@"+address+"/h", waits)
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			err := open()
			assert.ErrorContains(t, err, "@"+address+"/h: the server did not answer within 100ms; check the host")
			assert.Equal(t, fault.Failed, fault.ClassOf(err))
		})
	}
}

// TestAPatientConnectionEndsItsWait: for a byte, or for room for one, unless the driver has a deadline of its own.
func TestAPatientConnectionEndsItsWait(t *testing.T) {
	here, there := net.Pipe()
	defer there.Close()
	conn := engine.Waits{Statement: 30 * time.Millisecond}.Patient(here)
	var network net.Error
	for name, wait := range map[string]func([]byte) (int, error){"read": conn.Read, "write": conn.Write} {
		_, err := wait(make([]byte, 1))
		require.ErrorAs(t, err, &network, name)
		assert.True(t, network.Timeout(), name)
	}
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Hour)))
	go func() {
		time.Sleep(60 * time.Millisecond) // longer than the wait, which the deadline stands in for
		_, _ = there.Write([]byte("x"))
	}()
	_, err := conn.Read(make([]byte, 1))
	assert.NoError(t, err)
	require.NoError(t, conn.SetWriteDeadline(time.Now().Add(time.Hour)))
	go func() {
		time.Sleep(60 * time.Millisecond)
		_, _ = there.Read(make([]byte, 1))
	}()
	_, err = conn.Write([]byte("x"))
	assert.NoError(t, err)
}
