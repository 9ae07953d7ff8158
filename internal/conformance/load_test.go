package conformance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// port has a lookup, vessels and calls, with a row in each.
const port = `
	CREATE TABLE flag (id ID, name WORD NOT NULL UNIQUE);
	CREATE TABLE vessel (id ID, reg_no VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(12) NOT NULL,
		flag_id INTEGER REFERENCES flag (id), gt DECIMAL(8,1), CONSTRAINT gt_above_zero CHECK (gt > 0));
	CREATE TABLE port_call (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id),
		arrived MOMENT NOT NULL, dues AMOUNT, paid BOOLEAN, UNIQUE (vessel_id, arrived));
	INSERT INTO flag VALUES (1, 'Norway'), (2, 'Denmark');
	INSERT INTO vessel VALUES (7, 'A1', 'Heron', 1, 100.5);
	INSERT INTO port_call (id, vessel_id, arrived) VALUES (3, 7, '2026-01-01 10:00:00');
`

const vesselBlock = `ladle: 1
inputs: {in: {file: in.csv}}
tables:
  vessel:
    from: in
    key: reg_no
    columns: {reg_no: Reg, name: Name, gt: GT, flag_id: {from: Flag, lookup: flag.name}}
`

// TestLoad runs whole loads and looks at everything that comes of them.
func TestLoad(t *testing.T) {
	cases := []struct {
		name   string
		ladle  string
		file   string // in.csv
		status int
		tally  string
		asides []string
		blank  []string
		query  string
		rows   []string
	}{
		{
			name:  "new rows are added behind those that are there, with what they point at found",
			ladle: vesselBlock, file: "Reg,Name,GT,Flag\nB2,Tern,12.0,Denmark\nB1,Skua,,\n",
			tally: "vessel: 2 = 2 added, 0 same, 0 repeated, 0 aside",
			query: "SELECT reg_no, name, flag_id, gt FROM vessel ORDER BY id",
			rows:  []string{"A1|Heron|1|100.5", "B2|Tern|2|12", "B1|Skua|NULL|NULL"},
		},
		{
			name:  "a key that is there is kept as it stands, and an equal line is a repeat",
			ladle: vesselBlock, file: "Reg,Name,GT,Flag\nA1,Other,1,Norway\nB1,Skua,2,Norway\nB1,Skua,2.0,norway\n",
			tally: "vessel: 3 = 1 added, 0 same, 1 repeated, 0 aside, 1 differs",
			query: "SELECT reg_no, name FROM vessel ORDER BY id", rows: []string{"A1|Heron", "B1|Skua"},
		},
		{
			name:   "already_there: set_aside sets a line aside that differs",
			ladle:  strings.Replace(vesselBlock, "key: reg_no", "already_there: set_aside", 1) + "set_aside_limit: 1\n",
			status: 4,
			file:   "Reg,Name,GT,Flag\nA1,Heron,101,Denmark\nB1,Skua,2,Norway\n",
			tally:  "vessel: 2 = 1 added, 0 same, 0 repeated, 1 aside",
			asides: []string{"in.csv:2: a row with this key (reg_no) is already in vessel, but with a different GT, " +
				"Flag"},
		},
		{
			name:  "already_there: set_aside takes lines that are the same",
			ladle: strings.Replace(vesselBlock, "key: reg_no", "already_there: set_aside", 1),
			file:  "Reg,Name,GT,Flag\nA1,Heron,100.50,norway\nB1,Skua,2,Norway\nA1,Heron,100.5,Norway\n",
			tally: "vessel: 3 = 1 added, 2 same, 0 repeated, 0 aside",
		},
		{
			name:  "lines that contradict each other are all set aside, each naming the other",
			ladle: vesselBlock + "set_aside_limit: any\n", status: 4,
			file:  "Reg,Name,GT,Flag\nB1,Skua,2,Norway\nB2,Tern,3,\nB1,Skua,2.5,Denmark\nB1,Skua,2,Norway\n",
			tally: "vessel: 4 = 1 added, 0 same, 0 repeated, 3 aside",
			asides: []string{"in.csv:2: line 4 has a different GT, Flag than the 2 lines with the same key (reg_no)",
				"in.csv:4: 2 other lines with the same key (reg_no) agree on a different GT, Flag, such as line 2",
				"in.csv:5: line 4 has a different GT, Flag than the 2 lines with the same key (reg_no)"},
		},
		{
			name:  "contradictions: first takes the first of them",
			ladle: strings.Replace(vesselBlock, "key: reg_no", "contradictions: first", 1),
			file:  "Reg,Name,GT,Flag\nB1,Skua,2,Norway\nB1,Skua,3,Norway\nB1,Skua,2,Norway\n",
			tally: "vessel: 3 = 1 added, 0 same, 1 repeated, 0 aside, 1 overruled",
			query: "SELECT gt FROM vessel WHERE reg_no = 'B1'", rows: []string{"2"},
		},
		{
			name:  "contradictions: last takes the last of them",
			ladle: strings.Replace(vesselBlock, "key: reg_no", "contradictions: last", 1),
			file:  "Reg,Name,GT,Flag\nB1,Skua,2,Norway\nB1,Skua,3,Norway\n",
			tally: "vessel: 2 = 1 added, 0 same, 0 repeated, 0 aside, 1 overruled",
			query: "SELECT gt FROM vessel WHERE reg_no = 'B1'", rows: []string{"3"},
		},
		{
			name:  "one bad line stops the load when no limit is given, and every bad line is told",
			ladle: vesselBlock, status: 1,
			file: "Reg,Name,GT,Flag\nB1,Skua,2,Norwey\nB2,Tern,\"1,234\",Norway\nB3,A name too long,3,Norway\n" +
				"B4,Gull,4,Norway\n,Gull,4.25,Norway\nB5\n",
			tally: "vessel: 6 = 1 added, 0 same, 0 repeated, 5 aside",
			asides: []string{`in.csv:2: Flag "Norwey" is not in flag.name; there is "Norway"`,
				`in.csv:3: GT "1,234" has separators, so it is not a plain number like 1234.5`,
				`in.csv:4: Name "A name too long" is longer than the 12 characters that the column takes`,
				`in.csv:6: GT "4.25" has more than 1 digit after the point and would be rounded; Reg is blank, but is part of the key (reg_no)`,
				"in.csv:7: the line has only 1 of 4 fields"},
			query: "SELECT count(*) FROM vessel", rows: []string{"1"},
		},
		{
			name: "not_found: add adds a name that an added row needs, once, and no other",
			ladle: strings.Replace(vesselBlock, "flag.name", "flag.name, not_found: add", 1) +
				"set_aside_limit: any\n",
			status: 4,
			file:   "Reg,Name,GT,Flag\nB1,Skua,2,Iceland\nB2,Tern,x,Portugal\nB3,Gull,2,Iceland\nA1,Heron,2,Chile\n",
			tally:  "vessel: 4 = 2 added, 0 same, 0 repeated, 1 aside, 1 differs",
			query:  "SELECT v.reg_no, f.name FROM flag f LEFT JOIN vessel v ON v.flag_id = f.id ORDER BY f.id, 1",
			rows:   []string{"A1|Norway", "NULL|Denmark", "B1|Iceland", "B3|Iceland"},
			asides: []string{
				`in.csv:3: GT "x" is not a number`},
		},
		{
			name:  "not_found: leave_blank leaves the column blank",
			ladle: strings.Replace(vesselBlock, "flag.name", "flag.name, not_found: leave_blank", 1),
			file:  "Reg,Name,GT,Flag\nB1,Skua,2,Iceland\n",
			tally: "vessel: 1 = 1 added, 0 same, 0 repeated, 0 aside",
			query: "SELECT flag_id FROM vessel WHERE reg_no = 'B1'", rows: []string{"NULL"},
		},
		{
			name:  "what leave_blank leaves blank is counted by its cells, and cells that were blank are not among them",
			ladle: strings.Replace(vesselBlock, "flag.name", "flag.name, not_found: leave_blank", 1),
			file:  "Reg,Name,GT,Flag\nB1,Skua,2,Iceland\nB2,Tern,2,\nB3,Gull,2,Chile\nB4,Rail,2,Iceland\n",
			tally: "vessel: 4 = 4 added, 0 same, 0 repeated, 0 aside",
			blank: []string{"flag_id: Iceland not found, 2", "flag_id: Chile not found, 1"},
		},
		{
			name:  "a row that only the database can judge is set aside, and what hangs on it too",
			ladle: vesselBlock + callBlock + "set_aside_limit: any\n", status: 4,
			file: "Reg,Name,GT,Flag,Arrived,Dues,Paid\nB1,Skua,0,Norway,2026-02-01 05:00,1,1\n" +
				"B2,Tern,5,Norway,2026-02-01 06:00,2.50,true\n",
			tally: "vessel: 2 = 1 added, 0 same, 0 repeated, 1 aside\nport_call: 2 = 1 added, 0 same, 0 repeated, 1 " +
				"aside",
			asides: []string{`in.csv:2: CHECK gt_above_zero does not hold: gt is 0.0; ` +
				`Reg "B1" would be in vessel.reg_no, but in.csv:2 is set aside`},
			query: "SELECT v.reg_no, arrived, dues, paid FROM port_call c JOIN vessel v ON v.id = c.vessel_id ORDER " +
				"BY c.id",
			rows: []string{"A1|2026-01-01 10:00:00|NULL|NULL", "B2|2026-02-01 06:00:00|2.5|1"},
		},
		{
			name:  "a contradicting vessel that is there keeps its calls",
			ladle: vesselBlock + callBlock + "set_aside_limit: any\n", status: 4,
			file: "Reg,Name,GT,Flag,Arrived,Dues,Paid\nA1,Heron,1,Norway,2026-02-01 05:00,,\n" +
				"A1,Heron,2,Norway,2026-01-01 10:00:00,,\n",
			tally: "vessel: 2 = 0 added, 0 same, 0 repeated, 2 aside\nport_call: 2 = 1 added, 1 same, 0 repeated, 0 " +
				"aside",
			asides: []string{`in.csv:2: line 3 has the same key (reg_no), but a different GT: "1.0" here, "2.0" there`,
				`in.csv:3: line 2 has the same key (reg_no), but a different GT: "2.0" here, "1.0" there`},
		},
		{
			name: "key: none adds every line, equal ones too", status: 0,
			ladle: "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  port_call:\n    from: in\n    key: none\n    " +
				"columns: {vessel_id: {from: Reg, lookup: vessel.reg_no}, arrived: At, dues: {constant: '7.50'}}\n",
			file:  "Reg,At\nA1,2026-05-01 01:00\nA1,2026-05-02 01:00\n",
			tally: "port_call: 2 = 2 added, 0 same, 0 repeated, 0 aside",
			query: "SELECT dues FROM port_call WHERE id > 3", rows: []string{"7.5", "7.5"},
		},
		{
			name: "a find by several columns, one of them found itself", status: 4,
			ladle: "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  note:\n    from: in\n    columns:\n      " +
				"text: Text\n      call_id: {lookup: {table: port_call, by: {vessel_id: {from: Reg, lookup: " +
				"vessel.reg_no}, arrived: At}}}\nset_aside_limit: 50%\n",
			file:   "Text,Reg,At\na,A1,2026-01-01 10:00\nb,A1,2026-01-01 11:00\n",
			tally:  "note: 2 = 1 added, 0 same, 0 repeated, 1 aside",
			asides: []string{`in.csv:3: Reg, At "7, 2026-01-01 11:00:00" is not in port_call.vessel_id, arrived`},
			query:  "SELECT * FROM note", rows: []string{"3|a"},
		},
		{
			name: "an identity column can be fed",
			ladle: "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  flag: {from: in, key: id, columns: {id: No, " +
				"name: Name}}\n",
			file:  "No,Name\n40,Iceland\n20,Portugal\n2,Denmark\n",
			tally: "flag: 3 = 2 added, 1 same, 0 repeated, 0 aside",
			query: "SELECT * FROM flag ORDER BY id", rows: []string{"1|Norway", "2|Denmark", "20|Portugal",
				"40|Iceland"},
		},
		{
			name:  "two blocks feed one table: the later one sees the rows of the earlier",
			ladle: vesselBlock + "  again: {from: in, into: vessel, key: reg_no, columns: {reg_no: Reg, name: Name}}\n",
			file:  "Reg,Name,GT,Flag\nB1,Skua,2,Norway\nA1,Heron,3,Norway\n",
			tally: "vessel: 2 = 1 added, 0 same, 0 repeated, 0 aside, 1 differs\nagain: 2 = 0 added, 1 same, 0 " +
				"repeated, 0 aside, 1 overruled",
		},
	}
	everywhere(t, func(t *testing.T, on server) {
		for _, c := range cases {
			t.Run(c.name, func(t *testing.T) {
				w := newWorld(t, on, port+"CREATE TABLE note (call_id INTEGER REFERENCES port_call (id), text "+
					"VARCHAR(20), PRIMARY KEY (call_id, text)) PLAIN;")
				w.write("f.ladle.yaml", c.ladle)
				w.write("in.csv", c.file)
				before := w.dump()
				tried, _ := w.load("try")
				assert.Equal(t, before, w.dump(), "try must change nothing")
				doc, out := w.load("load")
				require.Equal(t, c.status, doc.Status, out.stdout+out.stderr)
				assert.Equal(t, c.tally, doc.tallies())
				assert.Equal(t, c.asides, doc.asides())
				var blank []string
				for _, s := range doc.Steps {
					for _, b := range s.Blank {
						blank = append(blank, fmt.Sprintf("%s: %s %s, %d", b.Column, b.Cell, b.Reason, b.Lines))
					}
				}
				assert.Subset(t, blank, c.blank)
				assert.Equal(t, doc.tallies(), tried.tallies(), "try must say what load does")
				assert.Equal(t, doc.Status, tried.Status)
				if doc.Status == 1 {
					assert.Equal(t, before, w.dump(), "a refused load must change nothing")
				}
				for _, check := range doc.Checks {
					assert.True(t, check.OK, check.Says)
				}
				if c.query != "" {
					assert.Equal(t, c.rows, w.query(c.query))
				}
			})
		}
	})
}

