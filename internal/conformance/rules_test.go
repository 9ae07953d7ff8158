package conformance

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

const quays = `
	CREATE TABLE quay (id ID, name VARCHAR(20) NOT NULL UNIQUE);
	CREATE TABLE stay (id ID, reg_no VARCHAR(10) NOT NULL, berth VARCHAR(8) NOT NULL, quay_id INTEGER REFERENCES quay (id), tons DECIMAL(8,2), arrived MOMENT, UNIQUE (reg_no, berth));
	INSERT INTO quay (name) VALUES ('North'), ('Salt');
`

// workbook makes a workbook of rows of texts.
func workbook(t *testing.T, path string, rows [][]string) {
	t.Helper()
	f := excelize.NewFile()
	for i, r := range rows {
		for c, cell := range r {
			at, err := excelize.CoordinatesToCellName(c+1, i+1)
			require.NoError(t, err)
			require.NoError(t, f.SetCellStr("Sheet1", at, cell))
		}
	}
	require.NoError(t, f.SaveAs(path))
}

// TestSiblingsAreFoundWhateverTheFormOfTheInput: same_for reads the input once more, whatever it is.
func TestSiblingsAreFoundWhateverTheFormOfTheInput(t *testing.T) {
	rows := [][]string{{"Reg", "Berth", "Quay", "Tons"}}
	for i := range 3000 {
		quay := ""
		if i%1000 == 999 {
			quay = []string{"North", "Salt", "North"}[i/1000]
		}
		rows = append(rows, []string{fmt.Sprintf("R%d", i), fmt.Sprintf("B%d", i/1000), quay, fmt.Sprint(i % 90)})
	}
	const ladle = "ladle: 1\ninputs: {in: {FILE, columns: {Quay: {if_blank: {as_in_lines_with_same: Berth}}}}}\n" +
		"tables: {stay: {from: in, columns: {reg_no: Reg, berth: Berth, quay_id: {from: Quay, lookup: quay.name}, " +
		"tons: Tons}}}\n"
	for name, send := range map[string]func(w *world) (file, stdin string){
		"text": func(w *world) (string, string) {
			w.write("in.csv", inDelimiters(rows, ",", "\n"))
			return "file: in.csv", ""
		},
		"gzip": func(w *world) (string, string) {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			_, err := z.Write([]byte(inDelimiters(rows, ";", "\r\n")))
			require.NoError(w, err)
			require.NoError(w, z.Close())
			w.write("in.csv.gz", b.String())
			return "file: in.csv.gz", ""
		},
		"several files": func(w *world) (string, string) {
			w.write("a.csv", inDelimiters(rows[:1501], ",", "\n"))
			w.write("b.csv", inDelimiters(append([][]string{rows[0]}, rows[1501:]...), ",", "\n"))
			return "file: [a.csv, b.csv]", ""
		},
		"standard input": func(*world) (string, string) { return "file: '-'", inDelimiters(rows, ",", "\n") },
		"workbook": func(w *world) (string, string) {
			workbook(w.T, w.path("in.xlsx"), rows)
			return "file: in.xlsx", ""
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, quays)
			file, stdin := send(w)
			w.write("f.ladle.yaml", strings.Replace(ladle, "FILE", file, 1))
			c := exec.Command(program, "load", "f.ladle.yaml", "--db", "db", "--yes")
			c.Dir, c.Stdin = w.dir, strings.NewReader(stdin)
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Equal(t, []string{"B0|North|1000", "B1|Salt|1000", "B2|North|1000"},
				w.query("SELECT berth, name, COUNT(*) FROM stay JOIN quay ON quay.id = quay_id GROUP BY 1, 2 ORDER BY "+
					"1"))
		})
	}
	t.Run("and a contradiction names both lines", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, quays)
		w.write("a.csv", "Reg,Berth,Quay,Tons\nR1,N1,North,1\nR2,N1,,1\n")
		w.write("b.csv", "Reg,Berth,Quay,Tons\nR3,N1,Salt,1\n")
		w.write("f.ladle.yaml", strings.Replace(ladle, "FILE", "file: [a.csv, b.csv]", 1))
		doc, _ := w.load("load")
		assert.Equal(t, 1, doc.Status)
		assert.Equal(t, []string{
			`a.csv:3: Quay is blank, and lines with the same Berth disagree: a.csv:2 has "North", b.csv:2 has "Salt"`},
			doc.asides())
	})
}

