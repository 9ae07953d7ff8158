package whole

import (
	"errors"
	"os"
	"syscall"
)

// ErrNotAFile is the error for a pipe, a device or the like where a file must be.
var ErrNotAFile = errors.New("this is not a file, but a pipe, a device or the like")

// Open opens the file at path for reading. What is no file, and could make it wait for ever, is an error.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = ErrNotAFile
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}
