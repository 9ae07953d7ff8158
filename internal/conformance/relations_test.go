package conformance

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// accounts writes the tallies of a report, a line a step, without what is zero.
func (r report) accounts() []string {
	var lines []string
	for _, s := range r.Steps {
		t := s.Tally
		line := fmt.Sprintf("%s: %d", s.Step, t.Read)
		for _, part := range []struct {
			n    int64
			what string
		}{{t.Added, "added"}, {t.Updated, "updated"}, {t.Unchanged, "unchanged"}, {t.Same, "same"},
			{t.Differs, "differs"}, {t.Repeated, "repeated"}, {t.Overruled, "overruled"}, {t.LeftOut, "out"},
			{t.SetAside, "aside"}, {s.Removed, "removed"},
			{s.Marked.Rows, "marked"}, {s.MarkedBack.Rows, "marked back"}} {
			if part.n > 0 {
				line += fmt.Sprintf(", %d %s", part.n, part.what)
			}
		}
		lines = append(lines, line)
	}
	return lines
}

const fleet = `
	CREATE TABLE kind (id ID, name WORD NOT NULL UNIQUE);
	CREATE TABLE vessel (id ID, reg VARCHAR(8) UNIQUE, name VARCHAR(12) NOT NULL, kind_id INTEGER REFERENCES kind (id), gt DECIMAL(8,1), flag VARCHAR(9), CONSTRAINT gt_above_zero CHECK (gt > 0));
	CREATE TABLE stay (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, note VARCHAR(20), UNIQUE (vessel_id, day));
	INSERT INTO kind (name) VALUES ('Tug'), ('Ferry');
	INSERT INTO vessel (reg, name, kind_id, gt, flag) VALUES ('A1', 'Heron', 1, 100.5, 'NO'), ('A2', 'Skua', 2, 20, NULL), ('A3', 'Tern', NULL, NULL, 'DK');
	INSERT INTO stay (vessel_id, day) VALUES (1, '2026-01-01');
`

const pilots = `
	CREATE TABLE pilot (id ID, licence VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(12) NOT NULL, mentor_id INTEGER REFERENCES pilot (id));
	INSERT INTO pilot (licence, name) VALUES ('P1', 'Ann');
`

// vessels is the query of all vessels of a fleet.
const vessels = "SELECT reg, name, kind_id, gt, flag FROM vessel ORDER BY reg, name"

// relation is what a load makes of small files in a small schema, and the rows that there must be then.
type relation struct {
	name, script string
	tables       string            // of the ladle file, whose inputs are the files
	files        map[string]string // by input
	more         []string          // of the command line
	counted      bool              // see world
	status       int
	accounts     []string
	asides       []string
	why          string
	query        string
	rows         []string
}

// relate holds loads against what they must do, on all kinds of databases.
func relate(t *testing.T, cases []relation) {
	t.Helper()
	everywhere(t, func(t *testing.T, on server) {
		for _, c := range cases {
			t.Run(c.name, func(t *testing.T) {
				w := newWorld(t, on, quotedFor(on, c.script))
				w.counted = c.counted
				inputs := "inputs:\n"
				for _, name := range slices.Sorted(maps.Keys(c.files)) {
					w.write(name+".csv", c.files[name])
					inputs += fmt.Sprintf("  %s: {file: %s.csv}\n", name, name)
				}
				if strings.Contains(c.tables, "inputs:") {
					inputs = ""
				}
				w.write("f.ladle.yaml", "ladle: 1\n"+inputs+"tables:\n  "+c.tables+"\n")
				if c.status == 2 {
					out := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
					assert.Equal(t, 2, out.status, out.stdout)
					assert.Contains(t, out.stderr, c.why)
					return
				}
				before := w.data()
				tried, _ := w.load("try", c.more...)
				assert.Equal(t, c.status, tried.Status, "try ends as load will")
				assert.Equal(t, before, w.data(), "try changes nothing")
				doc, out := w.load("load", c.more...)
				require.Equal(t, c.status, doc.Status, out.stdout+out.stderr)
				assert.Equal(t, c.accounts, doc.accounts())
				assert.Equal(t, c.asides, doc.asides())
				assert.Contains(t, doc.Why, c.why)
				assert.Equal(t, c.rows, w.query(quotedFor(on, c.query)))
				if c.status == 0 && !strings.Contains(c.tables, "key: none") {
					assert.Equal(t, tried.accounts(), doc.accounts())
					w.loadedTwice(c.more)
				}
				if c.status == 0 {
					w.holds()
				}
				if c.status != 1 {
					w.takenBack(doc.Run, before)
				}
			})
		}
	})
}

// loadedTwice: what was loaded changes nothing when it is loaded again.
func (w *world) loadedTwice(more []string) {
	w.Helper()
	before := w.data()
	again, out := w.load("load", more...)
	require.Equal(w, 0, again.Status, out.stdout+out.stderr)
	for _, s := range again.Steps {
		if s.Tally.Same+s.Tally.Differs+s.Tally.Unchanged+s.Tally.Repeated+s.Tally.Overruled > 0 {
			assert.Zero(w, s.Tally.Added+s.Tally.Updated, s.Step)
			assert.Equal(w, before, w.data())
		}
	}
}

