package mysql

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"ladle/internal/core/engine"
)

// carefully finds all rows that the server rejects: one by one within it, else by halves, since it names none.
func (t *tx) carefully(ctx context.Context, rows int, send func(start, end int) error,
	each func(start, end int) ([]engine.Rejection, bool, error)) ([]engine.Rejection, error) {
	if t.db.node != nil {
		return t.singly(rows, send, each)
	}
	c := engine.CarefulSender{Send: send, Each: each, Expecting: &t.expecting,
		Exec:    func(statement string) error { return t.db.exec(ctx, statement) },
		Refusal: func(err error) (int, string, bool) { return -1, reason(err), t.db.rejects(err) }}
	rejected, err := c.Rows(rows)
	return rejected, t.db.explain(err)
}

// loop runs a statement for each of some staged rows w; one that the server rejects leaves the others as they are, since
// InnoDB takes back the statement alone. Other errors end it (mariadb.com/kb/en/begin-end: compound statements outside
// of routines; mariadb.com/kb/en/row-type-of). MySQL doesn't know such statements.
const loop = "BEGIN NOT ATOMIC DECLARE `ladle end` INT DEFAULT 0; BEGIN " +
	"DECLARE `ladle rows` CURSOR FOR SELECT * FROM %s WHERE n >= %d AND n < %d ORDER BY n; BEGIN " +
	"DECLARE w ROW TYPE OF `ladle rows`; DECLARE CONTINUE HANDLER FOR NOT FOUND SET `ladle end` = 1; " +
	"OPEN `ladle rows`; FETCH `ladle rows` INTO w; WHILE NOT `ladle end` DO BEGIN " +
	"DECLARE `ladle errno` INT; DECLARE `ladle said` TEXT; DECLARE EXIT HANDLER FOR SQLEXCEPTION BEGIN " +
	"GET DIAGNOSTICS CONDITION 1 `ladle errno` = MYSQL_ERRNO, `ladle said` = MESSAGE_TEXT; " +
	"IF `ladle errno` NOT IN (%s) THEN RESIGNAL; END IF; " +
	"SET @ladle_rejected = CONCAT(@ladle_rejected, JSON_ARRAY(w.n + 0, `ladle errno` + 0, `ladle said`), '\n'); END; " +
	"%s; END; FETCH `ladle rows` INTO w; END WHILE; CLOSE `ladle rows`; END; END; END"

// loopRows is the number of rows for which the loop runs at a time: the list of rejections is copied with each of them.
const loopRows = 512

// oneByOne runs a statement for each row w of those that were staged as changed, from start to end. It returns those
// that the server rejects, counted from start. Where it can't, nothing is done and able is false.
func (d *Database) oneByOne(ctx context.Context, start, end int, statement string) (rejected []engine.Rejection,
	able bool, err error) {
	if !d.compound {
		return nil, false, nil
	}
	var about []string
	for _, number := range slices.Sorted(maps.Keys(rowErrors)) {
		about = append(about, fmt.Sprint(number))
	}
	for first := start; first < end; first += loopRows {
		body := fmt.Sprintf(loop, changed, first, min(first+loopRows, end), strings.Join(about, ", "), statement)
		if err := d.exec(ctx, "SET @ladle_rejected = ''"); err != nil {
			return nil, false, err
		}
		if _, err := d.conn.ExecContext(ctx, body); err != nil {
			return nil, false, err
		}
		var said sql.NullString
		if err := d.conn.QueryRowContext(ctx, "SELECT @ladle_rejected").Scan(&said); err != nil {
			return nil, false, err
		}
		for line := range strings.Lines(said.String) {
			var n int
			is := mysql.MySQLError{}
			if err := json.Unmarshal([]byte(line), &[]any{&n, &is.Number, &is.Message}); err != nil {
				return nil, false, fmt.Errorf("the server's list of rejected rows: %w", err)
			}
			if d.collides(&is) {
				return nil, false, &is
			}
			rejected = append(rejected, engine.Rejection{Row: n - start, Why: reason(&is)})
		}
	}
	return rejected, true, nil
}

// unstaged reports whether rows could not be staged because of their own values, or for want of a privilege: they can
// be sent all the same.
func unstaged(err error) bool {
	var said *mysql.MySQLError
	return rejects(err) || errors.As(err, &said) && (said.Number == errDatabaseDenied || said.Number == errTableDenied)
}
