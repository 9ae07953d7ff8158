package postgres

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Script is the dialect of psql.
func (d *Database) Script() engine.Dialect { return &script{d} }

// script writes for psql (postgresql.org/docs/current/app-psql.html).
type script struct{ db *Database }

func (s *script) Run(file string) string {
	return "psql -X -f " + engine.ShellWord(file) + " " + engine.ShellWord(forClients(s.db.name))
}

// clientParameters are the parameters of a URL that libpq takes (postgresql.org/docs/current/libpq-connect.html, §34.1.2),
// but for those that only say how to log in.
var clientParameters = regexp.MustCompile(`^(host|hostaddr|port|dbname|user|options|application_name|connect_timeout|` +
	`client_encoding|target_session_attrs|load_balance_hosts|channel_binding|require_auth|ssl.*|gss.*|krb.*|keepalives.*|` +
	`tcp_user_timeout|service|passfile)$`)

// forClients is a URL as libpq takes it: settings of the server that stand in it by their names go into its options.
func forClients(name string) string {
	u, err := url.Parse(name)
	if err != nil {
		return name
	}
	query := u.Query()
	options := query.Get("options")
	for _, key := range slices.Sorted(maps.Keys(query)) {
		if !clientParameters.MatchString(key) {
			options += " -c " + key + "=" + strings.ReplaceAll(query.Get(key), " ", `\ `)
			query.Del(key)
		}
	}
	if options = strings.TrimSpace(options); options != "" {
		query.Set("options", options)
	}
	u.RawQuery = strings.ReplaceAll(query.Encode(), "+", "%20")
	return u.String()
}

func (s *script) Open(work []*schema.Table) []string {
	all := []string{`\set ON_ERROR_STOP on`, `\set QUIET on`, `\encoding UTF8`, "SET client_min_messages = warning;",
		"SET standard_conforming_strings = on;", "SET DateStyle = ISO;", "SET TimeZone = 'UTC';", "BEGIN;",
		"SET CONSTRAINTS ALL IMMEDIATE;"}
	for _, t := range work {
		all = append(all, s.db.lock(t)+";")
	}
	return all
}

func (*script) Close() []string { return []string{"COMMIT;"} }

func (s *script) Table(t *schema.Table) string { return s.db.table(t) }

func (*script) Column(name string) string { return quote(name) }

// Text is a literal on one line: control characters are escaped
// (postgresql.org/docs/current/sql-syntax-lexical.html, §4.1.2.2).
func (*script) Text(text string) string { return string(appendLiteral(nil, []byte(text))) }

func appendLiteral(b, text []byte) []byte {
	if !slices.ContainsFunc(text, func(c byte) bool { return c < ' ' || c == '\\' }) {
		return engine.AppendQuoted(b, text)
	}
	b = append(b, "E'"...)
	for _, c := range text {
		switch {
		case c == '\'':
			b = append(b, "''"...)
		case c == '\\':
			b = append(b, `\\`...)
		case c == '\n':
			b = append(b, `\n`...)
		case c == '\r':
			b = append(b, `\r`...)
		case c == '\t':
			b = append(b, `\t`...)
		case c < ' ':
			b = fmt.Appendf(b, `\x%02x`, c)
		default:
			b = append(b, c)
		}
	}
	return append(b, '\'')
}

func (*script) Literal(t *schema.Table, column string) engine.Literal {
	kind := engine.Types(t, []string{column})[0]
	return func(b []byte, c *value.Column, i int) []byte {
		switch {
		case c.States[i] != value.Given:
			return append(b, "NULL"...)
		case kind.Kind == value.Text:
			return appendLiteral(b, c.Bytes(i))
		case kind.Kind == value.Int:
			return c.AppendText(b, i)
		}
		return append(appendText(append(b, '\''), c, kind, i), '\'')
	}
}

