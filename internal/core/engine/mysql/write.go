package mysql

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// tx is an open transaction. Unless it is careful, the first row that the server rejects, or only with a
// warning, ends it; a careful one finds all such rows.
type tx struct {
	engine.Pipe
	db        *Database
	careful   bool
	over      bool
	expecting bool            // rows were rejected that were sent last
	passed    map[string]bool // tables whose counter has passed the numbers that were reserved
	trusted   []*schema.Table // see Trust
	trusting  bool            // the server looks up no parents
	begun     context.Context //nolint:containedctx // its end makes that of the transaction short
}

// errWarned says that the server took rows only with warnings, or not all of them.
var errWarned = errors.New("the server accepted rows with warnings")

var readers atomic.Int64

// send brings the rows from start to end into a table: by LOAD DATA LOCAL or, where the server doesn't allow that, by
// an INSERT of many rows.
func (d *Database) send(ctx context.Context, table string, columns []string, kinds []value.Type, rows *value.Batch,
	start, end int) error {
	if !d.infile {
		for ; start < end && ctx.Err() == nil; start += insertRows {
			if err := d.insert(ctx, table, columns, kinds, rows, start, min(start+insertRows, end)); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	return d.sendLines(ctx, table, columns, kinds, lines(kinds, rows, start, end), end-start)
}

// insertRows is the number of rows of one INSERT: few enough for the server's max_allowed_packet with texts of some
// kilobytes in them.
const insertRows = 500

// lines writes the rows from start to end for LOAD DATA.
func lines(kinds []value.Type, rows *value.Batch, start, end int) []byte {
	text := make([]byte, 0, (end-start)*16*len(kinds))
	for row := start; row < end; row++ {
		for i := range kinds {
			if i > 0 {
				text = append(text, '\t')
			}
			text = appendField(text, &rows.Columns[i], kinds[i], row)
		}
		text = append(text, '\n')
	}
	return text
}

// sendLines sends rows by LOAD DATA LOCAL. It takes truncated values, wrong values and doubled keys with no more than
// a warning, so any warning, and any row that is not counted, is errWarned.
func (d *Database) sendLines(ctx context.Context, table string, columns []string, kinds []value.Type, text []byte,
	count int) error {
	name := fmt.Sprintf("ladle-%d", readers.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return bytes.NewReader(text) })
	defer mysql.DeregisterReaderHandler(name)
	done, err := d.conn.ExecContext(ctx, fmt.Sprintf("LOAD DATA LOCAL INFILE 'Reader::%s' INTO TABLE %s CHARACTER "+
		"SET utf8mb4 "+
		`FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' %s`, name, table, placed(columns, kinds)))
	if err != nil {
		return err
	}
	warnings, err := d.one(ctx, "SELECT @@warning_count")
	if err != nil {
		return err
	}
	if taken, err := done.RowsAffected(); err != nil || warnings > 0 || taken != int64(count) {
		return errors.Join(errWarned, err)
	}
	return nil
}

// insert sends rows as one strict INSERT.
func (d *Database) insert(ctx context.Context, table string, columns []string, kinds []value.Type, rows *value.Batch,
	start, end int) error {
	if start == end {
		return nil
	}
	mark := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(columns)), ", ") + ")"
	marks := make([]string, 0, end-start)
	arguments := make([]any, 0, (end-start)*len(columns))
	for row := start; row < end; row++ {
		marks = append(marks, mark)
		for i := range kinds {
			arguments = append(arguments, argument(&rows.Columns[i], kinds[i], row))
		}
	}
	_, err := d.conn.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES %s", table, quoted(columns),
		strings.Join(marks, ", ")), arguments...)
	return err
}

func argument(c *value.Column, t value.Type, i int) any {
	if c.States[i] != value.Given {
		return nil
	}
	if t.Kind == value.Text {
		return string(c.Bytes(i))
	}
	text := appendField(nil, c, t, i)
	if t.Kind == value.Bytes {
		raw, _ := hex.AppendDecode([]byte{}, text) // they were encoded just now
		return raw
	}
	return string(text)
}

