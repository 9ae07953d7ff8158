package mysql

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// User is that of the server, with the hosts it may come from.
func (d *Database) User(ctx context.Context) (name string, err error) {
	err = d.conn.QueryRowContext(ctx, "SELECT current_user()").Scan(&name)
	return name, d.explain(err)
}

// MayMake prepares a statement that makes a table: the server checks privileges then.
func (d *Database) MayMake(ctx context.Context) error {
	err := d.exec(ctx, "PREPARE ladle_make FROM 'CREATE TABLE ladle_run (id INTEGER)'")
	if err == nil {
		err = d.exec(ctx, "DEALLOCATE PREPARE ladle_make")
	}
	return err
}

// Ask puts the query in a savepoint, or, where no transaction is open, in one that only reads.
func (d *Database) Ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	return d.readOnly(ctx, func() error { return d.ask(ctx, query, take) })
}

// readOnly does something in a savepoint, or, where no transaction is open, in one that only reads.
func (d *Database) readOnly(ctx context.Context, do func() error) error {
	if d.working && d.node != nil {
		return d.unchanged(ctx, do)
	}
	open, close := "START TRANSACTION READ ONLY", "ROLLBACK"
	if d.working {
		open, close = "SAVEPOINT ladle_ask", "ROLLBACK TO SAVEPOINT ladle_ask"
	}
	if err := d.exec(ctx, open); err != nil {
		return err
	}
	return errors.Join(do(), d.exec(ctx, close))
}

func (d *Database) ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error {
	rows, err := d.conn.QueryContext(ctx, query)
	if err != nil {
		return d.ofQuery(err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return d.ofQuery(err)
	}
	if err := take(names, nil); err != nil {
		return err
	}
	raw, into, cells := make([]sql.RawBytes, len(names)), make([]any, len(names)), make([][]byte, len(names))
	for i := range raw {
		into[i] = &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return d.ofQuery(err)
		}
		for i, text := range raw {
			if err := engine.TooLong(text); err != nil {
				return err
			}
			cells[i] = text
		}
		if err := take(names, cells); err != nil {
			return err
		}
	}
	return d.ofQuery(rows.Err())
}

// ofQuery explains the error of a person's query: what the server says of it, or what happened to the server.
func (d *Database) ofQuery(err error) error {
	var said *mysql.MySQLError
	if !errors.As(err, &said) || slices.Contains([]uint16{errDeadlock, errLockWaitTimeout, errDiskFull,
		errTableFull}, said.Number) {
		return d.explain(err)
	}
	return fault.Because(fault.Wrong, err, fault.Problem{What: said.Message})
}

// SelectAll is that of the Database.
func (*Database) SelectAll(t *schema.Table) string { return "SELECT * FROM " + quote(t.Name) }

// Foresee finds the tables that a query names, and the names by which it uses them: under LOCK TABLES the server lets
// a statement use only tables that are locked under just these names
// (dev.mysql.com/doc/refman/8.0/en/lock-tables.html). Then it tries whether the server takes the query under these
// locks.
func (d *Database) Foresee(ctx context.Context, query string) error {
	if err := engine.IsQuery(query); err != nil {
		return err
	}
	words := tokens(query)
	if err := onlyReads(words); err != nil {
		return err
	}
	if err := d.understands(ctx, query); err != nil {
		return err
	}
	there := map[string]bool{}
	err := d.each(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = database()",
		func(row *sql.Rows) error {
			var name string
			err := row.Scan(&name)
			there[strings.ToLower(name)] = true
			return err
		})
	if err != nil {
		return err
	}
	locks := locksFor(words, there)
	if len(locks) > 0 && d.node == nil {
		err = d.exec(ctx, "LOCK TABLES "+strings.Join(locks, ", "))
		if err == nil {
			err = errors.Join(d.understands(ctx, query), d.exec(ctx, "UNLOCK TABLES"))
		}
	}
	for _, l := range locks {
		if !slices.Contains(d.foreseen, l) {
			d.foreseen = append(d.foreseen, l)
		}
	}
	return err
}

// understands has the server prepare a query, by itself and as a part of another one, which it must be able to be.
// Preparing runs nothing; EXPLAIN would run the functions in derived tables
// (mariadb.com/kb/en/explain, dev.mysql.com/doc/refman/8.0/en/derived-table-optimization.html).
func (d *Database) understands(ctx context.Context, query string) error {
	for _, statement := range []string{query, "SELECT EXISTS (\n" + strings.TrimRight(query, "; \t\r\n") + "\n)"} {
		s, err := d.conn.PrepareContext(ctx, statement)
		var said *mysql.MySQLError
		switch {
		case errors.As(err, &said):
			return fault.Because(fault.Wrong, err, fault.Problem{What: said.Message, Do: "write one SELECT that only " +
				"reads"})
		case err != nil:
			return d.explain(err)
		}
		if err := s.Close(); err != nil {
			return d.explain(err)
		}
	}
	return nil
}

