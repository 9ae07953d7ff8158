package sqlite

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Script is the dialect of sqlite3.
func (d *Database) Script() engine.Dialect { return &script{db: d} }

// script writes for the shell sqlite3 (sqlite.org/cli.html), 3.33 or later.
type script struct {
	db    *Database
	stops int
}

func (s *script) Run(file string) string {
	return "sqlite3 " + engine.ShellWord(s.db.path) + " < " + engine.ShellWord(file)
}

func (*script) Open([]*schema.Table) []string {
	return []string{".bail on", "PRAGMA foreign_keys = OFF;", "BEGIN IMMEDIATE;", "CREATE TEMPORARY TABLE ladle_stop (n);"}
}

func (*script) Close() []string { return []string{"COMMIT;"} }

func (*script) Table(t *schema.Table) string { return quote(t.Name) }

func (*script) Column(name string) string { return quote(name) }

// Text is a literal on one line: control characters stand in it by their numbers.
func (*script) Text(text string) string { return string(appendLiteral(nil, []byte(text))) }

func appendLiteral(b, text []byte) []byte {
	control := func(c byte) bool { return c < ' ' }
	if slices.IndexFunc(text, control) < 0 {
		return engine.AppendQuoted(b, text)
	}
	b = append(b, '(')
	for first := true; len(text) > 0; first = false {
		if !first {
			b = append(b, " || "...)
		}
		end := slices.IndexFunc(text, control)
		switch {
		case end == 0:
			b = fmt.Appendf(b, "char(%d)", text[0])
			end = 1
		case end < 0:
			end = len(text)
			fallthrough
		default:
			b = appendLiteral(b, text[:end])
		}
		text = text[end:]
	}
	return append(b, ')')
}

func (s *script) Literal(t *schema.Table, column string) engine.Literal {
	codecs, _ := s.db.codecs(t, []string{column})
	return codecs[0].literal
}

// literal adds slot i of c as bind binds it.
func (k *codec) literal(b []byte, c *value.Column, i int) []byte {
	if c.States[i] != value.Given {
		return append(b, "NULL"...)
	}
	switch k.kind {
	case value.Text:
		return appendLiteral(b, c.Bytes(i))
	case value.Bytes:
		b = hex.AppendEncode(append(b, "x'"...), c.Bytes(i))
		return append(b, '\'')
	case value.Decimal:
		if n, err := strconv.ParseInt(text(c.Bytes(i)), 10, 64); err == nil {
			return appendInteger(b, n)
		}
		f, _ := strconv.ParseFloat(text(c.Bytes(i)), 64) // value.Parse took only what a double keeps
		return appendReal(b, f)
	case value.Int:
		return appendInteger(b, c.Nums[i])
	case value.Fixed:
		if k.scale == 0 {
			return appendInteger(b, c.Nums[i])
		}
		return appendFixed(b, c.Nums[i], k.scale)
	case value.Float:
		return appendReal(b, c.Float(i))
	}
	if !k.form.integer {
		k.buf = k.form.append(k.buf[:0], k.kind, c.Nums[i])
		return appendLiteral(b, k.buf)
	}
	n := c.Nums[i]
	if k.kind == value.DateTime {
		n /= second
	}
	return appendInteger(b, n)
}

// appendInteger adds a whole number; the least one is no literal in SQLite, only its negation.
func appendInteger(b []byte, n int64) []byte {
	if n == math.MinInt64 {
		return fmt.Appendf(b, "(%d - 1)", n+1)
	}
	return strconv.AppendInt(b, n, 10)
}

// exactDigits is the number of digits, and of places behind the point, up to which SQLite reads each decimal number as the
// double that is nearest: the powers of ten that it takes for that are exact.
const exactDigits = 15

// appendFixed adds n / 10^scale as a double: by its own digits, where SQLite reads them as the nearest one.
func appendFixed(b []byte, n int64, scale int) []byte {
	const most = 1_000_000_000_000_000 // of exactDigits
	if scale >= exactDigits || n >= most || n <= -most {
		return appendReal(b, value.FixedToFloat(n, scale))
	}
	b = bytes.TrimRight(value.AppendFixed(b, n, scale), "0")
	if b[len(b)-1] == '.' {
		b = append(b, '0')
	}
	return b
}

