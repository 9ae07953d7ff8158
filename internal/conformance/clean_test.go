package conformance

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// messyPort is a small harbour whose file needs everything that a rule can do.
const messyPort = `
	CREATE TABLE flag (id ID, name VARCHAR(40) NOT NULL UNIQUE);
	CREATE TABLE vessel (id ID, reg_no VARCHAR(10) NOT NULL UNIQUE, name VARCHAR(12) NOT NULL, flag_id INTEGER REFERENCES flag (id),
		gt DECIMAL(10,2), built DATE, phone VARCHAR(20), quay VARCHAR(20), per_call DECIMAL(8,2), active INTEGER);
	CREATE TABLE tug (id ID, reg_no VARCHAR(10) NOT NULL UNIQUE, horse_power INTEGER);
	INSERT INTO flag (name) VALUES ('Norway'), ('United Kingdom');
`

const messyLadle = `ladle: 1
inputs:
  in:
    file: in.csv
    columns:
      Reg: {clean: [squeeze, upper, {regex: '^PM ?(\d+)$', becomes: PM-$1}]}
      Name: {clean: [squeeze, title], shorten_to: 12}
      Flag: {blank_is: ["?", n/a], clean: trim, recode: {U.K.: United Kingdom}, default: Norway}
      GT: {number: "€1.234,56", round: 2}
      Built: {date: [dd/MM/yyyy, d MMM yyyy], two_digit_years_from: 1940}
      Phone: {clean: [digits, {pad: 9}]}
      Berth: {split: {at: "/", columns: [Place, Quay]}}
      Quay: {if_blank: {as_in_lines_with_same: Place}}
      Dues: {number: "1.234,5"}
      Calls: {number: "1234"}
      Per call: {number: "1.234,5", if_blank: {formula: dues / calls}, round: 2}
      Active: {yes_is: [y, yes], no_is: n}
    new_columns:
      Horse power: {formula: "coalesce(gt, 0) * 2", round: 0}
    only: is_blank(status) or status != "cancelled"
tables:
  vessel:
    from: in
    key: reg_no
    columns: {reg_no: Reg, name: Name, flag_id: {from: Flag, lookup: flag.name}, gt: GT, built: Built, phone: Phone, quay: Quay, per_call: Per call, active: Active}
  tug:
    from: in
    only: kind == "tug"
    columns: {reg_no: Reg, horse_power: Horse power}
set_aside_limit: any
`

const messyCSV = `Reg;Name;Flag;GT;Built;Phone;Berth;Dues;Calls;Per call;Active;Kind;Status
 pm 0101 ;GREY   HERON;Norway;€1.840,555;14/03/1998;(0555) 0101;N1/North;1.000,0;3;;Y;tug;
PM-0102;saltire belle of merrow;U.K.;8.120;1 Mar 2006;;N1;;;12,345;n;;done
pm0103;tern;?;;;17;S1;10;0;;yes;tug;
PM-0104;skua;Norway;-5;31/02/2001;;S1/Salt;;;1;n;;
PM-0105;gull;Norway;;;;N1/South;;;1;n;tug;cancelled
PM-0106;petrel; Norway ;x;;;N1;;;1;maybe;tug;
PM-0107;auk;Norway;0,1;;;N1/North;;;1;n;tug;
`

func TestMessyFilesAreCleaned(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, messyPort)
		w.write("f.ladle.yaml", messyLadle)
		w.write("in.csv", messyCSV)
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stdout+out.stderr)
		assert.Equal(t, []string{
			"PM-0101|Grey Heron|Norway|1840.56|1998-03-14|005550101|North|333.33|1",
			"PM-0102|Saltire Bell|United Kingdom|8120|2006-03-01|NULL|North|12.35|0",
			"PM-0107|Auk|Norway|0.1|NULL|NULL|North|1|0",
		}, w.query("SELECT reg_no, vessel.name, flag.name, gt, built, phone, quay, per_call, active FROM vessel JOIN "+
			"flag ON flag.id = flag_id ORDER BY 1"))
		assert.Equal(t, []string{"PM-0101|3681", "PM-0103|0", "PM-0107|0"},
			w.query("SELECT reg_no, horse_power FROM tug ORDER BY 1"))
		assert.Equal(t, []string{
			`in.csv:4: Per call can't be computed: the formula divides by zero`,
			`in.csv:5: Built "31/02/2001" is a day or time that doesn't exist`,
			`in.csv:7: GT "x" is not a number like €1.234,56; Active "maybe" is neither yes (y, yes) nor no (n)`,
		}, doc.asides())
		var tallies []string
		for _, s := range doc.Steps {
			tallies = append(tallies, s.Step)
			assert.EqualValues(t, map[string]int64{"vessel": 1, "tug": 3}[s.Step], s.Tally.LeftOut, s.Step)
		}
		assert.ElementsMatch(t, []string{"vessel", "tug"}, tallies)
	})
}

