package conformance

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// TestCorrectionsHoldInRounds: what was put right stays right, whatever is put right later, wherever the line stands,
// and for every command.
func TestCorrectionsHoldInRounds(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE vessel (id ID, reg VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(20), gt "+
			"DECIMAL(8,1));")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {vessel: {from: in, "+
			"key: reg, columns: {reg: R, name: N, gt: G}}}\nset_aside_limit: any\n")
		w.write("in.csv", "R,N,G\nA1,Heron,1\nA2,=1+1,x\nA3,'=2,y\nA4,Skua,z\nA5,Gull,w\n")
		first, _ := w.load("try")
		require.Len(t, first.SetAside, 4)
		given := w.read("in.set-aside.csv")
		assert.Contains(t, given, ",A2,'=1+1,x\r\n", "a spreadsheet would run it")
		assert.Contains(t, given, ",A3,''=2,y\r\n")

		w.write("in.set-aside.csv", strings.NewReplacer(",x\r\n", ",2\r\n", "\r\n5,", "\r\ndrop 5,").Replace(given))
		second, out := w.load("try", "--corrected", "in.set-aside.csv")
		assert.Equal(t, []string{"vessel: 5, 2 added, 1 out, 2 aside"}, second.accounts(), out.stderr)
		assert.Equal(t, []string{`in.csv:4: G "y" is not a number`, `in.csv:6: G "w" is not a number`}, second.asides())

		rest := strings.Replace(w.read("in.set-aside.csv"), ",y\r\n", ",3\r\n", 1)
		w.write("in.set-aside.csv", rest[:strings.Index(rest, "6,")])
		third, out := w.load("load", "--corrected", "in.set-aside.csv")
		assert.Equal(t, []string{"vessel: 5, 3 added, 1 out, 1 aside"}, third.accounts(), out.stderr)
		assert.Contains(t, out.stdout, "of the 2 lines that were set aside, the file lacks 1")
		assert.Equal(t, []string{"A1|Heron|1", "A2|=1+1|2", "A3|'=2|3"},
			w.query("SELECT reg, name, gt FROM vessel ORDER BY reg"))

		verified := w.run("verify", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 0, verified.status, verified.stdout)
		again, _ := w.load("load")
		assert.Equal(t, []string{"vessel: 5, 3 same, 1 out, 1 aside"}, again.accounts())
		assert.Contains(t, w.run("runs", "1", "--db", w.db, "--json").stdout, `"corrected_lines_sha256": "`)
		prepared := w.run("prepare", "f.ladle.yaml", "-o", "out")
		assert.Contains(t, prepared.stdout, "in.corrected.csv: 2 corrected lines are used")
		surveyed := w.run("survey", "f.ladle.yaml")
		assert.Contains(t, surveyed.stdout, "in.corrected.csv: 2 corrected lines are used")

		w.write("in.csv", "R,N,G\nA9,Tern,9\nA3,'=2,y\nA1,Heron,1\nA2,=1+1,x\n") // the next month
		moved, out := w.load("try")
		assert.Equal(t, []string{"vessel: 4, 1 added, 3 same"}, moved.accounts())
		assert.Contains(t, out.stdout, "in.corrected.csv: 1 corrected line is not used, since the input no longer "+
			"has what was corrected there")

		w.write("in.corrected.csv", strings.Replace(w.read("in.corrected.csv"), ",R,", ",Reg,", 1))
		odd := w.run("try", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 1, odd.status)
		assert.Contains(t, odd.stderr, "in.corrected.csv:2: its columns are line, original, Reg, N, G, not line, "+
			"original, R, N, G")
	})
}

