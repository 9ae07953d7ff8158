// Package demo holds the made-up harbour office of Port Merrow: its database, its files and its ladle files.
package demo

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

//go:embed harbour
var harbour embed.FS

const (
	Database  = "harbour.db"         // the name of the database in the harbour's folder
	LadleFile = "harbour.ladle.yaml" // lookups, vessels, calls, cargo
	LogFile   = "log.ladle.yaml"     // the harbour log
	Season    = "season.ladle.yaml"  // rows that are updated and removed
	sums      = ".as-unpacked"       // what the files were when the demo left them
)

// Changed lists the files in folder that are no longer as the demo left them.
func Changed(folder string) ([]string, error) {
	left, err := readSums(folder)
	if err != nil {
		return nil, err
	}
	names, err := files()
	if err != nil {
		return nil, err
	}
	var changed []string
	for _, name := range append(names, Database) {
		sum, err := sumOf(filepath.Join(folder, name))
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		case sum != left[name]:
			changed = append(changed, name)
		}
	}
	return changed, nil
}

// files lists what is unpacked, without the database.
func files() ([]string, error) {
	entries, err := harbour.ReadDir("harbour")
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, err
}

// Unpack writes the harbour's files into folder and makes its database, except for those in keep.
func Unpack(folder string, keep map[string]bool) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	names, err := files()
	if err != nil {
		return err
	}
	for _, name := range names {
		if keep[name] {
			continue
		}
		content, err := harbour.ReadFile("harbour/" + name)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, name), content, 0o644); err != nil {
			return err
		}
	}
	if keep[Database] {
		return nil
	}
	return Create(filepath.Join(folder, Database))
}

//go:embed harbour/harbour.sql
var statements string

// Script is the SQL, in the words of SQLite, that makes the harbour's tables with their first rows.
func Script() string { return statements }

// File is the content of a file of the harbour.
func File(name string) ([]byte, error) { return harbour.ReadFile("harbour/" + name) }

// Create makes the database with its existing rows at path, in place of one that is there.
func Create(path string) error {
	for _, end := range []string{"", "-journal", "-wal", "-shm"} {
		if err := os.Remove(path + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	conn, err := sqlite.OpenConn(path, sqlite.OpenReadWrite, sqlite.OpenCreate)
	if err != nil {
		return err
	}
	return errors.Join(sqlitex.ExecuteScript(conn, Script(), nil), conn.Close())
}

// Seal remembers the files as they are now, so that a change can be told.
func Seal(folder string) error {
	names, err := files()
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, name := range append(names, Database) {
		sum, err := sumOf(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		b.WriteString(sum + " " + name + "\n")
	}
	return os.WriteFile(filepath.Join(folder, sums), []byte(b.String()), 0o644)
}

func readSums(folder string) (map[string]string, error) {
	left := map[string]string{}
	content, err := os.ReadFile(filepath.Join(folder, sums))
	if errors.Is(err, fs.ErrNotExist) {
		return left, nil
	}
	for line := range strings.Lines(string(content)) {
		if sum, name, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			left[name] = sum
		}
	}
	return left, err
}

func sumOf(path string) (string, error) {
	content, err := os.ReadFile(path)
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:]), err
}
