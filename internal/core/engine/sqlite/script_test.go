package sqlite

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
	"ladle/internal/core/value"
)

// FuzzTextLiterals: any text without a zero byte is one literal on one line, and SQLite reads the same text.
func FuzzTextLiterals(f *testing.F) {
	for _, text := range []string{"", "it's", "two\nlines\r\n", "\ttab\x1b[31m", `back\slash`, "''", "';--", "Smörgås 🚢", "\x01"} {
		f.Add(text)
	}
	conn, err := sqlite.OpenConn(":memory:", sqlite.OpenReadWrite)
	require.NoError(f, err)
	defer conn.Close()
	f.Fuzz(func(t *testing.T, text string) {
		literal := string(appendLiteral(nil, []byte(text)))
		for _, c := range []byte(literal) {
			if c < ' ' {
				t.Fatalf("a control character in %q", literal)
			}
		}
		read := ""
		err := sqlitex.ExecuteTransient(conn, "SELECT hex("+literal+")", &sqlitex.ExecOptions{
			ResultFunc: func(s *sqlite.Stmt) error { read = s.ColumnText(0); return nil }})
		require.NoError(t, err, literal)
		want := ""
		for _, c := range []byte(text) {
			want += string("0123456789ABCDEF"[c>>4]) + string("0123456789ABCDEF"[c&15])
		}
		assert.Equal(t, want, read, literal)
	})
}

// TestLiteralsKeepTheirStorage: a literal is stored as the value itself is.
func TestLiteralsKeepTheirStorage(t *testing.T) {
	d, s := opened(t, `CREATE TABLE v (id INTEGER PRIMARY KEY, n INTEGER, f REAL, d DECIMAL(9,2), b BOOLEAN, day DATE, x BLOB, t TEXT, any)`)
	table := s.Table("v")
	cases := []struct{ column, cell, literal, storage string }{
		{"n", "-9223372036854775808", "(-9223372036854775807 - 1)", "integer"},
		{"n", "9223372036854775807", "9223372036854775807", "integer"},
		{"f", "1", "1.0", "real"}, {"f", "0.1", "0.1", "real"},
		{"d", "12.50", "12.5", "real"}, {"d", "12", "12.0", "integer"},
		{"b", "true", "1", "integer"}, {"day", "2026-02-28", "'2026-02-28'", "text"},
		{"t", "a'b", "'a''b'", "text"}, {"t", "a\nb", "('a' || char(10) || 'b')", "text"},
	}
	script := d.Script()
	for _, c := range cases {
		kind := table.Column(c.column).Type
		column := value.NewColumn(kind)
		require.NoError(t, value.Parse(&column, kind, []byte(c.cell)), c.cell)
		literal := string(script.Literal(table, c.column)(nil, &column, 0))
		assert.Equal(t, c.literal, literal)
		require.NoError(t, d.exec("DELETE FROM v"))
		require.NoError(t, d.exec("INSERT INTO v ("+quote(c.column)+") VALUES ("+literal+")"))
		err := d.each("SELECT typeof("+quote(c.column)+") FROM v", nil, func(s *sqlite.Stmt) error {
			assert.Equal(t, c.storage, s.ColumnText(0), c.cell)
			return nil
		})
		require.NoError(t, err)
	}
	null := value.NewColumn(value.Type{Kind: value.Int})
	null.AppendState(value.Null)
	assert.Equal(t, "NULL", string(script.Literal(table, "n")(nil, &null, 0)))
	bytes := value.NewColumn(value.Type{Kind: value.Bytes})
	bytes.AppendBytes([]byte{0, 255})
	assert.Equal(t, "x'00ff'", string(script.Literal(table, "x")(nil, &bytes, 0)))
}

// TestRealsComeBack: a double that is written in as few digits as tell it from others is the same when it is read.
func TestRealsComeBack(t *testing.T) {
	d, _ := opened(t, "CREATE TABLE v (id INTEGER PRIMARY KEY)")
	for _, f := range []float64{1.0 / 3, 1e22, -2.0 / 7, math.MaxFloat64, math.SmallestNonzeroFloat64, 392837.55775851407} {
		var part, power int
		n, err := fmt.Sscanf(string(appendReal(nil, f)), "ieee754(%d, %d)", &part, &power)
		require.NoError(t, err, "what has more digits than SQLite reads exactly is put together: %g", f)
		assert.Equal(t, 2, n)
		assert.Equal(t, f, math.Ldexp(float64(part), power))
	}
	check := func(literal []byte, f float64) {
		err := d.each("SELECT "+string(literal), nil, func(s *sqlite.Stmt) error {
			got := s.ColumnFloat(0)
			assert.Equal(t, math.Float64bits(f), math.Float64bits(got), string(literal))
			assert.Equal(t, sqlite.TypeFloat, s.ColumnType(0))
			return nil
		})
		require.NoError(t, err)
	}
	for _, f := range []float64{0, 0.1, 123456789.123, 1e15, 5e-7, 123456789012345, -42, 7580.20267002817} {
		check(appendReal(nil, f), f)
	}
	for _, n := range []int64{0, 1, -1, 10, 750, -1250, 999_999_999_999_999, 123_456_789_012_345, -100_000_000_000_000} {
		for scale := 1; scale < exactDigits; scale++ {
			check(appendFixed(nil, n, scale), value.FixedToFloat(n, scale))
		}
	}
}

// TestStopsOnlyWhereAGuardFails runs guards as the shell does.
func TestStopsOnlyWhereAGuardFails(t *testing.T) {
	d, _ := opened(t, "CREATE TABLE v (id INTEGER PRIMARY KEY)")
	script := d.Script()
	for _, s := range script.Open(nil) {
		if s[0] != '.' {
			require.NoError(t, d.exec(s))
		}
	}
	run := func(guards ...engine.Guard) error {
		for _, s := range script.Stop(guards) {
			if err := d.exec(s); err != nil {
				return err
			}
		}
		return nil
	}
	fine := engine.Guard{Unless: "(SELECT COUNT(*) FROM v) <> 0", Says: "v has rows"}
	require.NoError(t, run(fine))
	require.NoError(t, run(fine, fine))
	err := run(fine, engine.Guard{Unless: "EXISTS (WITH w AS (SELECT 1) SELECT * FROM w)", Says: "it's there"})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "it's there")
}
