//go:build unix

package inbox

import (
	"errors"
	"os"
	"syscall"
)

var errLocked = errors.New("locked")

// tryLock locks a file until it is closed, also by the end of the program.
func tryLock(f *os.File) error {
	err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return errLocked
	}
	return err
}