const callBlock = `  port_call:
    from: in
    key: [vessel_id, arrived]
    columns: {vessel_id: {from: Reg, lookup: vessel.reg_no}, arrived: Arrived, dues: Dues, paid: Paid}
`

func TestTheSetAsideFileHoldsTheLinesAsTheyStand(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("f.ladle.yaml", vesselBlock)
		w.write("in.csv", "Reg,Name,GT,Flag\r\nB1,\"Sk\"\"ua\",x,Norway\r\nB2,\"two\nlines\",x,\r\n")
		doc, _ := w.load("load")
		require.Equal(t, 1, doc.Status)
		lines := strings.SplitN(w.read("in.set-aside.csv"), "\r\n", 3)
		assert.Contains(t, lines[0], "; NOT LOADED")
		assert.Equal(t, "line,why,Reg,Name,GT,Flag", lines[1])
		assert.Equal(t, "2,\"GT \"\"x\"\" is not a number\",B1,\"Sk\"\"ua\",x,Norway\r\n3,\"GT \"\"x\"\" is not a "+
			"number\",B2,\"two\nlines\",x,\r\n", lines[2])

		t.Run("one that was edited is kept under another name", func(t *testing.T) {
			edited := strings.Replace(w.read("in.set-aside.csv"), ",x,", ",12,", 1)
			w.write("in.set-aside.csv", edited)
			_, out := w.load("load")
			assert.Contains(t, out.stdout, "in.set-aside.edited-1.csv")
			assert.Equal(t, edited, w.read("in.set-aside.edited-1.csv"))
			w.load("load")
			assert.NoFileExists(t, w.path("in.set-aside.edited-2.csv"))
		})
	})
}

