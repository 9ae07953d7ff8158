package conformance

import "testing"

// TestCircularReferences: tables that point at themselves or at each other get their rows in two halves.
func TestCircularReferences(t *testing.T) {
	relate(t, []relation{
		{
			name: "a table that refers to itself, in any order of the file", script: pilots, status: 4,
			tables: "pilot: {from: in, key: licence, columns: {licence: L, name: N, mentor_id: {from: M, lookup: " +
				"pilot.licence}}}\nset_aside_limit: any",
			files: map[string]string{"in": "L,N,M\nP4,Dot,P3\nP2,Bob,P1\nP3,Cid,P2\nP5,Eve,P9\nP6,Fay,P5\n" +
				"P1,Ann,P2\nP3,Cid,P2\n"},
			accounts: []string{"pilot: 7, 3 added, 1 same, 1 repeated, 2 aside",
				"pilot.mentor_id: 7, 3 updated, 1 differs, 1 repeated, 2 aside"},
			asides: []string{`in.csv:5: M "P9" is not in pilot.licence`,
				`in.csv:6: M "P5" would be in pilot.licence, but in.csv:5 is set aside`},
			query: "SELECT p.licence, m.licence FROM pilot p LEFT JOIN pilot m ON m.id = p.mentor_id ORDER BY 1",
			rows:  []string{"P1|NULL", "P2|P1", "P3|P2", "P4|P3"},
		},
		{
			name: "lines of one key that differ in what is filled later contradict each other", script: pilots,
			status: 1,
			tables: "pilot: {from: in, key: licence, columns: {licence: L, name: N, mentor_id: {from: M, lookup: " +
				"pilot.licence}}}\n",
			files:    map[string]string{"in": "L,N,M\nP2,Bob,P1\nP2,Bob,\n"},
			accounts: []string{"pilot: 2, 2 aside", "pilot.mentor_id: 2, 2 aside"},
			asides: []string{"in.csv:2: line 3 has the same key (licence), but a different M",
				"in.csv:3: line 2 has the same key (licence), but a different M"},
			query: "SELECT count(*) FROM pilot", rows: []string{"1"},
		},
		{
			name: "a table that refers to itself is updated", script: pilots,
			tables: "pilot: {from: in, key: licence, already_there: update, columns: {licence: L, name: N, " +
				"mentor_id: {from: M, lookup: pilot.licence}}}\n",
			files:    map[string]string{"in": "L,N,M\nP1,Anna,P2\nP2,Bob,\n"},
			accounts: []string{"pilot: 2, 1 added, 1 updated", "pilot.mentor_id: 2, 1 updated, 1 unchanged"},
			query:    "SELECT p.name, m.name FROM pilot p LEFT JOIN pilot m ON m.id = p.mentor_id ORDER BY 1",
			rows:     []string{"Anna|Bob", "Bob|NULL"},
		},
		{
			name: "a table of codes that refers to itself",
			script: "CREATE TABLE area (code VARCHAR(4) PRIMARY KEY, part_of VARCHAR(4) REFERENCES area (code)) " +
				"PLAIN;",
			tables:   "area: {from: in, columns: {code: C, part_of: P}}",
			files:    map[string]string{"in": "C,P\nN1,N\nN,H\nH,\n"},
			accounts: []string{"area: 3, 3 added", "area.part_of: 3, 2 updated, 1 unchanged"},
			query:    "SELECT code, part_of FROM area ORDER BY 1", rows: []string{"H|NULL", "N|H", "N1|N"},
		},
		{
			name: "two tables that point at each other",
			script: `CREATE TABLE vessel (id ID, reg VARCHAR(8) NOT NULL UNIQUE, last_stay_id INTEGER);
				CREATE TABLE stay (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, UNIQUE (vessel_id, day));
				ALTER TABLE vessel ADD COLUMN home_stay_id INTEGER REFERENCES stay (id);`,
			tables: "vessel: {from: in, columns: {reg: R, home_stay_id: {lookup: {table: stay, by: {vessel_id: " +
				"{from: R, lookup: vessel.reg}, day: H}}}}}\n" +
				"  stay: {from: stays, columns: {vessel_id: {from: R, lookup: vessel.reg}, day: D}}",
			files: map[string]string{"in": "R,H\nA1,2026-01-02\nA2,\n",
				"stays": "R,D\nA1,2026-01-01\nA1,2026-01-02\nA2,2026-01-02\n"},
			accounts: []string{"vessel: 2, 2 added", "stay: 3, 3 added",
				"vessel.home_stay_id: 2, 1 updated, 1 unchanged"},
			query: "SELECT reg, day FROM vessel v LEFT JOIN stay s ON s.id = v.home_stay_id ORDER BY 1",
			rows:  []string{"A1|2026-01-02", "A2|NULL"},
		},
		{
			name: "a circle that can't be broken", status: 2,
			script: `CREATE TABLE pair (id ID, code VARCHAR(4) NOT NULL UNIQUE, other_id INTEGER NOT NULL REFERENCES pair (id));`,
			tables: "pair: {from: in, columns: {code: C, other_id: {from: O, lookup: pair.code}}}",
			files:  map[string]string{"in": "C,O\na,a\n"}, why: "pair -> pair: pair.other_id looks up pair.code, and " +
				"other_id is NOT NULL",
		},
	})
}
