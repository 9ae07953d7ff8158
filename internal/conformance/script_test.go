package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

// otherPort is the port with other ids.
var otherPort = strings.NewReplacer("(1, 'Norway'), (2, 'Denmark')", "(12, 'Denmark'), (31, 'Norway')",
	"(7, 'A1', 'Heron', 1,", "(40, 'A1', 'Heron', 31,", "VALUES (3, 7,", "VALUES (50, 40,").Replace(port)

// TestScript: a script changes nothing when it is written, gives the same rows wherever it is run, and stops with a
// sentence where the rows are not those that it was written for.
func TestScript(t *testing.T) {
	const ladle = `ladle: 1
inputs: {in: {file: in.csv}, calls: {file: calls.csv}}
tables:
  vessel:
    from: in
    key: reg_no
    already_there: update
    columns: {reg_no: Reg, name: Name, gt: GT, flag_id: {from: Flag, lookup: flag.name, not_found: add}}
  port_call:
    from: calls
    key: [vessel_id, arrived]
    columns: {vessel_id: {from: Reg, lookup: vessel.reg_no}, arrived: At, dues: Dues}
checks:
- claim: dues are not negative
  no_rows: select id from port_call where dues < 0
- claim: dues add up
  equal: [{sum: Dues, input: calls}, select sum(dues) from port_call]
`
	names := []string{"Skua", "it's", `back\slash`, "two\nlines", "tab\there", "$ladle$", "-- ; //", "Smörgås 🚢", "@x :y"}
	fill := func(w *world) {
		in, calls := "Reg,Name,GT,Flag\nA1,Heron II,101,Denmark\n", "Reg,At,Dues\nA1,2026-02-01 10:00,12.5\n"
		for i, name := range names {
			in += fmt.Sprintf("B%d,\"%s\",12.0,Norway\n", i, name)
			calls += fmt.Sprintf("B%d,2026-02-02 11:0%d,%d\n", i, i, i)
		}
		w.write("in.csv", in+"C1,Tern,3,Iceland\n")
		w.write("calls.csv", calls)
		w.write("f.ladle.yaml", ladle)
	}
	const rows = "SELECT v.reg_no, v.name, f.name, c.arrived, c.dues FROM vessel v JOIN flag f ON f.id = v.flag_id " +
		"LEFT JOIN port_call c ON c.vessel_id = v.id ORDER BY v.reg_no, c.arrived"
	everywhere(t, func(t *testing.T, on server) {
		alone(t, on)
		w := newWorld(t, on, port)
		if !w.canCopy() {
			t.Skip("pg_dump is older than the server")
		}
		fill(w)
		before := w.dump()
		r := w.run("script", "f.ladle.yaml", "--db", w.db, "-o", "s.sql")
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Equal(t, before, w.dump())
		script := w.read("s.sql")
		assert.Contains(t, script, "in.csv, lines 3 to 13")
		doc, out := w.load("load")
		require.Equal(t, 0, doc.Status, out.stdout)
		loaded := w.query(rows)

		r = w.run("script", "f.ladle.yaml", "-o", "u.sql", "--unrehearsed", "--for", "standard", "--tables", "x.xlsx")
		assert.Contains(t, r.stderr, "--for standard rehearses nothing")

		elsewhere := func(script, text string) *world {
			other := newWorld(t, on, text)
			if on == servers["postgres"] { // where a schema stands for a database
				script = strings.ReplaceAll(script, w.schema(), other.schema())
			}
			other.write("s.sql", script)
			return other
		}
		other := elsewhere(script, otherPort)
		said, err := other.client(other, "s.sql")
		require.NoError(t, err, said)
		assert.Equal(t, loaded, other.query(rows))
		again := other.dump()
		said, err = other.client(other, "s.sql")
		require.Error(t, err)
		assert.Contains(t, said, "no longer has the")
		assert.Equal(t, again, other.dump(), "run again, it adds nothing")

		for _, c := range []struct{ change, says string }{
			{"DELETE FROM port_call", "port_call no longer has the 1 row that this script was written for"},
			{"UPDATE flag SET name = 'Norge' WHERE name = 'Norway'",
				"of the 2 rows of flag to which this script refers by name, one or more are missing"},
			{"UPDATE vessel SET reg_no = 'A2'", "the row of vessel to which this script refers by reg_no is missing"},
			{"UPDATE vessel SET gt = 99", "rows of vessel that this script updates have been changed since it was written (name, gt, flag_id)"},
			{"UPDATE port_call SET dues = -1", "check failed: dues are not negative"},
			{"UPDATE port_call SET dues = 1", "check failed: dues add up"},
			{"INSERT INTO port_call (vessel_id, arrived) SELECT id, '2026-02-01 10:00:00' FROM vessel; DELETE FROM port_call " +
				"WHERE arrived < '2026-01-15'", ""},
		} {
			changed := elsewhere(script, otherPort+c.change)
			before := changed.dump()
			said, err := changed.client(changed, "s.sql")
			require.Error(t, err, c.change)
			assert.Contains(t, said, c.says)
			assert.Equal(t, before, changed.dump(), c.change)
		}

		w.write("in.csv", "Reg,Name,GT,Flag\nD1,Tern,-3,Iceland\n")
		r = w.run("script", "f.ladle.yaml", "--db", w.db, "-o", "s.sql", "--replace")
		assert.Equal(t, 1, r.status, r.stdout+r.stderr)
		assert.Equal(t, script, w.read("s.sql"), "what is refused is not written")
		r = w.run("script", "f.ladle.yaml", "--db", w.db, "-o", "in.csv", "--replace")
		assert.Equal(t, 2, r.status, r.stdout+r.stderr)
	})
}

