package sqlite

import (
	"errors"
	"os"
	"path/filepath"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
	"ladle/internal/core/whole"
)

// Scratch is a database for the time that it is open, in a folder for temporary files.
type Scratch struct {
	*Database
	folder string
}

// NewScratch makes a database of the tables of a script.
func NewScratch(script string) (*Scratch, error) {
	folder, err := whole.Folder()
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "scratch.db")
	conn, err := sqlite.OpenConn(path, sqlite.OpenReadWrite, sqlite.OpenCreate)
	if err == nil {
		err = errors.Join(sqlitex.ExecuteScript(conn, script, nil), conn.Close())
	}
	var d *Database
	if err == nil {
		d, err = Open(path, engine.UsualWaits)
	}
	if err != nil {
		return nil, errors.Join(explain(path, err), os.RemoveAll(folder))
	}
	return &Scratch{d, folder}, nil
}

// Close closes the database and removes it.
func (s *Scratch) Close() error { return errors.Join(s.Database.Close(), os.RemoveAll(s.folder)) }