// holds: after a load, verify misses no line of the files, and finds all rows of the run as it left them.
func (w *world) holds() {
	w.Helper()
	before := w.data()
	var file struct {
		Steps []struct {
			Name  string
			Tally struct{ Read, Missing int64 }
		}
	}
	out := w.run("verify", "f.ladle.yaml", "--db", w.db, "--json")
	require.NoError(w, json.Unmarshal([]byte(out.stdout), &file), out.stdout+out.stderr)
	for _, s := range file.Steps {
		assert.Zero(w, s.Tally.Missing, s.Name)
		assert.Positive(w, s.Tally.Read, s.Name)
	}
	assert.Equal(w, 0, w.run("verify", "1", "--db", w.db).status, "the rows of the run are as it left them")
	assert.Equal(w, before, w.data(), "verify changes nothing")
}

// takenBack: without a run, and the empty ones after it, the data are as they were before.
func (w *world) takenBack(run int64, before string) {
	w.Helper()
	for id := run + 1; id > 0; id-- {
		if out := w.run("undo", fmt.Sprint(id), "--db", w.db, "--yes"); id <= run {
			require.Equal(w, 0, out.status, out.stdout+out.stderr)
		}
	}
	assert.Equal(w, before, w.data(), "a run that is taken back leaves nothing")
}

// quotedFor puts the quotes of a server around names that stand in Q[ and ]Q.
func quotedFor(on server, script string) string {
	open, closing := `"`, `"`
	double := func(name string) string { return strings.ReplaceAll(name, `"`, `""`) }
	if _, is := on.(mysqlDatabase); is {
		open, closing = "`", "`"
		double = func(name string) string { return name }
	}
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(script, "Q[")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		name, after, _ := strings.Cut(rest, "]Q")
		b.WriteString(open + double(name) + closing)
		script = after
	}
}

// TestConstraintsOverAPartOfTheRows are no keys for a load, but rows that break them are set aside.
func TestConstraintsOverAPartOfTheRows(t *testing.T) {
	for _, on := range []server{sqliteFile{}, postgresSchema{}} {
		w := newWorld(t, on, `CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL, closed INTEGER);
			CREATE UNIQUE INDEX open_berth ON berth (code) WHERE closed IS NULL; CREATE UNIQUE INDEX lower_code ON berth (lower(code), closed);
			INSERT INTO berth (code) VALUES ('N1');`)
		w.write("in.csv", "C,X\nN1,\nN1,7\nN2,\nn1,7\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\nset_aside_limit: any\n"+
			"tables: {berth: {from: in, columns: {code: C, closed: X}}}\n")
		doc, _ := w.load("load")
		assert.Equal(t, 2, doc.Status)
		assert.Contains(t, doc.Problems[0].What, "block berth needs a key")
		w.write("f.ladle.yaml", strings.Replace(w.read("f.ladle.yaml"), "from: in,", "from: in, key: none,", 1))
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stdout)
		assert.Equal(t, []string{"berth: 4, 2 added, 2 aside"}, doc.accounts())
		assert.Equal(t, []string{"N1|NULL", "N1|7", "N2|NULL"}, w.query("SELECT code, closed FROM berth ORDER BY id"))
		assert.Contains(t, w.run("tables", "--db", w.db, "--table", "berth").stdout, "which can't serve as a key")
	}
}

// TestOptionsOfLoadsWithRelations: what is asked of the command line, and what comes of asking wrongly.
func TestOptionsOfLoadsWithRelations(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, fleet)
		var file strings.Builder
		file.WriteString("R,N,G\n")
		for i := range 5000 {
			fmt.Fprintf(&file, "C%d,Tern,%d\n", i, i%9)
		}
		w.write("in.csv", file.String())
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\n"+
			"tables: {vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 100%}, columns: {reg: R, "+
			"name: N, gt: G}}}\n")
		before := w.data()
		doc, _ := w.load("try", "--first", "20")
		assert.Equal(t, "tried", doc.Outcome)
		assert.Equal(t, []string{"vessel: 20, 17 added, 3 aside"}, doc.accounts(),
			"what stands behind the first rows is not gone")
		for arguments, says := range map[string]string{
			"try f.ladle.yaml --first 0":          "--first can't be",
			"try f.ladle.yaml --first many":       "give a whole number",
			"load f.ladle.yaml --yes --first 3":   "is no option of",
			"verify f.ladle.yaml --allow-removal": "is no option of",
			"load f.ladle.yaml":                   "there is no terminal to ask on",
			"tables extra":                        `tables takes no "extra"`,
			"draft --diagram":                     "is no option of",
			"tables --table missing":              `there is no table "missing"`,
		} {
			r := w.run(append(strings.Fields(arguments), "--db", w.db)...)
			assert.Equal(t, 2, r.status, arguments)
			assert.Contains(t, r.stderr, says, arguments)
		}
		again, _ := w.load("load", "--allow-removal")
		assert.Equal(t, 1, again.Status)
		assert.Contains(t, again.Why, "a row of stay refers to the row of vessel with id 1",
			"a row that is pointed at is never removed")
		assert.Equal(t, before, w.data())
	})
}

