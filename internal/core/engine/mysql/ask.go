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
)

// User is that of the server, with the hosts it may come from.
func (d *Database) User(ctx context.Context) (name string, err error) {
	err = d.conn.QueryRowContext(ctx, "SELECT current_user()").Scan(&name)
	return name, d.explain(err)
}

// MayMake prepares a statement that makes a table: the server looks at rights then.
func (d *Database) MayMake(ctx context.Context) error {
	err := d.exec(ctx, "PREPARE ladle_make FROM 'CREATE TABLE ladle_run (id INTEGER)'")
	if err == nil {
		err = d.exec(ctx, "DEALLOCATE PREPARE ladle_make")
	}
	return err
}

// Ask puts the query in a savepoint, or, where no transaction is open, in one that only reads.
func (d *Database) Ask(ctx context.Context, query string, take func(columns []string, row []*string) error) error {
	open, close := "START TRANSACTION READ ONLY", "ROLLBACK"
	if d.working {
		open, close = "SAVEPOINT ladle_ask", "ROLLBACK TO SAVEPOINT ladle_ask"
	}
	if err := d.exec(ctx, open); err != nil {
		return err
	}
	asked := d.ask(ctx, query, take)
	return errors.Join(asked, d.exec(ctx, close))
}

func (d *Database) ask(ctx context.Context, query string, take func(columns []string, row []*string) error) error {
	rows, err := d.conn.QueryContext(ctx, query)
	if err != nil {
		return d.explain(err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return d.explain(err)
	}
	for rows.Next() {
		cells, into := make([]*string, len(names)), make([]any, len(names))
		for i := range cells {
			into[i] = &cells[i]
		}
		if err := rows.Scan(into...); err != nil {
			return d.explain(err)
		}
		if err := take(names, cells); err != nil {
			return err
		}
	}
	return d.explain(rows.Err())
}

// Foresee finds the tables that a query names, and the names by which it uses them: under LOCK TABLES the server lets
// a statement use only tables that are locked under just these names (dev.mysql.com/doc/refman/8.0/en/lock-tables.html).
// Then it tries whether the server takes the query under these locks.
func (d *Database) Foresee(ctx context.Context, query string) error {
	if err := engine.IsQuery(query); err != nil {
		return err
	}
	words := tokens(query)
	if err := writesFile(words); err != nil {
		return err
	}
	if err := d.understands(ctx, query); err != nil {
		return err
	}
	there := map[string]bool{}
	err := d.each(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = database()", func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		there[strings.ToLower(name)] = true
		return err
	})
	if err != nil {
		return err
	}
	locks := locksFor(words, there)
	if len(locks) > 0 {
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

// understands has the server plan a query.
func (d *Database) understands(ctx context.Context, query string) error {
	err := d.each(ctx, "EXPLAIN "+query, func(*sql.Rows) error { return nil })
	var said *mysql.MySQLError
	if errors.As(err, &said) {
		return fault.Because(fault.Wrong, err, fault.Problem{What: said.Message})
	}
	return err
}

// writesFile is an error for a query that puts its answer somewhere else.
func writesFile(words []token) error {
	if slices.ContainsFunc(words, func(t token) bool { return t.is("into") }) {
		return fault.New(fault.Wrong, "a query that puts its answer INTO something is not asked", "write one SELECT that only reads")
	}
	return nil
}

// token is a word, a name or a sign of a statement.
type token struct {
	text   string
	quoted bool // a name in backquotes
}

func (t token) is(word string) bool { return !t.quoted && strings.EqualFold(t.text, word) }

// name tells whether the token can be a name.
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
		case c == '#' || strings.HasPrefix(query[i:], "-- "):
			end = until(query, i, "\n")
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
var notAlias = strings.Fields("where join on using left right inner outer cross natural straight_join group order having limit union except " +
	"intersect as force use ignore partition for lock into procedure window set select from values offset fetch and or")

// locksFor lists the tables that a query could use, with each name that it could use them by. One too many does no harm.
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
		if !before.is("from") && !before.is("join") && !before.is("straight_join") && !before.is("table") && !before.is(",") && !before.is("(") && !before.is(".") {
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
