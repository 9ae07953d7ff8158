package conformance

import "testing"

// TestRemovals: what is gone from a file is removed, within bounds and with a yes.
func TestRemovals(t *testing.T) {
	relate(t, []relation{
		{
			name: "rows that are gone are removed, but lines that are set aside or left out stay", script: fleet,
			more: []string{"--allow-removal"}, status: 4,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 50%, where_sql: name <> " +
				"'Heron'}, columns: {reg: R, name: N, gt: G}, only: n != \"Skua\"}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,G\nA2,Skua,1\nA8,Rail,x\n"},
			accounts: []string{"vessel: 2, 1 out, 1 aside, 1 removed"},
			asides:   []string{`in.csv:3: G "x" is not a number`},
			query:    "SELECT reg FROM vessel ORDER BY reg", rows: []string{"A1", "A2"},
		},
		{
			name: "what an input leaves out is not gone", script: fleet, more: []string{"--allow-removal"},
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 1}, columns: {reg: R, " +
				"name: N}}\ninputs: {in: {file: in.csv, only: n != \"Skua\"}}",
			files:    map[string]string{"in": "R,N\nA1,Heron\nA2,Skua\n"},
			accounts: []string{"vessel: 2, 1 same, 1 out, 1 removed"},
			query:    "SELECT reg FROM vessel ORDER BY reg", rows: []string{"A1", "A2"},
		},
		{
			name: "more is gone than may be removed", script: fleet, more: []string{"--allow-removal"}, status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 1, where_sql: reg <> 'A1'}, " +
				"columns: {reg: R, name: N}}",
			files: map[string]string{"in": "R,N\nA1,Heron\n"}, accounts: []string{"vessel: 1, 1 same, 2 removed"},
			why:   "2 of 2 rows of vessel are gone from the file, and gone_from_file: removes at most 1",
			query: "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "nobody allowed the removal", script: fleet, status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 1}, columns: {reg: R, name: " +
				"N}}",
			files:    map[string]string{"in": "R,N\nA1,Heron\nA2,Skua\n"},
			accounts: []string{"vessel: 2, 2 same, 1 removed"},
			why:      "nobody has confirmed the removal",
			query:    "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "a row that others point at is not removed", script: fleet, more: []string{"--allow-removal"},
			status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 100%}, columns: {reg: R, " +
				"name: N}}",
			files:    map[string]string{"in": "R,N\nA2,Skua\nA3,Tern\n"},
			accounts: []string{"vessel: 2, 2 same, 1 removed"},
			why: "rows of vessel are gone from the file, but other rows refer to them: a row of stay refers to " +
				"the row of vessel with id 1",
			query: "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "but it is together with them", script: fleet, more: []string{"--allow-removal"},
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 100%}, columns: {reg: R, " +
				"name: N}}\n  stay: {from: stays, gone_from_file: {remove: yes, at_most: 100%}, columns: {vessel_id: " +
				"{from: V, lookup: vessel.reg}, day: D}}",
			files:    map[string]string{"in": "R,N\nA2,Skua\nA3,Tern\n", "stays": "V,D\nA2,2026-02-01\n"},
			accounts: []string{"vessel: 2, 2 same, 1 removed", "stay: 1, 1 added, 1 removed"},
			query:    "SELECT reg, day FROM vessel LEFT JOIN stay ON vessel_id = vessel.id ORDER BY reg",
			rows:     []string{"A2|2026-02-01", "A3|NULL"},
		},
		{
			name: "a key that can't be read forbids to remove", script: fleet, more: []string{"--allow-removal"},
			status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 100%}, columns: {reg: R, " +
				"name: N}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N\nA1,Heron\n,Skua\n"},
			accounts: []string{"vessel: 2, 1 same, 1 aside, 2 removed"},
			asides:   []string{"in.csv:3: R is blank, but is part of the key (reg)"},
			why: "it is not clear which rows of vessel are gone from the file: the key of 1 line can't be read " +
				"or looked up",
			query: "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "rows of one table that point at each other are removed together", more: []string{"--allow-removal"},
			script: pilots + "INSERT INTO pilot (licence, name, mentor_id) VALUES ('P2', 'Bob', 1), ('P3', 'Cid', " +
				"2), ('P4', 'Dot', NULL); UPDATE pilot SET mentor_id = 3 WHERE licence = 'P1';",
			tables: "pilot: {from: in, key: licence, gone_from_file: {remove: yes, at_most: 3}, columns: {licence: " +
				"L, name: N}}",
			files:    map[string]string{"in": "L,N\nP4,Dot\n"},
			accounts: []string{"pilot: 1, 1 same, 3 removed"},
			query:    "SELECT licence FROM pilot", rows: []string{"P4"},
		},
		{
			name: "so are rows of two tables", more: []string{"--allow-removal"},
			script: `CREATE TABLE vessel (id ID, reg VARCHAR(8) NOT NULL UNIQUE); CREATE TABLE stay (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, UNIQUE (vessel_id, day));
				ALTER TABLE vessel ADD COLUMN last_id INTEGER REFERENCES stay (id);
				INSERT INTO vessel (reg) VALUES ('A1'), ('A2'); INSERT INTO stay (vessel_id, day) VALUES (1, '2026-01-01'), (2, '2026-01-02'); UPDATE vessel SET last_id = id;`,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 1}, columns: {reg: R}}\n" +
				"  stay: {from: in, gone_from_file: {remove: yes, at_most: 1}, columns: {vessel_id: {from: R, " +
				"lookup: vessel.reg}, day: D}}",
			files:    map[string]string{"in": "R,D\nA2,2026-01-02\n"},
			accounts: []string{"vessel: 1, 1 same, 1 removed", "stay: 1, 1 same, 1 removed"},
			query:    "SELECT reg, last_id, day FROM vessel JOIN stay ON stay.id = last_id",
			rows:     []string{"A2|2|2026-01-02"},
		},
		{
			name: "rows among which nothing can be looked for", status: 2, script: fleet,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: yes, at_most: 1, where_sql: colour = " +
				"'red'}, columns: {reg: R, name: N}}",
			files: map[string]string{"in": "R,N\nA1,Heron\n"},
			why:   "f.ladle.yaml:5:85: where_sql: \"colour = 'red'\" is not a condition on the rows of vessel",
		},
	})
}
