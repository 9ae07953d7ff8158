package whole

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

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
	left := filepath.Join(folder, fmt.Sprintf("%s%s-%d-1", prefix, here(), done.Process.Pid))
	container := filepath.Join(folder, fmt.Sprintf("%s%016x-%d-1", prefix, 7, done.Process.Pid))
	others := filepath.Join(folder, fmt.Sprintf("%s%s-%d-1", prefix, here(), os.Getppid()))
	for _, p := range []string{left, others, container} {
		require.NoError(t, os.WriteFile(p, nil, 0o600))
	}
	require.NoError(t, Write(path, func(w io.Writer) error { _, err := io.WriteString(w, "first"); return err }))
	assert.NoFileExists(t, left, "what a program left that has ended is removed")
	assert.FileExists(t, others, "what another one is writing is not")
	assert.FileExists(t, container, "nor what one is writing whose process can't be seen")
	broken := errors.New("broken")
	assert.ErrorIs(t, Write(path, func(w io.Writer) error { _, _ = io.WriteString(w, "second"); return broken }),
		broken)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "first", string(content))
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, files, 3)
	assert.Error(t, Write(filepath.Join(folder, "no", "folder"), func(io.Writer) error { return nil }))
}

func TestFoldersOfProgramsThatHaveEndedAreRemoved(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	done := exec.Command("true")
	require.NoError(t, done.Run())
	left := filepath.Join(os.TempDir(), fmt.Sprintf("%s%s-%d-1", prefix, here(), done.Process.Pid))
	aged := filepath.Join(os.TempDir(), fmt.Sprintf("%s%s-%d-1", prefix, here(), os.Getppid()))
	long := time.Now().Add(-2 * old)
	for _, p := range []string{left, aged} {
		require.NoError(t, os.MkdirAll(filepath.Join(p, "inputs"), 0o700))
		require.NoError(t, os.Chtimes(p, long, long))
	}
	made, err := Folder()
	require.NoError(t, err)
	info, err := os.Stat(made)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	assert.NoDirExists(t, left)
	assert.DirExists(t, aged, "another program still works in it")
	t.Setenv("TMPDIR", filepath.Join(made, "no"))
	_, err = Folder()
	assert.ErrorContains(t, err, "making a temporary folder")
}

// TestPermissions: a new file has those that the umask gives, one that takes the place of another those of that one.
func TestAFolderIsNotReplaced(t *testing.T) {
	folder := t.TempDir()
	_, err := Create(folder)
	require.ErrorIs(t, err, syscall.EISDIR)
	entries, err := os.ReadDir(filepath.Dir(folder))
	require.NoError(t, err)
	for _, e := range entries {
		assert.False(t, strings.HasPrefix(e.Name(), prefix), "nothing is begun beside it")
	}
}

func TestPermissions(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0o027))
	path := filepath.Join(t.TempDir(), "report.html")
	mode := func() os.FileMode {
		require.NoError(t, Write(path, func(io.Writer) error { return nil }))
		info, err := os.Stat(path)
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	assert.Equal(t, os.FileMode(0o640), mode())
	require.NoError(t, os.Chmod(path, 0o600))
	assert.Equal(t, os.FileMode(0o600), mode())
}

func TestOpenTakesFilesOnly(t *testing.T) {
	folder := t.TempDir()
	pipe := filepath.Join(folder, "pipe")
	require.NoError(t, exec.Command("mkfifo", pipe).Run())
	for _, path := range []string{pipe, folder} {
		_, err := Open(path)
		assert.ErrorIs(t, err, ErrNotAFile)
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "f"), []byte("x"), 0o600))
	f, err := Open(filepath.Join(folder, "f"))
	require.NoError(t, err)
	require.NoError(t, f.Close())
}
