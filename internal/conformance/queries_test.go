package conformance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const oldRegister = "CREATE TABLE flag_state (id ID, name WORD NOT NULL UNIQUE);\n" +
	"CREATE TABLE old_register (id ID, reg_no WORD NOT NULL UNIQUE, flag WORD, tons AMOUNT, surveyed DATE, flag_id " +
	"INT REFERENCES flag_state(id));\nINSERT INTO flag_state (name) VALUES ('Norway');\n" +
	"INSERT INTO old_register (reg_no, flag, tons, surveyed) VALUES ('PM-1', 'Norway', 12.5, '2026-01-05'), " +
	"('PM-2', 'Denmark', NULL, NULL), ('PM-3', NULL, 7, '2026-02-01'), ('PM-4', 'Denmark', 8.25, NULL);"

const relinkFile = `ladle: 1
inputs:
  register:
    query: SELECT reg_no, flag FROM old_register WHERE flag IS NOT NULL
tables:
  old_register:
    from: register
    key: reg_no
    already_there: update
    not_there: set_aside
    columns:
      reg_no: reg_no
      flag_id: {from: flag, lookup: flag_state.name, not_found: add}
checks:
  - claim: no flag is lost
    no_rows: SELECT r.reg_no FROM old_register r LEFT JOIN flag_state f ON f.id = r.flag_id WHERE r.flag IS NOT NULL AND (f.name IS NULL OR f.name <> r.flag)
`

// TestRelinking: a text column of rows that are there becomes a lookup table and a foreign key, with proof, and can be
// taken back.
func TestRelinking(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, oldRegister)
		w.write("f.ladle.yaml", relinkFile)
		tried := w.run("try", "f.ladle.yaml", "--db", w.db)
		require.Equal(t, 0, tried.status, tried.stdout+tried.stderr)
		const query = "SELECT reg_no, f.name FROM old_register r LEFT JOIN flag_state f ON f.id = flag_id ORDER BY " +
			"reg_no"
		assert.Equal(t, []string{"PM-1|NULL", "PM-2|NULL", "PM-3|NULL", "PM-4|NULL"}, w.query(query))
		doc, r := w.load("load")
		require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{"PM-1|Norway", "PM-2|Denmark", "PM-3|NULL", "PM-4|Denmark"}, w.query(query))
		again, r := w.load("load")
		require.Equal(t, 0, r.status, r.stderr+string(again.Why))
		assert.Equal(t, []string{"2"}, w.query("SELECT count(*) FROM flag_state"))
		same := w.run("verify", "f.ladle.yaml", "--db", w.db)
		assert.Contains(t, unwrap(same.stdout), "old_register register 3 3 0 0 1 reg_no",
			"the row that the query leaves out is extra")
		undone := w.run("undo", "1", "--db", w.db, "--yes")
		require.Equal(t, 0, undone.status, undone.stdout+undone.stderr)
		assert.Equal(t, []string{"PM-1|NULL", "PM-2|NULL", "PM-3|NULL", "PM-4|NULL"}, w.query(query))
		assert.Equal(t, []string{"Norway"}, w.query("SELECT name FROM flag_state"))
	})
}

// TestRowsOfAnotherDatabase: of any engine into any other, texts with whatever is in them, numbers and dates.
func TestRowsOfAnotherDatabase(t *testing.T) {
	odd := strings.ReplaceAll(oldRegister, "'PM-4', 'Denmark'", "'PM-4', 'Den, \"mark\"'")
	everywhere(t, func(t *testing.T, on server) {
		from := newWorld(t, on, odd)
		for kind, other := range servers {
			if other == on && kind != "sqlite" {
				continue // one schema a server
			}
			t.Run("into "+kind, func(t *testing.T) {
				w := newWorld(t, other, "CREATE TABLE vessel (id ID, reg_no WORD NOT NULL UNIQUE, flag WORD, tons "+
					"AMOUNT, surveyed DATE);")
				w.write("f.ladle.yaml", "ladle: 1\ninputs:\n  old:\n    query: SELECT reg_no, flag, tons, surveyed "+
					"FROM old_register\n"+
					"    database: archive\ntables:\n  vessel:\n    from: old\n    key: reg_no\n    columns: "+
					"{reg_no: reg_no, flag: flag, tons: tons, surveyed: surveyed}\n")
				r := w.run("load", "f.ladle.yaml", "--db", w.db, "--other-db", "archive="+from.url(), "--yes")
				require.Equal(t, 0, r.status, r.stdout+r.stderr)
				assert.Equal(t, []string{"PM-1|Norway|12.5|2026-01-05", "PM-2|Denmark|NULL|NULL",
					"PM-3|NULL|7|2026-02-01",
					`PM-4|Den, "mark"|8.25|NULL`}, w.query("SELECT reg_no, flag, tons, surveyed FROM vessel ORDER "+
					"BY reg_no"))
				same := w.run("verify", "f.ladle.yaml", "--db", w.db, "--other-db", "archive="+from.url())
				assert.Equal(t, 0, same.status, same.stdout+same.stderr)
			})
		}
	})
}