func (s *script) Room(name string, t *schema.Table, fields []engine.RoomField) string {
	all := make([]string, len(fields))
	for i, f := range fields {
		all[i] = quote(f.Name) + " bigint"
		if c := t.Column(f.Of); c != nil {
			all[i] = quote(f.Name) + " " + s.db.typeName(c)
			if c.Collation != "" && c.Collation != citext {
				all[i] += " COLLATE " + c.Collation
			}
		}
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE %s (%s) ON COMMIT DROP", name, strings.Join(all, ", "))
}

func (*script) Ready(name string, by []string) []string {
	return []string{fmt.Sprintf("CREATE INDEX ON %s (%s);", name, quoted(by)), "ANALYZE " + name + ";"}
}

// Numbers are drawn from the sequence in one go, behind what it gave and what is in the table.
func (s *script) Numbers(ctx context.Context, variable string, t *schema.Table, n int64) ([]string, error) {
	sequence, err := s.db.sequence(ctx, t)
	if err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf(`SELECT setval(%s, greatest((SELECT max(%s) FROM %s), (SELECT CASE WHEN is_called `+
		`THEN last_value ELSE last_value - 1 END FROM %s), 0) + %d) - %d AS %s \gset`, s.Text(sequence.name),
		quote(t.Locator), s.db.table(t), sequence.name, n, n, variable)}, nil
}

func (*script) Variable(name string) string { return ":" + name }

func (s *script) Stop(guards []engine.Guard) []string {
	var b strings.Builder
	tag := "$ladle$"
	for i := 0; strings.Contains(fmt.Sprint(guards), tag); i++ { // a query of a claim may have it
		tag = fmt.Sprintf("$ladle%d$", i)
	}
	fmt.Fprintf(&b, "DO %s BEGIN\n", tag)
	for _, g := range guards {
		fmt.Fprintf(&b, "  IF (%s) THEN\n    RAISE EXCEPTION USING MESSAGE = %s;\n  END IF;\n", g.Unless, s.Text(g.Says))
	}
	return []string{b.String() + "END " + tag + ";"}
}

func (s *script) Matches(t *schema.Table, column, other string, nulls bool) string {
	own := s.db.table(t) + "." + quote(column)
	if nulls {
		return fmt.Sprintf("(%s = %s OR %s IS NULL AND %s IS NULL)", own, other, own, other)
	}
	return own + " = " + other
}

// Same compares as texts: not all types can be compared, and some are equal that are not the same.
func (s *script) Same(t *schema.Table, column, other string) string {
	c := t.Column(column)
	own := s.db.table(t) + "." + quote(column)
	if c == nil {
		return own + " = " + other
	}
	return fmt.Sprintf("%s COLLATE \"C\" IS NOT DISTINCT FROM %s COLLATE \"C\"", exactly(c, own), exactly(c, other))
}

func (s *script) Insert(t *schema.Table, columns []string) string {
	overriding := ""
	for _, name := range columns {
		if c := t.Column(name); c != nil && c.Identity {
			overriding = " OVERRIDING SYSTEM VALUE"
		}
	}
	return fmt.Sprintf("INSERT INTO %s (%s)%s", s.db.table(t), quoted(columns), overriding)
}

func (s *script) Update(t *schema.Table, columns, values []string, from engine.Joined) string {
	set := make([]string, len(columns))
	for i, c := range columns {
		set[i] = quote(c) + " = " + values[i]
	}
	return fmt.Sprintf("UPDATE %s SET %s FROM %s WHERE %s", s.db.table(t), strings.Join(set, ", "), from.From, from.On)
}

func (s *script) Delete(t *schema.Table, from engine.Joined) string {
	return fmt.Sprintf("DELETE FROM %s USING %s WHERE %s", s.db.table(t), from.From, from.On)
}

// DeleteEqual numbers the rows that are equal, in the table and in the room, and has each of them find one.
func (s *script) DeleteEqual(t *schema.Table, room string, columns []string) []string {
	texts := make([]string, len(columns))
	for i, c := range columns {
		texts[i] = exactly(t.Column(c), quote(c))
	}
	row := asText(texts)
	numbered := "row_number() OVER (PARTITION BY " + row + ")"
	return []string{fmt.Sprintf("DELETE FROM %s WHERE ctid IN (SELECT a.ctid FROM (SELECT ctid, %s AS whole, %s AS n "+
		"FROM %s) a JOIN (SELECT %s AS whole, %s AS n FROM %s) b ON a.whole = b.whole AND a.n = b.n);", s.db.table(t), row,
		numbered, s.db.table(t), row, numbered, room)}
}

func (*script) Other(*schema.Table) string { return "other" }

func (*script) Enforces() bool { return true }
