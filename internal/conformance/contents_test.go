package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLinesThatSayWhatIsThere are told the same whether their rows were read with their keys, as those of a table that has few
// are, or each row is held against its line.
func TestLinesThatSayWhatIsThere(t *testing.T) {
	const few, many = 0, 60
	policies := []struct{ table, says, account string }{
		{"kept", "keep", "kept: 8, 1 added, 3 same, 3 differs, 1 repeated"},
		{"updated", "update", "updated: 8, 1 added, 2 updated, 4 unchanged, 1 repeated"},
		{"cleared", "update, blank: clear", "cleared: 8, 1 added, 3 updated, 3 unchanged, 1 repeated"},
		{"filled", "fill_blanks", "filled: 8, 1 added, 1 updated, 4 unchanged, 1 differs, 1 repeated"},
		{"refused", "set_aside", "refused: 8, 1 added, 4 same, 3 aside"},
	}
	everywhere(t, func(t *testing.T, on server) {
		for _, key := range []string{"id ID, reg WORD NOT NULL UNIQUE", "reg WORD NOT NULL PRIMARY KEY"} {
			told := map[int][]string{}
			for _, rows := range []int{few, many} {
				script := "CREATE TABLE berth (id ID, name WORD NOT NULL UNIQUE); INSERT INTO berth (name) VALUES ('North'), ('South');"
				ladle := "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\ntables:\n"
				var accounts []string
				for _, p := range policies {
					script += "CREATE TABLE " + p.table + " (" + key + ", name VARCHAR(9), gt AMOUNT, berth_id INT REFERENCES berth (id)); " +
						"INSERT INTO " + p.table + " (reg, name, gt, berth_id) VALUES ('A1', 'Heron', 10.5, 1), ('A2', 'Skua', NULL, 2), " +
						"('A3', NULL, 7, NULL), ('A4', 'Tern', 4, 1), ('A5', 'Rail', 5, 2), ('A7', 'Knot', 1, 1)"
					for i := range rows {
						script += fmt.Sprintf(", ('F%d', 'Full', NULL, NULL)", i)
					}
					script += ";"
					ladle += "  " + p.table + ": {from: in, key: reg, already_there: " + p.says + ", columns: {reg: R, name: N, gt: G, " +
						"berth_id: {from: B, lookup: berth.name, not_found: add}}}\n"
					accounts = append(accounts, p.account)
				}
				w := newWorld(t, on, script)
				w.write("f.ladle.yaml", ladle)
				w.write("in.csv", "R,N,G,B\nA1,Heron,10.5,North\nA2,Skua,3,South\nA3,,7,\na4,Tern,4,North\nA5,Rail,5,East\n"+
					"A6,Ruff,6,North\nA1,Heron,10.5,North\nA7,Knot,,North\n")
				doc, out := w.load("load")
				require.Equal(t, 4, doc.Status, out.stdout+out.stderr)
				assert.Equal(t, accounts, doc.accounts(), "%s, %d rows more", key, rows)
				told[rows] = doc.asides()
				for _, p := range policies {
					told[rows] = append(told[rows], w.query("SELECT reg, c.name, gt, b.name FROM "+p.table+" c LEFT JOIN berth b ON "+
						"b.id = berth_id WHERE c.name IS NULL OR c.name <> 'Full' ORDER BY reg")...)
				}
			}
			assert.Equal(t, told[few], told[many], key)
			assert.Len(t, told[few], 3+7*len(policies), strings.Join(told[few], "\n"))
		}
	})
}

// TestBatchesWithoutWork: batches of lines with which nothing is done stand before, between and behind others, whose rows a later
// step finds.
func TestBatchesWithoutWork(t *testing.T) {
	const batch = 5000 // lines, which are read in several chunks of the file
	rounds := []struct {
		batches  []int
		names    map[int]string // of the vessels of a batch, before their number
		accounts []string
	}{
		{[]int{0, 1, 2}, map[int]string{1: ""}, []string{"vessel: 15000, 15000 added", "call_of: 15000, 15000 added"}},
		{[]int{0, 3, 1, 4, 2}, map[int]string{0: "Other", 1: "Named"}, []string{
			"vessel: 25000, 10000 added, 5000 updated, 5000 unchanged, 5000 differs", "call_of: 25000, 10000 added, 15000 unchanged"}},
	}
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE vessel (id ID, reg WORD NOT NULL UNIQUE, name VARCHAR(20)); CREATE TABLE call_of (id ID, "+
			"vessel_id INT NOT NULL UNIQUE REFERENCES vessel (id), berth INT)")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  vessel: {from: in, key: reg, already_there: "+
			"fill_blanks, columns: {reg: R, name: N}}\n  call_of: {from: in, key: vessel_id, already_there: update, columns: {vessel_id: "+
			"{from: R, lookup: vessel.reg}, berth: B}}\n")
		for _, round := range rounds {
			lines := bytes.NewBufferString("R,N,B,Remarks\n")
			for _, b := range round.batches {
				name, other := round.names[b]
				for i := b * batch; i < (b+1)*batch; i++ {
					if !other {
						name = "First"
					}
					cell := fmt.Sprint(name, " ", i)
					if name == "" {
						cell = ""
					}
					fmt.Fprintf(lines, "V%d,%s,%d,%0100d\n", i, cell, i%9, 0)
				}
			}
			w.write("in.csv", lines.String())
			out := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--json")
			require.Equal(t, 0, out.status, out.stdout+out.stderr)
			var doc report
			require.NoError(t, json.Unmarshal([]byte(out.stdout), &doc))
			assert.Equal(t, round.accounts, doc.accounts())
		}
		assert.Equal(t, []string{"First|20000", "Named|5000"}, w.query("SELECT substr(name, 1, 5), count(*) FROM vessel JOIN call_of ON "+
			"vessel_id = vessel.id WHERE berth = CAST(substr(reg, 2) AS INT) % 9 AND substr(name, 7) = substr(reg, 2) "+
			"GROUP BY substr(name, 1, 5) ORDER BY 1"))
	})
}