const likeTables = "CREATE TABLE tugs (id ID, reg_no WORD NOT NULL UNIQUE, name WORD);\n" +
	"CREATE TABLE ferries (name WORD, id ID, reg_no WORD NOT NULL UNIQUE);\n" +
	"CREATE TABLE tow (id ID, tug_id INT NOT NULL, day DATE NOT NULL);\n" +
	"CREATE TABLE kind (id ID, name WORD NOT NULL UNIQUE);\n" +
	"CREATE TABLE vessel (id ID, reg_no WORD NOT NULL UNIQUE, name WORD, kind_id INT NOT NULL REFERENCES kind(id));\n" +
	"CREATE TABLE job (id ID, vessel_id INT NOT NULL REFERENCES vessel(id), day DATE NOT NULL, UNIQUE (vessel_id, " +
	"day));\nINSERT INTO ferries (name, reg_no) VALUES ('Swift', 'F1'), ('Sweet', 'F2');\n" +
	"INSERT INTO tugs (reg_no, name) VALUES ('T1', 'Strong'), ('T2', 'Stout');\n" +
	"INSERT INTO tow (tug_id, day) VALUES (2, '2026-01-01'), (1, '2026-01-02'), (2, '2026-01-03');"

// TestTablesAreConsolidated: like tables become one with a kind, and their children find the rows by their old ids.
func TestTablesAreConsolidated(t *testing.T) {
	const file = `ladle: 1
inputs:
  old:
    table: [tugs, ferries]
    new_columns: {Kind: table_name(), Old: {join: [Kind, id], between: ' '}}
  tows:
    table: tow
    new_columns: {Kind: '"tugs"', Old: {join: [Kind, tug_id], between: ' '}}
tables:
  vessel:
    from: old
    key: reg_no
    columns: {reg_no: reg_no, name: name, kind_id: {from: Kind, lookup: kind.name, not_found: add}}
  job:
    from: tows
    key: [vessel_id, day]
    columns: {vessel_id: {lookup: {block: vessel, by_old_id: {there: Old, here: Old}}}, day: day}
`
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, likeTables)
		w.write("f.ladle.yaml", file)
		doc, r := w.load("load")
		require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{"F1|Swift|ferries", "F2|Sweet|ferries", "T1|Strong|tugs", "T2|Stout|tugs"},
			w.query("SELECT reg_no, v.name, k.name FROM vessel v JOIN kind k ON k.id = kind_id ORDER BY reg_no"))
		assert.Equal(t, []string{"T2|2026-01-01", "T1|2026-01-02", "T2|2026-01-03"},
			w.query("SELECT reg_no, day FROM job JOIN vessel v ON v.id = vessel_id ORDER BY day"))
		again, r := w.load("load")
		require.Equal(t, 0, r.status, r.stderr+string(again.Why))
		assert.Equal(t, []string{"4|3"}, w.query("SELECT (SELECT count(*) FROM vessel), (SELECT count(*) FROM job)"))
		undone := w.run("undo", "1", "--db", w.db, "--yes")
		require.Equal(t, 0, undone.status, undone.stdout+undone.stderr)
		assert.Equal(t, []string{"0|0|0"}, w.query("SELECT (SELECT count(*) FROM vessel), (SELECT count(*) FROM "+
			"job), (SELECT count(*) FROM kind)"))
	})
}

// TestQueriesThatCantBeInputs: what is wrong is said at its place, and nothing is changed.
func TestQueriesThatCantBeInputs(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, oldRegister)
		block := "tables: {old_register: {from: in, key: reg_no, columns: {reg_no: reg_no, flag: flag}}}\n"
		for _, c := range []struct {
			name, input, says string
			status            int
		}{
			{"one that writes", "query: DELETE FROM old_register", "f.ladle.yaml:2:22: the query of the input in " +
				"can't be run", 2},
			{"two of them", "query: SELECT 1 AS reg_no; DELETE FROM old_register",
				"the query of the input in can't be run", 2},
			{"none", "query: reg_no", "the query of the input in can't be run", 2},
			{"blank", "query: ' '", "query: has no value", 2},
			{"a table that isn't there", "query: SELECT reg_no FROM nowhere", "nowhere", 2},
			{"two columns of one name", "query: 'SELECT reg_no, reg_no FROM old_register'", "of its columns", 2},
			{"without a column", "query: SELECT reg_no FROM old_register", `no column "flag"`, 2},
			{"without a row and a column", "query: SELECT reg_no FROM old_register WHERE 1 = 0", `no column "flag"`, 2},
			{"a file besides", "query: SELECT 1, file: in.csv", "in has more than one of file:, query: and table:", 2},
			{"a way to read", "query: SELECT 1, header: 1", "in is not read like a file, since it comes from a " +
				"database", 2},
			{"a table that isn't there, by name", "table: old_registr", `did you mean "old_register"?`, 2},
			{"tables with other columns", "table: [old_register, flag_state]",
				"its columns are id, name, those of the first table", 2},
			{"a query and a table", "query: SELECT 1, table: old_register", "more than one of file:, query: and table:",
				2},
			{"a database for a file", "file: in.csv, database: archive", "database: goes with query: or table:", 2},
			{"a database nobody names", "query: SELECT 1, database: archive",
				`it isn't said which database is called "archive"`, 2},
		} {
			t.Run(c.name, func(t *testing.T) {
				w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {"+c.input+"}}\n"+block)
				r := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
				assert.Equal(t, c.status, r.status, r.stdout+r.stderr)
				assert.Contains(t, r.stderr, c.says)
				assert.Equal(t, []string{"4"}, w.query("SELECT count(*) FROM old_register"))
			})
		}
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {query: 'SELECT reg_no, flag FROM old_register WHERE 1 = "+
			"0'}}\n"+block)
		empty := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
		assert.Equal(t, 0, empty.status, "no rows are no error: "+empty.stdout+empty.stderr)
		assert.Equal(t, 2, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--other-db", "archive").status)
		for _, command := range []string{"survey", "prepare", "look"} {
			arguments := []string{command, "f.ladle.yaml"}
			if command == "prepare" {
				arguments = append(arguments, "-o", "out")
			}
			r := w.run(arguments...)
			assert.Equal(t, 2, r.status, r.stdout+r.stderr)
			assert.Contains(t, r.stderr, "the input in comes from a database, and none is named")
			shown := w.run(append(arguments, "--db", w.db)...)
			assert.Equal(t, 0, shown.status, shown.stdout+shown.stderr)
		}
		assert.Equal(t, "reg_no,flag\r\n", w.read("out/in.csv"))
	})
}

