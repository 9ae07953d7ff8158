package conformance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// looked is what ladle look --json says.
type looked struct {
	Pages []struct {
		Of      string
		Columns []string
		Rows    []struct {
			Line  int64
			Cells []*string
			Odd   string
		}
		More bool
	}
}

func (w *world) look(arguments ...string) (doc looked) {
	w.Helper()
	r := w.run(append([]string{"look", "--json"}, arguments...)...)
	require.Equal(w, 0, r.status, r.stderr)
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &doc))
	return doc
}

// unscaled takes off the zeros that a declared scale adds.
var unscaled = strings.NewReplacer("16.5000", "16.5", "12.0000", "12")

// page is the rows of a page in short: their lines, and cells.
func (d looked) page(i int) (all []string) {
	for _, r := range d.Pages[i].Rows {
		var cells []string
		for _, c := range r.Cells {
			if c == nil {
				cells = append(cells, "NULL")
				continue
			}
			cells = append(cells, unscaled.Replace(*c))
		}
		all = append(all, strings.TrimSpace(fmt.Sprintf("%d %s %s", r.Line, strings.Join(cells, "|"), r.Odd)))
	}
	return all
}

// TestLook: rows of files as they stand, of inputs as they are cleaned, and of tables with their foreign keys by name.
func TestLook(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quaysAndCranes+"INSERT INTO crane (crane_no, quay_id, lift_t) VALUES (2, 2, 16.5), (3, "+
			"2, 12);")
		w.write("cranes.csv", "# title\nCrane;Lift\n1;40 t\n2;x\n3\n4;7 t\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: cranes.csv, header: 2, columns: {Lift: {number: 1234 "+
			"t}}, only: crane != 4}}\ntables: {crane: {from: in, columns: {crane_no: Crane}}}\n")
		file := w.look("cranes.csv", "--header", "2", "--lines", "2")
		assert.Equal(t, []string{"3 1|40 t", "4 2|x"}, file.page(0))
		assert.True(t, file.Pages[0].More)
		assert.Equal(t, []string{"5 3| the line has only 1 of 2 fields", "6 4|7 t"},
			w.look("cranes.csv", "--header", "2", "--from", "5").page(0))
		assert.Equal(t, []string{"3 1|40", "4 2|x is not a number like 1234 t", "5 3| the line has only 1 of 2 fields"},
			w.look("f.ladle.yaml").page(0))
		assert.Equal(t, []string{"0 1|1|North|NULL|NULL", "0 2|2|South|16.5|NULL"},
			w.look("crane", "--db", w.db, "--lines", "2").page(0))
		newest := w.look("crane", "--db", w.db, "--lines", "3", "--newest")
		assert.Equal(t, []string{"0 3|3|South|12|NULL", "0 2|2|South|16.5|NULL", "0 1|1|North|NULL|NULL"},
			newest.page(0))
		assert.False(t, newest.Pages[0].More)
		assert.Equal(t, []string{"0 2|2|South|16.5|NULL", "0 3|3|South|12|NULL"}, w.look("crane", "--db", w.db,
			"--from", "2").page(0))

		r := w.run("look", "crane", "--db", w.db, "-o", "out.csv")
		require.Equal(t, 0, r.status, r.stderr)
		assert.Equal(t, "id,crane_no,quay_id,lift_t,checked\n1,1,North,,\n2,2,South,16.5,\n3,3,South,12,\n",
			unscaled.Replace(w.read("out.csv")))
		for arguments, says := range map[string]string{"crane --db " + w.db + " -o out.csv": "the file exists already",
			"crane -o out.txt": "give it a name that ends in .csv or .xlsx", "cran --db " +
				w.db: `did you mean "crane"?`,
			"none.csv": "there is no such file, and no database", "cranes.csv --newest": "--newest is for tables",
			"crane --lines 0": "give a whole number, from 1", "crane --beside cranes.csv": "no database is named"} {
			r := w.run(append([]string{"look"}, strings.Fields(arguments)...)...)
			assert.NotZero(t, r.status, arguments)
			assert.Contains(t, r.stderr, says)
		}
	})
}

// TestLookBeside: the columns of a file beside those of a table, with what is too long for them.
func TestLookBeside(t *testing.T) {
	w := newWorld(t, sqliteFile{}, strings.ReplaceAll(quaysAndCranes, "checked DATE", "maker VARCHAR(8)"))
	w.write("cranes.csv", "Crane no,Quay,Maker,Colour\n4,North,Moleworks & Sons,red\n5,South,Quill,blue\n")
	r := w.run("look", "crane", "--db", w.db, "--beside", "cranes.csv", "--json")
	require.Equal(t, 0, r.status, r.stderr)
	var doc struct {
		Pairs []struct {
			From, Column, Lookup string
			Longest, Length      int
			Samples              []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
	var all []string
	for _, p := range doc.Pairs {
		all = append(all, fmt.Sprintf("%s %d %s %s %d %s", p.From, p.Longest, p.Samples, p.Column, p.Length, p.Lookup))
	}
	assert.Equal(t, []string{"Crane no 1 [4 5] crane_no 0 ", "Quay 5 [North South] quay_id 0 quay",
		"Maker 16 [Moleworks & Sons Quill] maker 8 ", "Colour 4 [red blue]  0 ", " 0 [] id 0 ", " 0 [] lift_t 0 "}, all)
	assert.Contains(t, w.run("look", "crane", "--db", w.db, "--beside", "cranes.csv").stdout,
		"maker takes 8 characters, and Maker has a value of 16")
}

// TestLookAtWideRows: columns for which there is no room follow below, and a workbook gets a sheet for each page.
func TestLookAtWideRows(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE t (x INT);")
	names, cells := make([]string, 30), make([]string, 30)
	for i := range names {
		names[i], cells[i] = fmt.Sprintf("Column %d", i), strings.Repeat("x", 10+i)
	}
	w.write("wide.csv", strings.Join(names, ",")+"\n"+strings.Join(cells, ",")+"\n")
	shown := w.run("look", "wide.csv")
	for i := range names {
		assert.Contains(t, shown.stdout, names[i], "no column is left out")
	}
	for line := range strings.Lines(shown.stdout) {
		assert.LessOrEqual(t, len([]rune(line)), 121)
	}
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {a: {file: wide.csv}, b: {file: wide.csv}}\ntables: {t: {from: a, "+
		"columns: {x: column 1}}}\n")
	r := w.run("look", "f.ladle.yaml", "-o", "out.xlsx")
	require.Equal(t, 0, r.status, r.stderr)
	f, err := excelize.OpenFile(w.path("out.xlsx"))
	require.NoError(t, err)
	assert.Equal(t, []string{"1 a", "2 b"}, f.GetSheetList())
	got, err := f.GetCellValue("2 b", "C2")
	require.NoError(t, err)
	assert.Equal(t, cells[2], got)
	assert.Contains(t, w.run("look", "f.ladle.yaml", "-o", "out.csv").stderr,
		"a CSV file holds one table, and these are 2")
}