// TestStandardScript: PostgreSQL takes a script in standard SQL, written without it from a workbook of its tables, and has
// the same rows then as after a load, but for ids; each query of the script gives the answer that stands before it.
func TestStandardScript(t *testing.T) {
	const rows = "SELECT v.reg_no, v.name, f.name, v.gt, c.arrived, c.dues, c.paid FROM vessel v LEFT JOIN flag f ON f.id = " +
		"v.flag_id LEFT JOIN port_call c ON c.vessel_id = v.id ORDER BY v.reg_no, c.arrived"
	worlds := make([]*world, 2)
	for i := range worlds {
		w := newWorld(t, postgresSchema{}, port+"ALTER TABLE flag ALTER id RESTART WITH 9; ALTER TABLE vessel ALTER id "+
			"RESTART WITH 9; ALTER TABLE port_call ALTER id RESTART WITH 9; INSERT INTO vessel VALUES (8, 'Z9', 'Auk', 2, 1)")
		w.write("in.csv", "Reg,Name,GT,Flag\nA1,Heron II,101,Denmark\nB1,\"it's \\ \",12.0,Norway\nB2,\"two\nlines\",,Iceland\nB3,Auk,x,Norway\n")
		w.write("calls.csv", "Reg,At,Paid\nA1,2026-02-01 10:00,true\nB2,2026-02-02 11:00,false\nB2,2026-02-02 11:00,false\nA1,2026-01-01 10:00,\nZ9,2026-02-03 10:00,true\n")
		w.write("f.ladle.yaml", `ladle: 1
inputs: {in: {file: in.csv}, calls: {file: calls.csv}}
tables:
  vessel:
    from: in
    already_there: update
    key: reg_no
    columns: {reg_no: Reg, name: Name, gt: GT, flag_id: {from: Flag, lookup: flag.name, not_found: add}}
  port_call:
    from: calls
    key: [vessel_id, arrived]
    columns: {vessel_id: {from: Reg, lookup: vessel.reg_no}, arrived: At, paid: Paid}
set_aside_limit: 1
checks:
- {claim: nobody owes, no_rows: select id from port_call where dues > 0}
- {claim: all calls, how_many: select id from port_call, exactly: 4}
`)
		worlds[i] = w
	}
	w, loaded := worlds[0], worlds[1]
	doc, out := loaded.load("load")
	require.Equal(t, 4, doc.Status, out.stdout)
	r := w.run("dictionary", "--db", w.db, "-o", "tables.xlsx")
	require.Equal(t, 0, r.status, r.stderr)
	r = w.run("script", "f.ladle.yaml", "--for", "standard", "--tables", "tables.xlsx", "-o", "s.sql", "--json")
	require.Equal(t, 4, r.status, r.stdout+r.stderr)
	script := w.read("s.sql")
	w.write("run.sql", "\\set ON_ERROR_STOP on\n"+script+"COMMIT;\n")
	for range 2 { // the second time it adds nothing
		said, err := w.client(w, "run.sql")
		require.NoError(t, err, said)
		assert.Equal(t, loaded.query(rows), w.query(rows))
	}
	asked := regexp.MustCompile(`(?m)^-- (\d+|no rows): .*\n([^;]*);`).FindAllStringSubmatch(script, -1)
	require.Len(t, asked, 7)
	for _, q := range asked {
		answer := []string{}
		if q[1] != "no rows" {
			answer = append(answer, q[1])
		}
		assert.Equal(t, answer, w.query(q[2]), q[0])
	}
	for _, c := range []struct{ from, to, says string }{
		{"already_there: update", "already_there: set_aside", "already_there: set_aside, which takes the rows that are there"},
		{"already_there: update", "gone_from_file: {remove: yes, at_most: 5}", "has gone_from_file:"},
		{"{file: in.csv}", "{query: select 1}", "reads the database that is loaded into"},
	} {
		w.write("g.ladle.yaml", strings.Replace(w.read("f.ladle.yaml"), c.from, c.to, 1))
		r := w.run("script", "g.ladle.yaml", "--for", "standard", "--tables", "tables.xlsx", "-o", "t.sql")
		assert.Equal(t, 2, r.status, c.says)
		assert.Contains(t, r.stderr, c.says)
	}
	r = w.run("script", "f.ladle.yaml", "--for", "standard", "-o", "t.sql")
	assert.Contains(t, r.stderr, "--for standard needs the tables of the server")
	r = w.run("script", "f.ladle.yaml", "--for", "standard", "--tables", "in.csv", "-o", "t.sql")
	assert.Contains(t, r.stderr, "not a workbook")
}

