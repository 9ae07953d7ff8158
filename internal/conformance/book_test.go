package conformance

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// do runs a statement of the database itself, as another program would.
func (w *world) do(statement string) {
	w.Helper()
	w.server.query(w, statement)
}

const fleetLadle = "ladle: 1\ninputs: {in: {file: in.csv}, stays: {file: stays.csv}}\ntables:\n  vessel: {from: in, " +
	"key: reg, already_there: update, gone_from_file: {remove: yes, at_most: 50%}, columns: {reg: R, name: N, " +
	"kind_id: {from: K, lookup: kind.name, not_found: add}}}\n  stay: {from: stays, columns: {vessel_id: {from: V, " +
	"lookup: vessel.reg}, day: D}}\n"

// loadedFleet is a database with one run: two kinds, a vessel of one of them and a stay added, a vessel updated, another removed.
func loadedFleet(t *testing.T, on server) (w *world, before string) {
	w = newWorld(t, on, fleet)
	w.write("in.csv", "R,N,K\nA1,Heron,Tug\nA2,Gannet,Barge\nA4,Rail,Yawl\n")
	w.write("stays.csv", "V,D\nA4,2026-02-01\nA2,2026-02-02\n")
	w.write("f.ladle.yaml", fleetLadle)
	before = w.data()
	doc, out := w.load("load", "--allow-removal")
	require.Equal(t, 0, doc.Status, out.stdout)
	require.Equal(t, []string{"vessel: 3, 1 added, 1 updated, 1 unchanged, 1 removed", "stay: 2, 2 added"},
		doc.accounts())
	return w, before
}

// TestWhatBecameOfARun: what stands in the way of taking it back is named, verify tells of it too, and nothing is
// changed.
func TestWhatBecameOfARun(t *testing.T) {
	const vessel = "(SELECT id FROM vessel WHERE reg = 'A4')"
	cases := []struct {
		name, since     string
		problem, why    string
		verify, compare int // the exit status of verify with the run, and with the file
		differs         string
	}{
		{name: "nothing"},
		{name: "a row of before was changed in another way", since: "UPDATE vessel SET gt = 3 WHERE reg = 'A1'"},
		{name: "a row that was added was changed", since: "UPDATE vessel SET flag = 'IS' WHERE reg = 'A4'", verify: 1,
			problem: "vessel id 4 has been changed since", why: "1 has been changed since"},
		{name: "a row that was updated was changed", since: "UPDATE vessel SET name = 'Petrel' WHERE reg = 'A2'",
			verify: 1, compare: 1,
			problem: "vessel id 2 has been changed since", why: "1 has been changed since",
			differs: "line 3: reg A2: name is Gannet in the file and Petrel in vessel"},
		{name: "a row that was added is gone", since: "DELETE FROM stay WHERE day = '2026-02-02'", verify: 1,
			compare: 1,
			problem: "stay id 3 no longer exists", why: "1 no longer exists", differs: "day 2026-02-02"},
		{name: "a row that was removed is there again", since: "INSERT INTO vessel (id, reg, name) VALUES (3, 'A3', " +
			"'Tern')", verify: 1, compare: 1,
			problem: "vessel id 3 was removed, and exists again", why: "1 that it removed exists again",
			differs: "A3"},
		{name: "another row stands on one that was added", since: "INSERT INTO stay (vessel_id, day) VALUES (" +
			vessel + ", '2026-05-05')",
			problem: "stay id 4 refers to a row of vessel: vessel_id 4", why: "other rows refer to rows of run 1"},
	}
	everywhere(t, func(t *testing.T, on server) {
		for _, c := range cases {
			t.Run(c.name, func(t *testing.T) {
				w, before := loadedFleet(t, on)
				if c.since != "" {
					w.do(c.since)
				}
				now := w.dump()
				verified := w.run("verify", "1", "--db", w.db)
				assert.Equal(t, c.verify, verified.status, verified.stdout)
				compared := w.run("verify", "f.ladle.yaml", "--db", w.db)
				assert.Equal(t, c.compare, compared.status, compared.stdout)
				assert.Contains(t, compared.stdout, c.differs)
				assert.Equal(t, now, w.dump(), "verify changes nothing")
				out := w.run("undo", "1", "--db", w.db, "--yes", "--json")
				var doc struct {
					Outcome  string
					Why      said
					Problems []string `json:"obstacles"`
				}
				require.NoError(t, json.Unmarshal([]byte(out.stdout), &doc), out.stderr)
				if c.problem == "" {
					require.Equal(t, 0, out.status, out.stdout)
					assert.Equal(t, strings.Replace(before, "A1|Heron|1|100.5|",
						"A1|Heron|1|"+map[string]string{"": "100.5"}[c.since]+"|", 1),
						strings.Replace(w.data(), "A1|Heron|1|3|", "A1|Heron|1||", 1))
					again := w.run("undo", "1", "--db", w.db, "--yes")
					assert.Equal(t, 1, again.status)
					assert.Contains(t, again.stdout, "run 1 was undone already, by run 2")
					assert.Contains(t, w.run("undo", "2", "--db", w.db, "--yes").stdout,
						"run 2 is itself an undo, of run 1")
					return
				}
				assert.Equal(t, 1, out.status)
				assert.Equal(t, []string{c.problem}, doc.Problems, "nothing else is to blame")
				assert.Contains(t, doc.Why, c.why)
				assert.Equal(t, now, w.dump(), "what is refused changes nothing")
				if c.verify == 1 {
					assert.Contains(t, verified.stdout, c.problem)
				}
			})
		}
	})
}

