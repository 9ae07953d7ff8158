package sqlite

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// opened makes a database from script and opens it.
func opened(t *testing.T, script string) (*Database, *schema.Schema) {
	path := filepath.Join(t.TempDir(), "db")
	conn, err := sqlite.OpenConn(path, sqlite.OpenReadWrite, sqlite.OpenCreate)
	require.NoError(t, err)
	require.NoError(t, sqlitex.ExecuteScript(conn, script, nil))
	require.NoError(t, conn.Close())
	d, err := Open(path, engine.UsualWaits)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	s, err := d.Schema(context.Background())
	require.NoError(t, err)
	return d, s
}

func TestCatalogue(t *testing.T) {
	_, s := opened(t, `
		CREATE TABLE berth (code TEXT COLLATE NOCASE PRIMARY KEY, "quay ""x""" CHAR(3) DEFAULT 'a', sum INT GENERATED ALWAYS AS (1)) WITHOUT ROWID;
		CREATE TABLE call (id INTEGER PRIMARY KEY, berth CHAR(4) NOT NULL REFERENCES BERTH, rowid TEXT, at DATETIME,
			UNIQUE (berth, at));
		CREATE UNIQUE INDEX part ON call (at) WHERE at IS NOT NULL;
		CREATE INDEX expr ON call (lower(berth));
		CREATE VIEW v AS SELECT 1;
		CREATE TABLE ladle_run (id INTEGER);
	`)
	assert.Equal(t, []string{"berth", "call"}, s.Names(), "views and Ladle's own tables are left out")
	berth, call := s.Table("berth"), s.Table("call")
	assert.Equal(t, "", berth.Locator, "a table WITHOUT ROWID has no row number")
	assert.Equal(t, "NOCASE", berth.Column("code").Collation)
	assert.True(t, berth.Column("code").Required)
	assert.True(t, berth.Column(`quay "x"`).Defaulted)
	assert.True(t, berth.Column("sum").Generated)
	assert.Equal(t, "id", call.Locator)
	assert.True(t, call.Column("id").Identity)
	assert.Equal(t, []schema.Relation{{Columns: []string{"berth"}, Parent: "berth", ParentColumns: []string{"code"},
		ParentTable: berth}}, call.Relations)
	assert.True(t, call.UniqueOn([]string{"at", "berth"}))
	assert.False(t, call.UniqueOn([]string{"at"}), "a partial index is no constraint")
}

func TestDeclaredTypes(t *testing.T) {
	for declaration, want := range map[string]value.Type{
		"VARCHAR(12)": {Kind: value.Text, Length: 12}, "INT": {Kind: value.Int}, "tinyint(1)": {Kind: value.Int},
		"DECIMAL(10,2)": {Kind: value.Fixed, Precision: 10, Scale: 2, Storage: value.AsDouble},
		"NUMERIC":       {Kind: value.Decimal, Storage: value.AsDouble},
		"NUMERIC(30,4)": {Kind: value.Decimal, Precision: 30, Scale: 4, Storage: value.AsDouble},
		"double":        {Kind: value.Float}, "BOOLEAN": {Kind: value.Bool}, "date": {Kind: value.Date},
		"timestamp": {Kind: value.DateTime}, "TIME": {Kind: value.Time}, "BLOB": {Kind: value.Bytes},
		"":       {Kind: value.Text},
		"STRING": {Kind: value.Text, Storage: value.AsNumberLook},
	} {
		assert.Equal(t, want, declared(declaration), declaration)
	}
}