// Reserve reserves locators once nothing is under way.
func (t *tx) Reserve(ctx context.Context, table *schema.Table, n, past int64) ([]engine.Span, error) {
	if err := t.Settle(); err != nil {
		return nil, err
	}
	return t.db.reserve(ctx, table, n, past)
}

// Insert sends the rows; a careful transaction does so in savepoints, and halves a batch until it has the rows that the
// server rejects.
func (t *tx) Insert(ctx context.Context, table *schema.Table, columns []string, rows *value.Batch) ([]engine.Rejection,
	error) {
	kinds, count := engine.Types(table, columns), rows.Len()
	if err := t.passOver(ctx, table, columns, kinds, rows); err != nil {
		return nil, err
	}
	if err := t.follow(ctx, table); err != nil {
		return nil, err
	}
	t.db.sent[table.Name] += int64(count)
	switch {
	case t.careful:
		return t.carefully(ctx, count, func(start, end int) error {
			if end-start == 1 { // one row, strictly: its error is the reason
				return t.db.insert(ctx, quote(table.Name), columns, kinds, rows, start, end)
			}
			return t.db.send(ctx, quote(table.Name), columns, kinds, rows, start, end)
		}, func(start, end int) ([]engine.Rejection, bool, error) {
			return t.insertEach(ctx, table, columns, rows, start, end)
		})
	case !t.db.infile:
		return nil, t.db.judge(t.db.send(ctx, quote(table.Name), columns, kinds, rows, 0, count))
	}
	text := lines(kinds, rows, 0, count)
	return nil, t.Send(func() error { return t.db.sendLines(ctx, quote(table.Name), columns, kinds, text, count) })
}

// insertEach stages the rows from start to end, and adds them one by one.
func (t *tx) insertEach(ctx context.Context, table *schema.Table, columns []string, rows *value.Batch,
	start, end int) ([]engine.Rejection, bool, error) {
	if !t.db.compound {
		return nil, false, nil
	}
	if err := t.db.stage(ctx, changed, table, columns, rows.Some(start, end, nil)); unstaged(err) {
		return nil, false, nil
	} else if err != nil {
		return nil, false, err
	}
	values := make([]string, len(columns))
	for i := range columns {
		values[i] = fmt.Sprintf("w.v%d", i)
	}
	return t.db.oneByOne(ctx, 0, end-start, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(table.Name),
		quoted(columns), strings.Join(values, ", ")))
}

// Update stages the rows and joins the table with them.
func (t *tx) Update(ctx context.Context, table *schema.Table, by, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	if err := t.ready(ctx); err != nil {
		return nil, err
	}
	if err := t.db.stage(ctx, changed, table, append(slices.Clone(by), columns...), rows); err != nil {
		return nil, t.db.judge(err)
	}
	set := make([]string, len(columns))
	for i, c := range columns {
		set[i] = fmt.Sprintf("%s.%s = w.v%d", quote(table.Name), quote(c), len(by)+i)
	}
	statement := fmt.Sprintf("UPDATE %s w STRAIGHT_JOIN %s ON %s SET %s WHERE w.n >= ? AND w.n < ?", changed,
		quote(table.Name), on(table, by),
		strings.Join(set, ", "))
	update := func(start, end int) error {
		_, err := t.db.conn.ExecContext(ctx, statement, start, end)
		return err
	}
	if t.careful {
		return t.carefully(ctx, rows.Len(), update, func(start, end int) ([]engine.Rejection, bool, error) {
			return t.db.oneByOne(ctx, start, end, fmt.Sprintf("UPDATE %s SET %s WHERE %s", quote(table.Name),
				strings.Join(set, ", "), on(table, by)))
		})
	}
	return nil, t.db.judge(update(0, rows.Len()))
}

// Remove removes a run of locators as such; else it stages the keys and joins the table with them.
func (t *tx) Remove(ctx context.Context, table *schema.Table, by []string, keys *value.Batch) (int64, error) {
	if err := t.ready(ctx); err != nil {
		return 0, err
	}
	remove := t.db.remove
	if by == nil {
		remove = t.db.removeEqual
	}
	removed, err := remove(ctx, table, by, keys)
	if t.db.rejects(err) {
		return 0, &engine.OwnRowError{Table: table.Name, What: "let a row go", Why: reason(err)}
	}
	return removed, t.db.explain(err)
}

