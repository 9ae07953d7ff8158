package conformance

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// accounts writes the tallies of a report, a line a step, without what is zero.
func (r report) accounts() []string {
	var lines []string
	for _, s := range r.Steps {
		t := s.Tally
		line := fmt.Sprintf("%s: %d", s.Step, t.Read)
		for _, part := range []struct {
			n    int64
			what string
		}{{t.Added, "added"}, {t.Updated, "updated"}, {t.Unchanged, "unchanged"}, {t.Kept, "kept"}, {t.Repeated, "repeated"}, {t.LeftOut, "out"},
			{t.SetAside, "aside"}, {s.Removed, "removed"}} {
			if part.n > 0 {
				line += fmt.Sprintf(", %d %s", part.n, part.what)
			}
		}
		lines = append(lines, line)
	}
	return lines
}

const fleet = `
	CREATE TABLE kind (id ID, name WORD NOT NULL UNIQUE);
	CREATE TABLE vessel (id ID, reg VARCHAR(8) UNIQUE, name VARCHAR(12) NOT NULL, kind_id INTEGER REFERENCES kind (id), gt DECIMAL(8,1), flag VARCHAR(9), CONSTRAINT gt_above_zero CHECK (gt > 0));
	CREATE TABLE stay (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, note VARCHAR(20), UNIQUE (vessel_id, day));
	INSERT INTO kind (name) VALUES ('Tug'), ('Ferry');
	INSERT INTO vessel (reg, name, kind_id, gt, flag) VALUES ('A1', 'Heron', 1, 100.5, 'NO'), ('A2', 'Skua', 2, 20, NULL), ('A3', 'Tern', NULL, NULL, 'DK');
	INSERT INTO stay (vessel_id, day) VALUES (1, '2026-01-01');
`

const pilots = `
	CREATE TABLE pilot (id ID, licence VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(12) NOT NULL, mentor_id INTEGER REFERENCES pilot (id));
	INSERT INTO pilot (licence, name) VALUES ('P1', 'Ann');
`

