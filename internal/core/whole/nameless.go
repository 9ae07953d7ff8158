package whole

import (
	"fmt"
	"os"
)

// Nameless makes a temporary file in a folder ("" for the usual one) that nobody else can open and that is gone when it
// is closed, however the program ends. Where the system makes no file without a name, it has one for a moment; what a
// program leaves that ends just then, the next one removes. Its mode is 0600.
func Nameless(folder string) (*os.File, error) {
	if folder == "" {
		folder = os.TempDir()
	}
	if f := nameless(folder); f != nil {
		return f, nil
	}
	sweep(folder)
	f, err := unfinished(folder, 0o600)
	if err != nil {
		return nil, fmt.Errorf("making a temporary file: %w", err)
	}
	_ = os.Remove(f.Name()) // fails on Windows while it is open
	return f, nil
}

// Forget closes a nameless file, and removes the name that it still has on Windows.
func Forget(f *os.File) error {
	err := f.Close()
	_ = os.Remove(f.Name()) // elsewhere there is none of this name
	return err
}
