package conformance

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine"
	"ladle/internal/core/engine/mysql"
	"ladle/internal/core/engine/postgres"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/logbook"
	"ladle/internal/seeded"
)

// dialects are those of the servers.
var dialects = map[string]string{"sqlite": "sqlite", "postgres": "postgres", "mysql": "mysql"}

// proposed is a database of the tables that are proposed for files, and the ladle file that loads them.
func proposed(t *testing.T, name string, on server, files map[string]string, more ...string) *world {
	t.Helper()
	draft := newWorld(t, sqliteFile{}, "")
	arguments := append([]string{"propose", "--for", dialects[name], "-o", "new.sql", "--ladle", "new.ladle.yaml"},
		more...)
	for file, content := range files {
		draft.write(file, content)
		arguments = append(arguments, file)
	}
	r := draft.run(arguments...)
	require.Equal(t, 0, r.status, r.stdout+r.stderr)
	w := newWorld(t, on, draft.read("new.sql"))
	for _, file := range append(slices.Collect(maps.Keys(files)), "new.sql", "new.ladle.yaml") {
		w.write(file, draft.read(file))
	}
	return w
}

// loadedWhole holds that all lines of the proposed ladle file are loaded, and found again.
func (w *world) loadedWhole() {
	w.Helper()
	r := w.run("load", "new.ladle.yaml", "--db", w.db, "--yes")
	require.Equal(w, 0, r.status, "%s\n%s\n%s\n%s", r.stdout, r.stderr, w.read("new.sql"), w.read("new.ladle.yaml"))
	r = w.run("verify", "new.ladle.yaml", "--db", w.db)
	assert.Equal(w, 0, r.status, r.stdout)
}

// TestProposedTablesAreRelated: what is a key in one file is a foreign key in another, and what a column decides becomes
// a table.
func TestProposedTablesAreRelated(t *testing.T) {
	berths := "Code,Quay,Depth (m)\n"
	for i := range 12 {
		berths += fmt.Sprintf("B%d,%s Quay,%d.5\n", i+1, []string{"North", "South", "East"}[i%3], i+4)
	}
	calls := "Call No,Berth,Vessel,Built,Arrived,Night?\n"
	for i := range 60 {
		calls += fmt.Sprintf("%d,B%d,%s,%d,2026-03-%02d 0%d:30,%s\n", 100+i, i*7%12+1, []string{"Skua", "Tern",
			"Auk"}[i%3],
			1990+i%3, i%28+1, i%9, []string{"yes", "no"}[i%2])
	}
	pilots := "Licence,Pilot,Mentor\n"
	for i := range 30 {
		pilots += fmt.Sprintf("MP-%02d,Pilot %c,%s\n", i, 'A'+i%26, []string{"", "MP-07", "MP-29", "MP-00"}[i%4])
	}
	everyServer(t, func(t *testing.T, name string, on server) {
		w := proposed(t, name, on, map[string]string{"berths.csv": berths, "calls.csv": calls, "pilots.csv": pilots})
		w.loadedWhole()
		assert.Equal(t, []string{"MP-00|7", "MP-07|8", "MP-29|7"}, w.query("SELECT m.licence, count(*) FROM pilots p "+
			"JOIN pilots m ON m.id = p.mentor_id GROUP BY m.licence ORDER BY m.licence"))
		assert.Equal(t, []string{"B8|South Quay|11.5|Tern|1991"}, w.query("SELECT b.code, b.quay, b.depth_m, "+
			"v.vessel, v.built "+
			"FROM calls c JOIN berths b ON b.id = c.berths_id JOIN vessel v ON v.id = c.vessel_id WHERE call_no = 101"))
		assert.Equal(t, []string{"3|60|12"}, w.query("SELECT (SELECT count(*) FROM vessel), (SELECT count(*) FROM "+
			"calls), "+
			"(SELECT count(*) FROM berths)"))
	})
}

