package mysql

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// Script is the dialect of the client mariadb, or of mysql.
func (d *Database) Script() engine.Dialect { return &script{d} }

// script writes for the client mariadb (mariadb.com/kb/en/mariadb-command-line-client/).
type script struct{ db *Database }

func (s *script) Run(file string) string {
	line := "mysql"
	if s.db.compound {
		line = "mariadb"
	}
	if at, err := url.Parse(s.db.name); err == nil {
		if host := at.Hostname(); host != "" {
			line += " -h " + engine.ShellWord(host)
		}
		if port := at.Port(); port != "" {
			line += " -P " + engine.ShellWord(port)
		}
		if user := at.User.Username(); user != "" {
			line += " -u " + engine.ShellWord(user) + " -p"
		}
	}
	return line + " " + engine.ShellWord(s.db.schema) + " < " + engine.ShellWord(file)
}

func (s *script) Open(work []*schema.Table) []string {
	return []string{"SET NAMES utf8mb4;", "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE," +
		"ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO';", "SET SESSION time_zone = '+00:00';", "SET autocommit = 0;",
		"LOCK TABLES " + strings.Join(s.db.locks(work, nil), ", ") + ";"}
}

func (*script) Close() []string { return []string{"COMMIT;", "UNLOCK TABLES;"} }

func (*script) Table(t *schema.Table) string { return quote(t.Name) }

func (*script) Column(name string) string { return quote(name) }

func (*script) Text(text string) string { return string(appendLiteral(nil, []byte(text))) }

// appendLiteral adds a text (dev.mysql.com/doc/refman/8.0/en/string-literals.html).
func appendLiteral(b, text []byte) []byte {
	b = append(b, '\'')
	for _, c := range text {
		switch c {
		case '\'':
			b = append(b, "''"...)
		case '\\':
			b = append(b, `\\`...)
		case '\n':
			b = append(b, `\n`...)
		case '\r':
			b = append(b, `\r`...)
		case 0:
			b = append(b, `\0`...)
		case 26: // the end of a file for some systems
			b = append(b, `\Z`...)
		default:
			b = append(b, c)
		}
	}
	return append(b, '\'')
}

func (*script) Literal(t *schema.Table, column string) engine.Literal {
	kind := engine.Types(t, []string{column})[0]
	before, after := "'", "'"
	switch {
	case kind.Kind == value.Bytes:
		before = "X'"
	case kind.Kind.Numeric() || kind.Kind == value.Bool:
		before, after = "", ""
	}
	return func(b []byte, c *value.Column, i int) []byte {
		switch {
		case c.States[i] != value.Given:
			return append(b, "NULL"...)
		case kind.Kind == value.Text:
			return appendLiteral(b, c.Bytes(i))
		}
		return append(appendField(append(b, before...), c, kind, i), after...)
	}
}

func (*script) Room(name string, t *schema.Table, fields []engine.RoomField) string {
	all := make([]string, len(fields))
	for i, f := range fields {
		all[i] = quote(f.Name) + " BIGINT"
		if c := t.Column(f.Of); c != nil {
			all[i] = quote(f.Name) + " " + c.Declared
			if c.Collation != "" {
				all[i] += " COLLATE " + c.Collation
			}
			all[i] += " NULL"
		}
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE %s (%s)", name, strings.Join(all, ", "))
}

func (*script) Ready(name string, by []string) []string {
	return []string{fmt.Sprintf("ALTER TABLE %s ADD INDEX (%s);", name, quoted(by))}
}

// Numbers follow the counter of the table, which rows with locators of their own move.
func (s *script) Numbers(_ context.Context, variable string, t *schema.Table, _ int64) ([]string, error) {
	return []string{fmt.Sprintf("SET @%s = GREATEST(COALESCE((SELECT MAX(%s) FROM %s), 0), COALESCE((SELECT AUTO_INCREMENT "+
		"FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = %s), 1) - 1);", variable,
		quote(t.Locator), quote(t.Name), s.Text(t.Name))}, nil
}

func (*script) Variable(name string) string { return "@" + name }

// The most characters of what a guard says: of a MESSAGE_TEXT, and of the key that stands for it.
const (
	longestMessage = 500
	longestKey     = 190
)

// Stop signals where the server takes compound statements by themselves; else a duplicate key has the text.
func (s *script) Stop(guards []engine.Guard) []string {
	if !s.db.compound {
		all := []string{"CREATE TEMPORARY TABLE IF NOT EXISTS ladle_stop (says VARCHAR(190) PRIMARY KEY);"}
		for _, g := range guards {
			says := s.Text(string(text.Shortened([]byte(g.Says), longestKey)))
			all = append(all, fmt.Sprintf("INSERT INTO ladle_stop SELECT says FROM (SELECT %s AS says UNION ALL SELECT %s) s "+
				"WHERE %s;", says, says, g.Unless))
		}
		return append(all, "DELETE FROM ladle_stop;")
	}
	all := []string{"DELIMITER //"}
	for _, g := range guards { // one by one: the client shows the one that stops it
		all = append(all, fmt.Sprintf("IF %s THEN\n  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = %s;\nEND IF//", g.Unless,
			s.Text(string(text.Shortened([]byte(g.Says), longestMessage)))))
	}
	return append(all, "DELIMITER ;")
}

func (*script) Matches(t *schema.Table, column, other string, nulls bool) string {
	equals := " = "
	if nulls {
		equals = " <=> "
	}
	return quote(t.Name) + "." + quote(column) + equals + other
}

// Same compares the bytes of texts.
func (*script) Same(t *schema.Table, column, other string) string {
	own := quote(t.Name) + "." + quote(column)
	if c := t.Column(column); c != nil {
		return fmt.Sprintf("BINARY %s <=> BINARY %s", exactly(c, own), exactly(c, other))
	}
	return own + " <=> " + other
}

func (*script) Insert(t *schema.Table, columns []string) string {
	return fmt.Sprintf("INSERT INTO %s (%s)", quote(t.Name), quoted(columns))
}

func (*script) Update(t *schema.Table, columns, values []string, from engine.Joined) string {
	set := make([]string, len(columns))
	for i, c := range columns {
		set[i] = quote(t.Name) + "." + quote(c) + " = " + values[i]
	}
	return fmt.Sprintf("UPDATE %s STRAIGHT_JOIN %s ON %s SET %s", from.From, quote(t.Name), from.On, strings.Join(set,
		", "))
}

func (*script) Delete(t *schema.Table, from engine.Joined) string {
	return fmt.Sprintf("DELETE %s FROM %s STRAIGHT_JOIN %s ON %s", quote(t.Name), from.From, quote(t.Name), from.On)
}

// DeleteEqual has a block go through the rows of the room, and remove one for each.
func (s *script) DeleteEqual(t *schema.Table, room string, columns []string) []string {
	if !s.db.compound {
		return nil
	}
	var same []string
	for _, c := range columns {
		same = append(same, s.Same(t, c, "r."+quote(c)))
	}
	return []string{"DELIMITER //", fmt.Sprintf("BEGIN NOT ATOMIC\n  FOR r IN (SELECT %s FROM %s) DO\n    DELETE FROM %s "+
		"WHERE %s LIMIT 1;\n  END FOR;\nEND\n//", quoted(columns), room,
		quote(t.Name), strings.Join(same, " AND ")), "DELIMITER ;"}
}

func (s *script) Other(t *schema.Table) string { return s.db.alias(t, 0) }

func (*script) Enforces() bool { return true }
