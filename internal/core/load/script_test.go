package load_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	zombie "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/engine"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
)

// scripted writes a load of files as a script, for tables made by statements.
func scripted(t *testing.T, statements, ladle string, files map[string]string, standard bool) (string, *report.Report,
	error) {
	t.Helper()
	dir := t.TempDir()
	for name, content := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644))
	}
	path := filepath.Join(dir, "db")
	conn, err := zombie.OpenConn(path, zombie.OpenReadWrite, zombie.OpenCreate)
	require.NoError(t, err)
	require.NoError(t, sqlitex.ExecuteScript(conn, statements, nil))
	require.NoError(t, conn.Close())
	db, err := sqlite.Open(path, engine.UsualWaits)
	require.NoError(t, err)
	defer db.Close()
	f, err := ladlefile.Decode(filepath.Join(dir, "f.ladle.yaml"), []byte(ladle))
	require.NoError(t, err)
	var out strings.Builder
	r, err := load.Run(context.Background(), f, db, load.Options{Try: true, Removal: true, Program: "1.0",
		Script: &load.Script{To: &out, Path: "season's load.sql", Standard: standard}})
	return strings.ReplaceAll(out.String(), dir+string(filepath.Separator), ""), r, err
}

const quays = `
	CREATE TABLE quay (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT);
	CREATE TABLE berth (id INTEGER PRIMARY KEY, quay_id INTEGER NOT NULL REFERENCES quay (id), no INTEGER NOT NULL, depth REAL,
		next_id INTEGER REFERENCES berth (id), UNIQUE (quay_id, no));
	CREATE TABLE mooring (id INTEGER PRIMARY KEY, berth_id INTEGER REFERENCES berth (id), vessel TEXT);
	INSERT INTO quay VALUES (4, 'N', 'North'), (7, 'S', 'South');
	INSERT INTO berth VALUES (2, 4, 1, 9.5, NULL), (3, 4, 2, 9, 2), (5, 7, 1, 6, NULL);
	INSERT INTO mooring VALUES (1, 2, 'Tern');
`

// part is the lines of a script behind a comment, up to the next empty line.
func part(t *testing.T, script, behind string) string {
	t.Helper()
	_, rest, found := strings.Cut(script, "-- "+behind)
	require.True(t, found, "%s is not in\n%s", behind, script)
	_, rest, _ = strings.Cut(rest, "\n")
	rest, _, _ = strings.Cut(rest, "\n\n")
	return rest
}

