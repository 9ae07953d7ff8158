package cli

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/source"
	"ladle/internal/seeded"
	"ladle/internal/term"
)

// TestOddDatabases has every command work on SQLite files with generated catalogues, some of them damaged.
func TestOddDatabases(t *testing.T) {
	random := seeded.Rand(t)
	for range seeded.Rounds(160) {
		oddDatabase(t, random.Uint64())
	}
}

// FuzzOddDatabases is the same for ever.
func FuzzOddDatabases(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { oddDatabase(t, seed) })
}

// oddDatabase runs all commands on the database of a seed; none may end with a fault of the program.
func oddDatabase(t *testing.T, seed uint64) {
	t.Helper()
	null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	require.NoError(t, err)
	defer null.Close()
	was := term.Stdout
	term.Stdout = term.NewOutput(null)
	defer func() { term.Stdout = was }()

	dir := t.TempDir()
	t.Chdir(dir)
	g := generator{rand.New(rand.NewPCG(seed, seed))}
	script := g.database(t, "odd.db")
	g.files(t)
	lines := []string{"tables --db odd.db", "tables --db odd.db --html t.html", "tables --db odd.db --diagram",
		"survey berth.csv call.csv", "draft berth.csv call.csv --db odd.db -o draft.ladle.yaml",
		"try draft.ladle.yaml --db odd.db", "load draft.ladle.yaml --db odd.db --yes",
		"try lookups.ladle.yaml --db odd.db", "load lookups.ladle.yaml --db odd.db --yes",
		"verify lookups.ladle.yaml --db odd.db", "verify 1 --db odd.db", "runs 1 --db odd.db",
		"undo 1 --db odd.db --yes"}
	for _, name := range g.names() {
		lines = append(lines, "tables --db odd.db --json --table "+name)
	}
	for _, line := range lines {
		_, err := run(context.Background(), commands(), append([]string{"ladle"}, strings.Fields(line)...))
		if err != nil {
			require.NotContains(t, err.Error(), "ladle itself has a fault", "seed %d\n%s\n%s", seed, script, line)
		}
	}
}

// generator makes catalogues as nobody would write them.
type generator struct{ *rand.Rand }

func choose[T any](g generator, all ...T) T { return all[g.IntN(len(all))] }

func (g generator) names() []string { return []string{"berth", "call", "pilot"} }

func (g generator) table() string {
	return choose(g, "berth", "call", "pilot", "BERTH", `"ca ll"`, "gone", "sqlite_master", "ladle_run")
}

func (g generator) column() string {
	return choose(g, "id", "ID", "code", "name", "rowid", "oid", `"a b"`, "berth_id", "gone")
}

func (g generator) definition() string {
	c := g.column() + " " + choose(g, "INTEGER", "INTEGER", "INT", "TEXT", "VARCHAR(5)", "VARCHAR(99999999999999)", "",
		"DECIMAL(9,2)",
		"NUMERIC(3,99)", "BOOLEAN", "DATE", "TIMESTAMP", "BLOB", "REAL", "ANY", "ARRAY[]")
	for range g.IntN(3) {
		c += " " + choose(g, "PRIMARY KEY", "PRIMARY KEY AUTOINCREMENT", "NOT NULL", "UNIQUE", "DEFAULT 'x'",
			"DEFAULT (1 + 1)",
			"COLLATE NOCASE", "COLLATE mine", "CHECK (code <> name)", "CHECK (length(name) < 3 AND (",
			"REFERENCES "+g.table(),
			fmt.Sprintf("REFERENCES %s (%s)", g.table(), g.column()), "GENERATED ALWAYS AS (1)", "ON CONFLICT IGNORE")
	}
	return c
}