// TestTheSameContentTwice: of lines that are the same, each keeps its own correction where it stands; elsewhere nobody
// knows which is meant, and nothing is guessed.
func TestTheSameContentTwice(t *testing.T) {
	w := ofStays(t, sqliteFile{}, "set_aside_limit: any\n")
	w.write("in.csv", "Reg,Berth,Tons\nR1,N1,x\nR1,N1,x\n")
	doc, _ := w.load("try")
	require.Len(t, doc.SetAside, 2)
	w.write("in.set-aside.csv", strings.Replace(strings.Replace(w.read("in.set-aside.csv"), ",x\r\n", ",1\r\n", 1),
		",x\r\n", ",2\r\n", 1))
	doc, out := w.load("try", "--corrected", "in.set-aside.csv")
	assert.Equal(t, 0, doc.Status, out.stderr)
	w.write("in.csv", "Reg,Berth,Tons\nR0,N1,5\nR2,N1,7\nR1,N1,x\nR1,N1,x\n")
	doc, _ = w.load("try")
	assert.Equal(t, []string{"stay: 4, 2 added, 2 aside"}, doc.accounts())
}

// TestTheSameContentLeftAsItWas: a correction is of the line that it was made of, not of others with the same content
// that were left as they were, or that the file no longer has.
func TestTheSameContentLeftAsItWas(t *testing.T) {
	w := ofStays(t, sqliteFile{}, "set_aside_limit: any\n")
	w.write("in.csv", "Reg,Tons\nR1,x\nR1,x\nR2,3\nR1,x\n")
	_, _ = w.load("try")
	lines := strings.SplitAfter(w.read("in.set-aside.csv"), "\r\n")
	head, second, third := lines[0]+lines[1], strings.Replace(lines[2], ",x\r", ",1\r", 1), lines[3]
	for _, c := range []struct{ given, account, note string }{
		{second + third, "stay: 4, 2 added, 2 aside", "in.corrected.csv: 1 corrected line is used"},
		{second + third, "stay: 4, 2 added, 2 aside", "given.csv has no new corrections"},
		{lines[2] + third, "stay: 4, 1 added, 3 aside", "given.csv takes back all corrections"},
		{strings.Repeat("drop,,R1,x\r\n", 3), "stay: 4, 1 added, 3 out", "in.corrected.csv: 3 lines are left out"},
		{second + third, "stay: 4, 2 added, 1 out, 1 aside", "in.corrected.csv: 1 line is left out"},
	} {
		w.write("given.csv", head+c.given)
		doc, out := w.load("try", "--corrected", "in=given.csv")
		assert.Equal(t, []string{c.account}, doc.accounts(), out.stderr)
		assert.Contains(t, out.stdout, c.note)
	}
	w.write("given.csv", head+"drop,,R1,x\r\n")
	out := w.run("try", "f.ladle.yaml", "--db", w.db, "--corrected", "in=given.csv")
	assert.Contains(t, out.stderr, "given.csv:3: it is not clear which line is to be dropped: the input has several "+
		"like this")

	w.write("given.csv", head+strings.Replace(lines[4], ",x\r", ",7\r", 1))
	doc, out := w.load("try", "--corrected", "in=given.csv", "--first", "2")
	assert.Equal(t, []string{"stay: 2, 1 added, 1 aside"}, doc.accounts(), out.stderr)
}

// ofStays is a world with a table without a key, whose ladle file ends with more.
func ofStays(t *testing.T, on server, more string) *world {
	w := newWorld(t, on, "CREATE TABLE stay (id ID, reg_no VARCHAR(9) NOT NULL, tons DECIMAL(8,1));")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {stay: {from: in, key: "+
		"none, columns: {reg_no: Reg, tons: Tons}}}\n"+more)
	return w
}

// TestRowsThatAreThereAlready: without a key, rows of another file that are in the table already are counted.
func TestRowsThatAreThereAlready(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := ofStays(t, on, "")
		w.write("in.csv", "Reg,Tons\nR1,1\nR1,1\nR2,\n")
		require.Equal(t, 0, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes").status)
		w.write("in.csv", "Reg,Tons\nR1,1\nR2,\nR2,\nR3,3\n")
		tried := w.run("try", "f.ladle.yaml", "--db", w.db)
		assert.Contains(t, tried.stdout, "stay: 2 of 4 rows to be added are in the table already, with the same values")
		assert.Contains(t, w.run("verify", "f.ladle.yaml", "--db", w.db).stdout, "Missing in stay: 2")
	})
}