func TestScripts(t *testing.T) {
	ladle := `ladle: 1
inputs: {in: {file: in.csv}, calls: {file: calls.csv}}
tables:
  berth:
    from: in
    key: [quay_id, no]
    already_there: update
    gone_from_file: {remove: yes, at_most: 100%}
    columns: {quay_id: {from: Quay, lookup: quay.code, not_found: add}, no: No, depth: Depth}
  mooring: {from: calls, key: none, columns: {berth_id: {lookup: {table: berth, by: {quay_id: {from: Q, lookup: quay.code}, no: N}}}, vessel: V}}
checks:
- {claim: no berth is dry, no_rows: select id from berth where depth <= 0 -- dry}
- {claim: nothing is nothing, equal: ["select sum(depth) from berth where no > 99", "select 0"]}
- {claim: the first quay, equal: [select min(code) from quay, select 'E']}
- {claim: all quays, equal: [select code from quay order by code, "select 'E' union all select 'N' union all select 'S'"]}
`
	script, r, err := scripted(t, quays, ladle, map[string]string{"in.csv": "Quay,No,Depth\nN,1,8.5\nS,1,6\nE,1,4\n",
		"calls.csv": "Q,N,V\nE,1,Skua\nN,1,Auk\n"}, false)
	require.NoError(t, err)
	require.Equal(t, report.Tried, r.Outcome, r.Why)
	assert.Contains(t, script, "-- Run it with: "+strings.ReplaceAll(r.RunWith, filepath.Dir(strings.Fields(r.RunWith)[1])+"/", ""))
	assert.True(t, strings.HasSuffix(r.RunWith, `/db < 'season'\''s load.sql'`), r.RunWith)

	assert.Equal(t, `(-1, 'N');`, lastLine(part(t, script, "Rows of quay that are there, by code"), "INSERT INTO ladle_key_1_rows"),
		"only rows that are referred to are looked for, and by a key that people know")
	keys := part(t, script, "Rows of berth that are there, by quay_id, no")
	assert.Contains(t, keys, "JOIN \"berth\" ON \"berth\".\"quay_id\" = k1.id AND \"berth\".\"no\" = s.\"key_2\"",
		"a key that has an id is found by what that stands for")
	assert.Contains(t, part(t, script, "Rows updated in berth by the block berth: the key"), "(-2, 9.5, 8.5)")
	assert.Contains(t, part(t, script, "Rows removed from berth by the block berth, with their values"), "(-1, -1, -1, 2, 9.0)",
		"a row that goes is told whole")
	assert.Contains(t, part(t, script, "Rows made ready for their removal in berth by the block berth: the key"), "(-1, -2, NULL)",
		"but for what is emptied before, since it refers to rows of the same table")
	assert.Equal(t, `INSERT INTO "quay" ("id", "code") VALUES`+"\n(@ladle_last_1 + 1, 'E');",
		part(t, script, "Rows added to quay, for lookups by code"), "what a lookup adds refers to nothing")
	added := part(t, script, "Rows added to berth by the block berth")
	assert.Contains(t, added, "-- in.csv, line 4\n")
	assert.Contains(t, added, "(1, 1, 1, 4.0, 0)")
	assert.Contains(t, added, `s."id" + @ladle_last_2, CASE WHEN s."quay_id" < 0 THEN k1.id ELSE s."quay_id" + @ladle_last_1 END`)
	moored := part(t, script, "Rows added to mooring by the block mooring")
	assert.Contains(t, moored, "-- calls.csv, lines 2 to 3\n")
	assert.Contains(t, moored, "(1, 1, 'Skua', 0),\n(2, -2, 'Auk', 1);")

	for _, guard := range []string{"quay no longer has the 2 rows", "berth no longer has the 3 rows",
		"of the 2 rows of berth to which this script refers by quay_id, no, one or more are missing",
		"rows of berth that this script updates have been changed since it was written (depth)", "rows of berth that this script removes have been changed",
		"berth would not have the expected 3 rows", "berth.next_id would refer to rows of berth", "check failed: no berth is dry"} {
		assert.Contains(t, script, guard)
	}
	assert.Contains(t, script, "-- dry\n)", "what stands behind a query that ends with a comment is no part of it")
	flat := strings.Join(strings.Fields(script), " ")
	assert.Contains(t, flat, "CASE WHEN COALESCE((select sum(depth) from berth where no > 99 ), 0) = COALESCE((select 0 ), 0) "+
		"THEN 0 ELSE 1 END = 1", "a sum that is NULL later is 0, and not passed over")
	assert.Contains(t, flat, "CASE WHEN (select min(code) from quay ) = (select 'E' ) THEN 0 ELSE 1 END = 1")
	assert.Contains(t, flat, "<> (SELECT COUNT(*) FROM (select 'E' union all")
	begins, ends := strings.Index(script, "BEGIN IMMEDIATE;"), strings.Index(script, "COMMIT;")
	assert.Less(t, strings.Index(script, "no longer has"), strings.Index(script, "INSERT INTO \"quay\""), "guards come first")
	assert.Less(t, begins, strings.Index(script, "CREATE TEMPORARY"))
	assert.Equal(t, "COMMIT;\n", script[ends:])
}

// lastLine is the line behind the one that begins so.
func lastLine(text, begins string) string {
	_, rest, _ := strings.Cut(text, begins)
	_, rest, _ = strings.Cut(rest, "\n")
	line, _, _ := strings.Cut(rest, "\n")
	return line
}