// TestUnrehearsedScripts: they do what the load does; what only the database rejects stops them, and what they can't do is
// refused.
func TestUnrehearsedScripts(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		alone(t, on)
		w := newWorld(t, on, port+"CREATE TABLE quay (id ID, code VARCHAR(9) NOT NULL UNIQUE, next_id INTEGER REFERENCES quay (id));")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {vessel: {from: in, key: reg_no, already_there: "+
			"update, gone_from_file: {remove: yes, at_most: 9}, columns: {reg_no: Reg, name: Name, gt: GT, flag_id: {from: Flag, lookup: flag.name, "+
			"not_found: add}}}}\nchecks: [{claim: named, no_rows: \"select id from vessel where name = ''\"}]\n")
		script := func() result {
			return w.run("script", "f.ladle.yaml", "--db", w.db, "-o", "u.sql", "--unrehearsed", "--replace", "--allow-removal")
		}
		w.write("in.csv", "Reg,Name,GT,Flag\nA1,Heron II,101,Denmark\nB1,Skua,12,Norway\nB2,Tern,12,Iceland\n")
		before := w.dump()
		r := script()
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Contains(t, r.stdout, "judged, and not rehearsed")
		assert.Equal(t, before, w.dump())
		written, wanted := w.read("u.sql"), newWorld(t, on, port)
		wanted.write("f.ladle.yaml", w.read("f.ladle.yaml"))
		wanted.write("in.csv", w.read("in.csv"))
		require.Equal(t, 0, wanted.run("load", "f.ladle.yaml", "--db", wanted.db, "--yes", "--allow-removal").status)
		said, err := w.client(w, "u.sql")
		require.NoError(t, err, said+written)
		const rows = "SELECT v.reg_no, v.name, v.gt, f.name FROM vessel v JOIN flag f ON f.id = v.flag_id ORDER BY 1"
		assert.Equal(t, wanted.query(rows), w.query(rows))

		w.write("in.csv", "Reg,Name,GT,Flag\nA1,Heron III,101,Denmark\nB1,\"\",12,Norway\nB2,Tern,12,Iceland\n")
		w.write("f.ladle.yaml", strings.Replace(w.read("f.ladle.yaml"), "name = ''", "name = 'Heron III'", 1))
		require.Equal(t, 0, script().status)
		before = w.dump()
		said, err = w.client(w, "u.sql")
		require.Error(t, err, "a check of the ladle file doesn't hold")
		assert.Contains(t, said, "check failed: named")
		assert.Equal(t, before, w.dump())

		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {quay: {from: in, columns: {code: C, next_id: {from: "+
			"N, lookup: quay.code}}}}\n")
		w.write("in.csv", "C,N\nQ1,Q2\nQ2,Q1\n")
		r = script()
		assert.Equal(t, 1, r.status, r.stdout+r.stderr)
		assert.Contains(t, r.stderr, "the load changes rows of quay that it adds itself")
	})
}

// script has a load written as a script, in a copy of the folder and of the database, and runs that with the database's
// own client; what it returns compares the tables of the copy with those of the world, after the load.
func (w *world) script(more []string) (compare func()) {
	w.Helper()
	copied := *w
	copied.dir = w.TempDir()
	require.NoError(w, os.CopyFS(copied.dir, os.DirFS(w.dir)))
	judged, run, drop := w.copies(w)
	copied.db = judged
	arguments := []string{"script", "f.ladle.yaml", "--db", judged, "-o", "script.sql", "--json"}
	for i, a := range more {
		switch a {
		case "--again", "--allow-removal":
			arguments = append(arguments, a)
		case "--input", "--corrected", "--other-db":
			arguments = append(arguments, a, more[i+1])
		}
	}
	r := copied.run(arguments...)
	var doc report
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &doc), r.stdout+r.stderr)
	if doc.Outcome != "written" {
		return drop
	}
	copied.db = run
	out, err := copied.client(&copied, "script.sql")
	require.NoError(w, err, out+"\n"+copied.read("script.sql"))
	return func() {
		w.Helper()
		assert.Equal(w, w.data(), copied.data(), "the script gives the same tables as the load:\n%.20000s",
			copied.read("script.sql"))
		drop()
	}
}