// onlyReads is an error for a query that puts its answer somewhere else, or has statements in comments, which other
// servers than this one would not run.
func onlyReads(words []token) error {
	for word, why := range map[string]string{"into": "a query with INTO is not run",
		commented: "a query with SQL in a comment (/*! or /*M!) is not run"} {
		if slices.ContainsFunc(words, func(t token) bool { return t.is(word) }) {
			return fault.New(fault.Wrong, why, "write one SELECT that only reads")
		}
	}
	return nil
}

// commented is the token that stands for a comment whose text the server runs
// (dev.mysql.com/doc/refman/8.0/en/comments.html, mariadb.com/kb/en/comment-syntax).
const commented = "/*!"

// token is a word, a name or a sign of a statement.
type token struct {
	text   string
	quoted bool // a name in backquotes
}

func (t token) is(word string) bool { return !t.quoted && strings.EqualFold(t.text, word) }

// name reports whether the token can be a name.
func (t token) name() bool { return t.quoted || wordByte(t.text[0]) }

func wordByte(b byte) bool {
	return b == '_' || b == '$' || b >= 0x80 || '0' <= b && b <= '9' || 'a' <= b && b <= 'z' || 'A' <= b && b <= 'Z'
}

// tokens takes a statement apart; texts in quotes and comments are left out.
func tokens(query string) (all []token) {
	for i := 0; i < len(query); {
		c := query[i]
		end := i + 1
		switch {
		case c == '\'' || c == '"':
			end = closing(query, i)
		case c == '`':
			end = closing(query, i)
			all = append(all, token{strings.ReplaceAll(strings.Trim(query[i:end], "`"), "``", "`"), true})
		case c == '#' || dashes(query[i:]):
			end = until(query, i, "\n")
		case strings.HasPrefix(query[i:], "/*!"), strings.HasPrefix(query[i:], "/*M!"):
			end = until(query, i+2, "*/")
			all = append(all, token{commented, false})
		case strings.HasPrefix(query[i:], "/*"):
			end = until(query, i+2, "*/")
		case wordByte(c):
			for end < len(query) && wordByte(query[end]) {
				end++
			}
			all = append(all, token{query[i:end], false})
		case c > ' ':
			all = append(all, token{query[i:end], false})
		}
		i = end
	}
	return all
}

// dashes reports whether a comment begins with two dashes, which must be followed by a blank or a control character.
func dashes(text string) bool {
	return strings.HasPrefix(text, "--") && (len(text) == 2 || text[2] <= ' ' || text[2] == 0x7f)
}

// until is the place behind the next mark.
func until(text string, from int, mark string) int {
	if at := strings.Index(text[from:], mark); at >= 0 {
		return from + at + len(mark)
	}
	return len(text)
}

// closing is the place behind the quote that closes the one at start.
func closing(text string, start int) int {
	for i := start + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && text[start] != '`':
			i++
		case text[i] != text[start]:
		case i+1 < len(text) && text[i+1] == text[start]:
			i++
		default:
			return i + 1
		}
	}
	return len(text)
}

// notAlias are the words that stand behind a table in a query without being another name for it.
var notAlias = strings.Fields("where join on using left right inner outer cross natural straight_join group order " +
	"having limit union except intersect as force use ignore partition for lock into procedure window set select " +
	"from values offset fetch and or")

// locksFor lists the tables that a query could use, with each name that it could use them by. One too many does no
// harm.
func locksFor(words []token, there map[string]bool) (locks []string) {
	add := func(lock string) {
		if !slices.Contains(locks, lock) {
			locks = append(locks, lock)
		}
	}
	for i, t := range words {
		if !t.name() || !there[strings.ToLower(t.text)] || i == 0 {
			continue
		}
		before := words[i-1]
		if !before.is("from") && !before.is("join") && !before.is("straight_join") && !before.is("table") &&
			!before.is(",") && !before.is("(") && !before.is(".") {
			continue
		}
		rest := words[i+1:]
		if len(rest) > 1 && rest[0].is("as") {
			rest = rest[1:]
		}
		if len(rest) > 0 && rest[0].name() && !slices.ContainsFunc(notAlias, rest[0].is) {
			add(quote(t.text) + " AS " + quote(rest[0].text) + " READ")
			continue
		}
		add(quote(t.text) + " READ")
	}
	return locks
}
