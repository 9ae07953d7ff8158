package spool

import (
	"fmt"
	"io"
	"os"

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
		return fmt.Errorf("writing a temporary file in %s: %w", f.dir, err)
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

// Close gives memory and disk back.
func (f *file) Close() error {
	f.memory = nil
	if f.disk == nil {
		return nil
	}
	err := whole.Forget(f.disk)
	f.disk = nil
	return err
}