// TestProposedTablesTakeAllLines: whatever the columns are called and hold, each line fits the table that is proposed.
func TestProposedTablesTakeAllLines(t *testing.T) {
	everyServer(t, func(t *testing.T, name string, on server) {
		for round := range seeded.Rounds(4) {
			t.Run(fmt.Sprint("round ", round), func(t *testing.T) {
				r := seeded.Rand(t)
				kinds := []func() string{
					func() string { return fmt.Sprint(r.IntN(200) - 100) },
					func() string { return fmt.Sprint(r.Int64N(1<<62) - 1<<61) },
					func() string { return fmt.Sprintf("%d.%03d", r.IntN(1_000_000)-500_000, r.IntN(1000)) },
					func() string { return fmt.Sprintf("20%02d-%02d-%02d", r.IntN(40)+10, r.IntN(12)+1, r.IntN(28)+1) },
					func() string {
						return fmt.Sprintf("2026-03-%02d %02d:%02d:00", r.IntN(28)+1, r.IntN(24),
							r.IntN(60))
					},
					func() string {
						return strings.Repeat([]string{"tide ", "Grüße ", `back\slash `, "it's "}[r.IntN(4)], r.IntN(9)+1) + "x"
					},
					func() string { return []string{"yes", "no"}[r.IntN(2)] },
				}
				headers := []string{"Order", "Größe (m)", "select", "1st", "Reg. No.", "it's \"odd\"", `a\b`, "Date", "order"}
				r.Shuffle(len(headers), func(i, j int) { headers[i], headers[j] = headers[j], headers[i] })
				columns := 2 + r.IntN(len(headers)-2)
				var quoted []string
				for _, h := range headers[:columns] {
					quoted = append(quoted, `"`+strings.ReplaceAll(h, `"`, `""`)+`"`)
				}
				csv := "Line," + strings.Join(quoted, ",") + "\n"
				of, blanks := make([]func() string, columns), make([]bool, columns)
				for i := range of {
					of[i], blanks[i] = kinds[r.IntN(len(kinds))], r.IntN(3) == 0
				}
				for i := range 80 {
					cells := []string{fmt.Sprint("L", i)}
					for c := range of {
						if cell := of[c](); !blanks[c] || r.IntN(4) > 0 {
							cells = append(cells, cell)
						} else {
							cells = append(cells, "")
						}
					}
					csv += strings.Join(cells, ",") + "\n"
				}
				w := proposed(t, name, on, map[string]string{"odd lines.csv": csv}, "--checks")
				w.loadedWhole()
				assert.Equal(t, []string{"80"}, w.query("SELECT count(*) FROM odd_lines"))
			})
		}
	})
}

// TestProposedSchemasAreThoseOfTheRows: tables at random, exported with the codes of the rows that they refer to, are proposed with
// their keys and relations again, and hold the same rows.
func TestProposedSchemasAreThoseOfTheRows(t *testing.T) {
	names := []string{"quay", "berth", "craft", "stay"}
	everyServer(t, func(t *testing.T, name string, on server) {
		for round := range seeded.Rounds(3) {
			t.Run(fmt.Sprint("round ", round), func(t *testing.T) {
				r := seeded.Rand(t)
				files, rows, parents := map[string]string{}, map[string][]string{}, map[string][]string{}
				for i, table := range names[:2+r.IntN(3)] {
					for _, parent := range names[:i] {
						if r.IntN(3) > 0 {
							parents[table] = append(parents[table], parent)
						}
					}
					csv := table + " no," + strings.Join(append(slices.Clone(parents[table]), "metres"), ",") + "\n"
					for n := range 15 + 20*i + r.IntN(10) {
						cells := []string{fmt.Sprintf("%c-%03d", 'A'+i, n)}
						for _, parent := range parents[table] {
							cells = append(cells, strings.Split(rows[parent][r.IntN(len(rows[parent]))], "|")[0])
						}
						rows[table] = append(rows[table], strings.Join(cells, "|"))
						csv += strings.Join(cells, ",") + fmt.Sprintf(",%d.%d\n", r.IntN(90), r.IntN(10))
					}
					files[table+".csv"] = csv
				}
				w := proposed(t, name, on, files)
				w.loadedWhole()
				for table, want := range rows {
					selected := []string{table + "_no"}
					for _, parent := range parents[table] {
						selected = append(selected, fmt.Sprintf("(SELECT p.%s_no FROM %s p WHERE p.id = t.%s_id)", parent, parent, parent))
					}
					assert.Equal(t, want, w.query(fmt.Sprintf("SELECT %s FROM %s t ORDER BY %s_no", strings.Join(selected, ", "), table,
						table)), w.read("new.sql"))
				}
			})
		}
	})
}