func TestCorrectedLinesAreJudgedWithTheOthers(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, messyPort)
		w.write("f.ladle.yaml", strings.Replace(messyLadle, "set_aside_limit: any", "", 1))
		w.write("in.csv", messyCSV)
		doc, _ := w.load("load")
		require.Equal(t, 1, doc.Status)
		given := w.read("in.set-aside.csv")
		corrected := strings.NewReplacer(";10;0;", ";10;4;", "31/02/2001", "28/02/2001", ";x;;;N1;;;1;maybe;",
			";7,5;;;N1;;;1;y;").Replace(given)

		t.Run("lines that were left as they were are set aside again", func(t *testing.T) {
			w.write("in.csv", messyCSV+"PM-0108;ragged\n")
			first, _ := w.load("try")
			again, out := w.load("try", "--corrected", "in.set-aside.csv")
			require.Equal(t, 1, again.Status, out.stderr)
			assert.Equal(t, first.asides(), again.asides())
			w.write("in.csv", messyCSV)
		})
		t.Run("given back as another program saves it", func(t *testing.T) {
			rows, err := readAll(corrected, ';')
			require.NoError(t, err)
			var b strings.Builder
			out := csv.NewWriter(&b) // with commas
			require.NoError(t, out.WriteAll(rows))
			w.write("in.set-aside.csv", b.String())
			doc, out2 := w.load("try", "--corrected", "in.set-aside.csv")
			require.Equal(t, 0, doc.Status, out2.stdout+out2.stderr)
			w.write("saved.csv", b.String())
			doc, _ = w.load("try", "--corrected", "in=saved.csv")
			assert.Equal(t, 0, doc.Status)
		})
		w.write("in.set-aside.csv", corrected)
		doc, out := w.load("load", "--corrected", "in.set-aside.csv")
		require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
		assert.Contains(t, out.stdout, "in.corrected.csv: 3 corrected lines are used")
		assert.Equal(t, []string{"PM-0103|2.5|1", "PM-0104|1|0", "PM-0106|1|1"},
			w.query("SELECT reg_no, per_call, active FROM vessel WHERE reg_no IN ('PM-0103', 'PM-0104', 'PM-0106') "+
				"ORDER BY 1"))
		assert.Equal(t, []string{"6"}, w.query("SELECT COUNT(*) FROM vessel"))

		for name, c := range map[string]struct{ file, why string }{
			"another input": {strings.Replace(corrected, "of the input: ", "of the input: 0", 1),
				"has changed since these lines were set aside"},
			"no title":          {strings.SplitN(corrected, "\r\n", 2)[1], "this is not a set-aside file"},
			"other columns":     {strings.Replace(corrected, ";Flag;", ";Flags;", 1), "its columns are"},
			"a line of nowhere": {strings.Replace(corrected, "\r\n5;", "\r\n99;", 1), "the input has no such line"},
			"no line": {strings.Replace(corrected, "\r\n5;", "\r\nfive;", 1),
				`"five" is not a line of in.csv`},
			"the same line twice": {corrected + corrected[strings.LastIndex(corrected[:len(corrected)-2], "\r\n")+2:],
				"twice"},
			"a line that is none": {corrected + "6\r\n", "the line has only 1 of 15 fields"},
		} {
			w.write("in.set-aside.csv", c.file)
			before := w.data()
			doc, out := w.load("load", "--corrected", "in.set-aside.csv")
			assert.Equal(t, 1, doc.Status, name)
			assert.Contains(t, out.stderr, c.why, name)
			assert.Equal(t, before, w.data(), name)
		}
	})
}

func readAll(text string, delimiter rune) ([][]string, error) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord = delimiter, -1
	return r.ReadAll()
}