func (s sqliteFile) copies(*world) (judged, run string, drop func()) { return "db", "db", func() {} }

func (s sqliteFile) client(w *world, file string) (string, error) {
	return client(w, file, "sqlite3", w.db)
}

func client(w *world, file, name string, arguments ...string) (string, error) {
	w.Helper()
	script, err := os.Open(w.path(file))
	require.NoError(w, err)
	defer script.Close()
	var out bytes.Buffer
	c := exec.Command(name, arguments...)
	c.Dir, c.Stdin, c.Stdout, c.Stderr = w.dir, script, &out, &out
	err = c.Run()
	return out.String(), err
}

// restore has a client run what a dump says.
func restore(w *world, dump []byte, name string, arguments ...string) {
	w.Helper()
	c := exec.Command(name, arguments...)
	c.Stdin = bytes.NewReader(dump)
	out, err := c.CombinedOutput()
	require.NoError(w, err, string(out))
}

// canCopy reports whether the client here can dump the database: that of PostgreSQL must be as new as the server.
func (w *world) canCopy() bool {
	if _, postgres := w.server.(postgresSchema); !postgres {
		return true
	}
	version, err := exec.Command("pg_dump", "--version").Output()
	require.NoError(w, err)
	var ours, theirs int
	_, err = fmt.Sscanf(string(version), "pg_dump (PostgreSQL) %d", &ours)
	require.NoError(w, err)
	_, err = fmt.Sscan(w.query("SELECT current_setting('server_version_num')::int / 10000")[0], &theirs)
	require.NoError(w, err)
	return ours >= theirs
}

// copies copies the schema, and those whose names begin with its own, under other names.
func (s postgresSchema) copies(w *world) (judged, run string, drop func()) {
	w.Helper()
	from, to := w.schema(), testName()
	text, err := exec.Command("pg_dump", "-n", from+"*", change(w.db, func(u *url.URL) { u.RawQuery = "" })).Output()
	require.NoError(w, err)
	text = bytes.ReplaceAll(text, []byte(from), []byte(to))
	restore(w, text, "psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", change(w.db, func(u *url.URL) { u.RawQuery = "" }))
	copied := strings.ReplaceAll(w.db, from, to)
	return copied, copied, func() {
		for _, name := range s.query(w, "SELECT nspname FROM pg_namespace WHERE nspname LIKE '"+to+"%'") {
			s.query(w, "DROP SCHEMA "+name+" CASCADE; SELECT 1")
		}
	}
}