// TestUndoTakesNoRowThatTheRunDidNotAdd: whatever the database does with rows whose parent goes, those that came since stand in
// the way.
func TestUndoTakesNoRowThatTheRunDidNotAdd(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		for _, rule := range []string{"CASCADE", "SET NULL", "NO ACTION"} {
			w := newWorld(t, on, "CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL UNIQUE);"+
				"CREATE TABLE mooring (id ID, berth_id INTEGER, FOREIGN KEY (berth_id) REFERENCES berth (id) ON DELETE "+rule+");")
			w.write("in.csv", "C\nN1\nN2\n")
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {berth: {from: in, columns: {code: C}}}\n")
			_, out := w.load("load")
			require.Equal(t, 0, out.status, out.stdout)
			w.do("INSERT INTO mooring (berth_id) SELECT id FROM berth WHERE code = 'N2'")
			now := w.dump()
			out = w.run("undo", "1", "--db", w.db, "--yes")
			assert.Equal(t, 1, out.status, rule)
			assert.Contains(t, out.stdout, "mooring id 1 refers to a row of berth: berth_id 2", rule)
			assert.Equal(t, now, w.dump(), rule)
		}
	})
}

// TestAnOlderLogbookIsContinued: tables of format 1, which have no column for it, are read, written to, and their runs
// are taken back.
func TestAnOlderLogbookIsContinued(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w, before := loadedFleet(t, on)
		loaded := w.data()
		w.do("ALTER TABLE ladle_run DROP COLUMN format")
		assert.Contains(t, w.run("runs", "--db", w.db).stdout, "f.ladle.yaml")
		assert.Equal(t, 0, w.run("verify", "1", "--db", w.db).status)
		_, out := w.load("load")
		require.Equal(t, 0, out.status, out.stderr)
		assert.Equal(t, []string{"1|1", "2|2"}, w.query("SELECT id, format FROM ladle_run ORDER BY 1"))
		require.Equal(t, 0, w.run("undo", "2", "--db", w.db, "--yes").status)
		assert.Equal(t, loaded, w.data())
		out = w.run("undo", "1", "--db", w.db, "--yes")
		require.Equal(t, 0, out.status, out.stdout+out.stderr)
		assert.Equal(t, before, w.data())

		w.do("UPDATE ladle_run SET format = 99 WHERE id = 1")
		assert.Contains(t, w.run("verify", "1", "--db", w.db).stderr, "recorded by a later version of ladle")
	})
}