// TestPreparedFilesReadBackAsWhatTheyWere: what prepare writes, as text and as workbook, is what load puts into tables.
func TestPreparedFilesReadBackAsWhatTheyWere(t *testing.T) {
	w := newWorld(t, sqliteFile{}, messyPort)
	w.write("f.ladle.yaml", messyLadle)
	w.write("in.csv", messyCSV+"=1+1;\"@sum, \"\"x\"\"\";-;;;+47;N1;;;1;n;;-2\n")
	for format, flag := range map[string]string{"in.csv": "--replace", "in.xlsx": "--workbook"} {
		r := w.run("prepare", "f.ladle.yaml", "-o", "out", flag, "--json")
		require.Equal(t, 4, r.status, r.stderr)
		var doc struct {
			Inputs []struct {
				Tally   struct{ Read, Written, Left_out, Set_aside int64 }
				Guarded int64 `json:"guarded_cells"`
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
		in := doc.Inputs[0]
		assert.Equal(t, []int64{8, 4, 1, 3}, []int64{in.Tally.Read, in.Tally.Written, in.Tally.Left_out,
			in.Tally.Set_aside})
		assert.Equal(t, format == "in.csv", in.Guarded > 0)
		w.write("g.ladle.yaml", "ladle: 1\ninputs: {in: {file: out/"+format+
			", header: 1, columns: {Active: {yes_is: ['true', 1], no_is: ['false', 0]}}}}\ntables: {vessel: {from: "+
			"in, key: reg_no, columns: {reg_no: Reg, name: Name, gt: GT, built: Built, phone: Phone, quay: Quay, "+
			"per_call: Per call, active: Active}}}\n")
		got := newWorld(t, sqliteFile{}, messyPort)
		got.dir = w.dir
		r = got.run("load", "g.ladle.yaml", "--db", got.db, "--yes")
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Equal(t, []string{
			"PM-0101|Grey Heron|1840.56|1998-03-14|005550101|North|333.33|1",
			"PM-0102|Saltire Bell|8120|2006-03-01|NULL|North|12.35|0", "PM-0107|Auk|0.1|NULL|NULL|North|1|0",
		}, got.query("SELECT reg_no, name, gt, built, phone, quay, per_call, active FROM vessel WHERE reg_no LIKE "+
			"'PM%' ORDER BY 1"), format)
	}
	text := w.read("out/in.csv")
	assert.Contains(t, text, "\r\n'=1+1,\"'@Sum, \"\"X\"\"\",'-,,,000000047,N1,,,1,false,,-2,",
		"nothing that a spreadsheet runs")
	assert.Contains(t, w.read("out/in.set-aside.csv"), "PM-0106;petrel; Norway ;x;;;N1;;;1;maybe;tug;")
	f, err := excelize.OpenFile(filepath.Join(w.dir, "out/in.xlsx"))
	require.NoError(t, err)
	defer f.Close()
	for cell, want := range map[string]excelize.CellType{"A2": excelize.CellTypeInlineString,
		"D2": excelize.CellTypeUnset, "A5": excelize.CellTypeInlineString, "F5": excelize.CellTypeInlineString,
		"K2": excelize.CellTypeBool} {
		kind, err := f.GetCellType("in", cell)
		require.NoError(t, err)
		assert.Equal(t, want, kind, cell)
		formula, err := f.GetCellFormula("in", cell)
		assert.NoError(t, err)
		assert.Empty(t, formula, cell)
	}

	t.Run("nothing is written over", func(t *testing.T) {
		before := w.read("out/in.csv")
		r := w.run("prepare", "f.ladle.yaml", "-o", "out")
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, "the file exists already")
		assert.Equal(t, before, w.read("out/in.csv"))
		r = w.run("prepare", "f.ladle.yaml", "-o", ".", "--replace")
		assert.Contains(t, r.stderr, "this is one of the input files")
		assert.Equal(t, 2, r.status)
	})
	t.Run("nothing half is left", func(t *testing.T) {
		w.write("in.csv", messyCSV+"\"no end;;\n")
		r := w.run("prepare", "f.ladle.yaml", "-o", "half")
		assert.Equal(t, 1, r.status, r.stderr)
		left, err := os.ReadDir(w.path("half"))
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

func TestSurveyShowsTheInputsOfALadleFileAsItCleansThem(t *testing.T) {
	w := newWorld(t, sqliteFile{}, messyPort)
	w.write("f.ladle.yaml", messyLadle)
	w.write("in.csv", messyCSV)
	r := w.run("survey", "f.ladle.yaml", "--json")
	require.Equal(t, 0, r.status, r.stderr)
	var doc struct {
		Inputs []struct {
			Rows    int64 `json:"row_count"`
			Columns []struct{ Name, Type, Least, Greatest string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
	assert.EqualValues(t, 6, doc.Inputs[0].Rows, "one row is left out")
	types := map[string]string{}
	for _, c := range doc.Inputs[0].Columns {
		types[c.Name] = c.Type
	}
	assert.Equal(t, "decimal number", types["GT"])
	assert.Equal(t, "date", types["Built"])
	assert.Contains(t, types, "Horse power")
	assert.Contains(t, types, "Quay")
	r = w.run("survey", "f.ladle.yaml", "--header", "2")
	assert.Equal(t, 2, r.status)
	assert.Contains(t, r.stderr, "itself says how its inputs are read")
}

func TestReasonsComeInGroupsWithAdvice(t *testing.T) {
	w := newWorld(t, sqliteFile{}, messyPort)
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {vessel: {from: in, key: reg_no, "+
		"columns: {reg_no: Reg, name: Name, gt: GT, built: Built}}}\n")
	w.write("in.csv", "Reg;Name;GT;Built\nA;a;1.234,5;14/03/2026\nB;b;7,25;15/03/2026\nC;c;12;soon\nD;a name too "+
		"long;1;\n")
	r := w.run("try", "f.ladle.yaml", "--db", w.db)
	require.Equal(t, 1, r.status)
	shown := strings.Join(strings.Fields(r.stdout), " ")
	for _, want := range []string{
		`Built is not a date like 2026-03-31: in.csv:2 "14/03/2026", in.csv:3 "15/03/2026", in.csv:4 "soon" to solve 2 of them, put Built: {date: dd/MM/yyyy} under inputs: in: columns:`,
		`GT is not a plain number like 1234.5: in.csv:2 "1.234,5", in.csv:3 "7,25" to solve them, put GT: {number: '1.234,50'} under inputs: in: columns:`,
		`in.csv:5: Name "a name too long" is longer than the 12 characters that the column takes to solve it, put Name: {shorten_to: 12} under inputs: in: columns: this cuts the texts; the longest has 15 characters`,
	} {
		assert.Contains(t, shown, want)
	}
}

// TestWhatAWorkbookStoresNeedsNoNotation: numbers and dates of typed cells are what they are, whatever the rule says of
// texts.
func TestWhatAWorkbookStoresNeedsNoNotation(t *testing.T) {
	w := newWorld(t, sqliteFile{}, messyPort)
	f := excelize.NewFile()
	rows := [][]any{{"Reg", "Name", "GT", "Built"}, {"A", "a", 1234.5, nil}, {"B", "b", "€2.345,5", "14/03/2026"}}
	for i, r := range rows {
		for c, cell := range r {
			at, err := excelize.CoordinatesToCellName(c+1, i+1)
			require.NoError(t, err)
			require.NoError(t, f.SetCellValue("Sheet1", at, cell))
		}
	}
	format := "dd/mm/yyyy"
	style, err := f.NewStyle(&excelize.Style{CustomNumFmt: &format})
	require.NoError(t, err)
	require.NoError(t, f.SetCellValue("Sheet1", "D2", 46095)) // 2026-03-14
	require.NoError(t, f.SetCellStyle("Sheet1", "D2", "D2", style))
	require.NoError(t, f.SaveAs(w.path("in.xlsx")))
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.xlsx, columns: {GT: {clean: trim, number: '€1.234,56'}, "+
		"Built: {date: dd/MM/yyyy}}}}\ntables: {vessel: {from: in, key: reg_no, columns: {reg_no: Reg, name: Name, "+
		"gt: GT, built: Built}}}\n")
	doc, out := w.load("load")
	require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
	assert.Equal(t, []string{"A|1234.5|2026-03-14", "B|2345.5|2026-03-14"},
		w.query("SELECT reg_no, gt, built FROM vessel ORDER BY 1"))
}