// TestSetAsideLinesAsAWorkbook: bad cells are coloured and have their reasons as notes, nothing in it is a formula, it
// is given back as CSV is, and is moved out of the way once it was edited.
func TestSetAsideLinesAsAWorkbook(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE stay (id ID, reg_no VARCHAR(9) NOT NULL UNIQUE, tons DECIMAL(8,1));")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {stay: {from: in, key: "+
		"reg_no, columns: {reg_no: Reg, tons: Tons}}}\nset_aside_limit: any\nset_aside_as: workbook\n")
	w.write("in.csv", "Reg,Tons\nR1,1\n=R2,x\n\"R\n3\",y\n")
	doc, out := w.load("try")
	require.Len(t, doc.SetAside, 2, out.stderr)
	_, out = w.load("try")
	assert.NotContains(t, out.stdout, "edited-1", "nobody has edited it")

	book, err := excelize.OpenFile(w.path("in.set-aside.xlsx"))
	require.NoError(t, err)
	defer book.Close()
	rows, err := book.GetRows("set aside")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"line", "why", "Reg", "Tons"}, {"3", `Tons "x" is not a number`, "=R2", "x"},
		{"4", `Tons "y" is not a number`, "R\n3", "y"}}, rows[1:])
	formula, err := book.GetCellFormula("set aside", "C3")
	require.NoError(t, err)
	assert.Empty(t, formula)
	notes, err := book.GetComments("set aside")
	require.NoError(t, err)
	require.Len(t, notes, 2)
	assert.Equal(t, []string{"D3", `Tons "x" is not a number`}, []string{notes[0].Cell, notes[0].Paragraph[0].Text})
	plain, err := book.GetCellStyle("set aside", "C3")
	require.NoError(t, err)
	coloured, err := book.GetCellStyle("set aside", "D3")
	require.NoError(t, err)
	assert.NotEqual(t, plain, coloured)

	require.NoError(t, book.SetCellValue("set aside", "D3", 2)) // as a spreadsheet stores what is typed
	require.NoError(t, book.SetCellValue("set aside", "A4", "drop 4"))
	require.NoError(t, book.Save())
	doc, out = w.load("load", "--corrected", "in.set-aside.xlsx")
	assert.Equal(t, []string{"stay: 3, 2 added, 1 out"}, doc.accounts(), out.stderr)
	assert.Equal(t, []string{"=R2|2", "R1|1"}, w.query("SELECT reg_no, tons FROM stay ORDER BY reg_no"))
	w.write("in.csv", "Reg,Tons\nR1,1\nR9,z\n")
	_, out = w.load("try")
	assert.Contains(t, out.stdout, "in.set-aside.edited-1.xlsx")

	w.write("in.csv", "Reg,Tons\n\"R\x01\",z\n")
	held := w.run("try", "f.ladle.yaml", "--db", w.db)
	assert.Equal(t, 3, held.status)
	assert.Contains(t, held.stderr, `can't hold the characters of "R\x01"; write set_aside_as: csv`)
}

