package conformance

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// suite is a workbook that an office suite wrote; it has the sheet Register.
const suite = "../core/source/sheet/testdata/register."

// TestLoadsOfAllThatIsRead loads the same rows from files of all forms.
func TestLoadsOfAllThatIsRead(t *testing.T) {
	table := "CREATE TABLE vessel (id ID, reg_no WORD NOT NULL UNIQUE, name WORD, gt AMOUNT);"
	ladle := func(input string) string {
		return "ladle: 1\ninputs:\n  in: {" + input + "}\ntables:\n  vessel: {from: in, key: reg_no, columns: " +
			"{reg_no: Reg. No., name: Vessel, gt: GT}}\nset_aside_limit: any\n"
	}
	lines := "Reg. No.;Vessel;GT\r\n007;Møwe;1234.5\r\n008;Grey Heron;x\r\n009;same;0.5\r\n"
	cases := []struct {
		name, input string
		make        func(w *world)
		asides      []string
	}{
		{"semicolons in windows-1252", "file: in.csv, encoding: windows-1252", func(w *world) {
			w.write("in.csv",
				strings.ReplaceAll(lines, "ø", "\xf8"))
		}, []string{`in.csv:3: GT "x" is not a number`}},
		{"packed with gzip, with titles above", "file: in.csv.gz", func(w *world) {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			_, err := z.Write([]byte("Register;;\n" + lines))
			require.NoError(w, err)
			require.NoError(w, z.Close())
			w.write("in.csv.gz", b.String())
		}, []string{`in.csv.gz:4: GT "x" is not a number`}},
		{"several files, their columns in another order", "file: part-*.csv", func(w *world) {
			w.write("part-1.csv", "GT,Vessel,Reg. No.\n1234.5,Møwe,007\n")
			w.write("part-2.csv", "Vessel\tReg. No.\tGT\nGrey Heron\t008\tx\nsame\t009\t0.5\nagain\t009\t0.5\n"+
				"again\t009\t0.5\n")
		}, []string{`part-2.csv:2: GT "x" is not a number`,
			`part-2.csv:3: 2 other lines with the same key (reg_no) agree on a different Vessel, such as part-2.csv:4: "same" here, "again" there`,
			`part-2.csv:4: part-2.csv:3 has a different Vessel than the 2 lines with the same key (reg_no): "again" here, "same" there`,
			`part-2.csv:5: part-2.csv:3 has a different Vessel than the 2 lines with the same key (reg_no): "again" here, "same" there`}},
	}
	for _, c := range cases {
		everywhere(t, func(t *testing.T, on server) {
			t.Run(c.name, func(t *testing.T) {
				w := newWorld(t, on, table)
				c.make(w)
				w.write("f.ladle.yaml", ladle(c.input))
				doc, r := w.load("load")
				require.Equal(t, 4, r.status, r.stderr)
				assert.Equal(t, c.asides, doc.asides())
				want := []string{"007|Møwe|1234.5"}
				if len(c.asides) == 1 {
					want = append(want, "009|same|0.5")
				}
				assert.Equal(t, want, w.query("SELECT reg_no, name, gt FROM vessel ORDER BY 1"))
			})
		})
	}
	t.Run("standard input", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, table)
		w.write("f.ladle.yaml", ladle("file: \"-\""))
		c := exec.Command(program, "load", "f.ladle.yaml", "--db", w.db, "--yes")
		c.Dir, c.Stdin = w.dir, strings.NewReader(lines)
		out, _ := c.CombinedOutput()
		assert.Contains(t, string(out), `standard input:3: GT "x" is not a number`)
		assert.Len(t, w.query("SELECT 1 FROM vessel"), 2)
	})
}

func TestLoadOfAWorkbook(t *testing.T) {
	for _, format := range []string{"ods", "xlsx"} {
		t.Run(format, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, "CREATE TABLE vessel (id ID, reg_no WORD NOT NULL UNIQUE, name WORD, gt "+
				"AMOUNT, built DATE, share WORD);")
			book, err := os.ReadFile(suite + format)
			require.NoError(t, err)
			w.write("register."+format, string(book))
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: register."+format+
				", sheet: Register}}\nset_aside_limit: any\ntables:\n  vessel: {from: in, key: reg_no, columns: "+
				"{reg_no: Reg. No., name: Vessel, gt: GT, built: Built, share: Twice}}\n")
			doc, r := w.load("load")
			require.Equal(t, 4, r.status, r.stderr)
			assert.Equal(t, []string{"register." + format +
				`[Register]:5: Twice (L5) "#DIV/0!" is an error, not a value`}, doc.asides())
			assert.Equal(t, "vessel: 4 = 2 added, 0 same, 1 repeated, 1 aside", doc.tallies())
			assert.Equal(t, []string{"007|Aurelia & Sons|1234.5|1987-03-04", "009|same|0.1|"},
				w.query("SELECT reg_no, name, gt, ifnull(built, '') FROM vessel ORDER BY 1"))
			assert.Contains(t, w.read("in.set-aside.csv"), "line,why,Reg. No.,Vessel,Remarks,GT,")
			people := w.run("try", "f.ladle.yaml", "--db", w.db)
			assert.Contains(t, unwrap(people.stdout), "1 of its rows is hidden; it is read like the others")
		})
	}
}

