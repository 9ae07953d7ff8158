package conformance

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

// TestForeignKeysAsSQLiteTakesThem: it looks at them only when it enforces them. What they mean is found all the same,
// or what is wrong with them is said.
func TestForeignKeysAsSQLiteTakesThem(t *testing.T) {
	const ladle = `ladle: 1
inputs: {in: {file: in.csv, header: 1}}
tables:
  call: {from: in, key: none, columns: {berth_id: B, n: N}}
`
	for name, c := range map[string]struct{ berth, reference, says string }{
		"in other letters":     {"id INTEGER PRIMARY KEY, code TEXT", "BERTH (ID)", "call berth_id -> berth"},
		"to the row number":    {"id INTEGER PRIMARY KEY, code TEXT", "berth (rowid)", "call berth_id -> berth"},
		"to no column by name": {"id INTEGER PRIMARY KEY, code TEXT", "berth", "call berth_id -> berth"},
		"to a column not there": {"id INTEGER PRIMARY KEY", "berth (number)", "not checked: the foreign key " +
			"call.berth_id -> berth: berth has no column number"},
		"to a table not there": {"id INTEGER PRIMARY KEY", "dock (id)", "not checked: the foreign key call.berth_id " +
			"-> dock: there is no table dock"},
		"to a hidden row number": {"code TEXT", "berth (rowid)", "berth has no column rowid"},
		"to a key not there": {"code TEXT", "berth", "not checked: the foreign key call.berth_id -> berth: berth has " +
			"no primary key"},
		"to a key of two columns": {"a TEXT, b TEXT, PRIMARY KEY (a, b)", "berth", "it has 1 columns, and the key of " +
			"berth has 2"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, fmt.Sprintf("CREATE TABLE berth (%s); CREATE TABLE call (n INTEGER, "+
				"berth_id INTEGER REFERENCES %s)", c.berth, c.reference))
			w.write("in.csv", "B,N\n,1\n,2\n")
			w.write("a.ladle.yaml", ladle)
			r := w.run("load", "a.ladle.yaml", "--db", w.db, "--yes")
			assert.Equal(t, 0, r.status, r.stdout+r.stderr)
			assert.Contains(t, strings.Join(strings.Fields(r.stdout), " "), c.says)
			assert.Equal(t, 0, w.run("verify", "a.ladle.yaml", "--db", w.db).status)
			tables := w.run("tables", "--db", w.db, "--json", "--table", "call")
			assert.Equal(t, 0, tables.status)
			assert.Equal(t, strings.Contains(c.says, "->") && !strings.Contains(c.says, "not checked"),
				!strings.Contains(tables.stdout, `"unusable"`), tables.stdout)
		})
	}
	t.Run("a lookup where no key says what it yields", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (code TEXT UNIQUE); CREATE TABLE call (n INTEGER, berth_id "+
			"INTEGER REFERENCES berth (number))")
		w.write("in.csv", "B,N\nx,1\n")
		w.write("a.ladle.yaml", strings.Replace(ladle, "berth_id: B", "berth_id: {from: B, lookup: berth.code}", 1))
		r := w.run("try", "a.ladle.yaml", "--db", w.db)
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, "berth has no primary key of one column")
	})
}

// oddStatements make things in the catalogue of a server that no table of a usual import has.
var oddStatements = map[string][]string{
	"postgres": {
		"CREATE TABLE empty ()", "CREATE TABLE berth (id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, code text)",
		"CREATE TABLE berth (id serial, code char(3) PRIMARY KEY, name varchar)",
		"CREATE TABLE berth (code text, name text, UNIQUE NULLS NOT DISTINCT (code, name))",
		"CREATE DOMAIN tons AS numeric(9,2) CHECK (VALUE > 0)", "CREATE TYPE quay AS ENUM ('it''s', '\\', '\"', '')",
		"CREATE TYPE pair AS (a integer, b text)", "CREATE TABLE cargo (t tons, q quay, p pair, a integer[], r " +
			"int4range, x xml)",
		"CREATE TABLE call (id integer, berth_id integer, at date) PARTITION BY RANGE (at)",
		"CREATE TABLE call_1 PARTITION OF call DEFAULT", "CREATE TABLE pilot (LIKE berth INCLUDING ALL)",
		"CREATE TABLE tug () INHERITS (berth)", "CREATE UNIQUE INDEX ON berth (lower(code)) WHERE code <> 'x'",
		"ALTER TABLE berth ADD up text GENERATED ALWAYS AS (upper(code)) STORED", "ALTER TABLE berth DROP COLUMN name",
		"CREATE TABLE call (id bigint PRIMARY KEY, berth_code char(3) REFERENCES berth DEFERRABLE INITIALLY DEFERRED)",
		"CREATE TABLE call (a integer, b integer, PRIMARY KEY (b, a), FOREIGN KEY (a, b) REFERENCES call (b, a) MATCH " +
			"FULL)",
		"ALTER TABLE call ADD EXCLUDE USING gist (int4range(a, b) WITH &&)", "CREATE VIEW v AS SELECT 1 AS one",
		"CREATE MATERIALIZED VIEW m AS SELECT 1 AS one", "CREATE RULE r AS ON INSERT TO berth DO INSTEAD NOTHING",
		"ALTER TABLE berth ENABLE ROW LEVEL SECURITY", "CREATE TABLE \"se\"\"lect\" (\"fr om\" text, \"\u00e9\" date " +
			"DEFAULT now())",
		"ALTER TABLE call ADD CONSTRAINT c CHECK (id > 0) NOT VALID", "CREATE UNLOGGED TABLE log (entry jsonb, at " +
			"timestamptz)",
	},
	"mysql": {
		"CREATE TABLE berth (id INT PRIMARY KEY AUTO_INCREMENT, code CHAR(3) UNIQUE, name VARCHAR(20))",
		"CREATE TABLE berth (code VARCHAR(9) PRIMARY KEY, name TEXT, UNIQUE (name(3)))",
		"SET foreign_key_checks = 0", "CREATE TABLE `call` (id INT PRIMARY KEY, berth_id INT, FOREIGN KEY (berth_id) " +
			"REFERENCES gone (id))",
		"CREATE TABLE `call` (a INT, b INT, PRIMARY KEY (b, a), FOREIGN KEY (a, b) REFERENCES `call` (b, a))",
		"CREATE TABLE cargo (e ENUM('it''s', '\\\\', 'a,b', ''), s SET('x','y'), b BIT(3), g GEOMETRY, y YEAR, j JSON)",
		"CREATE TABLE log (a TINYINT(1) UNSIGNED ZEROFILL, t TIMESTAMP(6) NULL, d DOUBLE(9,2), x MEDIUMBLOB) " +
			"ENGINE=MyISAM",
		"CREATE TABLE pilot (id INT, n INT AS (id * 2) VIRTUAL, m INT AS (id + 1) STORED, UNIQUE (n))",
		"CREATE TABLE tug (id INT, at DATE) PARTITION BY HASH (id) PARTITIONS 3", "CREATE TABLE `se``lect` (`fr om` " +
			"INT DEFAULT (1 + 1))",
		"CREATE VIEW v AS SELECT 1 AS one", "CREATE TRIGGER r BEFORE INSERT ON berth FOR EACH ROW SET NEW.code = 'x'",
		"ALTER TABLE berth ADD CHECK (code <> 'it''s' AND code NOT LIKE '\\\\%')", "ALTER TABLE berth DROP COLUMN name",
		"CREATE TABLE pilot (id BIGINT UNSIGNED PRIMARY KEY, name VARCHAR(3) COLLATE utf8mb4_bin DEFAULT 'a''b' " +
			"COMMENT 'it''s')",
		"DROP TABLE berth", "CREATE TABLE other (v VARCHAR(4) CHARACTER SET latin1, i INET6, u UUID)",
	},
}