// TestRelations holds what a load makes of small files in small schemas against the rows that there must be.
func TestRelations(t *testing.T) {
	const vessels = "SELECT reg, name, kind_id, gt, flag FROM vessel ORDER BY reg, name"
	cases := []struct {
		name, script string
		tables       string            // of the ladle file, whose inputs are the files
		files        map[string]string // by input
		more         []string          // of the command line
		status       int
		accounts     []string
		asides       []string
		why          string
		query        string
		rows         []string
	}{
		{
			name: "update writes what differs, and a blank changes nothing", script: fleet,
			tables:   "vessel: {from: in, key: reg, already_there: update, columns: {reg: R, name: N, kind_id: {from: K, find: kind.name, not_found: add}, gt: G}}",
			files:    map[string]string{"in": "R,N,K,G\nA1,Heron,Tug,100.50\nA2,Skua,,21\nA3,Gannet,Barge,\nA4,Rail,tug,5\n"},
			accounts: []string{"vessel: 4, 1 added, 2 updated, 1 unchanged"},
			query:    "SELECT reg, v.name, k.name, gt, flag FROM vessel v JOIN kind k ON k.id = kind_id ORDER BY reg",
			rows:     []string{"A1|Heron|Tug|100.5|NO", "A2|Skua|Ferry|21|NULL", "A3|Gannet|Barge|NULL|DK", "A4|Rail|Tug|5|NULL"},
		},
		{
			name: "a blank where a value must be changes nothing in a row that is there, but makes no new one", script: fleet, status: 4,
			tables:   "vessel: {from: in, key: reg, already_there: update, columns: {reg: R, name: N, gt: G}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,G\nA1,,7\nA9,,8\nA8,Rail,9\n"},
			accounts: []string{"vessel: 3, 1 added, 1 updated, 1 aside"},
			asides:   []string{"in.csv:3: N is blank, but vessel.name must have a value, and no row with this key is there"},
			query:    vessels, rows: []string{"A1|Heron|1|7|NO", "A2|Skua|2|20|NULL", "A3|Tern|NULL|NULL|DK", "A8|Rail|NULL|9|NULL"},
		},
		{
			name: "blank: clears empties cells, and a step of its own can be for updates only", script: fleet,
			tables:   "vessel: {from: in, key: reg, already_there: update, not_there: leave, blank: clears, columns: {reg: R, gt: G, name: N, flag: F}}",
			files:    map[string]string{"in": "R,N,G,F\nA1,Heron,,NO\nA3,Tern,,\nA9,Rail,5,\n"},
			accounts: []string{"vessel: 3, 2 updated, 1 out"},
			query:    vessels, rows: []string{"A1|Heron|1|NULL|NO", "A2|Skua|2|20|NULL", "A3|Tern|NULL|NULL|NULL"},
		},
		{
			name: "not_there: refuse sets aside, as does a CHECK in an update", script: fleet, status: 4,
			tables:   "vessel: {from: in, key: reg, already_there: update, not_there: refuse, columns: {reg: R, gt: G, name: N}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,G\nA1,Heron,-5\nA9,Rail,5\nA2,Skua,7\n"},
			accounts: []string{"vessel: 3, 1 updated, 2 aside"},
			asides:   []string{"in.csv:2: the database does not take the row: CHECK constraint failed: gt_above_zero; gt is -5.0", "in.csv:3: no row with this key (reg) is in vessel"},
			query:    vessels, rows: []string{"A1|Heron|1|100.5|NO", "A2|Skua|2|7|NULL", "A3|Tern|NULL|NULL|DK"},
		},
		{
			name: "several rows with a key that isn't unique can't be updated", script: fleet + "INSERT INTO vessel (reg, name) VALUES ('A4', 'Tern');", status: 1,
			tables: "vessel: {from: in, key: name, already_there: update, columns: {name: N, gt: G}}",
			files:  map[string]string{"in": "N,G\nTern,5\n"},
			asides: []string{"in.csv:2: several rows with this key (name) are in vessel, so it can't be told which to update"},
			query:  "SELECT count(*) FROM vessel WHERE gt = 5", rows: []string{"0"}, accounts: []string{"vessel: 1, 1 aside"},
		},
		{
			name: "rows are found by their new names, and not by their old ones", script: fleet, status: 4,
			tables: "vessel: {from: in, key: reg, already_there: update, columns: {reg: R, name: N}}\n  stay: {from: stays, columns: {vessel_id: {from: V, find: vessel.name}, day: D}}\nset_aside_limit: any",
			files:  map[string]string{"in": "R,N\nA1,Gannet\n", "stays": "V,D\nGannet,2026-02-01\nHeron,2026-02-02\n"},
			asides: []string{`stays.csv:3: V "Heron" is not in vessel.name any more: an earlier step gives that row another value`}, accounts: []string{"vessel: 1, 1 updated", "stay: 2, 1 added, 1 aside"},
			query: "SELECT vessel_id, day FROM stay ORDER BY id", rows: []string{"1|2026-01-01", "1|2026-02-01"},
		},
		{
			name: "a blank in a key that matches", script: fleet + "INSERT INTO vessel (reg, name) VALUES (NULL, 'Punt');",
			tables:   "vessel: {from: in, key: [reg, name], blank_key: match, already_there: update, columns: {reg: R, name: N, gt: G}}",
			files:    map[string]string{"in": "R,N,G\n,Punt,3\n,Raft,4\n,Raft,4\nA1,Heron,100.5\n"},
			accounts: []string{"vessel: 4, 1 added, 1 updated, 1 unchanged, 1 repeated"},
			query:    "SELECT reg, name, gt FROM vessel WHERE gt < 5 ORDER BY name", rows: []string{"NULL|Punt|3", "NULL|Raft|4"},
		},
		{
			name: "rows that are gone are removed, but lines that are set aside or left out stay", script: fleet, more: []string{"--allow-removal"}, status: 4,
			tables:   "vessel: {from: in, key: reg, gone_from_file: {remove: 50%, among: name <> 'Heron'}, columns: {reg: R, name: N, gt: G}, only: n != \"Skua\"}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,G\nA2,Skua,1\nA8,Rail,x\n"},
			accounts: []string{"vessel: 2, 1 out, 1 aside, 1 removed"}, asides: []string{`in.csv:3: G "x" is not a number`},
			query: "SELECT reg FROM vessel ORDER BY reg", rows: []string{"A1", "A2"},
		},
		{
			name: "what an input leaves out is not gone", script: fleet, more: []string{"--allow-removal"},
			tables:   "vessel: {from: in, key: reg, gone_from_file: {remove: 1}, columns: {reg: R, name: N}}\ninputs: {in: {file: in.csv, only: n != \"Skua\"}}",
			files:    map[string]string{"in": "R,N\nA1,Heron\nA2,Skua\n"},
			accounts: []string{"vessel: 2, 1 kept, 1 out, 1 removed"},
			query:    "SELECT reg FROM vessel ORDER BY reg", rows: []string{"A1", "A2"},
		},
		{
			name: "more is gone than may be removed", script: fleet, more: []string{"--allow-removal"}, status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: 1, among: reg <> 'A1'}, columns: {reg: R, name: N}}",
			files:  map[string]string{"in": "R,N\nA1,Heron\n"}, accounts: []string{"vessel: 1, 1 kept, 2 removed"},
			why:   "2 of 2 rows of vessel are gone from the file, and gone_from_file: allows to remove 1",
			query: "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "nobody allowed the removal", script: fleet, status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: 1}, columns: {reg: R, name: N}}",
			files:  map[string]string{"in": "R,N\nA1,Heron\nA2,Skua\n"}, accounts: []string{"vessel: 2, 2 kept, 1 removed"},
			why:   "--allow-removal removes them",
			query: "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "a row that others point at is not removed", script: fleet, more: []string{"--allow-removal"}, status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: 100%}, columns: {reg: R, name: N}}",
			files:  map[string]string{"in": "R,N\nA2,Skua\nA3,Tern\n"}, accounts: []string{"vessel: 2, 2 kept, 1 removed"},
			why:   "rows of vessel are gone from the file, but can't be removed: a row of stay points at the row of vessel with id 1",
			query: "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "but it is together with them", script: fleet, more: []string{"--allow-removal"},
			tables:   "vessel: {from: in, key: reg, gone_from_file: {remove: 100%}, columns: {reg: R, name: N}}\n  stay: {from: stays, gone_from_file: {remove: 100%}, columns: {vessel_id: {from: V, find: vessel.reg}, day: D}}",
			files:    map[string]string{"in": "R,N\nA2,Skua\nA3,Tern\n", "stays": "V,D\nA2,2026-02-01\n"},
			accounts: []string{"vessel: 2, 2 kept, 1 removed", "stay: 1, 1 added, 1 removed"},
			query:    "SELECT reg, day FROM vessel LEFT JOIN stay ON vessel_id = vessel.id ORDER BY reg", rows: []string{"A2|2026-02-01", "A3|NULL"},
		},
		{
			name: "a key that can't be read forbids to remove", script: fleet, more: []string{"--allow-removal"}, status: 1,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: 100%}, columns: {reg: R, name: N}}\nset_aside_limit: any",
			files:  map[string]string{"in": "R,N\nA1,Heron\n,Skua\n"}, accounts: []string{"vessel: 2, 1 kept, 1 aside, 2 removed"},
			asides: []string{"in.csv:3: R is blank, but is part of the key (reg)"},
			why:    "it can't be told which rows of vessel are gone: the key of 1 lines can't be read or found",
			query:  "SELECT count(*) FROM vessel", rows: []string{"3"},
		},
		{
			name: "a table that points at itself, in any order of the file", script: pilots, status: 4,
			tables:   "pilot: {from: in, key: licence, columns: {licence: L, name: N, mentor_id: {from: M, find: pilot.licence}}}\nset_aside_limit: any",
			files:    map[string]string{"in": "L,N,M\nP4,Dot,P3\nP2,Bob,P1\nP3,Cid,P2\nP5,Eve,P9\nP6,Fay,P5\nP1,Ann,P2\nP3,Cid,P2\n"},
			accounts: []string{"pilot: 7, 3 added, 1 kept, 1 repeated, 2 aside", "pilot.mentor_id: 7, 3 updated, 1 kept, 1 repeated, 2 aside"},
			asides:   []string{`in.csv:5: M "P9" is not in pilot.licence`, `in.csv:6: M "P5" would be in pilot.licence, but in.csv:5 is set aside`},
			query:    "SELECT p.licence, m.licence FROM pilot p LEFT JOIN pilot m ON m.id = p.mentor_id ORDER BY 1", rows: []string{"P1|NULL", "P2|P1", "P3|P2", "P4|P3"},
		},
		{
			name: "lines of one key that differ in what is filled later contradict each other", script: pilots, status: 1,
			tables:   "pilot: {from: in, key: licence, columns: {licence: L, name: N, mentor_id: {from: M, find: pilot.licence}}}\n",
			files:    map[string]string{"in": "L,N,M\nP2,Bob,P1\nP2,Bob,\n"},
			accounts: []string{"pilot: 2, 2 aside", "pilot.mentor_id: 2, 2 aside"},
			asides:   []string{"in.csv:2: line 3 has the same key (licence), but another M", "in.csv:3: line 2 has the same key (licence), but another M"},
			query:    "SELECT count(*) FROM pilot", rows: []string{"1"},
		},
		{
			name: "a table without a key points at itself by old ids, and so does another at it", status: 4,
			script: "CREATE TABLE pilot (id ID, name VARCHAR(12), mentor_id INTEGER REFERENCES pilot (id)); CREATE TABLE trip (id ID, pilot_id INTEGER NOT NULL REFERENCES pilot (id), day DATE NOT NULL);",
			tables: "trip: {from: trips, key: none, columns: {pilot_id: {find: {table: pilot, by_old_id: {No: P}}}, day: D}}\n" +
				"  pilot: {from: in, key: none, columns: {name: N, mentor_id: {find: {table: pilot, by_old_id: {No: M}}}}}\nset_aside_limit: any",
			files:    map[string]string{"in": "No,N,M\n9,Ann,7\n7,Bob,\n3,Ann,9\n4,Eve,5\n2,Fay,4\n", "trips": "P,D\n3,2026-01-01\n9,2026-01-02\n4,2026-01-03\n"},
			accounts: []string{"pilot: 5, 3 added, 2 aside", "trip: 3, 2 added, 1 aside", "pilot.mentor_id: 5, 2 updated, 1 unchanged, 2 aside"},
			asides: []string{`in.csv:5: M "5" is not in No of the lines that fill pilot`, `in.csv:6: M "4" would be in No of the lines that fill pilot, but in.csv:5 is set aside`,
				`trips.csv:4: P "4" would be in No of the lines that fill pilot, but in.csv:5 is set aside`},
			query: "SELECT p.name, m.name, n.name, day FROM pilot p JOIN pilot m ON m.id = p.mentor_id LEFT JOIN pilot n ON n.id = m.mentor_id LEFT JOIN trip ON pilot_id = p.id ORDER BY day",
			rows:  []string{"Ann|Ann|Bob|2026-01-01", "Ann|Bob|NULL|2026-01-02"},
		},
		{
			name: "a table that points at itself is updated", script: pilots,
			tables:   "pilot: {from: in, key: licence, already_there: update, columns: {licence: L, name: N, mentor_id: {from: M, find: pilot.licence}}}\n",
			files:    map[string]string{"in": "L,N,M\nP1,Anna,P2\nP2,Bob,\n"},
			accounts: []string{"pilot: 2, 1 added, 1 updated", "pilot.mentor_id: 2, 1 updated, 1 unchanged"},
			query:    "SELECT p.name, m.name FROM pilot p LEFT JOIN pilot m ON m.id = p.mentor_id ORDER BY 1", rows: []string{"Anna|Bob", "Bob|NULL"},
		},
		{
			name:     "a table of codes that points at itself",
			script:   "CREATE TABLE area (code VARCHAR(4) PRIMARY KEY, part_of VARCHAR(4) REFERENCES area (code)) PLAIN;",
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
			tables: "vessel: {from: in, columns: {reg: R, home_stay_id: {find: {table: stay, by: {vessel_id: {from: R, find: vessel.reg}, day: H}}}}}\n" +
				"  stay: {from: stays, columns: {vessel_id: {from: R, find: vessel.reg}, day: D}}",
			files:    map[string]string{"in": "R,H\nA1,2026-01-02\nA2,\n", "stays": "R,D\nA1,2026-01-01\nA1,2026-01-02\nA2,2026-01-02\n"},
			accounts: []string{"vessel: 2, 2 added", "stay: 3, 3 added", "vessel.home_stay_id: 2, 1 updated, 1 unchanged"},
			query:    "SELECT reg, day FROM vessel v LEFT JOIN stay s ON s.id = v.home_stay_id ORDER BY 1", rows: []string{"A1|2026-01-02", "A2|NULL"},
		},
		{
			name: "like tables are brought together, with their old ids",
			script: `CREATE TABLE craft (id ID, kind VARCHAR(8) NOT NULL, name VARCHAR(12) NOT NULL, UNIQUE (kind, name));
				CREATE TABLE tow (id ID, tug_id INTEGER NOT NULL REFERENCES craft (id), barge_id INTEGER REFERENCES craft (id), day DATE NOT NULL, UNIQUE (tug_id, day));
				INSERT INTO craft (kind, name) VALUES ('tug', 'Ox');`,
			tables: "tugs: {into: craft, from: tugs, columns: {kind: {constant: tug}, name: N}}\n  barges: {into: craft, from: barges, columns: {kind: {constant: barge}, name: N}}\n" +
				"  tow: {from: tows, columns: {tug_id: {find: {block: tugs, by_old_id: {No: Tug}}}, barge_id: {find: {block: barges, by_old_id: {No: Barge}}}, day: D}}\nset_aside_limit: any",
			files:    map[string]string{"tugs": "No,N\n1,Ox\n2,Mule\n3,Mule\n", "barges": "No,N\n1,Flat\n2,\n", "tows": "Tug,Barge,D\n1,1,2026-01-01\n3,,2026-01-02\n2,2,2026-01-03\n4,1,2026-01-04\n"},
			accounts: []string{"tugs: 3, 1 added, 1 kept, 1 repeated", "barges: 2, 1 added, 1 aside", "tow: 4, 2 added, 2 aside"}, status: 4,
			asides: []string{"barges.csv:3: N is blank, but is part of the key (kind, name)", `tows.csv:4: Barge "2" would be in No of the lines that fill craft, but barges.csv:3 is set aside`,
				`tows.csv:5: Tug "4" is not in No of the lines that fill craft`},
			query: "SELECT t.name, b.name, day FROM tow JOIN craft t ON t.id = tug_id LEFT JOIN craft b ON b.id = barge_id ORDER BY day",
			rows:  []string{"Ox|Flat|2026-01-01", "Mule|NULL|2026-01-02"},
		},
		{
			name: "a later block completes rows of an earlier one, and repeats what it says too", script: fleet,
			tables: "vessel: {from: in, key: reg, columns: {reg: R, name: N}}\n  tons: {into: vessel, from: more, key: reg, already_there: update, not_there: leave, columns: {reg: R, gt: G}}\n" +
				"  names: {into: vessel, from: more, key: reg, not_there: leave, columns: {reg: R, name: {constant: none}}}",
			files:    map[string]string{"in": "R,N\nA5,Rail\n", "more": "R,G\nA5,9\nA1,100.5\nA6,1\n"},
			accounts: []string{"vessel: 1, 1 added", "tons: 3, 1 updated, 1 unchanged, 1 out", "names: 3, 1 kept, 1 repeated, 1 out"},
			query:    "SELECT reg, name, gt FROM vessel WHERE reg > 'A4' ORDER BY reg", rows: []string{"A5|Rail|9"},
		},
		{
			name: "old ids of rows that bring their ids along, without a key", script: "CREATE TABLE mark (id ID, name VARCHAR(9)); CREATE TABLE light (id ID, mark_id INTEGER NOT NULL REFERENCES mark (id));",
			tables:   "mark: {from: in, key: none, columns: {id: I, name: N}}\n  light: {from: in, key: none, columns: {mark_id: {find: {table: mark, by_old_id: {N: L}}}}}",
			files:    map[string]string{"in": "I,N,L\n40,a,b\n7,b,b\n"},
			accounts: []string{"mark: 2, 2 added", "light: 2, 2 added"},
			query:    "SELECT mark_id FROM light", rows: []string{"7", "7"},
		},
		{
			name: "names that look like others are not added without an answer", script: fleet, status: 4,
			tables:   "vessel: {from: in, key: reg, columns: {reg: R, name: N, kind_id: {from: K, find: kind.name, not_found: add}}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,K\nB1,Rail,Fery\nB2,Rail,Lighter\nB3,Rail,Ligther\nB4,Rail,Tugs\n"},
			accounts: []string{"vessel: 4, 2 added, 2 aside"},
			asides: []string{`in.csv:2: K "Fery" can't be added to kind.name: it looks like another name; there is "Ferry"`,
				`in.csv:4: K "Ligther" can't be added to kind.name: it looks like another name; "Lighter" is new too`},
			query: "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Lighter", "Tugs"},
		},
		{
			name: "or with one in the ladle file", script: fleet,
			tables:   "vessel: {from: in, key: reg, columns: {reg: R, name: N, kind_id: {from: K, find: kind.name, not_found: add, similar: accept}}}",
			files:    map[string]string{"in": "R,N,K\nB1,Rail,Fery\n"},
			accounts: []string{"vessel: 1, 1 added"},
			query:    "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Fery"},
		},
		{
			name:     "a diamond of relations",
			script:   "CREATE TABLE top (id ID, n VARCHAR(4) UNIQUE); CREATE TABLE l (id ID, n VARCHAR(4) UNIQUE, top_id INTEGER REFERENCES top (id)); CREATE TABLE r (id ID, n VARCHAR(4) UNIQUE, top_id INTEGER REFERENCES top (id)); CREATE TABLE low (l_id INTEGER REFERENCES l (id), r_id INTEGER REFERENCES r (id), PRIMARY KEY (l_id, r_id));",
			tables:   "low: {from: in, columns: {l_id: {from: L, find: l.n}, r_id: {from: R, find: r.n}}}\n  r: {from: in, key: n, columns: {n: R, top_id: {from: T, find: top.n, not_found: add}}}\n  l: {from: in, key: n, columns: {n: L, top_id: {from: T, find: top.n, not_found: add}}}",
			files:    map[string]string{"in": "L,R,T\na,x,t\nb,y,t\na,y,t\n"},
			accounts: []string{"r: 3, 2 added, 1 repeated", "l: 3, 2 added, 1 repeated", "low: 3, 3 added"},
			query:    "SELECT l.n, r.n, top.n FROM low JOIN l ON l.id = l_id JOIN r ON r.id = r_id JOIN top ON top.id = l.top_id AND top.id = r.top_id ORDER BY 1, 2",
			rows:     []string{"a|x|t", "a|y|t", "b|y|t"},
		},
		{
			name: "relations that nobody declared, and names that need quotes",
			script: `CREATE TABLE Q[order]Q (id ID, Q[a key]Q VARCHAR(8) NOT NULL UNIQUE); CREATE TABLE Q[line's "x"]Q (id ID, order_id INTEGER NOT NULL, Q[select]Q INTEGER, Q[from, to]Q VARCHAR(8));
				INSERT INTO Q[order]Q (Q[a key]Q) VALUES ('O1');`,
			tables: "'line''s \"x\"': {from: in, already_there: update, key: [order_id, select], columns: {order_id: {from: O, find: order.a key}, select: S, 'from, to': F}}\n" +
				"  order: {from: in, columns: {a key: O}}",
			files:    map[string]string{"in": "O,S,F\nO1,1,a\nO2,2,b\n"},
			accounts: []string{"order: 2, 1 added, 1 kept", `line's "x": 2, 2 added`},
			query:    `SELECT Q[a key]Q, Q[select]Q, Q[from, to]Q FROM Q[line's "x"]Q l JOIN Q[order]Q o ON o.id = l.order_id ORDER BY 1`, rows: []string{"O1|1|a", "O2|2|b"},
		},
		{
			name:     "no primary key",
			script:   "CREATE TABLE watch (day DATE, words VARCHAR(20), n INTEGER); INSERT INTO watch VALUES ('2026-01-01', 'fog', 1), ('2026-01-01', 'fog', 1);",
			tables:   "watch: {from: in, key: [day, words], columns: {day: D, words: W, n: N}}",
			files:    map[string]string{"in": "D,W,N\n2026-01-01,fog,2\n2026-01-02,fog,2\n2026-01-02,fog,2\n2026-01-02,rain,\n"},
			accounts: []string{"watch: 4, 2 added, 1 kept, 1 repeated"},
			query:    "SELECT day, words, n FROM watch ORDER BY day, words", rows: []string{"2026-01-01|fog|1", "2026-01-01|fog|1", "2026-01-02|fog|2", "2026-01-02|rain|NULL"},
		},
		{
			name:     "no primary key, and nothing else that tells rows apart",
			script:   "CREATE TABLE watch (day DATE, words VARCHAR(20)); INSERT INTO watch VALUES ('2026-01-01', 'fog');",
			tables:   "watch: {from: in, key: none, columns: {day: D, words: W}}",
			files:    map[string]string{"in": "D,W\n2026-01-01,fog\n2026-01-01,fog\n,\n2026-01-02,x\n"},
			accounts: []string{"watch: 3, 3 added"},
			query:    "SELECT day, words FROM watch ORDER BY day, words", rows: []string{"2026-01-01|fog", "2026-01-01|fog", "2026-01-01|fog", "2026-01-02|x"},
		},
		{
			name:     "ids that the file brings leave the counter past them",
			script:   "CREATE TABLE mark (id ID, name VARCHAR(9) NOT NULL UNIQUE);",
			tables:   "mark: {from: in, key: id, columns: {id: I, name: N}}\n  more: {into: mark, from: more, key: name, columns: {name: N}}",
			files:    map[string]string{"in": "I,N\n40,a\n7,b\n", "more": "N\nc\n"},
			accounts: []string{"mark: 2, 2 added", "more: 1, 1 added"},
			query:    "SELECT name, CASE WHEN id > 40 THEN 1 ELSE 0 END FROM mark ORDER BY name", rows: []string{"a|0", "b|0", "c|1"},
		},
		{
			name: "rows of one table that point at each other are removed together", more: []string{"--allow-removal"},
			script:   pilots + "INSERT INTO pilot (licence, name, mentor_id) VALUES ('P2', 'Bob', 1), ('P3', 'Cid', 2), ('P4', 'Dot', NULL); UPDATE pilot SET mentor_id = 3 WHERE licence = 'P1';",
			tables:   "pilot: {from: in, key: licence, gone_from_file: {remove: 3}, columns: {licence: L, name: N}}",
			files:    map[string]string{"in": "L,N\nP4,Dot\n"},
			accounts: []string{"pilot: 1, 1 kept, 3 removed"},
			query:    "SELECT licence FROM pilot", rows: []string{"P4"},
		},
		{
			name: "so are rows of two tables", more: []string{"--allow-removal"},
			script: `CREATE TABLE vessel (id ID, reg VARCHAR(8) NOT NULL UNIQUE); CREATE TABLE stay (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, UNIQUE (vessel_id, day));
				ALTER TABLE vessel ADD COLUMN last_id INTEGER REFERENCES stay (id);
				INSERT INTO vessel (reg) VALUES ('A1'), ('A2'); INSERT INTO stay (vessel_id, day) VALUES (1, '2026-01-01'), (2, '2026-01-02'); UPDATE vessel SET last_id = id;`,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: 1}, columns: {reg: R}}\n" +
				"  stay: {from: in, gone_from_file: {remove: 1}, columns: {vessel_id: {from: R, find: vessel.reg}, day: D}}",
			files:    map[string]string{"in": "R,D\nA2,2026-01-02\n"},
			accounts: []string{"vessel: 1, 1 kept, 1 removed", "stay: 1, 1 kept, 1 removed"},
			query:    "SELECT reg, last_id, day FROM vessel JOIN stay ON stay.id = last_id", rows: []string{"A2|2|2026-01-02"},
		},
		{
			name: "rows among which nothing can be looked for", status: 2, script: fleet,
			tables: "vessel: {from: in, key: reg, gone_from_file: {remove: 1, among: colour = 'red'}, columns: {reg: R, name: N}}",
			files:  map[string]string{"in": "R,N\nA1,Heron\n"}, why: "f.ladle.yaml:5:67: among: \"colour = 'red'\" is no condition on the rows of vessel",
		},
		{
			name: "a circle that can't be broken", status: 2,
			script: `CREATE TABLE pair (id ID, code VARCHAR(4) NOT NULL UNIQUE, other_id INTEGER NOT NULL REFERENCES pair (id));`,
			tables: "pair: {from: in, columns: {code: C, other_id: {from: O, find: pair.code}}}",
			files:  map[string]string{"in": "C,O\na,a\n"}, why: "pair -> pair: pair.other_id finds pair.code, and other_id must have a value",
		},
	}
	everywhere(t, func(t *testing.T, on server) {
		for _, c := range cases {
			t.Run(c.name, func(t *testing.T) {
				w := newWorld(t, on, quotedFor(on, c.script))
				inputs := "inputs:\n"
				for _, name := range slices.Sorted(maps.Keys(c.files)) {
					w.write(name+".csv", c.files[name])
					inputs += fmt.Sprintf("  %s: {file: %s.csv}\n", name, name)
				}
				if strings.Contains(c.tables, "inputs:") {
					inputs = ""
				}
				w.write("f.ladle.yaml", "ladle: 1\n"+inputs+"tables:\n  "+c.tables+"\n")
				if c.status == 2 {
					out := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
					assert.Equal(t, 2, out.status, out.stdout)
					assert.Contains(t, out.stderr, c.why)
					return
				}
				before := w.data()
				tried, _ := w.load("try")
				if c.status != 1 {
					assert.Equal(t, "tried", tried.Outcome)
				}
				assert.Equal(t, before, w.data(), "try changes nothing")
				doc, out := w.load("load", c.more...)
				require.Equal(t, c.status, doc.Status, out.stdout+out.stderr)
				assert.Equal(t, c.accounts, doc.accounts())
				assert.Equal(t, c.asides, doc.asides())
				assert.Contains(t, doc.Why, c.why)
				assert.Equal(t, c.rows, w.query(quotedFor(on, c.query)))
				if c.status == 0 && !strings.Contains(c.tables, "key: none") {
					assert.Equal(t, tried.accounts(), doc.accounts())
					w.loadedTwice(c.more)
				}
				if _, hidden := on.(sqliteFile); !hidden && strings.Contains(c.name, "nothing else that tells rows apart") {
					assert.Contains(t, w.run("undo", "1", "--db", w.db, "--yes").stdout, "3 can't be told from others", "without a hidden row number")
					return
				}
				if c.status == 0 {
					w.holds()
				}
				if c.status != 1 {
					w.takenBack(doc.Run, before)
				}
			})
		}
	})
}