func TestAnInputWithoutKeyIsLoadedOnce(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE log (id ID, entry TEXT NOT NULL)")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {log: {from: in, key: none, columns: "+
			"{entry: Entry}}}\n")
		w.write("in.csv", "Entry\nfog\nfog\n")
		doc, _ := w.load("load")
		require.Equal(t, 0, doc.Status)
		doc, _ = w.load("load")
		assert.Equal(t, 1, doc.Status)
		assert.Contains(t, doc.Why, "in.csv was loaded into log before")
		tried, _ := w.load("try")
		assert.Equal(t, 1, tried.Status)
		doc, _ = w.load("load", "--again")
		assert.Equal(t, 0, doc.Status)
		assert.Equal(t, []string{"4"}, w.query("SELECT count(*) FROM log"))
	})
}

func TestRunsStandInTheLogbook(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("f.ladle.yaml", vesselBlock)
		w.write("in.csv", "Reg,Name,GT,Flag\nB1,Skua,2,Norway\n")
		first, _ := w.load("load")
		second, _ := w.load("load")
		assert.Equal(t, []int64{1, 2}, []int64{first.Run, second.Run})
		assert.Equal(t, []string{"1|f.ladle.yaml", "2|f.ladle.yaml"}, w.query("SELECT id, ladle_file FROM ladle_run"))
		assert.Equal(t, []string{"vessel|1|1|0", "vessel|1|0|1"},
			w.query("SELECT table_name, rows_read, rows_added, rows_kept FROM ladle_run_step ORDER BY id"))
	})
}

