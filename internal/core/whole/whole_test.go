package whole

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestANamelessFileIsGoneWhenItIsClosed(t *testing.T) {
	folder := t.TempDir()
	f, err := Nameless(folder)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("kept"), 3)
	require.NoError(t, err)
	back := make([]byte, 4)
	_, err = f.ReadAt(back, 3)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(back))
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, files, "nobody can open it")
	require.NoError(t, Forget(f))
	_, err = Nameless(filepath.Join(folder, "no"))
	assert.ErrorContains(t, err, "making a temporary file")
}

func TestAFileIsWholeOrAsItWas(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "report.html")
	done := exec.Command("true") // a process that has ended
	require.NoError(t, done.Run())
	left := filepath.Join(folder, fmt.Sprintf("%s%d-1", prefix, done.Process.Pid))
	others := filepath.Join(folder, fmt.Sprintf("%s%d-1", prefix, os.Getppid()))
	for _, p := range []string{left, others} {
		require.NoError(t, os.WriteFile(p, nil, 0o600))
	}
	require.NoError(t, Write(path, func(w io.Writer) error { _, err := io.WriteString(w, "first"); return err }))
	assert.NoFileExists(t, left, "what a program left that has ended is removed")
	assert.FileExists(t, others, "what another one is writing is not")
	broken := errors.New("broken")
	assert.ErrorIs(t, Write(path, func(w io.Writer) error { _, _ = io.WriteString(w, "second"); return broken }), broken)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "first", string(content))
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, files, 2)
	assert.Error(t, Write(filepath.Join(folder, "no", "folder"), func(io.Writer) error { return nil }))
}
