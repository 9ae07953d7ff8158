//go:build !linux

package whole

import "os"

func nameless(string) *os.File { return nil }
