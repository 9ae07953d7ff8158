package conformance

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// TestDictionary: each form has the tables with their keys and relations, and, where it is asked for, what is in them.
func TestDictionary(t *testing.T) {
	everyServer(t, func(t *testing.T, name string, on server) {
		w := newWorld(t, on, fleet+"CREATE TABLE odd (id ID, a_b VARCHAR(20), c VARCHAR(9)); INSERT INTO odd (a_b, "+
			"c) VALUES "+
			"('=1+1', ''), ('x|y', NULL);")
		var only []string
		if name == "postgres" { // its other schemas, which other tests have, are described too
			only = []string{"--table", "kind", "--table", "vessel", "--table", "stay", "--table", "odd"}
		}
		for _, file := range []string{"d.xlsx", "d.csv", "d.md", "d.html"} {
			r := w.run(append([]string{"dictionary", "--db", w.db, "--values", "-o", file}, only...)...)
			require.Equal(t, 0, r.status, r.stderr)
			assert.Equal(t, file+" was written: 4 tables.\n", r.stdout)
		}
		lines, err := csv.NewReader(strings.NewReader(w.read("d.csv"))).ReadAll()
		require.NoError(t, err)
		cells := map[string][]string{}
		for _, l := range lines {
			cells[l[0]+"."+l[2]] = append([]string{l[4], l[5], l[6]}, l[10:]...)
		}
		assert.Equal(t, []string{"required", "", "vessel.id", "0", "1", "1", "1", "1", "", "1"},
			unkeyed(cells["stay.vessel_id"]))
		assert.Equal(t, []string{"optional", "unique", "", "0", "3", "A1", "A3", "2", "8", "A1; A2; A3"},
			cells["vessel.reg"])
		assert.Equal(t, "'=1+1; x|y", cells["odd.a_b"][9])
		assert.Equal(t, "2", cells["odd.c"][3], "NULL and an empty text")
		book, err := excelize.OpenFile(w.path("d.xlsx"))
		require.NoError(t, err)
		defer book.Close()
		assert.Equal(t, []string{"tables", "columns", "relations", "CHECK constraints", "lookup values"}, book.GetSheetList())
		rows, err := book.GetRows("lookup values")
		require.NoError(t, err)
		assert.Contains(t, rows, []string{"kind", "id, name", "1", "Tug"})
		panes, err := book.GetPanes("columns")
		require.NoError(t, err)
		assert.True(t, panes.Freeze)
		assert.Contains(t, w.read("d.md"), "\n## vessel\n\n3 rows.\n\n| column | type |")
		assert.Contains(t, w.read("d.md"), `x\|y`)
		assert.Contains(t, w.read("d.html"), `<a href="#t-kind">kind</a>`)
		one := w.run("dictionary", "--db", w.db, "--table", "kind", "--json")
		assert.Contains(t, one.stdout, `"column_values": []`)
		assert.NotContains(t, one.stdout, `"name": "vessel"`)
	})
	w := newWorld(t, sqliteFile{}, fleet)
	for arguments, says := range map[string]string{"--table vesel": `did you mean "vessel"?`, "-o d.txt": "--output can't be"} {
		r := w.run(append([]string{"dictionary", "--db", w.db}, strings.Fields(arguments)...)...)
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, says)
	}
}

// unkeyed leaves the key of a column out.
func unkeyed(cells []string) []string {
	cells[1] = ""
	return cells
}
