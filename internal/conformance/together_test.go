package conformance

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSeveralLadleFiles are one load: in the order that the tables need, whole or not at all.
func TestSeveralLadleFiles(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("vessels.ladle.yaml", "ladle: 1\ninputs: {vessels: {file: v.csv}}\ntables: {vessel: {from: vessels, key: reg_no, "+
			"columns: {reg_no: R, name: N}}}\n")
		w.write("calls.ladle.yaml", "ladle: 1\ninputs: {calls: {file: c.csv}}\ntables:\n  port_call: {from: calls, key: "+
			"[vessel_id, arrived], columns: {vessel_id: {from: R, lookup: vessel.reg_no}, arrived: A}}\n  vessel: {from: calls, "+
			"key: reg_no, columns: {reg_no: R2, name: R2}}\n")
		w.write("v.csv", "R,N\nB1,Skua\n")
		w.write("c.csv", "R,A,R2\nB1,2026-02-01 10:00,Z1\nA1,2026-02-02 10:00,Z2\n")
		load := func(command string, more ...string) (report, result) {
			r := w.run(append([]string{command, "calls.ladle.yaml", "vessels.ladle.yaml", "--db", w.db, "--json"}, more...)...)
			var doc report
			require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc), r.stdout+r.stderr)
			return doc, r
		}
		before := w.dump()
		doc, r := load("try")
		require.Equal(t, 0, r.status, r.stdout)
		assert.Equal(t, before, w.dump())
		assert.Equal(t, "vessel: 2 = 2 added, 0 same, 0 repeated, 0 aside\nvessel (vessels): 1 = 1 added, 0 same, 0 repeated, 0 "+
			"aside\nport_call: 2 = 2 added, 0 same, 0 repeated, 0 aside", doc.tallies())
		_, r = load("load", "--yes")
		require.Equal(t, 0, r.status, r.stdout)
		assert.Equal(t, []string{"A1|2026-01-01 10:00:00", "A1|2026-02-02 10:00:00", "B1|2026-02-01 10:00:00"},
			w.query("SELECT reg_no, arrived FROM port_call c JOIN vessel v ON v.id = c.vessel_id ORDER BY 1, 2"))
		assert.Contains(t, w.run("runs", "1", "--db", w.db).stdout, "calls.ladle.yaml, vessels.ladle.yaml")
		loaded := w.dump()

		for _, c := range []struct{ name, file, content, says string }{
			{"an input of the same name", "vessels.ladle.yaml", "ladle: 1\ninputs: {calls: {file: v.csv}}\ntables: {vessel: {from: " +
				"calls, columns: {reg_no: R, name: N}}}\n", "vessels.ladle.yaml:2:10: calls.ladle.yaml has an input calls too"},
			{"another limit", "vessels.ladle.yaml", "ladle: 1\ninputs: {vessels: {file: v.csv}}\ntables: {vessel: {from: vessels, " +
				"columns: {reg_no: R, name: N}}}\nset_aside_limit: 5\n", "set_aside_limit: is 5 here, and 0 in calls.ladle.yaml"},
			{"a column that isn't there", "vessels.ladle.yaml", "ladle: 1\ninputs: {vessels: {file: v.csv}}\ntables: {vessel: " +
				"{from: vessels, columns: {reg_no: R, name: M}}}\n", "vessels.ladle.yaml:3:61: input vessels (v.csv) has no column"},
		} {
			w.write(c.file, c.content)
			_, r := load("load", "--yes")
			assert.Equal(t, 2, r.status, c.name)
			assert.Contains(t, r.stderr, c.says, c.name)
			assert.Equal(t, loaded, w.dump(), c.name)
		}
		r = w.run("load", "calls.ladle.yaml", "calls.ladle.yaml", "--db", w.db, "--yes")
		assert.Contains(t, r.stderr, "this ladle file is given twice")
		r = w.run("load", "calls.ladle.yaml", "c.csv", "--db", w.db, "--yes")
		assert.Contains(t, r.stderr, "load takes ladle files, or files of rows")
	})
}
