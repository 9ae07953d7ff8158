package conformance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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

// berths is a table, of which one was marked by an earlier load.
const berths = `
	CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(12), state VARCHAR(9) NOT NULL, gone_on DATE, CONSTRAINT state_known CHECK (state IN ('open', 'closed', 'dredged')));
	INSERT INTO berth (code, name, state, gone_on) VALUES ('B1', 'North', 'open', NULL), ('B2', 'South', 'dredged', NULL), ('B3', 'East', 'closed', '2026-01-01'), ('B4', 'West', 'closed', '2026-01-02');
`

// TestMarks: what is gone from a file stays with a mark, once, and loses it when it is there again.
func TestMarks(t *testing.T) {
	const marks = "gone_from_file: {mark: {state: closed, gone_on: {formula: today()}}, mark_back: {state: open, " +
		"gone_on: null}, at_most: 50%}"
	relate(t, []relation{
		{
			name: "rows are marked and marked back, besides what the file changes", script: berths, status: 4,
			tables: "berth: {from: in, key: code, already_there: update, " + marks + ", columns: {code: C, name: N, " +
				"state: {from: S, on_update: keep}}}\nset_aside_limit: any",
			files: map[string]string{"in": "C,N,S\nB1,A name that is too " +
				"long,open\nB3,Eastern,dredged\nB5,New,open\n"},
			accounts: []string{"berth: 3, 1 added, 1 updated, 1 aside, 1 marked, 1 marked back"},
			asides:   []string{`in.csv:2: N "A name that is too long" is longer than the 12 characters that the column takes`},
			query: "SELECT code, name, state, CASE WHEN gone_on > '2026-02-01' THEN 'now' END FROM berth ORDER " +
				"BY code",
			rows: []string{"B1|North|open|NULL", "B2|South|closed|now", "B3|Eastern|open|NULL", "B4|West|closed|NULL",
				"B5|New|open|NULL"},
		},
		{
			name: "the file itself says what is open again", script: berths,
			tables: "berth: {from: in, key: code, already_there: update, gone_from_file: {mark: {state: closed}, " +
				"at_most: 2, where_sql: code <> 'B2'}, columns: {code: C, state: S}}",
			files:    map[string]string{"in": "C,S\nB3,dredged\n"},
			accounts: []string{"berth: 1, 1 updated, 1 marked"},
			query:    "SELECT code, state FROM berth ORDER BY code",
			rows:     []string{"B1|closed", "B2|dredged", "B3|dredged", "B4|closed"},
		},
		{
			name: "more is gone than may be marked", script: berths, status: 1,
			tables: "berth: {from: in, key: code, " + strings.Replace(marks, "50%", "30%",
				1) + ", columns: {code: C, state: {constant: open}}}",
			files:    map[string]string{"in": "C\nB9\nB8\n"},
			accounts: []string{"berth: 2, 2 added, 2 marked"},
			why:      "2 of 4 rows of berth are gone from the file, and gone_from_file: marks at most 30%",
			query:    "SELECT count(*) FROM berth", rows: []string{"4"},
		},
		{
			name: "a mark that breaks a constraint", script: berths, status: 2,
			tables: "berth: {from: in, key: code, gone_from_file: {mark: {state: lost}, mark_back: {state: open}, " +
				"at_most: 9}, columns: {code: C, state: {constant: open}}}",
			files: map[string]string{"in": "C\nB1\n"}, why: "block berth: the database rejects the mark of a row of " +
				"berth:",
		},
		{
			name: "a mark that changes the key", script: berths, status: 2,
			tables: "berth: {from: in, key: code, gone_from_file: {mark: {code: x}, mark_back: {code: y}, at_most: " +
				"9}, " +
				"columns: {code: C, name: C, state: C}}",
			files: map[string]string{"in": "C\nB1\n"}, why: "mark: can't change code: rows are recognised by it",
		},
		{
			name: "a mark that is never taken off", script: berths, status: 2,
			tables: "berth: {from: in, key: code, gone_from_file: {mark: {state: closed, gone_on: {formula: " +
				"today()}}, " +
				"mark_back: {state: open}, at_most: 9}, columns: {code: C, state: C}}",
			files: map[string]string{"in": "C\nB1\n"}, why: "add it, for example mark_back: {gone_on: VALUE}, or " +
				"null for NULL",
		},
		{
			name: "a mark by which a lookup finds rows", script: berths + "CREATE TABLE stay (id ID, berth_id " +
				"INTEGER);",
			status: 2,
			tables: "berth: {from: in, key: code, gone_from_file: {mark: {state: closed}, mark_back: {state: open}, " +
				"at_most: 9}, columns: {code: C, state: {constant: open}}}\n  stay: {from: in, key: none, columns: " +
				"{berth_id: {lookup: {table: berth, by: {code: C, state: {constant: open}}}}}}",
			files: map[string]string{"in": "C\nB1\n"},
			why:   "mark: changes berth.state, by which a lookup in block stay finds rows",
		},
	})
}