func TestChecksFailWhenTheDatabaseDoesSomethingElse(t *testing.T) {
	cases := []struct {
		name, trigger, check, problem string
	}{
		{"a trigger that changes a cell", "UPDATE vessel SET name = upper(name) WHERE id = new.id", "cells",
			`id 8: name was sent as "Skua", and is "SKUA"`},
		{"a trigger that takes rows away", "DELETE FROM vessel WHERE id = new.id", "balance",
			"something else adds or removes rows"},
		{"a trigger that adds rows", "INSERT INTO vessel (reg_no, name) VALUES ('X' || new.id, 'x')", "balance",
			"something else adds or removes rows"},
		{"a trigger that breaks a relation", "UPDATE vessel SET flag_id = 99 WHERE id = new.id", "relations",
			"flag has no such row"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, port+"CREATE TRIGGER t AFTER INSERT ON vessel BEGIN "+c.trigger+"; END;")
			w.write("f.ladle.yaml", vesselBlock)
			w.write("in.csv", "Reg,Name,GT,Flag\nB1,Skua,2,Norway\n")
			before := w.dump()
			doc, _ := w.load("load")
			assert.Equal(t, 1, doc.Status)
			assert.Equal(t, before, w.dump())
			found := false
			for _, k := range doc.Checks {
				if k.Check == c.check && !k.OK {
					found = true
					assert.Contains(t, strings.Join(k.Problems, "\n"), c.problem)
				}
			}
			assert.True(t, found, "check %s must fail", c.check)
		})
	}
}