// TestConditionsLeaveRowsOutOfEverything: a row that is left out is neither judged nor set aside, adds no name, and
// stands in the tally.
func TestConditionsLeaveRowsOutOfEverything(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quays)
		w.write("in.csv", "Reg,Berth,Quay,Tons,Kind\nR1,N1,North,5,in\nR2,N1,Mud,x,test\nR3,N1,Mud,,in\n"+
			"R4,N2,Fish,9,out\nR5,N2,Fish,-1,in\n,,,5,in\nR7,N3,North,y,in\nTotal,,,18,\n")
		w.write("f.ladle.yaml", `ladle: 1
inputs: {in: {file: in.csv, header: 1, columns: {Tons: {number: "1234.5"}}, only: "kind in ['in', 'out']"}}
tables:
  stay:
    from: in
    only: tons > 0 or tons < -5
    columns: {reg_no: Reg, berth: Berth, quay_id: {from: Quay, lookup: quay.name, not_found: add}, tons: Tons}
  quay:
    from: in
    only: kind == "out"
    key: name
    columns: {name: Quay}
set_aside_limit: any
`)
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stdout+out.stderr)
		assert.Equal(t, []string{"in.csv:7: Reg is blank, but is part of the key (reg_no, berth); Berth is blank, " +
			"but is part of the key (reg_no, berth)",
			`in.csv:8: Tons "y" is not a number like 1234.5`}, doc.asides())
		for _, s := range doc.Steps {
			tally := []int64{s.Tally.Read, s.Tally.Added, s.Tally.LeftOut, s.Tally.SetAside}
			assert.Equal(t, map[string][]int64{"stay": {8, 2, 4, 2}, "quay": {8, 1, 7, 0}}[s.Step], tally, s.Step)
		}
		assert.Equal(t, []string{"R1|N1|North|5", "R4|N2|Fish|9"},
			w.query("SELECT reg_no, berth, name, tons FROM stay JOIN quay ON quay.id = quay_id ORDER BY 1"))
		assert.Equal(t, []string{"Fish", "North", "Salt"}, w.query("SELECT name FROM quay ORDER BY 1"),
			"Mud is only on rows that are left out")
	})
}

// TestNewColumnsFeedKeysAndFinds: split, joined and computed columns are used like those of the file.
func TestNewColumnsFeedKeysAndFinds(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quays)
		w.write("in.csv", "Vessel,Place,Kilos,Day,Hour\nr1,North/N1,1500,14/03/2026,03:10\nr1,Salt / "+
			"S1,2250,15/03/2026,23:59\nr1,North/N1,1500,14/03/2026,03:10\n")
		w.write("f.ladle.yaml", `ladle: 1
inputs:
  in:
    file: in.csv
    columns:
      Vessel: {clean: upper}
      Place: {split: {at: /, columns: [Quay, Berth]}}
      Kilos: {number: "1234"}
    new_columns:
      Tons: kilos / 1000
      Arrived: {join: [Day, Hour], between: " ", date: "dd/MM/yyyy HH:mm"}
tables:
  stay:
    from: in
    columns: {reg_no: Vessel, berth: Berth, quay_id: {from: Quay, lookup: quay.name}, tons: Tons, arrived: Arrived}
`)
		doc, out := w.load("load")
		require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
		assert.Equal(t, "stay: 3 = 2 added, 0 same, 1 repeated, 0 aside", doc.tallies())
		assert.Equal(t, []string{"R1|N1|North|1.5|2026-03-14 03:10:00", "R1|S1|Salt|2.25|2026-03-15 23:59:00"},
			w.query("SELECT reg_no, berth, name, tons, arrived FROM stay JOIN quay ON quay.id = quay_id ORDER BY 2"))
		again, _ := w.load("load")
		assert.Equal(t, "stay: 3 = 0 added, 2 same, 1 repeated, 0 aside", again.tallies())
	})
}