// TestOtherFilesForAnInput: this month's file is read without an edit of the ladle file, by each command that reads
// files.
func TestOtherFilesForAnInput(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE kind (id ID, name VARCHAR(9) NOT NULL UNIQUE);")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: january.csv, header: 1}}\ntables: {kind: {from: in, key: "+
		"name, columns: {name: Name}}}\n")
	w.write("february.csv", "Name\nTug\n")
	w.write("march.csv", "Name\nFerry\n")
	given := []string{"--input", "in=february.csv", "--input", "in=march.csv"}
	for _, command := range [][]string{{"try", "--db", w.db}, {"load", "--db", w.db, "--yes"}, {"verify", "--db", w.db},
		{"prepare", "-o", "out"}} {
		out := w.run(append(append([]string{command[0], "f.ladle.yaml"}, command[1:]...), given...)...)
		assert.Equal(t, 0, out.status, "%v: %s", command, out.stdout+out.stderr)
	}
	assert.Equal(t, []string{"Ferry", "Tug"}, w.query("SELECT name FROM kind ORDER BY name"))
	for said, why := range map[string]string{"im=march.csv": `there is no input "im"`,
		"march.csv":   "write it as NAME=FILE",
		"in=none.csv": "none.csv"} {
		out := w.run("try", "f.ladle.yaml", "--db", w.db, "--input", said)
		assert.NotEqual(t, 0, out.status)
		assert.Contains(t, out.stderr, why)
	}
}

// TestLinesThatAreMadeOfOneAreCorrectedByThemselves: of a line of the file that becomes several, each is set aside,
// corrected and dropped by itself, and the others stay as they are.
func TestLinesThatAreMadeOfOneAreCorrectedByThemselves(t *testing.T) {
	w := newWorld(t, sqliteFile{},
		"CREATE TABLE tons (id ID, code WORD NOT NULL, month WORD NOT NULL, part INT, kind WORD, tons INT, "+
			"UNIQUE (code, month, kind));")
	w.write("f.ladle.yaml", "ladle: 1\ninputs:\n  in:\n    file: in.csv\n    header: 1\n"+
		"    columns_to_rows: {columns: {from: Jan}, heading: Month, value: Tons}\n    parts_to_rows: {column: "+
		"Kind, at: ';', number: Part}\n"+
		"tables:\n  tons: {from: in, key: [code, month, kind], columns: {code: Code, month: Month, part: Part, "+
		"kind: Kind, tons: Tons}}\nset_aside_limit: any\n")
	w.write("in.csv", "Code,Kind,Jan,Feb,Mar\nA,Salt;Coal,5,x,y\nB,Salt,1,,3\n")
	_, r := w.load("load")
	require.Equal(t, 4, r.status, r.stderr)
	given := w.read("in.set-aside.csv")
	for _, line := range []string{"2 part 3,\"Tons \"\"x\"\" is not a number\",A,Salt,Feb,x,1", "2 part 4,",
		"2 part 5,",
		"2 part 6,"} {
		assert.Contains(t, given, "\n"+line)
	}
	w.write("in.set-aside.csv", strings.NewReplacer("Salt,Feb,x", "Salt,Feb,8", "Coal,Feb,x", "Coal,Feb,9",
		"\n2 part 5,", "\ndrop 2 part 5,").
		Replace(given))
	doc, r := w.load("load", "--corrected", "in.set-aside.csv")
	require.Equal(t, 4, r.status, r.stdout+r.stderr)
	assert.Equal(t, []string{"tons: 8, 2 added, 4 same, 1 out, 1 aside"}, doc.accounts())
	assert.Equal(t, []string{"A|Feb|Coal|9", "A|Feb|Salt|8", "A|Jan|Coal|5", "A|Jan|Salt|5", "B|Jan|Salt|1",
		"B|Mar|Salt|3"}, w.query("SELECT code, month, kind, tons FROM tons ORDER BY 1, 2, 3"))
	doc, _ = w.load("load")
	assert.Equal(t, []string{"tons: 8, 6 same, 1 out, 1 aside"}, doc.accounts(), "they are kept")
	for wrong, says := range map[string]string{"2 part 9": "its line refers to in.csv:2 part 9, but the input has " +
		"no such line",
		"2 part x": `"2 part x" is not a line of in.csv`} {
		w.write("in.set-aside.csv", strings.Replace(given, "2 part 6", wrong, 1))
		_, r := w.load("load", "--corrected", "in.set-aside.csv")
		assert.Contains(t, r.stderr, says)
	}
}
