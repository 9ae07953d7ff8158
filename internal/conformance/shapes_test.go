package conformance

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestShapesAreLoaded: columns and lists that become lines are loaded, set aside and corrected like others.
func TestShapesAreLoaded(t *testing.T) {
	const table = "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);\n" +
		"CREATE TABLE tonnage (id ID, berth_id INT NOT NULL REFERENCES berth(id), month WORD NOT NULL, tons INT, part INT, " +
		"UNIQUE (berth_id, month, part));\nINSERT INTO berth (code) VALUES ('N1'), ('N2');"
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, table)
		w.write("in.csv", "Quay,Berth,Jan,Feb\nNorth,N1,5;6,x\n,N2,,7\n,N9,8,\n")
		w.write("f.ladle.yaml", `ladle: 1
inputs:
  in:
    file: in.csv
    header: 1
    columns_to_rows: {columns: {from: Jan}, heading: Month, value: Tons}
    parts_to_rows: {column: Tons, at: ";", number: Part}
    columns: {Quay: {if_blank: above}}
    only: quay == "North"
tables:
  tonnage:
    from: in
    key: [berth_id, month, part]
    columns: {berth_id: {from: Berth, lookup: berth.code}, month: Month, tons: Tons, part: Part}
set_aside_limit: any
`)
		doc, r := w.load("load")
		require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{`in.csv:2: Tons "x" is not a number`, `in.csv:4: Berth "N9" is not in berth.code`}, doc.asides())
		query := "SELECT b.code, t.month, t.tons, t.part FROM tonnage t JOIN berth b ON b.id = t.berth_id ORDER BY b.code, t.month, t.part"
		assert.Equal(t, []string{"N1|Jan|5|1", "N1|Jan|6|2", "N2|Feb|7|1"}, w.query(query))
		lines := strings.ReplaceAll(w.read("in.set-aside.csv"), "\r\n", "\n")
		assert.Contains(t, lines, "line,why,Quay,Berth,Month,Tons,Part\n")
		assert.Contains(t, lines, `,North,N1,Feb,x,1`)
		w.write("in.set-aside.csv", strings.Replace(w.read("in.set-aside.csv"), "N1,Feb,x,1", "N1,Feb,9,1", 1))
		doc, r = w.load("load", "--corrected", "in.set-aside.csv")
		require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{`in.csv:4: Berth "N9" is not in berth.code`}, doc.asides())
		assert.Equal(t, []string{"N1|Feb|9|1", "N1|Jan|5|1", "N1|Jan|6|2", "N2|Feb|7|1"}, w.query(query))
	})
}

// TestOtherColumnsThanTheLastTimeAreTold: a column that is new, and one that is gone.
func TestOtherColumnsThanTheLastTimeAreTold(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);")
		w.write("in.csv", "Code,Depth\nN1,9\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {berth: {from: in, columns: {code: Code}}}\n")
		doc, r := w.load("load")
		require.Equal(t, 0, r.status, r.stderr)
		assert.NotContains(t, strings.Join(doc.Notes, "\n"), "columns")
		w.write("in.csv", "Quay,code,Length\nNorth,N2,7\n")
		doc, r = w.load("try")
		require.Equal(t, 0, r.status, r.stderr)
		notes := strings.Join(doc.Notes, "\n")
		assert.Contains(t, notes, "in has columns that it didn't have in run 1: Quay, Length")
		assert.Contains(t, notes, "in lacks columns that it had in run 1: Depth")
	})
}

// TestEndingsAreTold: totals and notes below a table are told before they are loaded, with the key that leaves them out.
func TestEndingsAreTold(t *testing.T) {
	cases := []struct{ name, lines, input, note string }{
		{"a line called total", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\n", "file: in.csv",
			`in.csv:5: "Total" seems to sum up the lines above; it is read like others. To leave it out: footer_lines: 1`},
		{"a line that sums up", "N1,5,x\nN2,6,x\nN3,7,x\nall,18,\n", "file: in.csv",
			"in.csv:5: its numbers are the sums of those above; it is read like others. To leave it out: footer_lines: 1"},
		{"a total and a note", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\nAs of 31 March 2026,,\n", "file: in.csv",
			`in.csv:5: "Total" seems to sum up the lines above, and 1 more behind it; it is read like others. To leave it out: footer_lines: 2`},
		{"one that is left out", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\n", `file: in.csv, only: code != "Total"`, ""},
		{"one that is cut off", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\n", "file: in.csv, footer_lines: 1", ""},
		{"a row like others", "N1,5,x\nN2,6,x\nN3,7,x\nN4,18,\nN5,19,\n", "file: in.csv", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE, depth INT, quay WORD);")
			w.write("in.csv", "Code,Depth,Quay\n"+c.lines)
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {"+c.input+", header: 1}}\ntables: {berth: {from: in, columns: "+
				"{code: Code, depth: Depth, quay: Quay}}}\nset_aside_limit: any\n")
			doc, r := w.load("try")
			require.Contains(t, []int{0, 4}, r.status, r.stderr)
			notes := strings.Join(doc.Notes, "\n")
			if c.note == "" {
				assert.NotContains(t, notes, "To leave it out")
				return
			}
			assert.Contains(t, notes, c.note)
		})
	}
}