// TestRelationsThatOnlyTheLadleFileKnows are judged and proved like those that the database declares, their steps stand
// in order, and rows that something refers to so are not removed.
func TestRelationsThatOnlyTheLadleFileKnows(t *testing.T) {
	const script = "CREATE TABLE maker (id INTEGER PRIMARY KEY, name VARCHAR(9) NOT NULL UNIQUE) PLAIN; " +
		"CREATE TABLE motor (id ID, no VARCHAR(9) NOT NULL UNIQUE, maker_id INTEGER); " +
		"INSERT INTO maker VALUES (1, 'Oar'), (2, 'Sail');"
	const motors = "motor: {from: motors, key: no, columns: {no: N, maker_id: {from: M, points_at: %s}}}"
	relate(t, []relation{
		{
			name: "an id that is not there", script: script, status: 4,
			tables: fmt.Sprintf(motors, "maker.id") + "\n  maker: {from: makers, key: id, columns: {id: I, name: " +
				"N}}\nset_aside_limit: any",
			files:    map[string]string{"motors": "N,M\ne1,1\ne2,5\ne3,\ne4,9\n", "makers": "I,N\n9,Screw\n"},
			accounts: []string{"maker: 1, 1 added", "motor: 4, 3 added, 1 aside"},
			asides:   []string{`motors.csv:3: M "5" is not in maker.id`},
			query:    "SELECT no, maker_id FROM motor ORDER BY no", rows: []string{"e1|1", "e3|NULL", "e4|9"},
		},
		{
			name: "a row that is referred to can't be removed", script: script +
				"INSERT INTO motor (no, maker_id) VALUES ('e1', 2);",
			status: 1, more: []string{"--allow-removal"},
			tables: fmt.Sprintf(motors, "maker.id") + "\n  maker: {from: makers, key: id, gone_from_file: {remove: " +
				"yes, at_most: 1}, columns: {id: I, name: N}}",
			files:    map[string]string{"motors": "N,M\ne1,2\n", "makers": "I,N\n1,Oar\n"},
			accounts: []string{"maker: 1, 1 same, 1 removed", "motor: 1, 1 same"},
			why:      "refer",
			query:    "SELECT id FROM maker ORDER BY id", rows: []string{"1", "2"},
		},
		{
			name: "one to no key", script: script, status: 2, tables: fmt.Sprintf(motors, "motor.maker_id"),
			files: map[string]string{"motors": "N,M\ne1,1\n"}, why: "motor.maker_id is not a key by itself",
		},
		{
			name: "one of another type", script: script, status: 2, tables: fmt.Sprintf(motors, "maker.name"),
			files: map[string]string{"motors": "N,M\ne1,1\n"},
			why:   "motor.maker_id is a whole number, but maker.name is a text",
		},
	})
}

// TestAParentThatTheDatabaseGives: what a row refers to stands in no file; one that refers to nothing is set aside.
func TestAParentThatTheDatabaseGives(t *testing.T) {
	const script = "CREATE TABLE quay (id INTEGER PRIMARY KEY); INSERT INTO quay VALUES (1), (2); " +
		"CREATE TABLE pier (id INTEGER PRIMARY KEY); INSERT INTO pier VALUES (9); " +
		"CREATE TABLE post (id ID, n VARCHAR(9) UNIQUE, quay_id INTEGER REFERENCES quay (id), pier_id INTEGER DEFAULT %s REFERENCES pier (id));"
	everywhere(t, func(t *testing.T, on server) {
		for pier, want := range map[string]string{"9": "2 added, 0 same, 0 repeated, 1 aside", "7": "0 added, 0 same, 0 repeated, 3 aside"} {
			w := newWorld(t, on, fmt.Sprintf(script, pier))
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\n"+
				"tables: {post: {from: in, key: n, columns: {n: N, quay_id: Q}}}\n")
			w.write("in.csv", "N,Q\na,1\nb,3\nc,\n")
			doc, out := w.load("load")
			if pier == "7" && strings.HasSuffix(t.Name(), "/sqlite") { // which can't name the rows: nothing is loaded
				require.Equal(t, 1, doc.Status, out.stderr)
				assert.Equal(t, []string{"0"}, w.query("SELECT count(*) FROM post"))
				continue
			}
			require.Equal(t, 4, doc.Status, out.stderr)
			assert.Equal(t, "post: 3 = "+want, doc.tallies(), pier)
			assert.Equal(t, []string{want[:1]}, w.query("SELECT count(*) FROM post"))
			assert.Contains(t, strings.Join(doc.asides(), "\n"), `in.csv:3: Q "3" is not in quay.id`)
		}
	})
}
