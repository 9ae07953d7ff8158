package whole

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// nameless opens a file that never has a name (open(2), O_TMPFILE); nil where the file system can't.
func nameless(folder string) *os.File {
	fd, err := unix.Open(folder, unix.O_TMPFILE|unix.O_RDWR|unix.O_EXCL|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil
	}
	return os.NewFile(uintptr(fd), filepath.Join(folder, prefix+"nameless"))
}