// database makes a database of statements, of which many fail, and damages some of its bytes now and then.
func (g generator) database(t *testing.T, path string) (script string) {
	t.Helper()
	conn, err := sqlite.OpenConn(path)
	require.NoError(t, err)
	for range 2 + g.IntN(6) {
		var parts []string
		for range 1 + g.IntN(5) {
			parts = append(parts, g.definition())
		}
		for range g.IntN(3) {
			parts = append(parts, choose(g, "PRIMARY KEY ("+g.column()+", "+g.column()+")", "UNIQUE ("+g.column()+")",
				fmt.Sprintf("FOREIGN KEY (%s, %s) REFERENCES %s (%s)", g.column(), g.column(), g.table(), g.column()),
				fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s", g.column(), g.table()), "CHECK (id > 0)"))
		}
		script += fmt.Sprintf("CREATE TABLE %s (%s)%s;\n", choose(g, "berth", "call", "pilot", `"ca ll"`),
			strings.Join(parts, ", "), choose(g, "", "", "", " WITHOUT ROWID", " STRICT"))
		script += choose(g, "", fmt.Sprintf("INSERT INTO %s VALUES (1, 'N1', 2, NULL, 'x')", g.table()),
			fmt.Sprintf("CREATE UNIQUE INDEX i%d ON %s (%s)", g.IntN(9), g.table(), g.column()),
			fmt.Sprintf("CREATE INDEX i%d ON %s (upper(%s)) WHERE %s > 1", g.IntN(9), g.table(), g.column(),
				g.column()),
			fmt.Sprintf("CREATE VIEW v%d AS SELECT * FROM %s", g.IntN(9), g.table()),
			fmt.Sprintf("CREATE TRIGGER t%d AFTER INSERT ON %s BEGIN DELETE FROM %s; END", g.IntN(9), g.table(),
				g.table()),
			fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", g.table(), g.column()),
			fmt.Sprintf("DROP TABLE %s", g.table())) + ";\n"
	}
	for statement := range strings.SplitSeq(script, ";\n") {
		_ = sqlitex.ExecuteTransient(conn, statement, nil)
	}
	if g.IntN(8) == 0 { // a catalogue that SQLite itself would not write
		damage := "PRAGMA writable_schema=ON; UPDATE sqlite_schema SET sql = replace(sql, 'id', 'name')"
		script += damage
		for statement := range strings.SplitSeq(damage, ";") {
			_ = sqlitex.ExecuteTransient(conn, statement, nil)
		}
	}
	require.NoError(t, conn.Close())
	if g.IntN(4) == 0 {
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		for range 1 + g.IntN(20) {
			if len(content) > 200 {
				content[100+g.IntN(len(content)-100)] = byte(g.IntN(256))
			}
		}
		require.NoError(t, os.WriteFile(path, content, 0o600))
		script += "-- damaged"
	}
	return script
}

// files writes two files, and a ladle file with lookups between all tables.
func (g generator) files(t *testing.T) {
	t.Helper()
	for name, content := range map[string]string{
		"berth.csv": "id,code,name,a b\n1,N1,North,x\n2,N2,,y\n",
		"call.csv":  "code,name,berth_id\nN1,North,1\nN9,3,7\n",
		"lookups.ladle.yaml": fmt.Sprintf(`ladle: 1
inputs:
  berths: {file: berth.csv}
  calls: {file: call.csv}
tables:
  berth: {from: berths, key: %s, already_there: update, columns: {code: code, name: name}}
  call:
    from: calls
    key: %s
    columns:
      %s: {from: code, lookup: berth.%s, not_found: %s}
      name: name
set_aside_limit: any
`, choose(g, "code", "name", "none"), choose(g, "code", "none", "berth_id"), choose(g, "berth_id", "id", "code", "name"),
			choose(g, "code", "name", "id"), choose(g, "add", "leave_blank", "set_aside"))} {

		require.NoError(t, os.WriteFile(filepath.Join(".", name), []byte(content), 0o600))
	}
}

// TestTheEncodingIsAskedUntilItIsOne: a number, or a name; anything else is asked once more.
func TestTheEncodingIsAskedUntilItIsOne(t *testing.T) {
	u := &source.UnclearEncoding{Path: "agents.csv", Input: "agents", Could: []source.EncodingReading{
		{Encoding: "windows-1250", Lines: []source.EncodedLine{{Line: 3, Text: "Häfler"}, {Line: 4, Text: "Gdańsk"}}},
		{Encoding: "IBM852", Lines: []source.EncodedLine{{Line: 3, Text: "Hńfler"}, {Line: 4, Text: "\x1b"}}}}}
	for _, c := range []struct {
		answers []string
		want    string
	}{{[]string{"1"}, "windows-1250"}, {[]string{"", "3", "martian", "2"}, "IBM852"}, {[]string{"iso-8859-2"},
		"iso-8859-2"},
		{[]string{"q"}, ""}} {
		var questions []string
		got, err := askEncoding(context.Background(), func(_ context.Context, question, _ string) (string, error) {
			questions = append(questions, question)
			return c.answers[len(questions)-1], nil
		}, u)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
		assert.Len(t, questions, len(c.answers))
		assert.Contains(t, questions[0], "  1  windows-1250  line 3: Häfler\n                   line 4: Gdańsk\n"+
			"  2  IBM852        line 3: Hńfler\n                   line 4: \\u001b\n")
	}
}