func TestOlderOrphansAreAWarning(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port+"INSERT INTO vessel VALUES (5, 'Z9', 'Ghost', 77, 1);")
	w.write("f.ladle.yaml", vesselBlock)
	w.write("in.csv", "Reg,Name,GT,Flag\nB1,Skua,2,Norway\n")
	doc, _ := w.load("load")
	require.Equal(t, 0, doc.Status)
	var warnings []string
	for _, k := range doc.Checks {
		warnings = append(warnings, k.Warnings...)
	}
	assert.Equal(t, []string{"1 row that existed before refers to no row of flag (flag_id)"}, warnings)
}

func TestAKeyWithoutConstraintIsProvedByLooking(t *testing.T) {
	script := "CREATE TABLE berth (id INTEGER PRIMARY KEY, code TEXT NOT NULL)"
	for trigger, status := range map[string]int{"": 0, "; CREATE TRIGGER t AFTER INSERT ON berth WHEN new.code = " +
		"'N1' BEGIN UPDATE berth SET code = 'N2' WHERE id = new.id; END": 1} {
		w := newWorld(t, sqliteFile{}, script+trigger)
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {berth: {from: in, key: code, "+
			"columns: {code: Code}}}\n")
		w.write("in.csv", "Code\nN1\nN2\n")
		doc, _ := w.load("load")
		assert.Equal(t, status, doc.Status)
		for _, k := range doc.Checks {
			if k.Check == "keys" {
				assert.Equal(t, status == 0, k.OK, k.Says)
			}
		}
	}
}

func TestNewestRowsShowRelationsByName(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("f.ladle.yaml", vesselBlock+callBlock)
		w.write("in.csv", "Reg,Name,GT,Flag,Arrived,Dues,Paid\nB1,Skua,1,Denmark,2026-02-01 05:00,,0\n")
		doc, _ := w.load("load")
		require.Len(t, doc.Newest, 2)
		assert.Equal(t, "Denmark", *doc.Newest[0].Rows[0][3])
		assert.Equal(t, "B1", *doc.Newest[1].Rows[0][1])
		assert.Equal(t, "port_call after vessel: port_call.vessel_id looks up vessel.reg_no",
			doc.Steps[1].Step+" after "+doc.Steps[1].After[0].Step+": "+doc.Steps[1].After[0].Why)
	})
}
