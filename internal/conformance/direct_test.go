package conformance

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const quaysAndCranes = "CREATE TABLE quay (id ID, name WORD NOT NULL UNIQUE);\n" +
	"CREATE TABLE crane (id ID, crane_no INT NOT NULL UNIQUE, quay_id INT NOT NULL REFERENCES quay(id), lift_t " +
	"AMOUNT, checked DATE);\nINSERT INTO quay (name) VALUES ('North'), ('South'); INSERT INTO crane (crane_no, " +
	"quay_id) VALUES (1, 1);"

// TestFilesAreLoadedWithoutALadleFile: what is certain is loaded by one command, and the ladle file that it keeps does
// the same again.
func TestFilesAreLoadedWithoutALadleFile(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quaysAndCranes)
		w.write("cranes.csv",
			"Crane no;Quay;Lift;Checked\n1;North;40;2026-01-05\n2;North;16,5;2026-01-06\n3;South;12;2026-01-07\n")
		tried := w.run("try", "cranes.csv", "--db", w.db, "--keep", "cranes.ladle.yaml", "--json")
		require.Equal(t, 0, tried.status, tried.stderr)
		assert.Contains(t, tried.stderr, "cranes.ladle.yaml was written: the same again is ladle load "+
			"cranes.ladle.yaml --db")
		assert.Equal(t, []string{"1"}, w.query("SELECT count(*) FROM crane"))
		r := w.run("load", "cranes.csv", "--db", w.db, "--yes")
		require.Equal(t, 0, r.status, r.stderr)
		assert.Contains(t, unwrap(r.stderr), "Lift 40 · 16,5 number: '1234,5' crane.lift_t", "what feeds what is shown")
		rows := []string{"1|North|NULL", "2|North|16.5", "3|South|12"}
		const query = "SELECT crane_no, q.name, lift_t FROM crane c JOIN quay q ON q.id = quay_id ORDER BY crane_no"
		assert.Equal(t, rows, w.query(query))
		again := w.run("load", "cranes.ladle.yaml", "--db", w.db, "--yes", "--json")
		require.Equal(t, 0, again.status, again.stderr)
		assert.Equal(t, rows, w.query(query), "nothing is added twice")
	})
}

// TestDoubtsStopALoadWithoutALadleFile: what could change a value or a parent is asked, and where nobody can answer,
// nothing is loaded.
func TestDoubtsStopALoadWithoutALadleFile(t *testing.T) {
	w := newWorld(t, sqliteFile{}, quaysAndCranes)
	for _, c := range []struct{ name, csv, arguments, says string }{
		{"day and month", "Crane no,Quay,Checked\n4,North,05/01/2026\n5,South,06/02/2026\n", "", "cranes: Checked: "},
		{"a guessed header", "Crane,Quay\nx,North\n", "", "cranes.csv: which line has the names of the columns?"},
		{"a unit", "Crane no,Quay,Lift\n4,North,5 t\n5,South,6 t\n", "", `"t" around the numbers is left out`},
		{"a total", "Crane no,Quay,Lift\n4,North,5\n5,South,6\nTotal,,11\n", "",
			`line 4, "Total", seems to sum up the others`},
		{"a new name in a filled table", "Crane no,Quay,Lift\n4,North,5\n5,South,6\n6,East,6\n", "", `"East"`},
		{"a required column", "Crane no,Lift\n4,5\n5,6\n", "--into crane", "quay_id is required"},
		{"another table", "Crane no,Quay\n4,North\n5,South\n", "--into quais", `the database has no table "quais"`},
		{"a key that isn't there", "Crane no,Quay\n4,North\n5,South\n", "--into crane --key number",
			`crane has no column "number" for its key`},
		{"a ladle file beside others", "Crane no,Quay\n4,North\n", "f.ladle.yaml",
			"takes ladle files, or files of rows"},
		{"standard input", "Crane no,Quay\n4,North\n", "-", "since it is read twice"},
		{"corrected lines", "Crane no,Quay\n4,North\n", "--corrected x.csv", "--corrected goes with a ladle file"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w.write("cranes.csv", c.csv)
			r := w.run(append([]string{"load", "cranes.csv", "--db", w.db, "--yes"}, strings.Fields(c.arguments)...)...)
			assert.Equal(t, 2, r.status, r.stdout)
			assert.Contains(t, r.stderr, c.says)
			assert.Equal(t, []string{"1"}, w.query("SELECT count(*) FROM crane"))
		})
	}
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: cranes.csv}}\ntables: {crane: {from: in, columns: "+
		"{crane_no: Crane no}}}\n")
	for _, arguments := range []string{"--into crane", "--key x", "--keep x.ladle.yaml", "--header 1"} {
		r := w.run(append([]string{"try", "f.ladle.yaml", "--db", w.db}, strings.Fields(arguments)...)...)
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, "is for files without a ladle file")
	}
	w.write("cranes.csv", "Crane no,Quay,Lift\n4,North,5 t\n")
	r := w.run("load", "cranes.csv", "--db", w.db, "--yes", "--json")
	var doc struct{ Problems []struct{ What string } }
	require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
	require.Len(t, doc.Problems, 2, r.stdout)
	assert.Equal(t, "nothing is loaded without a ladle file while this is uncertain or missing", doc.Problems[0].What)
}

// TestAPersonSettlesDoubtsOfALoad: at a terminal the doubts of a file are asked, then the load itself.
func TestAPersonSettlesDoubtsOfALoad(t *testing.T) {
	w := newWorld(t, sqliteFile{}, quaysAndCranes)
	w.write("cranes.csv", "Crane no,Quay,Checked\n4,North,05/01/2026\n5,South,06/02/2026\n")
	const enter = "to stop: "
	stopped, status := w.onTerminal([]answer{{enter, "q\n"}}, "load", "cranes.csv", "--db", w.db)
	assert.Equal(t, 2, status, stopped)
	assert.Contains(t, stopped, "nothing was loaded")
	loaded, status := w.onTerminal([]answer{{"  2  date: 'MM/dd/yyyy'", ""}, {enter, "2\n"}, {"Load this", "y\n"}},
		"load", "cranes.csv", "--db", w.db, "--keep", "kept.ladle.yaml")
	assert.Equal(t, 0, status, loaded)
	assert.Equal(t, []string{"4|2026-05-01", "5|2026-06-02"},
		w.query("SELECT crane_no, checked FROM crane WHERE crane_no > 1 ORDER BY crane_no"))
	assert.Contains(t, w.read("kept.ladle.yaml"), "      Checked: {date: 'MM/dd/yyyy'}  # chosen by hand\n")
}