// TestAllColumnsAsKey: a table without a key of its own becomes what the file says, by exactly what differs.
func TestAllColumnsAsKey(t *testing.T) {
	const entries = `CREATE TABLE kind (id ID, name WORD NOT NULL UNIQUE);
		CREATE TABLE entry (id ID, day DATE NOT NULL, text VARCHAR(20), kind_id INTEGER REFERENCES kind (id), seen_by VARCHAR(9));
		INSERT INTO kind (name) VALUES ('Fog'), ('Gale');
		INSERT INTO entry (day, text, kind_id, seen_by) VALUES ('2026-01-01', 'a', 1, 'x'), ('2026-01-01', 'a', 1, 'y'), ('2026-01-01', 'A', 1, NULL), ('2026-01-02', NULL, 2, NULL);`
	const block = "entry: {from: in, key: all_columns, %s columns: {day: D, text: T, kind_id: {from: K, lookup: " +
		"kind.name, " +
		"not_found: add}}}"
	const noted = `CREATE TABLE note (text VARCHAR(9), depth REAL, day DATE);
		INSERT INTO note (day, text, depth) VALUES ('2026-01-01', 'a', NULL), ('2026-01-01', 'a', NULL),
		('2026-01-01', 'a', NULL), ('2026-01-01', 'a', NULL), ('2026-01-01', 'a', 0.1), ('2026-01-01', 'x', 0.1),
		('2026-01-02', 'z', 0.1), ('2026-01-02', NULL, NULL);`
	const notes = "D,T,P\n2026-01-01,a,\n2026-01-01,a,\n2026-01-01,a,0.1\n2026-01-01,A,0.1\n,b,\n"
	note := func(gone string) string {
		return "note: {from: in, key: all_columns, gone_from_file: {" + gone + "}, columns: {day: D, text: T, depth: P}}"
	}
	relate(t, []relation{
		{
			name: "equal rows count as often as they occur", script: entries,
			tables:   fmt.Sprintf(block, ""),
			files:    map[string]string{"in": "D,T,K\n2026-01-01,a,Fog\n2026-01-01,a,Fog\n2026-01-01,a,Fog\n2026-01-02,,Gale\n2026-01-03,b,Ice\n"},
			accounts: []string{"entry: 5, 2 added, 3 same"},
			query:    "SELECT count(*), count(seen_by) FROM entry", rows: []string{"6|2"},
		},
		{
			name: "what the file lacks is removed", script: entries, more: []string{"--allow-removal"},
			tables:   fmt.Sprintf(block, "gone_from_file: {remove: yes, at_most: 3},"),
			files:    map[string]string{"in": "D,T,K\n2026-01-02,,Gale\n2026-01-01,a,Fog\n2026-01-02,,Gale\n"},
			accounts: []string{"entry: 3, 1 added, 2 same, 2 removed"},
			query:    "SELECT text, seen_by, count(*) FROM entry GROUP BY text, seen_by ORDER BY count(*)",
			rows:     []string{"a|x|1", "NULL|NULL|2"},
		},
		{
			name: "a line that can't be read forbids to remove", script: entries,
			more: []string{"--allow-removal"}, status: 1,
			tables:   fmt.Sprintf(block, "gone_from_file: {remove: yes, at_most: 3},") + "\nset_aside_limit: any",
			files:    map[string]string{"in": "D,T,K\nsoon,,Gale\n2026-01-01,a,Fog\n"},
			accounts: []string{"entry: 2, 1 same, 1 aside, 3 removed"}, asides: []string{`in.csv:2: D "soon" is not a date like 2026-03-31`},
			why:   "the key of 1 line can't be read or looked up",
			query: "SELECT count(*) FROM entry", rows: []string{"4"},
		},
		{
			name: "a table whose rows nothing tells apart", script: noted, more: []string{"--allow-removal"},
			tables:   note("remove: yes, at_most: 9"),
			files:    map[string]string{"in": notes},
			accounts: []string{"note: 5, 2 added, 3 same, 5 removed"},
			query:    "SELECT text, depth, count(*) FROM note WHERE depth IS NULL GROUP BY text, depth ORDER BY count(*)",
			rows:     []string{"b|NULL|1", "a|NULL|2"},
		},
		{
			name: "some of the rows of such a table", script: noted, more: []string{"--allow-removal"},
			tables:   note("remove: yes, at_most: 9, where_sql: text = 'x'"),
			files:    map[string]string{"in": notes},
			accounts: []string{"note: 5, 2 added, 3 same, 1 removed"},
			query:    "SELECT count(*) FROM note", rows: []string{"9"},
		},
		{
			name: "nothing to update by", script: entries, status: 2,
			tables: fmt.Sprintf(block, "already_there: update,"), files: map[string]string{"in": "D,T,K\n"},
			why: "with all columns as the key, lines are equal to a row or new",
		},
	})
}