// TestLocalTimesGetTheirZoneOnServers: a local time becomes the instant that it means.
func TestLocalTimesGetTheirZoneOnServers(t *testing.T) {
	for name, c := range map[string]struct {
		on       server
		declared string
		want     []string
	}{
		"postgres": {postgresSchema{}, "timestamptz", []string{"2026-01-31 05:40:00+00", "2026-07-31 04:40:00+00"}},
		"mysql":    {mysqlDatabase{}, "TIMESTAMP NULL", []string{"2026-01-31 05:40:00", "2026-07-31 04:40:00"}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, c.on, "CREATE TABLE log (id ID, at "+c.declared+");")
			w.write("in.csv", "At,X\n31/01/2026 05:40,\n31/07/2026 05:40,\n29/03/2026 01:15,\n25/10/2026 01:15,\n")
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, time_zone: Europe/Lisbon, columns: {At: "+
				"{date: dd/MM/yyyy HH:mm}}}}\ntables: {log: {from: in, key: none, columns: {at: At}}}\n"+
				"set_aside_limit: any\n")
			doc, out := w.load("load")
			require.Equal(t, 4, doc.Status, out.stdout+out.stderr)
			assert.Equal(t, c.want, w.query("SELECT at FROM log ORDER BY 1"))
			assert.Equal(t, []string{
				`in.csv:4: At "29/03/2026 01:15" never occurs on the clocks of Europe/Lisbon, which are set forward then`,
				`in.csv:5: At "25/10/2026 01:15" occurs twice on the clocks of Europe/Lisbon, which are set back then; add its offset`}, doc.asides())
		})
	}
}

// TestCorrectedRowsOfWorkbooksAndOfSeveralFiles: corrected lines find their rows in any input.
func TestCorrectedRowsOfWorkbooksAndOfSeveralFiles(t *testing.T) {
	const ladle = "ladle: 1\ninputs: {in: {FILE, columns: {Tons: {number: '1.234,5'}}}}\ntables: {stay: {from: in, " +
		"columns: {reg_no: Reg, berth: Berth, tons: Tons}}}\n"
	first, second := [][]string{{"Reg", "Berth", "Tons"}, {"R1", "N1", "5 kg"}, {"R2", "N1", "1.200,5"}},
		[][]string{{"Reg", "Berth", "Tons"}, {"R3", "N1", "7"}, {"R4", "N1", "9 kg"}}
	for name, send := range map[string]func(w *world) string{
		"a workbook": func(w *world) string {
			workbook(w.T, w.path("in.xlsx"), append(append([][]string{}, first...), second[1:]...))
			return "file: in.xlsx"
		},
		"several files": func(w *world) string {
			w.write("a.csv", inDelimiters(first, ";", "\n"))
			w.write("b.csv", inDelimiters(second, ";", "\n"))
			return "file: '?.csv'"
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, quays)
			w.write("f.ladle.yaml", strings.Replace(ladle, "FILE", send(w), 1))
			doc, _ := w.load("load")
			require.Equal(t, 1, doc.Status)
			require.Len(t, doc.SetAside, 2)
			w.write("in.set-aside.csv", strings.ReplaceAll(w.read("in.set-aside.csv"), " kg", ""))
			doc, out := w.load("load", "--corrected", "in.set-aside.csv")
			require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
			assert.Equal(t, []string{"R1|5", "R2|1200.5", "R3|7", "R4|9"},
				w.query("SELECT reg_no, tons FROM stay ORDER BY 1"))
		})
	}
}