// appendReal adds a double: in as few digits as tell it from others or, where these are many, by the function of the shell
// that makes it of its parts (sqlite.org/floatingpoint.html).
func appendReal(b []byte, f float64) []byte {
	digits := strconv.AppendFloat(nil, f, 'e', -1, 64)
	mantissa, exponent, _ := bytes.Cut(digits, []byte("e"))
	power, _ := strconv.Atoi(string(exponent)) // it was written just now
	count := len(bytes.Trim(mantissa, "-")) - bytes.Count(mantissa, []byte("."))
	if count > exactDigits || count-power > exactDigits || power > exactDigits {
		const bits = 53 // of a double
		part, power := math.Frexp(f)
		return fmt.Appendf(b, "ieee754(%d, %d)", int64(math.Ldexp(part, bits)), power-bits)
	}
	start := len(b)
	if b = strconv.AppendFloat(b, f, 'g', -1, 64); !bytes.ContainsAny(b[start:], ".e") {
		b = append(b, ".0"...)
	}
	return b
}

func (*script) Room(name string, t *schema.Table, fields []engine.RoomField) string {
	all := make([]string, len(fields))
	for i, f := range fields {
		all[i] = quote(f.Name) + " INTEGER"
		if c := t.Column(f.Of); c != nil {
			all[i] = strings.TrimRight(quote(f.Name)+" "+c.Declared, " ")
			if c.Collation != "" {
				all[i] += " COLLATE " + quote(c.Collation)
			}
		}
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE %s (%s)", name, strings.Join(all, ", "))
}

func (*script) Ready(name string, by []string) []string {
	return []string{fmt.Sprintf("CREATE INDEX temp.%s_by ON %s (%s);", name, name, quoted(by))}
}

// Numbers follow the greatest locator, also of rows that are gone where the table keeps it.
func (s *script) Numbers(_ context.Context, variable string, t *schema.Table, _ int64) ([]string, error) {
	last := fmt.Sprintf("COALESCE((SELECT max(%s) FROM %s), 0)", quote(t.Locator), quote(t.Name))
	kept := false
	err := s.db.each("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'", nil, func(*sqlite.Stmt) error {
		kept = true
		return nil
	})
	if kept {
		last = fmt.Sprintf("max(%s, COALESCE((SELECT seq FROM sqlite_sequence WHERE name = %s), 0))", last, s.Text(t.Name))
	}
	return []string{fmt.Sprintf("CREATE TEMPORARY TABLE %s AS SELECT %s AS n;", variable, last),
		fmt.Sprintf(`.parameter set @%s "(SELECT n FROM temp.%s)"`, variable, variable)}, err
}

func (*script) Variable(name string) string { return "@" + name }

// Stop has a trigger raise the error, which only triggers can.
func (s *script) Stop(guards []engine.Guard) (all []string) {
	var b strings.Builder
	s.stops++
	fmt.Fprintf(&b, "CREATE TEMPORARY TRIGGER ladle_stop_%d BEFORE INSERT ON ladle_stop WHEN NEW.n = %d BEGIN\n", s.stops,
		s.stops)
	for _, g := range guards {
		fmt.Fprintf(&b, "  SELECT RAISE(ABORT, %s) WHERE %s;\n", engine.QuoteText(g.Says), g.Unless)
	}
	return []string{b.String() + "END;", fmt.Sprintf("INSERT INTO ladle_stop VALUES (%d);", s.stops)}
}

func (*script) Matches(t *schema.Table, column, other string, nulls bool) string {
	equals := " = "
	if nulls {
		equals = " IS "
	}
	return quote(t.Name) + "." + quote(column) + equals + other
}

func (*script) Same(t *schema.Table, column, other string) string {
	return fmt.Sprintf("%s.%s IS %s COLLATE BINARY", quote(t.Name), quote(column), other)
}

func (*script) Insert(t *schema.Table, columns []string) string {
	return fmt.Sprintf("INSERT INTO %s (%s)", quote(t.Name), quoted(columns))
}

func (*script) Update(t *schema.Table, columns, values []string, from engine.Joined) string {
	set := make([]string, len(columns))
	for i, c := range columns {
		set[i] = quote(c) + " = " + values[i]
	}
	return fmt.Sprintf("UPDATE %s SET %s FROM %s WHERE %s", quote(t.Name), strings.Join(set, ", "), from.From, from.On)
}

func (*script) Delete(t *schema.Table, from engine.Joined) string {
	return fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(t.Name), from.From, from.On)
}

// DeleteEqual is not needed: rows of SQLite have numbers.
func (*script) DeleteEqual(*schema.Table, string, []string) []string { return nil }

func (*script) Other(*schema.Table) string { return "other" }

// Enforces is false: enforcement is off while the script runs.
func (*script) Enforces() bool { return false }