// TestNewRowsAreWrittenTheWayTheOldOnesAre reads, writes and reads again columns that SQLite has no type for.
func TestNewRowsAreWrittenTheWayTheOldOnesAre(t *testing.T) {
	cases := []struct {
		name, declared, old string // old is SQL
		cell, stored        string
		odd, refused        string
	}{
		{"an empty table takes ISO", "DATETIME", "NULL", "2026-03-31T10:05", "2026-03-31 10:05:00", "", ""},
		{"fractions in an empty table", "TIMESTAMP", "NULL", "2026-03-31 10:05:00.25", "2026-03-31 10:05:00.25", "",
			""},
		{"a T between date and time", "DATETIME", "'2025-01-01T00:00:00'", "2026-03-31 10:05", "2026-03-31T10:05:00",
			"", ""},
		{"minutes", "DATETIME", "'2025-01-01 00:00'", "2026-03-31 10:05", "2026-03-31 10:05", "", ""},
		{"seconds where rows have minutes", "DATETIME", "'2025-01-01 00:00'", "2026-03-31 10:05:09", "", "",
			"more precise than"},
		{"a Z", "DATETIME", "'2025-01-01 00:00:00Z'", "2026-03-31 10:05", "2026-03-31 10:05:00Z", "", ""},
		{"seconds since 1970", "DATETIME", "1700000000", "1970-01-02 00:00", "86400", "", ""},
		{"dates", "DATE", "'2025-01-01'", "2026-03-31", "2026-03-31", "", ""},
		{"dates in another style", "DATE", "'1.2.2025'", "", "", `"1.2.2025"`, ""},
		{"two styles", "DATETIME", "'2025-01-01T00:00'), ('2025-01-01 00:00'", "", "", `"2025-01-01`, ""},
		{"0 and 1", "BOOLEAN", "0", "true", "1", "", ""},
		{"words for yes and no", "BOOLEAN", "'N'", "1", "Y", "", ""},
		{"other words", "BOOLEAN", "'ja'", "", "", `"ja"`, ""},
		{"times", "TIME", "'10:00'", "23:15", "23:15", "", ""},
		{"whole amounts", "DECIMAL(8,2)", "1", "12.00", "12", "", ""},
		{"amounts", "DECIMAL(8,2)", "1", "12.10", "12.1", "", ""},
		{"numbers of any size", "NUMERIC", "1", "12345678901", "12345678901", "", ""},
		{"bytes", "BLOB", "x'00'", "00ff", "\x00\xff", "", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			ctx := context.Background()
			d, s := opened(t, "CREATE TABLE t (v "+c.declared+"); INSERT INTO t VALUES ("+c.old+")")
			table := s.Table("t")
			if c.odd != "" {
				assert.Contains(t, table.Columns[0].Odd, c.odd)
				return
			}
			require.Empty(t, table.Columns[0].Odd)
			column := value.NewColumn(table.Columns[0].Type)
			err := value.Parse(&column, table.Columns[0].Type, []byte(c.cell))
			if c.refused != "" {
				assert.ErrorContains(t, err, c.refused)
				return
			}
			require.NoError(t, err)
			batch := &value.Batch{Columns: []value.Column{column}}
			tx, err := d.Begin(ctx, nil, nil, 0)
			require.NoError(t, err)
			rejected, err := tx.Insert(ctx, table, []string{"v"}, batch)
			require.NoError(t, err)
			require.Empty(t, rejected)
			require.NoError(t, d.each("SELECT v FROM t ORDER BY rowid DESC LIMIT 1", nil, func(row *sqlite.Stmt) error {
				assert.Equal(t, c.stored, row.ColumnText(0))
				return nil
			}))
			var back value.Batch
			keys := &value.Batch{Columns: []value.Column{{Kind: value.Int}}}
			keys.Columns[0].AppendNum(d.conn.LastInsertRowID())
			require.NoError(t, tx.ReadBack(ctx, table, []string{"rowid"}, keys, []string{"rowid", "v"}, &back))
			assert.True(t, batch.Columns[0].Same(0, &back.Columns[1], 0), "%s came back as %s", c.cell,
				back.Columns[1].Text(0))
			require.NoError(t, tx.Commit(ctx))
		})
	}
}

func TestProbeAndFoldFollowTheCollation(t *testing.T) {
	ctx := context.Background()
	d, s := opened(t, `CREATE TABLE t (a TEXT COLLATE NOCASE, b TEXT COLLATE RTRIM, n INT); CREATE INDEX i ON t (a, b);
		INSERT INTO t VALUES ('Oslo', 'x', 1), ('OSLÖ', 'x ', 2), ('oslo', 'y', 3), (NULL, 'x', 4)`)
	table := s.Table("t")
	keys := value.NewBatch([]value.Type{{}, {}})
	for _, k := range [][2]string{{"oSLO", "x  "}, {"oslö", "x"}, {"none", "x"}} {
		keys.Columns[0].AppendBytes([]byte(k[0]))
		keys.Columns[1].AppendBytes([]byte(k[1]))
	}
	var found []string
	require.NoError(t, d.Probe(ctx, table, []string{"a", "b"}, keys, []string{"n"}, func(b *value.Batch) error {
		for i := range b.Len() {
			found = append(found, b.Columns[0].Text(i))
		}
		return nil
	}))
	assert.Equal(t, []string{"1"}, found, "NOCASE knows ASCII only")
	for i, want := range []string{"oslo", "x"} {
		folded, err := d.Fold(ctx, &table.Columns[i], &keys.Columns[i])
		require.NoError(t, err)
		assert.Equal(t, want, folded.Text(0))
	}
}