// TestCorrectedIsSaidRight: the command line says for which input corrected lines are.
func TestCorrectedIsSaidRight(t *testing.T) {
	w := newWorld(t, sqliteFile{}, quays)
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {a: {file: a.csv}, b: {file: b.csv}}\ntables: {stay: {from: a, "+
		"columns: {reg_no: Reg, berth: Berth}}, quay: {from: b, key: name, columns: {name: Quay}}}\n")
	w.write("a.csv", "Reg,Berth\nR1,N1\n")
	w.write("b.csv", "Quay,Y\nMud,\n")
	w.write("lines.csv", "x\n")
	for arguments, why := range map[string]string{"lines.csv": "it is not clear which input", "a=lines.csv": "",
		"a=none.csv": "none.csv", "a.set-aside.csv": "a.set-aside.csv"} {
		r := w.run("try", "f.ladle.yaml", "--db", "db", "--corrected", arguments)
		assert.NotEqual(t, 0, r.status, arguments)
		assert.Contains(t, r.stderr, why)
	}
	r := w.run("try", "f.ladle.yaml", "--db", "db", "--corrected", "a=lines.csv", "--corrected", "a=lines.csv")
	assert.NotEqual(t, 0, r.status)
}

// TestCorrectingLoadsNothingTwice: of an input for a table without a key, only the lines that were not loaded are, once
// some of them are corrected.
func TestCorrectingLoadsNothingTwice(t *testing.T) {
	w := newWorld(t, sqliteFile{}, quays)
	w.write("in.csv", "Reg,Berth,Tons\nR1,N1,5\nR2,N1,x\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {stay: {from: in, key: none, columns: "+
		"{reg_no: Reg, berth: Berth, tons: Tons}}}\nset_aside_limit: any\n")
	doc, _ := w.load("load")
	require.Equal(t, 4, doc.Status)
	w.write("in.set-aside.csv", strings.Replace(w.read("in.set-aside.csv"), ",x", ",7", 1))
	doc, _ = w.load("load", "--corrected", "in.set-aside.csv")
	assert.Equal(t, 0, doc.Status)
	assert.Equal(t, []string{"stay: 2, 1 added, 1 out"}, doc.accounts())
	assert.Equal(t, []string{"R1|5", "R2|7"}, w.query("SELECT reg_no, tons FROM stay ORDER BY reg_no"))
	doc, _ = w.load("load")
	assert.Equal(t, 1, doc.Status)
	assert.Contains(t, doc.Why, "was loaded into stay before")
}

// TestColumnsWithoutAType: what they keep is said, and store_as: number stores numbers, as verify, a second load and
// undo know.
func TestColumnsWithoutAType(t *testing.T) {
	const block = "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {crew: {from: in, key: name, " +
		"already_there: update, columns: {name: N, age: %s, note: B}}}\n"
	w := newWorld(t, sqliteFile{}, "")
	w.query("CREATE TABLE crew (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, age, note)")
	w.query("INSERT INTO crew (name, age) VALUES ('a', 29)")
	w.write("in.csv", "N,A,B\na,30,x\nb,5.5,007\nc,0,\nd,-4,z\n")
	w.write("f.ladle.yaml", fmt.Sprintf(block, "A"))
	tried := w.run("try", "f.ladle.yaml", "--db", w.db)
	require.Equal(t, 0, tried.status, tried.stdout+tried.stderr)
	assert.Contains(t, tried.stdout, "crew.age: 4 of 4 values are numbers, and are kept as text")
	assert.NotContains(t, tried.stdout, "crew.note:")

	w.write("f.ladle.yaml", fmt.Sprintf(block, "{from: A, store_as: number}"))
	loaded := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
	require.Equal(t, 0, loaded.status, loaded.stdout+loaded.stderr)
	assert.NotContains(t, loaded.stdout, "kept as text")
	assert.Equal(t, []string{"a|30|integer|text", "b|5.5|real|text", "c|0|integer|null", "d|-4|integer|text"},
		w.query("SELECT name, age, typeof(age), typeof(note) FROM crew ORDER BY name"))
	for _, again := range [][]string{{"verify", "f.ladle.yaml"}, {"verify", "1"}, {"load", "f.ladle.yaml", "--yes"},
		{"undo", "1", "--yes"}} {
		out := w.run(append(again, "--db", w.db)...)
		assert.Equal(t, 0, out.status, "%v: %s", again, out.stdout+out.stderr)
	}
	assert.Equal(t, []string{"a|29|integer"}, w.query("SELECT name, age, typeof(age) FROM crew"))

	w.write("in.csv", "N,A,B\na,x,\n")
	assert.Contains(t, w.run("try", "f.ladle.yaml", "--db", w.db).stdout, `A "x" is not a number`)
	w.write("f.ladle.yaml", strings.Replace(fmt.Sprintf(block, "A"), "name: N", "name: {from: N, store_as: number}", 1))
	assert.Contains(t, w.run("try", "f.ladle.yaml", "--db", w.db).stderr,
		"store_as: has no effect on crew.name, which is declared as TEXT")
}