// TestRowsThatCouldNotBeKeptWholeAreNotPutBack: a column that ladle can't read was lost with the rows that were
// removed.
func TestRowsThatCouldNotBeKeptWholeAreNotPutBack(t *testing.T) {
	w := newWorld(t, postgresSchema{}, "CREATE TABLE berth (id ID, code VARCHAR(8) UNIQUE, rings integer[]); INSERT "+
		"INTO berth (code, rings) VALUES ('N1', '{1,2}'), ('N2', '{3}');")
	w.write("in.csv", "C\nN1\nN3\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {berth: {from: in, "+
		"gone_from_file: {remove: yes, at_most: 1}, columns: {code: C}}}\n")
	doc, out := w.load("load", "--allow-removal")
	require.Equal(t, 0, doc.Status, out.stdout)
	before := w.dump()
	r := w.run("undo", "1", "--db", w.db, "--yes")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.stdout, "what berth.rings was in rows that were removed")
	assert.Equal(t, before, w.dump())
}

// TestTheLogbookIsReadAndLeftOut: runs are listed and shown, and a load without the logbook leaves none.
func TestTheLogbookIsReadAndLeftOut(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w, _ := loadedFleet(t, on)
		list := w.run("runs", "--db", w.db)
		assert.Regexp(t, `1 +20\d\d-\d\d-\d\d \d\d:\d\d:\d\d +\S+ +f.ladle.yaml +5 +1 +1 +[\d.]+ m?s +loaded`,
			list.stdout)
		one := w.run("runs", "1", "--db", w.db).stdout
		for _, part := range []string{"Run 1: f.ladle.yaml, loaded", "in.csv", "stays.csv", "vessel 3 + 1 - 1 = 3",
			"no duplicate keys: kind name; vessel reg"} {
			assert.Contains(t, one, part)
		}
		for arguments, says := range map[string]string{"runs 9": "there is no run 9",
			"runs x": `"x" is not the number of a run`, "undo": "undo needs the number of one run",
			"undo 1":       "there is no terminal to ask on",
			"undo 0 --yes": `"0" is not the number`, "verify 9": "there is no run 9",
			"verify": "verify needs one ladle file or the number of one run",
			"load f.ladle.yaml --yes --check-level most": `--check-level can't be "most"`} {
			r := w.run(append(strings.Fields(arguments), "--db", w.db)...)
			assert.Equal(t, 2, r.status, arguments)
			assert.Contains(t, r.stderr, says, arguments)
		}
		assert.NotContains(t, w.run("tables", "--db", w.db).stdout, "ladle_run",
			"the logbook is none of the person's tables")

		doc, _ := w.load("load", "--allow-removal")
		assert.Equal(t, 0, doc.Status)
		assert.Contains(t, strings.Join(doc.Notes, "\n"), "this ladle file loaded the same files before (run 1, ")

		bare, _ := loadedBare(t, on, "--no-logbook")
		assert.NotContains(t, strings.Join(bare.tables(bare), " "), "ladle_run")
		assert.Contains(t, bare.run("runs", "--db", bare.db).stdout, "holds no runs yet")
		low, checked := loadedBare(t, on, "--check-level", "relations")
		assert.Equal(t, []string{"balance", "relations", "keys"}, checked)
		assert.Equal(t, []string{"relations"}, low.query("SELECT check_level FROM ladle_run"))
		assert.Contains(t, low.run("undo", "1", "--db", low.db, "--yes").stdout,
			"was checked only down to its relations")
		_, checked = loadedBare(t, on, "--check-level", "balance")
		assert.Equal(t, []string{"balance"}, checked)
	})
}