func TestSurvey(t *testing.T) {
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	require.Equal(t, 0, w.run("demo").status)
	files := []string{"port-merrow/arrivals.csv", "port-merrow/cargo.csv", "port-merrow/vessel-register.csv",
		"port-merrow/berths.csv"}
	t.Run("people read what testdata/survey.txt has", func(t *testing.T) {
		r := w.run(append([]string{"survey"}, files...)...)
		require.Equal(t, 0, r.status, r.stderr)
		assert.Empty(t, r.stderr)
		if os.Getenv("LADLE_TEST_WRITE") != "" {
			require.NoError(t, os.WriteFile("testdata/survey.txt", []byte(r.stdout), 0o644))
		}
		want, err := os.ReadFile("testdata/survey.txt")
		require.NoError(t, err)
		assert.Equal(t, string(want), r.stdout, "LADLE_TEST_WRITE=1 writes it anew; read it before you commit it")
	})
	t.Run("one column in depth", func(t *testing.T) {
		r := w.run("survey", files[2], "--column", "gt")
		require.Equal(t, 0, r.status, r.stderr)
		for _, says := range []string{"GT, column 5 of port-merrow/vessel-register.csv", "written 1,234.5", "16 of 17",
			`line 15 "395 t"`, "Most frequent", "▆"} {
			assert.Contains(t, r.stdout, says)
		}
	})
	t.Run("one document", func(t *testing.T) {
		r := w.run("survey", "--json", files[3])
		var doc struct {
			Inputs []struct {
				Rows   int `json:"row_count"`
				Format struct {
					Delimiter struct{ Value string }
				}
				Columns []struct{ Name, Type string }
				Keys    []struct{ Columns []string } `json:"possible_keys"`
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
		assert.Equal(t, 6, doc.Inputs[0].Rows)
		assert.Equal(t, ",", doc.Inputs[0].Format.Delimiter.Value)
		assert.Equal(t, "decimal number", doc.Inputs[0].Columns[2].Type)
		assert.Equal(t, []string{"Code"}, doc.Inputs[0].Keys[0].Columns)
	})
	for _, c := range []struct {
		name      string
		arguments []string
		status    int
		says      string
	}{
		{"no file", nil, 2, "survey needs a file"},
		{"no such file", []string{"none.csv", files[3]}, 3, "none.csv: there is no such file"},
		{"no such column", []string{files[3], "--column", "Coed"}, 2, `there is no column "Coed" did you mean "Code"?`},
		{"a wrong option", []string{files[3], "--header", "first"}, 2, `--header can't be "first"`},
		{"a file that is no table", []string{"port-merrow/harbour.db"}, 1, "this is a database, not a file with rows"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := w.run(append([]string{"survey"}, c.arguments...)...)
			assert.Equal(t, c.status, r.status)
			assert.Contains(t, unwrap(r.stderr), c.says)
		})
	}
}

// TestSurveyOfHostileCells: what is in files reaches the screen as text, whatever it is.
func TestSurveyOfHostileCells(t *testing.T) {
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	w.write("in.csv", "Ves\x1b[31msel,Re\x07marks,\u202eTons\n"+strings.Repeat("Ot\x1b]0;title\x07ter,\u200bx,5\n", 30)+
		"Heron,\x1b[2J,many\n")
	for _, arguments := range [][]string{{"survey", "in.csv"}, {"survey", "in.csv", "--column", "Re\x07marks"},
		{"survey", "in.csv", "--column", "no\x1b[31m"}, {"survey", "no\x1b[31m.csv"}} {
		r := w.run(arguments...)
		for _, c := range r.stdout + r.stderr {
			assert.False(t, c < ' ' && c != '\n' || c == 0x7f || c == 0x202e || c == 0x200b,
				"%q reached the screen of %q", c, arguments)
		}
	}
	r := w.run("survey", "in.csv")
	assert.Equal(t, 0, r.status)
	assert.Contains(t, r.stdout, `\u001b`)
	assert.Contains(t, r.stdout, "with invisible characters")
	doc := w.run("survey", "in.csv", "--json")
	assert.True(t, json.Valid([]byte(doc.stdout)))
}

// TestSurveyOfWorkbooks reads the sheets that an office suite wrote, one by one, with all that is hidden in them.
func TestSurveyOfWorkbooks(t *testing.T) {
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	for _, format := range []string{"ods", "xlsx"} {
		book, err := os.ReadFile(suite + format)
		require.NoError(t, err)
		w.write("register."+format, string(book))
		r := w.run("survey", "register."+format)
		require.Equal(t, 0, r.status, r.stderr)
		for _, says := range []string{"register." + format + "[Register]: 4 rows, 11 columns",
			"register." + format + "[Old list]: 1 row, 2 columns",
			"workbook (" + format + "), header on row 3",
			`1 row above the header: "Vessel register of Port Merrow"`, "1 hidden row, read like the others",
			"hidden columns, read like the others: D", "2 formulas, of which the stored results are read",
			"sheets of the workbook: Register, Old list (hidden)", `B4 "007"`,
			`Twice: 1 cell with an error: L5 "#DIV/0! is an error, not a value"`} {
			assert.Contains(t, unwrap(r.stdout), says)
		}
		only := w.run("survey", "register."+format, "--range", "fleet")
		assert.Contains(t, only.stdout, "[Register]: 2 rows, 4 columns")
		both := w.run("survey", "register."+format, "--sheet", "Old list", "--json")
		var doc struct {
			Inputs []struct {
				Format struct{ Sheet, Type string }
				Rows   int `json:"row_count"`
			}
		}
		require.NoError(t, json.Unmarshal([]byte(both.stdout), &doc))
		require.Len(t, doc.Inputs, 1)
		assert.Equal(t, []any{"Old list", format, 1}, []any{doc.Inputs[0].Format.Sheet, doc.Inputs[0].Format.Type,
			doc.Inputs[0].Rows})
	}
}

// TestAWorkbookWithAChart is surveyed and drafted by its sheets with cells, and a formula that nobody computed is told.
func TestAWorkbookWithAChart(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port)
	book := excelize.NewFile()
	defer book.Close()
	for cell, value := range map[string]any{"A1": "Reg", "B1": "GT", "A2": "R1", "B2": 5} {
		require.NoError(t, book.SetCellValue("Sheet1", cell, value))
	}
	require.NoError(t, book.AddChartSheet("Tonnage", &excelize.Chart{Type: excelize.Col, Series: []excelize.ChartSeries{
		{Name: "Sheet1!$B$1", Categories: "Sheet1!$A$2:$A$2", Values: "Sheet1!$B$2:$B$2"}}}))
	require.NoError(t, book.SaveAs(w.path("in.xlsx")))
	surveyed := w.run("survey", "in.xlsx")
	require.Equal(t, 0, surveyed.status, surveyed.stderr)
	assert.Contains(t, unwrap(surveyed.stdout), "Sheet1, Tonnage (a chart)")
	assert.Equal(t, 0, w.run("survey", "in.xlsx", "--json").status)
	asked := w.run("survey", "in.xlsx", "--sheet", "Tonnage")
	assert.Contains(t, asked.stderr, `sheet "Tonnage" holds a chart or the like, not cells`)
}