func (d *Database) remove(ctx context.Context, table *schema.Table, by []string, keys *value.Batch) (int64, error) {
	first, last, run := engine.Run(table, by, keys)
	if !run && len(by) > 1 {
		var near engine.Near
		var err error
		if first, last, run, err = near.Whole(ctx, d, table, by, keys); err != nil {
			return 0, err
		}
	}
	statement := fmt.Sprintf("DELETE FROM %s WHERE %s BETWEEN %d AND %d", quote(table.Name), quote(by[0]), first, last)
	if !run {
		if err := d.stage(ctx, wanted, table, by, keys); err != nil {
			return 0, err
		}
		statement = fmt.Sprintf("DELETE %s FROM %s w STRAIGHT_JOIN %s ON %s", quote(table.Name), wanted, quote(table.Name),
			on(table, by))
	}
	done, err := d.conn.ExecContext(ctx, statement)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// judge asks for a careful transaction where the server did not take a row.
func (d *Database) judge(err error) error {
	if d.rejects(err) {
		return engine.ErrCareful
	}
	return d.explain(err)
}

var checkName = regexp.MustCompile("(?i)CONSTRAINT [`']([^`']+)[`'] (?:failed|is violated)")

// reason is why a row was not taken, in the words of the server.
func reason(err error) string {
	var said *mysql.MySQLError
	if !errors.As(err, &said) {
		return err.Error()
	}
	if m := checkName.FindStringSubmatch(said.Message); m != nil {
		return engine.CheckFails(m[1])
	}
	return said.Message
}

// ReadBack reads a run of locators in one go, and looks up other keys.
func (t *tx) ReadBack(ctx context.Context, table *schema.Table, by []string, keys *value.Batch, columns []string,
	into *value.Batch) error {
	if err := t.Settle(); err != nil {
		return err
	}
	take := engine.Collect(into, table, columns)
	switch first, last, step := engine.Stepped(table, by, keys); step {
	case 0:
		return t.Probe(ctx, table, by, keys, columns, take)
	case 1:
		return t.db.Between(ctx, table, table.Locator, first, last, columns, take)
	default: // those between them are of other nodes
		return t.db.stream(ctx, table, columns, take, fmt.Sprintf("SELECT %s FROM %s WHERE %s BETWEEN %d AND %d AND (%[3]s - %[4]d) "+
			"%% %[6]d = 0 ORDER BY %[3]s", quoted(columns), quote(table.Name), quote(table.Locator), first, last, step))
	}
}

// Commit ends the transaction and returns the locks back.
func (t *tx) Commit(ctx context.Context) error {
	if err := t.Settle(); err != nil {
		return err
	}
	if t.db.spoilt != nil { // nothing may be committed behind the end of a transaction
		return errors.Join(t.db.spoilt, t.Rollback())
	}
	t.over = true
	err := t.db.exec(ctx, "COMMIT")
	if err != nil && !t.db.refuses(err) {
		return engine.Unanswered(err)
	}
	if released := t.release(ctx); err != nil {
		return errors.Join(err, released)
	}
	return nil // the rows are in; locks end with the connection at the latest
}

// refuses reports whether the error of a commit is an answer by which nothing was committed.
func (d *Database) refuses(err error) bool {
	var said *mysql.MySQLError
	return errors.As(err, &said) && (d.node == nil || said.Number == errDeadlock)
}

func (t *tx) release(ctx context.Context) error {
	t.db.working = false
	return errors.Join(t.follow(ctx, nil), t.db.exec(ctx, "UNLOCK TABLES"), t.db.exec(ctx, "SET autocommit = 1"))
}

// Rollback ends the transaction; where the connection is gone, the server has done so itself.
func (t *tx) Rollback() error {
	if t.over {
		return nil
	}
	t.over = true
	t.db.own.Forget()
	_ = t.Settle() // what was sent is taken back
	ctx, stop := engine.Ending(t.begun)
	defer stop()
	if err := t.db.conn.PingContext(ctx); err != nil {
		return nil
	}
	err := errors.Join(t.db.exec(ctx, "ROLLBACK"), t.release(ctx))
	if t.begun.Err() != nil {
		return nil // the connection ends now, and the transaction with it
	}
	return err
}