// TestDomainsTakeNoNullFromThoseBelow: a domain over one that takes no NULL takes none either.
func TestDomainsTakeNoNullFromThoseBelow(t *testing.T) {
	w := newWorld(t, postgresSchema{}, "CREATE DOMAIN weighed AS numeric(8,1) NOT NULL; CREATE DOMAIN loaded AS weighed; "+
		"CREATE TABLE cargo (id integer PRIMARY KEY, tons loaded);")
	w.write("in.csv", "I,T\n1,0.5\n2,\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {cargo: {from: in, key: id, columns: {id: I, tons: T}}}\n")
	_, out := w.load("try")
	assert.Equal(t, 1, out.status, out.stdout)
	assert.Contains(t, out.stdout, "T is blank, but cargo.tons is NOT NULL")
}

// TestOddCatalogues: whatever stands in the catalogue of a server, no command ends with a fault of its own.
func TestOddCatalogues(t *testing.T) {
	for kind, statements := range oddStatements {
		t.Run(kind, func(t *testing.T) {
			random := seeded.Rand(t)
			for range seeded.Rounds(8) {
				w := newWorld(t, servers[kind], "SELECT 1;")
				var script strings.Builder
				for _, i := range random.Perm(len(statements))[:5+random.IntN(len(statements)-5)] {
					if w.attempt(kind, statements[i]) {
						fmt.Fprintln(&script, statements[i])
					}
				}
				w.everyCommand(script.String(), random)
			}
		})
	}
}

// attempt runs a statement that may fail.
func (w *world) attempt(kind, statement string) bool {
	w.Helper()
	if kind == "mysql" {
		db := (mysqlDatabase{}).connect(w, w.db[strings.LastIndex(w.db, "/")+1:])
		defer db.Close()
		if strings.HasPrefix(statement, "CREATE TABLE") {
			statement = "SET foreign_key_checks = 0; " + statement
		}
		_, err := db.Exec(statement)
		return err == nil
	}
	conn := (postgresSchema{}).connect(w, w.db)
	defer conn.Close(context.Background())
	_, err := conn.Exec(context.Background(), statement)
	return err == nil
}

// everyCommand runs all commands on whatever tables there are.
func (w *world) everyCommand(script string, random *rand.Rand) {
	w.Helper()
	w.write("berth.csv", "id,code,name\n1,N1,North\n2,N2,\n")
	w.write("call.csv", "id,berth_code,berth_id,a,b,at\n1,N1,1,1,1,2026-03-01\n")
	w.write("a.ladle.yaml", "ladle: 1\ninputs: {in: {file: berth.csv}}\ntables: {berth: {from: in, key: code, "+
		"already_there: update, columns: {code: code}}}\nset_aside_limit: any\n")
	lines := []string{"tables", "tables --html t.html", "tables --diagram", "tables --json",
		"draft berth.csv call.csv -o d.ladle.yaml --replace",
		"try d.ladle.yaml", "load d.ladle.yaml --yes", "load a.ladle.yaml --yes", "verify a.ladle.yaml", "runs",
		"verify 1",
		"undo 1 --yes"}
	for _, table := range []string{"berth", "call", "cargo", "pilot"} {
		lines = append(lines, "tables --table "+table)
	}
	for _, line := range lines {
		r := w.run(append(strings.Fields(line), "--db", w.db)...)
		require.NotContains(w, r.stdout+r.stderr, "ladle itself has a fault", "%s\n%s", script, line)
		require.NotContains(w, r.stderr, "goroutine ", "%s\n%s", script, line)
		require.LessOrEqual(w, r.status, 4, "%s\n%s\n%s", script, line, r.stderr)
	}
}
