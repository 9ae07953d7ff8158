// Package whole writes files that are there whole or not at all, whatever ends the program while they are written.
package whole

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/cespare/xxhash/v2"
)

// File is a file that has not got its name yet.
type File struct {
	*os.File
	path   string
	closed bool
}

// prefix is what the names of unfinished files begin with; where their process runs, and its number, follow.
const prefix = ".ladle-part-"

// here tells this machine, or container, from others that may use the same folder, and whose processes can't be seen.
var here = sync.OnceValue(func() string {
	name, _ := os.Hostname()                     // without a name it is one without a name
	space, _ := os.Readlink("/proc/self/ns/pid") // only Linux has it
	return fmt.Sprintf("%016x", xxhash.Sum64String(name+"\x00"+space))
})

// unfinished makes a file with a name of that kind, which the umask allows to others what it allows them.
func unfinished(folder string, mode os.FileMode) (f *os.File, err error) {
	_, err = unused(folder, func(path string) error {
		f, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
		return err
	})
	return f, err
}

// unused makes something with a name of that kind which nothing in the folder has, and returns its path.
func unused(folder string, create func(path string) error) (string, error) {
	for {
		path := filepath.Join(folder, fmt.Sprintf("%s%s-%d-%08x", prefix, here(), os.Getpid(), rand.Uint32()))
		if err := create(path); !errors.Is(err, fs.ErrExist) {
			return path, err
		}
	}
}

// Folder makes a folder for temporary files, with the mode 0700. The caller removes it; what a program leaves that ends
// before it does, the next one removes.
func Folder() (string, error) {
	sweep(os.TempDir())
	path, err := unused(os.TempDir(), func(path string) error { return os.Mkdir(path, 0o700) })
	if err != nil {
		return "", fmt.Errorf("making a temporary folder: %w", err)
	}
	return path, nil
}

// Create begins a file that will be at path, with the permissions of the one that is there, else with those that the
// umask gives. It removes what programs that ended before their time left unfinished in
// the folder.
func Create(path string) (*File, error) {
	there, absent := os.Stat(path)
	if absent == nil && there.IsDir() {
		return nil, &fs.PathError{Op: "create", Path: path, Err: syscall.EISDIR}
	}
	folder := filepath.Dir(path)
	sweep(folder)
	f, err := unfinished(folder, 0o666)
	if err != nil {
		return nil, err
	}
	if absent == nil && there.Mode().IsRegular() {
		if err := f.Chmod(there.Mode().Perm()); err != nil {
			return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
		}
	}
	return &File{File: f, path: path}, nil
}

// Place sees the file to the disk and returns it its name, in place of a file that had it.
func (f *File) Place() error {
	if err := f.finish(); err != nil {
		return err
	}
	return os.Rename(f.Name(), f.path)
}

// Finish sees the file to the disk, so that Place can't fail for want of room any more.
func (f *File) Finish() error { return f.finish() }

func (f *File) finish() error {
	if f.closed {
		return nil
	}
	f.closed = true
	return errors.Join(f.Sync(), f.Close())
}

// Discard removes a file that was not placed; after Place it does nothing.
func (f *File) Discard() {
	if !f.closed {
		_ = f.Close()
	}
	_ = os.Remove(f.Name()) // after Place there is none of this name
}

// Write writes a file at path.
func Write(path string, write func(io.Writer) error) error {
	f, err := Create(path)
	if err != nil {
		return err
	}
	defer f.Discard()
	if err := write(f); err != nil {
		return err
	}
	return f.Place()
}

// old is the age from which an unfinished file is removed even where it can't be told whether its process runs.
const old = 24 * time.Hour

// sweep removes files and folders whose process has ended. What can't be removed stays.
func sweep(folder string) {
	files, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	for _, f := range files {
		rest, ours := strings.CutPrefix(f.Name(), prefix)
		if !ours {
			continue
		}
		machine, number, _ := strings.Cut(rest, "-")
		number, _, _ = strings.Cut(number, "-")
		info, err := f.Info()
		if err != nil {
			continue
		}
		pid, err := strconv.Atoi(number)
		aged := !f.IsDir() && time.Since(info.ModTime()) > old // a folder ages while it is in use
		if machine == here() && ended(pid, err) || aged {
			_ = os.RemoveAll(filepath.Join(folder, f.Name()))
		}
	}
}

// ended reports whether no process has the number.
func ended(pid int, unread error) bool {
	if unread != nil || pid <= 0 {
		return false
	}
	p, err := os.FindProcess(pid)
	if err != nil {
		return true
	}
	return errors.Is(p.Signal(syscall.Signal(0)), os.ErrProcessDone)
}
