// Package whole writes files that are there whole or not at all, whatever ends the program while they are written.
package whole

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// File is a file that has not got its name yet.
type File struct {
	*os.File
	path   string
	closed bool
}

// prefix is what the names of unfinished files begin with; the number of their process follows.
const prefix = ".ladle-part-"

// Create begins a file that will be at path. It removes what programs that ended before their time left unfinished in the
// folder.
func Create(path string) (*File, error) {
	folder := filepath.Dir(path)
	sweep(folder)
	f, err := os.CreateTemp(folder, fmt.Sprintf("%s%d-", prefix, os.Getpid()))
	if err != nil {
		return nil, err
	}
	return &File{File: f, path: path}, nil
}

// Place sees the file to the disk and gives it its name, in place of a file that had it.
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
	return errors.Join(f.Sync(), f.Chmod(0o644), f.Close())
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

// sweep removes files whose process has ended. What can't be removed stays.
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
		number, _, _ := strings.Cut(rest, "-")
		info, err := f.Info()
		if err != nil {
			continue
		}
		if pid, err := strconv.Atoi(number); ended(pid, err) || time.Since(info.ModTime()) > old {
			_ = os.Remove(filepath.Join(folder, f.Name()))
		}
	}
}

// ended tells whether no process has the number.
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