func TestReservedLocatorsAreNeverGivenTwice(t *testing.T) {
	ctx := context.Background()
	d, s := opened(t, "CREATE TABLE t (id INTEGER PRIMARY KEY AUTOINCREMENT); INSERT INTO t VALUES (9); DELETE FROM t")
	tx, err := d.Begin(ctx, nil, nil, 0)
	require.NoError(t, err)
	for _, want := range []int64{10, 15} {
		spans, err := tx.Reserve(ctx, s.Table("t"), 5, 0)
		require.NoError(t, err)
		assert.Equal(t, want, spans[0].First)
	}
	require.NoError(t, tx.Rollback())
}

// TestOldRowsOfOtherKindsAreNoValues: SQLite lets any value stand in any column.
func TestOldRowsOfOtherKindsAreNoValues(t *testing.T) {
	ctx := context.Background()
	cases := []struct {
		declared, stored string
		want             string // "" for what is no value of the column's type
	}{
		{"INTEGER", "'abc'", ""}, {"INTEGER", "1e30", ""}, {"INTEGER", "7", "7"}, {"DECIMAL(6,2)", "1.125", ""},
		{"DECIMAL(6,2)", "9e30", ""},
		{"DECIMAL(6,2)", "1.5", "1.50"}, {"DECIMAL(6,2)", "'x'", ""}, {"NUMERIC", "0.25", "0.25"},
		{"TEXT", "x'00'", ""}, {"", "5", ""},
		{"REAL", "3", "3"}, {"REAL", "'x'", ""}, {"BLOB", "'text'", ""}, {"BOOLEAN", "2", ""}, {"DATE", "20260331", ""},
	}
	for _, c := range cases {
		t.Run(c.stored+" in "+c.declared, func(t *testing.T) {
			d, s := opened(t, "CREATE TABLE t (v "+c.declared+"); INSERT INTO t VALUES ("+c.stored+")")
			seen := 0
			require.NoError(t, d.Scan(ctx, s.Table("t"), []string{"v"}, func(b *value.Batch) error {
				seen += b.Len()
				if c.want == "" {
					assert.Equal(t, value.Bad, b.Columns[0].States[0])
				}
				assert.Equal(t, c.want, b.Columns[0].Text(0))
				return nil
			}))
			assert.Equal(t, 1, seen)
		})
	}
}

func TestRowsThatAreNotTakenAreRejectedAndTheOthersStay(t *testing.T) {
	ctx := context.Background()
	d, s := opened(t, `CREATE TABLE t (id INTEGER PRIMARY KEY, v INT CHECK (v > 0), w TEXT UNIQUE);
		CREATE TRIGGER g BEFORE INSERT ON t WHEN new.w = 'no' BEGIN SELECT RAISE(ABORT, 'never a no'); END;`)
	tx, err := d.Begin(ctx, nil, nil, 0)
	require.NoError(t, err)
	rows := value.NewBatch([]value.Type{{Kind: value.Int}, {}})
	for _, r := range []struct {
		v int64
		w string
	}{{1, "a"}, {-1, "b"}, {2, "a"}, {3, "no"}, {4, "c"}} {
		rows.Columns[0].AppendNum(r.v)
		rows.Columns[1].AppendBytes([]byte(r.w))
	}
	rejected, err := tx.Insert(ctx, s.Table("t"), []string{"v", "w"}, rows)
	require.NoError(t, err)
	var why []string
	for _, r := range rejected {
		why = append(why, r.Why)
	}
	assert.Equal(t, []string{"CHECK (v > 0) does not hold", "UNIQUE constraint failed: t.w", "never a no"}, why)
	require.NoError(t, tx.Commit(ctx))
	n, exact, err := d.Count(ctx, s.Table("t"))
	require.NoError(t, err)
	assert.True(t, exact)
	assert.Equal(t, int64(2), n)
}

func TestChecksAreReadFromTheStatement(t *testing.T) {
	for sql, want := range map[string]string{
		"CREATE TABLE t (a INT CHECK (a > 0), b)": " CHECK (a > 0)",
		"CREATE TABLE t (a, CONSTRAINT \"a \"\"b\" CHECK (a IN ('x)', '(')), CHECK(b))": "a \"b " +
			"CHECK (a IN ('x)', '('))| CHECK (b)",
		"CREATE TABLE \"check (\" (a -- CHECK (no)\n, [check] INT /* CHECK (no) */ DEFAULT 'CHECK (no)')": "",
		"CREATE TABLE t (a CONSTRAINT one NOT NULL CHECK (a))":                                            " CHECK (a)",
		"CREATE TABLE t (a CHECK (a": "",
	} {
		var got []string
		for _, c := range checksOf(sql) {
			got = append(got, c.Name+" "+c.Says)
		}
		assert.Equal(t, want, strings.Join(got, "|"), sql)
	}
}