// loadedTwice: what was loaded changes nothing when it is loaded again.
func (w *world) loadedTwice(more []string) {
	w.Helper()
	before := w.data()
	again, out := w.load("load", more...)
	require.Equal(w, 0, again.Status, out.stdout+out.stderr)
	for _, s := range again.Steps {
		if s.Tally.Kept+s.Tally.Unchanged+s.Tally.Repeated > 0 {
			assert.Zero(w, s.Tally.Added+s.Tally.Updated, s.Step)
			assert.Equal(w, before, w.data())
		}
	}
}

// holds: after a load, verify misses no line of the files, and finds all rows of the run as it left them.
func (w *world) holds() {
	w.Helper()
	before := w.data()
	var file struct {
		Steps []struct {
			Step             string
			Missing, Differs int64
		}
	}
	out := w.run("verify", "f.ladle.yaml", "--db", w.db, "--json")
	require.NoError(w, json.Unmarshal([]byte(out.stdout), &file), out.stdout+out.stderr)
	for _, s := range file.Steps {
		assert.Zero(w, s.Missing, s.Step)
	}
	assert.Equal(w, 0, w.run("verify", "1", "--db", w.db).status, "the rows of the run are as it left them")
	assert.Equal(w, before, w.data(), "verify changes nothing")
}