// TestInOrderOf: rows are numbered in the order that a block asks for, and others that refer to them find them.
func TestInOrderOf(t *testing.T) {
	const crafts = `CREATE TABLE craft (id ID, reg VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(9), built SMALLINT, dues DECIMAL(20,4), tug_id INTEGER REFERENCES craft (id));
		CREATE TABLE stay (id ID, craft_id INTEGER NOT NULL REFERENCES craft (id), day DATE NOT NULL, UNIQUE (craft_id, day));
		INSERT INTO craft (reg, name, built) VALUES ('A1', 'zulu', 1999);`
	relate(t, []relation{
		{
			name: "numbers by size, texts alphabetically, blanks last", script: crafts,
			tables: "craft: {from: in, key: reg, in_order_of: [built, name, dues], columns: {reg: R, name: N, " +
				"built: B, " +
				"dues: D, tug_id: {from: T, lookup: craft.reg}}}\n  stay: {from: in, columns: {craft_id: {from: R, " +
				"lookup: " +
				"craft.reg}, day: Day}}",
			files: map[string]string{"in": "R,N,B,D,T,Day\nA1,zulu,1999,,,2026-01-01\nA2,b,,1,A3,2026-01-02\n" +
				"A3,B,1980,10,A1,2026-01-03\nA4,\u00e9,1980,-2.5,,2026-01-04\nA5,f,1980,,A2,2026-01-05\n" +
				"A6,B,1980,9.25,,2026-01-06\nA7,B,1980,-10,,2026-01-07\nA8,a,975,,,2026-01-08\n"},
			accounts: []string{"craft: 8, 7 added, 1 same", "stay: 8, 8 added", "craft.tug_id: 8, 3 updated, 4 " +
				"unchanged, 1 same"},
			query: "SELECT c.reg, t.reg, day FROM craft c JOIN stay ON craft_id = c.id LEFT JOIN craft t ON t.id = " +
				"c.tug_id ORDER BY c.id",
			rows: []string{"A1|NULL|2026-01-01", "A8|NULL|2026-01-08", "A7|NULL|2026-01-07", "A6|NULL|2026-01-06",
				"A3|A1|2026-01-03", "A4|NULL|2026-01-04", "A5|A2|2026-01-05", "A2|A3|2026-01-02"},
		},
		{
			name: "an order by what is looked up", script: crafts, status: 2,
			tables: "craft: {from: in, key: reg, in_order_of: tug_id, columns: {reg: R, tug_id: {from: T, lookup: " +
				"craft.reg}}}",
			files: map[string]string{"in": "R,T\n"}, why: "in_order_of: can't order by tug_id, which is looked up",
		},
	})
}

// TestMarksAreListed: the changes file has each cell that is marked, and verify finds marks that are not as they should be.
func TestMarksAreListed(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, berths)
		w.write("in.csv", "C\nB1\nB3\nB4\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {berth: {from: in, key: code, "+
			"gone_from_file: "+
			"{mark: {state: closed, gone_on: 2026-03-01}, mark_back: {state: open, gone_on: null}, at_most: 9}, "+
			"columns: "+
			"{code: C, state: {constant: open}}}}\n")
		r := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--changes", "changes.csv")
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Equal(t, "table,what,key,column,before,after,file,line\nberth,changed,B2,state,dredged,closed,,\n"+
			"berth,changed,B2,gone_on,,2026-03-01,,\n", w.read("changes.csv"), "B3 and B4 have another day, and are "+
			"not marked so")
		w.do("UPDATE berth SET state = 'closed', gone_on = '2026-03-01' WHERE code = 'B1'")
		w.do("UPDATE berth SET gone_on = NULL WHERE code = 'B2'")
		r = w.run("verify", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 1, r.status)
		assert.Regexp(t, `(?s)Still in berth, but gone from the file: 1\s+\S+ B2\s.*Still marked as gone in berth, but in the `+
			`file: 1\s+\S+ B1\s`, r.stdout)
	})
}