// everyServer runs a test on all kinds of databases by their names.
func everyServer(t *testing.T, test func(t *testing.T, name string, on server)) {
	for name, on := range servers {
		t.Run(name, func(t *testing.T) { test(t, name, on) })
	}
}

// TestProposedTablesAreMade: all of them or none.
func TestProposedTablesAreMade(t *testing.T) {
	everyServer(t, func(t *testing.T, name string, on server) {
		w := newWorld(t, on, "CREATE TABLE quay (id ID, name VARCHAR(20) NOT NULL UNIQUE); INSERT INTO quay (name) VALUES "+
			"('East'), ('North'), ('South');")
		w.write("berths.csv", "Code,Depth,Quay\nN1,9.5,North\nN2,8.0,North\nS1,4.5,South\nS2,6.0,South\n")
		w.write("moves.csv", "No,Berth\n1,N1\n2,S1\n3,N2\n4,S2\n5,N1\n")
		asked := w.run("propose", "berths.csv", "--db", w.db, "--make")
		assert.Equal(t, 2, asked.status)
		assert.Contains(t, asked.stderr, "there is no terminal to ask on")
		r := w.run("propose", "berths.csv", "moves.csv", "--db", w.db, "--make", "--yes", "--ladle", "new.ladle.yaml")
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Contains(t, r.stdout, "2 tables")
		r = w.run("load", "new.ladle.yaml", "--db", w.db, "--yes")
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Equal(t, []string{"2|North", "2|South"}, w.query("SELECT count(*), quay.name FROM berths JOIN quay "+
			"ON quay.id = quay_id GROUP BY quay.name ORDER BY quay.name"), "what is there already is referred to")
		assert.Equal(t, []string{"1|9.5", "2|4.5", "3|8", "4|6", "5|9.5"}, w.query("SELECT no_, depth FROM moves "+
			"JOIN berths ON "+
			"berths.id = berths_id ORDER BY no_"))
	})
}

func TestProposalsThatCantBeMade(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE berths (id INTEGER PRIMARY KEY);")
	w.write("berths.csv", "Code\nN1\n")
	w.write("empty.csv", "Code\n")
	r := w.run("propose", "berths.csv", "--json", "--for", "mysql")
	require.Equal(t, 0, r.status, r.stderr)
	for arguments, says := range map[string]string{
		"empty.csv":                                 "has no lines",
		"berths.csv --for oracle":                   "--for can't be",
		"berths.csv --leave-out Kode":               `there is no column "Kode" to leave out`,
		"berths.csv -o berths.csv --replace":        "the file is read",
		"empty.csv berths.csv -o ./berths.csv":      "the file is read",
		"berths.csv -o " + w.db + " --db " + w.db:   "the file is read",
		"berths.csv -o empty.csv":                   "the file exists already",
		"berths.csv --ladle n.yaml":                 "a ladle file can't be called",
		"berths.csv --db " + w.db + " --for sqlite": "",
	} {
		r := w.run(append([]string{"propose"}, strings.Fields(arguments)...)...)
		if says == "" {
			assert.Contains(t, r.stdout, "CREATE TABLE berths_2 (", "the name is taken")
			continue
		}
		assert.NotZero(t, r.status, arguments)
		assert.Contains(t, r.stderr, says)
	}
}