// loadedBare loads one kind, and returns the checks that were made.
func loadedBare(t *testing.T, on server, more ...string) (w *world, checks []string) {
	w = newWorld(t, on, fleet)
	w.write("in.csv", "N\nBarge\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {kind: {from: in, columns: "+
		"{name: N}}}\n")
	doc, out := w.load("load", more...)
	require.Equal(t, 0, doc.Status, out.stdout)
	for _, c := range doc.Checks {
		checks = append(checks, c.Check)
	}
	return w, checks
}

func TestAUserWhoMayMakeNoTablesIsToldBeforeAFileIsRead(t *testing.T) {
	on := postgresSchema{}
	w := newWorld(t, on, fleet)
	admin := on.connect(w, w.db)
	on.exec(w, admin, "DO $$ BEGIN CREATE ROLE ladle_mate LOGIN PASSWORD 'hunter2'; EXCEPTION WHEN duplicate_object "+
		"THEN NULL; END $$")
	on.exec(w, admin, fmt.Sprintf("GRANT USAGE ON SCHEMA %[1]s TO ladle_mate; GRANT ALL ON ALL TABLES IN SCHEMA %[1]s "+
		"TO ladle_mate; GRANT USAGE ON ALL SEQUENCES IN SCHEMA %[1]s TO ladle_mate", w.schema()))
	u, err := url.Parse(w.db)
	require.NoError(t, err)
	u.User = url.UserPassword("ladle_mate", "hunter2")
	w.write("in.csv", "N\nBarge\n\"not,read\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {kind: {from: in, columns: "+
		"{name: N}}}\n")
	r := w.run("load", "f.ladle.yaml", "--db", u.String(), "--yes")
	assert.Equal(t, 3, r.status, r.stdout)
	assert.Contains(t, r.stderr, "the logbook's tables don't exist, and this user may not create them")
	assert.Contains(t, r.stderr, "--no-logbook")
	w.write("in.csv", "N\nBarge\n")
	r = w.run("load", "f.ladle.yaml", "--db", u.String(), "--yes", "--no-logbook")
	assert.Equal(t, 0, r.status, r.stderr)
	assert.NotContains(t, r.stdout+r.stderr, "hunter2")
}