func TestScriptsInStandardSQL(t *testing.T) {
	empty, _, _ := strings.Cut(quays, "INSERT")
	ladle := `ladle: 1
inputs: {in: {file: in.csv}, more: {file: more.csv}}
tables:
  berth:
    from: in
    key: [quay_id, no]
    already_there: fill_blanks
    columns: {quay_id: {from: Quay, lookup: quay.code}, no: No, depth: Depth, next_id: {lookup: {table: berth, by: {quay_id: {from: Quay, lookup: quay.code}, no: Next}}}}
  mooring: {from: more, key: none, columns: {vessel: V}}
checks: [{claim: no berth is dry, no_rows: select id from berth where depth <= 0 -- dry}]
`
	script, r, err := scripted(t, empty, ladle, map[string]string{"in.csv": "Quay,No,Depth,Next\nN,1,8.5,2\nN,2,,\n",
		"more.csv": "V\nit's\n\"two\nlines\"\n"}, true)
	require.NoError(t, err)
	require.Equal(t, report.Tried, r.Outcome, r.Why)
	north := "(SELECT id FROM quay WHERE code = 'N')"
	assert.Contains(t, script, "-- 1: the rows that lookups by code need are in quay\nSELECT COUNT(*) FROM quay WHERE code = 'N';")
	assert.Contains(t, script, "UPDATE berth SET depth = COALESCE(depth, 8.5) WHERE quay_id = "+north+" AND \"no\" = 1;\n"+
		"INSERT INTO berth (quay_id, \"no\", depth) SELECT "+north+", 1, 8.5 FROM (VALUES (1)) AS one (n) WHERE NOT EXISTS (SELECT 1 "+
		"FROM berth WHERE quay_id = "+north+" AND \"no\" = 1);")
	assert.Contains(t, script, "INSERT INTO berth (quay_id, \"no\", depth) SELECT "+north+", 2, CAST(NULL AS REAL) FROM")
	assert.Contains(t, script, "UPDATE berth SET next_id = COALESCE(next_id, (SELECT id FROM berth WHERE quay_id = "+north+
		" AND \"no\" = 2)) WHERE quay_id = "+north+" AND \"no\" = 1;", "a reference to the table itself comes second")
	assert.Contains(t, script, "INSERT INTO mooring (vessel) VALUES ('it''s');\nINSERT INTO mooring (vessel) VALUES "+
		`(U&'two\000Alines');`)
	assert.NotContains(t, script, "COMMIT;", "a person commits")
	assert.Contains(t, script, "-- no rows: no berth is dry\nselect id from berth where depth <= 0 -- dry\n;\n")
	_, _, err = scripted(t, empty+"CREATE TABLE pair (id INTEGER PRIMARY KEY, name TEXT, mooring_id INTEGER REFERENCES mooring (id));",
		`ladle: 1
inputs: {in: {file: in.csv}, more: {file: more.csv}}
tables:
  mooring: {from: in, key: none, columns: {vessel: No}}
  pair: {from: more, key: none, columns: {name: V, mooring_id: {lookup: {table: mooring, by_old_id: {here: V, there: No}}}}}
`, map[string]string{"in.csv": "No\n1\n", "more.csv": "V\n1\n"}, true)
	assert.ErrorContains(t, err, "refers by old ids to rows that have no key")
	assert.Contains(t, r.Notes[len(r.Notes)-1], "judged without the rows that are there")

	for change, says := range map[string]string{
		"already_there: set_aside":                     "has already_there: set_aside",
		"not_there: leave_out":                         "has not_there:",
		"gone_from_file: {remove: yes, at_most: 100%}": "has gone_from_file:",
	} {
		_, _, err := scripted(t, empty, strings.Replace(ladle, "already_there: fill_blanks", change, 1),
			map[string]string{"in.csv": "Quay,No,Depth,Next\n", "more.csv": "V\n"}, true)
		require.Error(t, err, change)
		assert.Contains(t, err.Error(), says)
		assert.Contains(t, err.Error(), "f.ladle.yaml:4:3", "with its place")
	}
}
