package conformance

import "testing"

// TestUpdates: rows that are there are updated, kept or left blank as the ladle file says.
func TestUpdates(t *testing.T) {
	relate(t, []relation{
		{
			name: "what a column does to a row that is there",
			script: "CREATE TABLE crew (id ID, no VARCHAR(4) UNIQUE, name VARCHAR(9), phone VARCHAR(9), note " +
				"VARCHAR(9)); INSERT INTO crew (no, name, phone, note) VALUES ('1', 'Ann', NULL, 'x'), ('2', 'Bo', " +
				"'22', NULL), ('3', 'Cy', '33', 'z');",
			tables: "crew: {from: in, key: no, already_there: fill_blanks, columns: {no: N, name: {from: M, " +
				"on_update: update}, phone: P, note: {from: R, on_update: keep}}}",
			files:    map[string]string{"in": "N,M,P,R\n1,Ann,11,x\n2,Bob,99,y\n3,Cy,99,z\n4,Di,44,\n"},
			accounts: []string{"crew: 4, 1 added, 2 updated, 1 differs"},
			query:    "SELECT no, name, phone, note FROM crew ORDER BY no",
			rows:     []string{"1|Ann|11|x", "2|Bob|22|NULL", "3|Cy|33|z", "4|Di|44|NULL"},
		},
		{
			name: "update writes what differs, and a blank changes nothing", script: fleet,
			tables: "vessel: {from: in, key: reg, already_there: update, columns: {reg: R, name: N, kind_id: {from: " +
				"K, lookup: kind.name, not_found: add}, gt: G}}",
			files: map[string]string{"in": "R,N,K,G\nA1,Heron,Tug,100.50\nA2,Skua,,21\nA3,Gannet,Barge,\n" +
				"A4,Rail,tug,5\n"},
			accounts: []string{"vessel: 4, 1 added, 2 updated, 1 unchanged"},
			query:    "SELECT reg, v.name, k.name, gt, flag FROM vessel v JOIN kind k ON k.id = kind_id ORDER BY reg",
			rows: []string{"A1|Heron|Tug|100.5|NO", "A2|Skua|Ferry|21|NULL", "A3|Gannet|Barge|NULL|DK",
				"A4|Rail|Tug|5|NULL"},
		},
		{
			name:   "a blank where a value must be changes nothing in a row that is there, but makes no new one",
			script: fleet, status: 4,
			tables: "vessel: {from: in, key: reg, already_there: update, columns: {reg: R, name: N, gt: G}}\n" +
				"set_aside_limit: any",
			files:    map[string]string{"in": "R,N,G\nA1,,7\nA9,,8\nA8,Rail,9\n"},
			accounts: []string{"vessel: 3, 1 added, 1 updated, 1 aside"},
			asides: []string{"in.csv:3: N is blank, but vessel.name is NOT NULL, and there is no row with this key " +
				"yet"},
			query: vessels, rows: []string{"A1|Heron|1|7|NO", "A2|Skua|2|20|NULL", "A3|Tern|NULL|NULL|DK",
				"A8|Rail|NULL|9|NULL"},
		},
		{
			name: "blank: clear empties cells, and a step of its own can be for updates only", script: fleet,
			tables: "vessel: {from: in, key: reg, already_there: update, not_there: leave_out, blank: clear, " +
				"columns: {reg: R, gt: G, name: N, flag: F}}",
			files:    map[string]string{"in": "R,N,G,F\nA1,Heron,,NO\nA3,Tern,,\nA9,Rail,5,\n"},
			accounts: []string{"vessel: 3, 2 updated, 1 out"},
			query:    vessels, rows: []string{"A1|Heron|1|NULL|NO", "A2|Skua|2|20|NULL", "A3|Tern|NULL|NULL|NULL"},
		},
		{
			name: "not_there: set_aside sets aside, as does a CHECK in an update", script: fleet, status: 4,
			tables: "vessel: {from: in, key: reg, already_there: update, not_there: set_aside, columns: {reg: R, gt: " +
				"G, name: N}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,G\nA1,Heron,-5\nA9,Rail,5\nA2,Skua,7\n"},
			accounts: []string{"vessel: 3, 1 updated, 2 aside"},
			asides: []string{"in.csv:2: CHECK gt_above_zero does not hold: gt is " +
				"-5.0", "in.csv:3: no row with this key (reg) is in vessel"},
			query: vessels, rows: []string{"A1|Heron|1|100.5|NO", "A2|Skua|2|7|NULL", "A3|Tern|NULL|NULL|DK"},
		},
		{
			name:   "several rows with a key that isn't unique can't be updated",
			script: fleet + "INSERT INTO vessel (reg, name) VALUES ('A4', 'Tern');", status: 1,
			tables: "vessel: {from: in, key: name, already_there: update, columns: {name: N, gt: G}}",
			files:  map[string]string{"in": "N,G\nTern,5\n"},
			asides: []string{"in.csv:2: several rows of vessel have this key (name), so it is not clear which to " +
				"update"},
			query: "SELECT count(*) FROM vessel WHERE gt = 5", rows: []string{"0"},
			accounts: []string{"vessel: 1, 1 aside"},
		},
		{
			name: "rows are found by their new names, and not by their old ones", script: fleet, status: 4,
			tables: "vessel: {from: in, key: reg, already_there: update, columns: {reg: R, name: N}}\n  stay: {from: " +
				"stays, columns: {vessel_id: {from: V, lookup: vessel.name}, day: D}}\nset_aside_limit: any",
			files:  map[string]string{"in": "R,N\nA1,Gannet\n", "stays": "V,D\nGannet,2026-02-01\nHeron,2026-02-02\n"},
			asides: []string{`stays.csv:3: V "Heron" is no longer in vessel.name: an earlier step gives that row another value`}, accounts: []string{"vessel: 1, 1 updated", "stay: 2, 1 added, 1 aside"},
			query: "SELECT vessel_id, day FROM stay ORDER BY id", rows: []string{"1|2026-01-01", "1|2026-02-01"},
		},
		{
			name: "a blank in a key that matches", script: fleet +
				"INSERT INTO vessel (reg, name) VALUES (NULL, 'Punt');",
			tables: "vessel: {from: in, key: [reg, name], blank_key: match, already_there: update, columns: {reg: R, " +
				"name: N, gt: G}}",
			files:    map[string]string{"in": "R,N,G\n,Punt,3\n,Raft,4\n,Raft,4\nA1,Heron,100.5\n"},
			accounts: []string{"vessel: 4, 1 added, 1 updated, 1 unchanged, 1 repeated"},
			query:    "SELECT reg, name, gt FROM vessel WHERE gt < 5 ORDER BY name",
			rows:     []string{"NULL|Punt|3", "NULL|Raft|4"},
		},
		{
			name: "a later block completes rows of an earlier one, and repeats what it says too", script: fleet,
			tables: "vessel: {from: in, key: reg, columns: {reg: R, name: N}}\n  tons: {into: vessel, from: more, " +
				"key: reg, already_there: update, not_there: leave_out, columns: {reg: R, gt: G}}\n  names: {into: " +
				"vessel, from: more, key: reg, not_there: leave_out, columns: {reg: R, name: {constant: none}}}",
			files: map[string]string{"in": "R,N\nA5,Rail\n", "more": "R,G\nA5,9\nA1,100.5\nA6,1\n"},
			accounts: []string{"vessel: 1, 1 added", "tons: 3, 1 updated, 1 unchanged, 1 out",
				"names: 3, 1 differs, 1 overruled, 1 out"},
			query: "SELECT reg, name, gt FROM vessel WHERE reg > 'A4' ORDER BY reg", rows: []string{"A5|Rail|9"},
		},
	})
}
