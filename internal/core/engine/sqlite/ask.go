package sqlite

import (
	"context"
	"errors"
	"os"
	"os/user"
	"strconv"
	"strings"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// User is that of the system: SQLite knows none.
func (d *Database) User(context.Context) (string, error) {
	u, err := user.Current()
	if err != nil {
		return os.Getenv("USER"), nil //nolint:nilerr // a user without a name is none that must be known
	}
	return u.Username, nil
}

// MayMake asks the system whether the file can be written to.
func (d *Database) MayMake(context.Context) error {
	f, err := os.OpenFile(d.path, os.O_RDWR, 0)
	if err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: d.path, What: "the database can't be written to",
			Do: "check the permissions of the file and of its folder"})
	}
	return f.Close()
}

// SelectAll is that of the Database.
func (*Database) SelectAll(t *schema.Table) string { return "SELECT * FROM " + quote(t.Name) }

// Foresee prepares the query, which must be a single one and give columns.
func (d *Database) Foresee(_ context.Context, query string) error {
	if err := engine.IsQuery(query); err != nil {
		return err
	}
	s, rest, err := d.conn.PrepareTransient(query)
	if err != nil {
		return fault.Because(fault.Wrong, err, fault.Problem{What: words(err)})
	}
	defer s.Finalize()
	if s.ColumnCount() == 0 || strings.Trim(query[len(query)-rest:], "; \t\r\n") != "" || s.BindParamCount() > 0 {
		return fault.New(fault.Wrong, "it is not a query", "write one SELECT")
	}
	return nil
}

// ofQuery explains the error of a person's query: what is wrong with it, or with the file.
func (d *Database) ofQuery(err error) error {
	switch sqlite.ErrCode(err).ToPrimary() {
	case sqlite.ResultError, sqlite.ResultTooBig, sqlite.ResultMismatch, sqlite.ResultReadOnly:
		return fault.Because(fault.Wrong, err, fault.Problem{What: words(err)})
	}
	return explain(d.path, err)
}

// Ask runs the query while the connection can't write.
func (d *Database) Ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	if err := d.exec("PRAGMA query_only = ON"); err != nil {
		return err
	}
	defer d.conn.Limit(sqlite.LimitLength, d.conn.Limit(sqlite.LimitLength, engine.LongestAnswer))
	asked := heeded(ctx, d.ask(ctx, query, take))
	return errors.Join(asked, d.exec("PRAGMA query_only = OFF"))
}

func (d *Database) ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	s, err := d.prepare(query)
	if err != nil {
		return err
	}
	defer s.Finalize()
	defer d.heed(ctx)()
	names := make([]string, s.ColumnCount())
	for i := range names {
		names[i] = s.ColumnName(i)
	}
	if err := take(names, nil); err != nil {
		return err
	}
	cells, memory := make([][]byte, len(names)), make([][]byte, len(names))
	for i := range memory {
		memory[i] = []byte{} // a text of no characters, which NULL is not
	}
	for {
		more, err := s.Step()
		if err != nil || !more {
			return d.ofQuery(err)
		}
		for i := range cells {
			switch s.ColumnType(i) {
			case sqlite.TypeNull:
				cells[i] = nil
				continue
			case sqlite.TypeInteger: // which SQLite would write the same, and slower
				memory[i] = strconv.AppendInt(memory[i][:0], s.ColumnInt64(i), 10)
			default:
				memory[i] = appendText(memory[i][:0], s, i)
			}
			cells[i] = memory[i]
		}
		if err := take(names, cells); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}
