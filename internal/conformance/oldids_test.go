package conformance

import "testing"

// TestOldIDs: rows are found by the ids that they had where they came from, or bring their ids along.
func TestOldIDs(t *testing.T) {
	relate(t, []relation{
		{
			name: "a table without a key refers to itself by old ids, and so does another to it", status: 4,
			script: "CREATE TABLE pilot (id ID, name VARCHAR(12), mentor_id INTEGER REFERENCES pilot (id)); CREATE " +
				"TABLE trip (id ID, pilot_id INTEGER NOT NULL REFERENCES pilot (id), day DATE NOT NULL);",
			tables: "trip: {from: trips, key: none, columns: {pilot_id: {lookup: {table: pilot, by_old_id: {there: " +
				"No, here: P}}}, day: D}}\n" +
				"  pilot: {from: in, key: none, columns: {name: N, mentor_id: {lookup: {table: pilot, by_old_id: " +
				"{there: No, here: M}}}}}\nset_aside_limit: any",
			files: map[string]string{"in": "No,N,M\n9,Ann,7\n7,Bob,\n3,Ann,9\n4,Eve,5\n2,Fay,4\n",
				"trips": "P,D\n3,2026-01-01\n9,2026-01-02\n4,2026-01-03\n"},
			accounts: []string{"pilot: 5, 3 added, 2 aside", "trip: 3, 2 added, 1 aside",
				"pilot.mentor_id: 5, 2 updated, 1 unchanged, 2 aside"},
			asides: []string{`in.csv:5: M "5" is the No of no line that fills pilot`,
				`in.csv:6: M "4" is the No of in.csv:5, a line for pilot that is set aside`,
				`trips.csv:4: P "4" is the No of in.csv:5, a line for pilot that is set aside`},
			query: "SELECT p.name, m.name, n.name, day FROM pilot p JOIN pilot m ON m.id = p.mentor_id LEFT JOIN " +
				"pilot n ON n.id = m.mentor_id LEFT JOIN trip ON pilot_id = p.id ORDER BY day",
			rows: []string{"Ann|Ann|Bob|2026-01-01", "Ann|Bob|NULL|2026-01-02"},
		},
		{
			name: "like tables are brought together, with their old ids",
			script: `CREATE TABLE craft (id ID, kind VARCHAR(8) NOT NULL, name VARCHAR(12) NOT NULL, UNIQUE (kind, name));
				CREATE TABLE tow (id ID, tug_id INTEGER NOT NULL REFERENCES craft (id), barge_id INTEGER REFERENCES craft (id), day DATE NOT NULL, UNIQUE (tug_id, day));
				INSERT INTO craft (kind, name) VALUES ('tug', 'Ox');`,
			tables: "tugs: {into: craft, from: tugs, columns: {kind: {constant: tug}, name: N}}\n" +
				"  barges: {into: craft, from: barges, columns: {kind: {constant: barge}, name: N}}\n" +
				"  tow: {from: tows, columns: {tug_id: {lookup: {block: tugs, by_old_id: {there: No, here: Tug}}}, " +
				"barge_id: {lookup: {block: barges, by_old_id: {there: No, here: Barge}}}, day: D}}\n" +
				"set_aside_limit: any",
			files: map[string]string{"tugs": "No,N\n1,Ox\n2,Mule\n3,Mule\n", "barges": "No,N\n1,Flat\n2,\n",
				"tows": "Tug,Barge,D\n1,1,2026-01-01\n3,,2026-01-02\n2,2,2026-01-03\n4,1,2026-01-04\n"},
			accounts: []string{"tugs: 3, 1 added, 1 same, 1 repeated", "barges: 2, 1 added, 1 aside",
				"tow: 4, 2 added, 2 aside"}, status: 4,
			asides: []string{"barges.csv:3: N is blank, but is part of the key (kind, name)",
				`tows.csv:4: Barge "2" is the No of barges.csv:3, a line for craft that is set aside`,
				`tows.csv:5: Tug "4" is the No of no line that fills craft`},
			query: "SELECT t.name, b.name, day FROM tow JOIN craft t ON t.id = tug_id LEFT JOIN craft b ON b.id = " +
				"barge_id ORDER BY day",
			rows: []string{"Ox|Flat|2026-01-01", "Mule|NULL|2026-01-02"},
		},
		{
			name: "old ids of rows that bring their ids along, without a key",
			script: "CREATE TABLE mark (id ID, name VARCHAR(9)); CREATE TABLE light (id ID, mark_id INTEGER NOT " +
				"NULL REFERENCES mark (id));",
			tables: "mark: {from: in, key: none, columns: {id: I, name: N}}\n" +
				"  light: {from: in, key: none, columns: {mark_id: {lookup: {table: mark, by_old_id: {there: N, " +
				"here: L}}}}}",
			files:    map[string]string{"in": "I,N,L\n40,a,b\n7,b,b\n"},
			accounts: []string{"mark: 2, 2 added", "light: 2, 2 added"},
			query:    "SELECT mark_id FROM light", rows: []string{"7", "7"},
		},
		{
			name:    "ids that the file brings leave the counter past them",
			counted: true,
			script:  "CREATE TABLE mark (id ID, name VARCHAR(9) NOT NULL UNIQUE);",
			tables: "mark: {from: in, key: id, columns: {id: I, name: N}}\n" +
				"  more: {into: mark, from: more, key: name, columns: {name: N}}",
			files:    map[string]string{"in": "I,N\n40,a\n7,b\n", "more": "N\nc\n"},
			accounts: []string{"mark: 2, 2 added", "more: 1, 1 added"},
			query:    "SELECT name, CASE WHEN id > 40 THEN 1 ELSE 0 END FROM mark ORDER BY name",
			rows:     []string{"a|0", "b|0", "c|1"},
		},
	})
}