// takenBack: without a run, and the empty ones after it, the data are as they were before.
func (w *world) takenBack(run int64, before string) {
	w.Helper()
	for id := run + 1; id > 0; id-- {
		if out := w.run("undo", fmt.Sprint(id), "--db", w.db, "--yes"); id <= run {
			require.Equal(w, 0, out.status, out.stdout+out.stderr)
		}
	}
	assert.Equal(w, before, w.data(), "a run that is taken back leaves nothing")
}

// quotedFor puts the quotes of a server around names that stand in Q[ and ]Q.
func quotedFor(on server, script string) string {
	open, closing := `"`, `"`
	double := func(name string) string { return strings.ReplaceAll(name, `"`, `""`) }
	if _, is := on.(mysqlDatabase); is {
		open, closing = "`", "`"
		double = func(name string) string { return name }
	}
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(script, "Q[")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		name, after, _ := strings.Cut(rest, "]Q")
		b.WriteString(open + double(name) + closing)
		script = after
	}
}

// TestConstraintsOverAPartOfTheRows are no keys for a load, but rows that break them are set aside.
func TestConstraintsOverAPartOfTheRows(t *testing.T) {
	for _, on := range []server{sqliteFile{}, postgresSchema{}} {
		w := newWorld(t, on, `CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL, closed INTEGER);
			CREATE UNIQUE INDEX open_berth ON berth (code) WHERE closed IS NULL; CREATE UNIQUE INDEX lower_code ON berth (lower(code), closed);
			INSERT INTO berth (code) VALUES ('N1');`)
		w.write("in.csv", "C,X\nN1,\nN1,7\nN2,\nn1,7\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\nset_aside_limit: any\ntables: {berth: {from: in, columns: {code: C, closed: X}}}\n")
		doc, _ := w.load("load")
		assert.Equal(t, 2, doc.Status)
		assert.Contains(t, doc.Problems[0].What, "block berth needs a key")
		w.write("f.ladle.yaml", strings.Replace(w.read("f.ladle.yaml"), "from: in,", "from: in, key: none,", 1))
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stdout)
		assert.Equal(t, []string{"berth: 4, 2 added, 2 aside"}, doc.accounts())
		assert.Equal(t, []string{"N1|NULL", "N1|7", "N2|NULL"}, w.query("SELECT code, closed FROM berth ORDER BY id"))
		assert.Contains(t, w.run("tables", "--db", w.db, "--table", "berth").stdout, "which is no key for a load")
	}
}