// TestAGuessedHeaderLosesNoLine: where nothing but a guess says that a line is a header, and its names are not used, it
// must be said.
func TestAGuessedHeaderLosesNoLine(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE kind (id ID, name VARCHAR(9) NOT NULL UNIQUE, note VARCHAR(9));")
	const ladle = "ladle: 1\ninputs: {in: {file: in.csv%s}}\ntables: {kind: {from: in, key: name, columns: {name: " +
		"%s, note: column 2}}}\n"
	w.write("in.csv", "Tug,a\nFerry,b\nBarge,c\n")
	for _, c := range []struct {
		said, name string
		status     int
		says       string
	}{
		{"", "column 1", 2, "line 1 of input in (in.csv) is taken for its header, which is a guess"},
		{", header: none", "column 1", 0, "3 rows added"},
		{", header: 1", "column 1", 0, "2 rows added"},
		{"", "Tug", 0, "2 rows added"},
		{", new_columns: {both: {join: [column 1, column 2]}}", "both", 2,
			"line 1 of input in (in.csv) is taken for its header"},
		{", new_columns: {both: {join: [Tug, column 2]}}", "both", 0, "2 rows added"},
		{", new_columns: {both: upper(Tug)}", "both", 0, "2 rows added"},
	} {
		w.write("f.ladle.yaml", fmt.Sprintf(ladle, c.said, c.name))
		out := w.run("try", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, c.status, out.status, c.said)
		assert.Contains(t, out.stdout+out.stderr, c.says, c.said)
		assert.NotContains(t, out.stdout, "the header is a guess")
	}
}