// TestTablesAreMadeTogether: when one can't be made, none is there.
func TestTablesAreMadeTogether(t *testing.T) {
	everyServer(t, func(t *testing.T, name string, on server) {
		w := newWorld(t, on, "CREATE TABLE stay (id ID, n INTEGER);")
		before := w.tables(w)
		var db engine.Database
		var err error
		switch name {
		case "postgres":
			db, err = postgres.Open(t.Context(), w.db, engine.UsualWaits)
		case "mysql":
			db, err = mysql.Open(t.Context(), w.db, engine.UsualWaits)
		default:
			db, err = sqlite.Open(w.path(w.db), engine.UsualWaits)
		}
		require.NoError(t, err)
		defer db.Close()
		for _, c := range []struct {
			name       string
			statements [][]string
			fails      bool
		}{
			{"the last one is wrong", [][]string{{"CREATE TABLE quay (n INTEGER)"}, {"CREATE TABLE berth (n INTEGER)"},
				{"CREATE TABLE stay (n INTEGER)"}}, true},
			{"a statement behind a table is wrong", [][]string{{"CREATE TABLE quay (n INTEGER)"},
				{"CREATE TABLE berth (n " +
					"INTEGER REFERENCES nowhere (n) ON"}}, true},
			{"all are right", [][]string{{"CREATE TABLE quay (n INTEGER PRIMARY KEY)"},
				{"CREATE TABLE berth (n INTEGER, " +
					"FOREIGN KEY (n) REFERENCES quay (n))"}}, false},
		} {
			var scripts []engine.TableScript
			for i, s := range c.statements {
				scripts = append(scripts, engine.TableScript{Table: []string{"quay", "berth", "stay"}[i],
					Statements: s})
			}
			_, err := logbook.MakeTables(t.Context(), db, scripts, &logbook.Run{}, false, nil)
			if c.fails {
				assert.Error(t, err, c.name)
				assert.Equal(t, before, w.tables(w), c.name)
				continue
			}
			assert.NoError(t, err, c.name)
			assert.Len(t, w.tables(w), len(before)+2, c.name)
		}
	})
}

// TestMadeTablesAreTakenBack: what --make made is a run; it is dropped again as long as it is as it was made, and empty.
func TestMadeTablesAreTakenBack(t *testing.T) {
	everyServer(t, func(t *testing.T, _ string, on server) {
		alone(t, on)
		w := newWorld(t, on, "CREATE TABLE pilot (id ID, name WORD NOT NULL UNIQUE);")
		w.write("quays.csv", "Quay,Length m\nNorth,120.5\nSouth,90\n")
		w.write("berths.csv", "Berth,Quay,Draught\nN1,North,4\nN2,North,5\nS1,South,6\nS2,South,4\n")
		before := w.tables(w)
		make := func() {
			r := w.run("propose", "quays.csv", "berths.csv", "--db", w.db, "--make", "--yes", "--ladle", "new.ladle.yaml", "--replace")
			require.Equal(t, 0, r.status, r.stderr)
		}
		undo := func(run int, status int, says string) {
			r := w.run("undo", fmt.Sprint(run), "--db", w.db, "--yes")
			require.Equal(t, status, r.status, r.stdout+r.stderr)
			assert.Contains(t, r.stdout, says)
		}
		make()
		assert.Contains(t, w.run("runs", "--db", w.db).stdout, "tables made")
		assert.Contains(t, w.run("runs", "1", "--db", w.db).stdout, "foreign key quays_id to quays (id)")
		assert.Contains(t, w.run("verify", "1", "--db", w.db).stdout, "2 tables: as the run made them")

		load := w.run("load", "new.ladle.yaml", "--db", w.db, "--yes")
		require.Equal(t, 0, load.status, load.stdout+load.stderr)
		undo(1, 1, "berths has 4 rows")
		undo(2, 0, "Run 2 was undone by run 3")
		w.do("CREATE TABLE stay (n INTEGER, FOREIGN KEY (n) REFERENCES quays (id))")
		undo(1, 1, "stay refers to quays")
		w.do("DROP TABLE stay")
		w.do("ALTER TABLE berths ADD COLUMN depth INTEGER")
		undo(1, 1, "berths now has: column depth ")
		verified := w.run("verify", "1", "--db", w.db)
		assert.Equal(t, 1, verified.status)
		assert.Contains(t, verified.stdout, "berths now has: column depth ")
		w.do("ALTER TABLE berths DROP COLUMN depth")

		undo(1, 0, "Run 1 was undone by run 4")
		assert.Subset(t, append(before, "ladle_run", "ladle_run_check", "ladle_run_input", "ladle_run_rows", "ladle_run_step"),
			w.tables(w), "nothing of it is left")
		undo(1, 1, "run 1 was undone already, by run 4")
		assert.Contains(t, w.run("verify", "1", "--db", w.db).stdout, "the table quays no longer exists")
		make()
		undo(5, 0, "Dropped, in this order")
	})
}