func (s postgresSchema) client(w *world, file string) (string, error) {
	return client(w, file, "psql", "-X", w.db[:strings.Index(w.db, "?")]+"?options="+
		url.QueryEscape("-csearch_path="+w.schema()+",public"))
}

// copies copies the tables, routines and counters of the database, twice: a rehearsal moves the counters.
func (s mysqlDatabase) copies(w *world) (judged, run string, drop func()) {
	w.Helper()
	name := w.db[strings.LastIndex(w.db, "/")+1:]
	text, err := exec.Command("mariadb-dump", append(s.login(w), "--routines", "--triggers", "--single-transaction", name)...).Output()
	require.NoError(w, err)
	var names []string
	copies := make([]string, 2)
	for i := range copies {
		copied := testName()
		s.exec(w, "", "CREATE DATABASE "+copied+utf8)
		names = append(names, copied)
		restore(w, text, "mariadb", append(s.login(w), copied)...)
		copies[i] = mysqlURL() + "/" + copied
	}
	return copies[0], copies[1], func() { s.exec(w, "", "DROP DATABASE "+strings.Join(names, "; DROP DATABASE ")) }
}

// login are the options by which a client of the server logs in.
func (mysqlDatabase) login(w *world) []string {
	u, err := url.Parse(mysqlURL())
	require.NoError(w, err)
	all := []string{"--no-defaults", "-h", u.Hostname(), "-u", u.User.Username()}
	if u.Port() != "" {
		all = append(all, "-P", u.Port())
	}
	if password, given := u.User.Password(); given {
		all = append(all, "-p"+password)
	}
	return all
}

func (s mysqlDatabase) client(w *world, file string) (string, error) {
	return client(w, file, "mariadb", append(s.login(w), w.db[strings.LastIndex(w.db, "/")+1:])...)
}

// TestScriptsKeepDoubles: each double of the file is the same to the last bit in what a script and a load write.
func TestScriptsKeepDoubles(t *testing.T) {
	types := map[string]string{"sqlite": "REAL", "postgres": "double precision", "mysql": "DOUBLE"}
	r := seeded.Rand(t)
	lines := "N,X\n0,0\n1,-0.1\n2,1.7976931348623157e19\n3,5e-19\n4,392837.55775851407\n5,0.31158776221490602\n"
	for i := 6; i < 400; i++ {
		lines += fmt.Sprintf("%d,%s\n", i, strconv.FormatFloat((r.Float64()-0.5)*math.Pow(10, float64(r.IntN(30)-15)), 'g', -1, 64))
	}
	everywhere(t, func(t *testing.T, on server) {
		for name, kind := range types {
			if servers[name] == on {
				w := newWorld(t, on, "CREATE TABLE depth (n INTEGER PRIMARY KEY, x "+kind+")")
				w.write("in.csv", lines)
				w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {depth: {from: "+
					"in, key: n, columns: {n: N, x: X}}}\nset_aside_limit: 5\n")
				doc, out := w.load("load") // which holds it against the script
				require.Equal(t, "loaded", doc.Outcome, out.stdout)
				assert.Equal(t, []string{"1"}, w.query("SELECT CASE WHEN count(*) > 394 THEN 1 ELSE 0 END FROM depth"))
			}
		}
	})
}

// TestScriptsUpdateRowsOnce: a row that one block has written is not written again by another one, so that what a script
// says of its old values holds.
func TestScriptsUpdateRowsOnce(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("in.csv", "Reg,Name\nA1,Tern\nB1,Skua\n")
		w.write("more.csv", "Reg,Name\nA1,Auk\nB1,Gull\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}, more: {file: more.csv}}\ntables:\n  vessel: {from: in, key: "+
			"reg_no, already_there: update, columns: {reg_no: Reg, name: Name}}\n  vessel_again: {into: vessel, from: more, key: reg_no, "+
			"already_there: update, columns: {reg_no: Reg, name: Name}}\n")
		doc, out := w.load("load") // which holds it against the script
		require.Equal(t, 0, doc.Status, out.stdout)
		assert.Equal(t, []string{"A1|Tern", "B1|Skua"}, w.query("SELECT reg_no, name FROM vessel ORDER BY reg_no"))
	})
}
