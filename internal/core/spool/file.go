package spool

import (
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"

	"ladle/internal/core/fault"
	"ladle/internal/core/whole"
)

// resident is the number of bytes that a file keeps in memory before it goes to disk.
const resident = 64 << 10

// file is a temporary file that is only appended to and read at offsets. It starts in memory; on disk it has mode
// 0600 and, where the system allows that, no name.
type file struct {
	memory []byte
	disk   *os.File
	size   int64 // bytes on disk; memory holds those behind them
	dir    string
}

// Write appends b.
func (f *file) Write(b []byte) (int, error) {
	if len(f.memory)+len(b) > resident && len(f.memory) > 0 {
		if err := f.flush(); err != nil {
			return 0, err
		}
	}
	f.memory = append(f.memory, b...)
	return len(b), nil
}

func (f *file) flush() error {
	if f.disk == nil {
		if err := f.open(); err != nil {
			return err
		}
	}
	n, err := f.disk.WriteAt(f.memory, f.size)
	f.size += int64(n)
	f.memory = f.memory[:0]
	if err != nil {
		return unwritten(f.dir, err)
	}
	return nil
}

func (f *file) open() error {
	disk, err := whole.Nameless(f.dir)
	f.disk = disk
	return err
}

func (f *file) end() int64 { return f.size + int64(len(f.memory)) }

// ReadAt fills b from offset at; it satisfies io.ReaderAt.
func (f *file) ReadAt(b []byte, at int64) (int, error) {
	if at >= f.size {
		n := copy(b, f.memory[min(at-f.size, int64(len(f.memory))):])
		if n < len(b) {
			return n, io.EOF
		}
		return n, nil
	}
	onDisk := min(int64(len(b)), f.size-at)
	n, err := f.disk.ReadAt(b[:onDisk], at)
	if err != nil {
		return n, fmt.Errorf("reading a temporary file back: %w", err)
	}
	m := copy(b[n:], f.memory)
	if n+m < len(b) {
		return n + m, io.EOF
	}
	return n + m, nil
}

// Close frees memory and disk.
func (f *file) Close() error {
	f.memory = nil
	if f.disk == nil {
		return nil
	}
	err := whole.Forget(f.disk)
	f.disk = nil
	return err
}

// unwritten says that a temporary file can't be written, and what to do.
func unwritten(dir string, err error) error {
	if dir == "" {
		dir = os.TempDir()
	}
	p := fault.Problem{File: dir, What: "a temporary file can't be written: " + fault.OfSystem(err),
		Do: "check the permissions of the folder and its free space; TMPDIR names another one"}
	if errors.Is(err, syscall.ENOSPC) {
		p.What = "the disk with temporary files is full"
		p.Do = "free some space; or set TMPDIR to a folder with about as much room as the files take"
	}
	return fault.Because(fault.Failed, err, p)
}