// TestClaims: what a ladle file claims of the database, and what senders state, is asked before the commit.
func TestClaims(t *testing.T) {
	const file = "R,N,G\nA8,Skua,\"1,200.5\"\nA9,Rail,x\nA7,Tern,3\n"
	cases := []struct {
		name, input, checks string // what is said of the input, and the checks
		script              string
		block               string
		status              int
		says, problem       string
	}{
		{name: "the query returns no rows", checks: "no_rows: select reg from vessel where gt < 0",
			says: "the query returns no rows"},
		{name: "rows", checks: "no_rows: select v.reg, v.name from vessel v where gt > 1000", status: 1,
			says: "1 row", problem: "reg A8, name Skua"},
		{name: "a table twice, under other names",
			checks: `no_rows: "select a.reg from vessel a, vessel as b left join kind k on k.id = b.kind_id where a.reg = b.reg and a.id <> b.id"`, says: "no row"},
		{name: "a table that the load doesn't use", checks: "no_rows: select id from stay where vessel_id not in " +
			"(select id from vessel)", says: "no row"},
		{name: "two queries", checks: "equal: [select count(*) from vessel, select 5 from kind where name = 'Tug']",
			says: "both are 5"},
		{name: "two queries that differ", checks: "equal: [select count(*) from vessel, select count(*) from kind]",
			status: 1, says: "the two sides differ", problem: "the result of select count(*) from vessel is 5, but " +
				"the result of select count(*) from kind is 2"},
		{name: "the total of an input", checks: "equal: [\"select sum(gt) from vessel where reg in ('A7', 'A8')\", " +
			"{input: in, sum: G}]", says: "both are 1203.5"},
		{name: "the rows of an input", checks: "equal: [\"select count(*) from vessel where reg > 'A6'\", {input: in}]",
			status: 1, problem: "but the total of line_count in in is 3"},
		{name: "how many", checks: "{how_many: select id from vessel, at_least: 2, at_most: 5}", says: "5 rows"},
		{name: "too many", checks: "{how_many: select id from vessel, exactly: 4}", status: 1,
			says: "5 rows, where 4 are expected"},
		{name: "a query that writes", checks: "no_rows: delete from stay", status: 2},
		{name: "a query that writes and answers", checks: "no_rows: delete from stay returning id", status: 2},
		{name: "two statements", checks: "no_rows: select 1 where 1 = 0; delete from stay", status: 2},
		{name: "no query", checks: "no_rows: selec 1", status: 2},
		{name: "a column that isn't there", checks: "no_rows: select wrong from vessel", status: 2},
		{name: "what a sender states", input: ", control_totals: {line_count: 3, G: \"1,203.50\"}", says: "as stated"},
		{name: "another number of rows", input: ", control_totals: {line_count: 4}", status: 1,
			says: "the sender states 4, but 3 was read"},
		{name: "another sum", input: ", control_totals: {G: 1303.5}", status: 1,
			says: "the sender states 1303.5, but 1203.5 was read", problem: "1 cell of G could not be read"},
		{name: "a column that the database changes", block: ", changed_by_database: name", script: "upper",
			says: "not compared because of changed_by_database: name"},
		{name: "a column that the database changes, and nobody said so", script: "upper", status: 1,
			problem: "is \"SKUA\""},
	}
	triggers := map[string]string{
		"sqlite": "CREATE TRIGGER up AFTER INSERT ON vessel BEGIN UPDATE vessel SET name = upper(name) WHERE id = " +
			"new.id; END;",
		"postgres": "CREATE FUNCTION up() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN new.name = upper(new.name); " +
			"RETURN new; END $$; CREATE TRIGGER up BEFORE INSERT ON vessel FOR EACH ROW EXECUTE FUNCTION up();",
		"mysql": "CREATE TRIGGER up BEFORE INSERT ON vessel FOR EACH ROW SET new.name = upper(new.name);",
	}
	for kind, on := range servers {
		t.Run(kind, func(t *testing.T) {
			for _, c := range cases {
				t.Run(c.name, func(t *testing.T) {
					script := fleet
					if c.script != "" {
						script += triggers[kind]
					}
					w := newWorld(t, on, script)
					w.write("in.csv", file)
					checks := ""
					if c.checks != "" {
						checks = "checks: [{claim: it is so, " + strings.Trim(c.checks, "{}") + "}]\n"
						if strings.HasSuffix(c.checks, "}]") {
							checks = "checks: [{claim: it is so, " + c.checks + "}]\n"
						}
					}
					checks = strings.ReplaceAll(checks, "no_rows: select v.reg, v.name from vessel v where gt > 1000",
						`no_rows: "select v.reg, v.name from vessel v where gt > 1000"`)
					w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, columns: {G: {number: \"1,234.5\"}}"+
						c.input+"}}\nset_aside_limit: any\n"+checks+
						"tables: {vessel: {from: in, key: reg, columns: {reg: R, name: N, gt: G}"+c.block+"}}\n")
					before := w.dump()
					doc, out := w.load("load")
					if c.status == 0 {
						c.status = 4
					}
					require.Equal(t, c.status, doc.Status, out.stdout)
					if c.status != 4 {
						assert.Equal(t, before, w.dump())
					}
					if c.status == 2 {
						assert.Equal(t, "f.ladle.yaml", doc.Problems[0].File)
						assert.Equal(t, 4, doc.Problems[0].Line)
						assert.Contains(t, doc.Problems[0].What, `the query of the check "it is so" can't be run`)
						return
					}
					assert.Contains(t, out.stdout, strings.ReplaceAll(c.says, `"`, `\"`))
					assert.Contains(t, out.stdout, strings.ReplaceAll(c.problem, `"`, `\"`))
				})
			}
		})
	}
}