// TestOptionsOfLoadsWithRelations: what is asked of the command line, and what comes of asking wrongly.
func TestOptionsOfLoadsWithRelations(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, fleet)
		var file strings.Builder
		file.WriteString("R,N,G\n")
		for i := range 5000 {
			fmt.Fprintf(&file, "C%d,Tern,%d\n", i, i%9)
		}
		w.write("in.csv", file.String())
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\ntables: {vessel: {from: in, key: reg, gone_from_file: {remove: 100%}, columns: {reg: R, name: N, gt: G}}}\n")
		before := w.data()
		doc, _ := w.load("try", "--first", "20")
		assert.Equal(t, "tried", doc.Outcome)
		assert.Equal(t, []string{"vessel: 20, 17 added, 3 aside"}, doc.accounts(), "what stands behind the first rows is not gone")
		for arguments, says := range map[string]string{
			"try f.ladle.yaml --first 0":            "--first can't be 0",
			"try f.ladle.yaml --first many":         "invalid value",
			"load f.ladle.yaml --yes --first 3":     "flag provided but not defined",
			"try f.ladle.yaml --allow-removal":      "flag provided but not defined",
			"load f.ladle.yaml":                     "there is no terminal to ask on",
			"tables extra":                          `tables takes no "extra"`,
			"draft --diagram":                       "flag provided but not defined",
			"tables --table vessel --table missing": `there is no table "missing"`,
		} {
			r := w.run(append(strings.Fields(arguments), "--db", w.db)...)
			assert.Equal(t, 2, r.status, arguments)
			assert.Contains(t, r.stderr, says, arguments)
		}
		again, _ := w.load("load", "--allow-removal")
		assert.Equal(t, 1, again.Status)
		assert.Contains(t, again.Why, "a row of stay points at the row of vessel with id 1", "a row that is pointed at is never removed")
		assert.Equal(t, before, w.data())
	})
}