// TestLinesOfQueriesAreSetAside: with the number of their row, and can be corrected like those of files.
func TestLinesOfQueriesAreSetAside(t *testing.T) {
	w := newWorld(t, sqliteFile{}, oldRegister)
	w.write("f.ladle.yaml", "ladle: 1\nset_aside_limit: any\ninputs: {old: {query: 'SELECT reg_no AS no, flag FROM "+
		"old_register ORDER BY reg_no'}}\n"+
		"tables: {old_register: {from: old, key: reg_no, already_there: update, columns: {reg_no: no, flag_id: "+
		"{from: flag, lookup: flag_state.name}}}}\n")
	r := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
	require.Equal(t, 4, r.status, r.stderr)
	assert.Contains(t, r.stdout, `query old, row 2 "Denmark", query old, row 4 "Denmark"`)
	aside := w.read("old.set-aside.csv")
	assert.Contains(t, aside, "lines of query old set aside by ladle")
	assert.Contains(t, aside, "\n2,")
	w.write("old.set-aside.csv", strings.ReplaceAll(aside, "PM-2,Denmark", "PM-2,Norway"))
	again := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--corrected", "old.set-aside.csv")
	require.Equal(t, 4, again.status, again.stdout+again.stderr)
	assert.Equal(t, []string{"PM-1", "PM-2"}, w.query("SELECT reg_no FROM old_register WHERE flag_id IS NOT NULL "+
		"ORDER BY 1"))
}

// url is the database as other commands name it.
func (w *world) url() string {
	if _, file := w.server.(sqliteFile); file {
		return w.path(w.db)
	}
	return w.db
}

// TestQueriesAreSurveyedAndDrafted: rows of a database are described like files, and a draft names the query.
func TestQueriesAreSurveyedAndDrafted(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, oldRegister)
		const query = "SELECT reg_no, flag FROM old_register WHERE flag IS NOT NULL"
		r := w.run("survey", "--db", w.db, "--query", query, "--table", "flag_state", "--json")
		require.Equal(t, 0, r.status, r.stderr)
		var doc struct {
			Inputs []struct {
				Format struct{ File, Type string }
				Rows   int64 `json:"row_count"`
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
		require.Len(t, doc.Inputs, 2)
		assert.Equal(t, "query rows 3, table flag_state rows 1", fmt.Sprintf("%s %s %d, %s %s %d",
			doc.Inputs[0].Format.File,
			doc.Inputs[0].Format.Type, doc.Inputs[0].Rows, doc.Inputs[1].Format.File, doc.Inputs[1].Format.Type,
			doc.Inputs[1].Rows))
		shown := w.run("survey", "--db", w.db, "--query", query)
		assert.Contains(t, shown.stdout, "query: 3 rows, 2 columns\n  rows of a database\n")
		made := w.run("draft", "--db", w.db, "--query", query, "--table", "old_register", "-o", "f.ladle.yaml")
		require.Equal(t, 0, made.status, made.stderr)
		assert.Contains(t, w.read("f.ladle.yaml"), "  query:\n    query: "+query+"\n")
		tried := w.run("try", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 0, tried.status, tried.stdout+tried.stderr)
		for arguments, says := range map[string]string{"survey --query x --db " + w.db: "the query can't be run",
			"survey --query x":                    "none is named",
			"survey --table nowhere --db " + w.db: "no table of that name", "survey": "survey needs a file",
			"draft --query x --db " + w.db: "can't be run"} {
			r := w.run(strings.Fields(arguments)...)
			assert.Equal(t, 2, r.status, arguments+r.stderr)
			assert.Contains(t, r.stderr, says)
		}
	})
}
