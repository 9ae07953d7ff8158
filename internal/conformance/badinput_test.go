package conformance

import (
	"os"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

const goodFile = "Reg,Name,GT,Flag\nB1,Skua,2,Norway\n"

// TestBadInput returns the program what it can't use: each time a message that names the place, the right status, and
// nothing changed.
func TestBadInput(t *testing.T) {
	cases := []struct {
		name   string
		spoil  func(w *world)
		status int
		says   []string // all of these stand in the message
	}{
		{"a missing file", func(w *world) { require.NoError(w, os.Remove(w.path("in.csv"))) }, 3,
			[]string{"in.csv: there is no such file"}},
		{"an empty file", func(w *world) { w.write("in.csv", "") }, 1, []string{"in.csv: the file is empty"}},
		{"a workbook", func(w *world) { w.write("in.csv", "PK\x03\x04...") }, 1,
			[]string{"in.csv: this should be a workbook or a zip archive"}},
		{"doubled and empty names in the header", func(w *world) { w.write("in.csv", "Reg,,Name, reg ,GT,Flag\n") }, 2,
			[]string{`input in (in.csv) has several columns "Reg": columns 1 and 4`, "write: column 1"}},
		{"a header behind the end", func(w *world) { w.ladle("file: in.csv", "file: in.csv, header: 9") }, 1,
			[]string{"in.csv: the header should be on line 9"}},
		{"ragged rows", func(w *world) { w.write("in.csv", goodFile+"B2,Tern\nB3,Tern,1,Norway,x\n") }, 1,
			[]string{"in.csv:3: the line has only 2 of 4 fields", "in.csv:4: the line has 5 fields, the header 4"}},
		{"invalid UTF-8 in a cell", func(w *world) {
			w.write("in.csv",
				goodFile+"B2,T\xe9rn,1,Norway\nB3,Térné,1,Norway\n")
		}, 1,
			[]string{"in.csv:3: the line is not valid UTF-8"}},
		{"an encoding that isn't clear", func(w *world) { w.write("in.csv", goodFile+"B2,T\x9d\x8fx,1,Norway\n") }, 1,
			[]string{"in.csv:3: the text isn't UTF-8, and its encoding isn't certain; it could be",
				"set encoding: to the right one"}},
		{"invalid UTF-8 in the header", func(w *world) { w.write("in.csv", "R\xe9g,Námé,GT,Flag\n") }, 1,
			[]string{"in.csv:1: the header is not valid UTF-8"}},
		{"a quote never closed", func(w *world) {
			w.write("in.csv",
				goodFile+"B2,Tern,1,\"Norway\nB3,Tern,1,Norway\n")
		}, 1,
			[]string{"in.csv:3:11: the quote that opens here is never closed"}},
		{"a quote inside of a field", func(w *world) { w.write("in.csv", goodFile+"B2,T\"ern,1,Norway\n") }, 1,
			[]string{"in.csv:3: a quote stands inside a field"}},
		{"text behind a quote", func(w *world) { w.write("in.csv", goodFile+"B2,\"Te\"rn,1,Norway\n") }, 1,
			[]string{"in.csv:3: text follows the closing quote"}},
		{"a terminal escape in a cell", func(w *world) { w.write("in.csv", goodFile+"B2,Tern,\x1b[31m,Norway\n") }, 1,
			[]string{`in.csv:3: GT "\x1b[31m"`}},
		{"no database", func(w *world) { require.NoError(w, os.Remove(w.path("db"))) }, 3,
			[]string{"db: there is no such database file"}},
		{"a database that isn't one", func(w *world) { w.write("db", strings.Repeat("no database ", 100)) }, 3,
			[]string{"db: this file is not an SQLite database"}},
		{"a database without tables", func(w *world) { w.write("db", "") }, 2,
			[]string{`db has no table "vessel"`, "the database has no tables"}},
		{"no ladle file", func(w *world) { require.NoError(w, os.Remove(w.path("f.ladle.yaml"))) }, 3,
			[]string{"f.ladle.yaml: the ladle file can't be read"}},
		{"a ladle file that isn't YAML", func(w *world) { w.write("f.ladle.yaml", "ladle: 1\ninputs: [}\n") }, 2,
			[]string{"f.ladle.yaml:2:9: this is not YAML"}},
		{"an empty ladle file", func(w *world) { w.write("f.ladle.yaml", "") }, 2,
			[]string{"f.ladle.yaml: the ladle file is empty"}},
		{"unknown keys, all in one go", func(w *world) {
			w.ladle("file: in.csv", "fil: in.csv")
			w.ladle("key: reg_no", "kye: reg_no")
		}, 2, []string{`f.ladle.yaml:2:15: an input has no key "fil"`, `did you mean "file"?`,
			`f.ladle.yaml:6:5: a block has no key "kye"`, `did you mean "key"?`}},
		{"names that aren't there, all in one go", func(w *world) {
			w.ladle("name: Name", "nane: Name")
			w.ladle("gt: GT", "gt: Tons")
			w.ladle("flag.name", "flags.name")
		}, 2, []string{`f.ladle.yaml:7:28: table vessel has no column "nane"`, `did you mean "name"?`,
			`f.ladle.yaml:7:44: input in (in.csv) has no column "Tons"`, `has no table "flags"`,
			`did you mean "flag"?`}},
		{"a required column without a source", func(w *world) { w.ladle("name: Name, ", "") }, 2,
			[]string{"f.ladle.yaml:4:3: vessel.name is NOT NULL, and nothing fills it"}},
		{"no key, and none to be had", func(w *world) {
			w.ladle("    key: reg_no\n", "")
			w.ladle("reg_no: Reg, ",
				"")
		}, 2,
			[]string{"vessel.reg_no is NOT NULL", "block vessel needs a key"}},
		{"leave_blank where nothing may be blank", func(w *world) {
			w.ladle("name: Name", "name: {from: Name, lookup: flag.name, not_found: leave_blank}")
		}, 2, []string{"leave_blank is not allowed here: vessel.name is NOT NULL"}},
		{"a find in another table than the relation's", func(w *world) { w.ladle("flag.name", "port_call.id") }, 2,
			[]string{"vessel.flag_id refers to flag, not to port_call"}},
		{"not_found: add where a new row needs more", func(w *world) {
			w.ladle("flag_id: {from: Flag, lookup: flag.name}",
				"flag_id: {from: Flag, lookup: flag.id, not_found: add}")
		}, 2, []string{"a new row of flag also needs name"}},
		{"a constant that its column can't take", func(w *world) { w.ladle("gt: GT", "gt: {constant: 1.25}") }, 2,
			[]string{`the constant "1.25" has more than 1 digit after the point`}},
		{"what can't be said of a file", func(w *world) {
			w.ladle("file: in.csv",
				`file: in.csv, header: 4-2, footer_lines: x, encoding: martian, delimiter: "é", quote: "''", sheet: 1`)
		}, 2, []string{`header: can't be "4-2"`, `footer_lines: can't be "x"`, `encoding: can't be "martian"`,
			"windows-1252", `delimiter: can't be "é"`, `quote: can't be "''"`}},
		{"a header that isn't found", func(w *world) { w.write("in.csv", "A1,Heron,100.5,Norway\nB1,Skua,2,Norway\n") },
			2,
			[]string{`input in (in.csv) has no column "Reg"`,
				"no header line was found in the file; set header: to its number"}},
		{"a sheet of a text", func(w *world) { w.ladle("file: in.csv", "file: in.csv, sheet: 1") }, 1,
			[]string{"this is text, not a workbook, so it has no sheet or range"}},
		{"a pattern that matches nothing", func(w *world) { w.ladle("file: in.csv", "file: calls-*.csv") }, 3,
			[]string{"calls-*.csv: no file matches this name"}},
		{"another version of the format", func(w *world) { w.ladle("ladle: 1", "ladle: 2") }, 2,
			[]string{"reads version 1"}},
		{"existing dates that can't be read", func(w *world) {
			sqliteFile{}.exec(w, "db", "INSERT INTO port_call (vessel_id, arrived) VALUES (7, '31/12/2025')")
			w.write("f.ladle.yaml", vesselBlock+strings.Replace(callBlock, "arrived: Arrived, dues: Dues, paid: Paid",
				"arrived: Name", 1))
		}, 2, []string{`port_call.arrived can't be used: existing rows hold "31/12/2025" as date and time`}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, port)
			w.write("in.csv", goodFile)
			w.write("f.ladle.yaml", vesselBlock)
			c.spoil(w)
			before, _ := os.ReadFile(w.path("db"))
			r := w.run("load", "f.ladle.yaml", "--db", "db", "--yes")
			assert.Equal(t, c.status, r.status, r.stdout+r.stderr)
			for _, says := range c.says {
				assert.Contains(t, unwrap(r.stdout+r.stderr), says)
			}
			after, _ := os.ReadFile(w.path("db"))
			assert.Equal(t, before, after, "nothing may change")
			if doc, _ := w.loadAny(); assert.Equal(t, c.status, doc.Status) && doc.Outcome == "failed" {
				assert.NotEmpty(t, doc.Problems)
			}
		})
	}
}

// loadAny is load without a look at the outcome.
func (w *world) loadAny() (report, result) { return w.load("load") }

// unwrap undoes the line breaks of people-output.
func unwrap(s string) string { return strings.Join(strings.Fields(s), " ") }

func (w *world) ladle(from, to string) {
	w.Helper()
	content := w.read("f.ladle.yaml")
	require.Contains(w, content, from)
	w.write("f.ladle.yaml", strings.Replace(content, from, to, 1))
}

func TestALockedDatabaseIsLeftAlone(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port)
	w.write("in.csv", goodFile)
	w.write("f.ladle.yaml", vesselBlock)
	conn, err := sqlite.OpenConn(w.path("db"), sqlite.OpenReadWrite)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, sqlitex.ExecuteTransient(conn, "BEGIN EXCLUSIVE", nil))
	r := w.run("load", "f.ladle.yaml", "--db", "db", "--yes")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.stderr, "db: the database is locked by another program")
}

func TestAReadOnlyDatabaseIsToldBeforeAnythingIsDone(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("rights of files work otherwise there")
	}
	w := newWorld(t, sqliteFile{}, port)
	w.write("in.csv", goodFile)
	w.write("f.ladle.yaml", vesselBlock)
	// A file that says of itself that it may only be read: version 3 of the format for writing
	// (sqlite.org/fileformat2.html, §1.3.3).
	raw := []byte(w.read("db"))
	raw[18] = 3
	w.write("db", string(raw))
	r := w.run("load", "f.ladle.yaml", "--db", "db", "--yes")
	assert.Equal(t, 3, r.status, r.stdout)
	assert.Contains(t, r.stderr, "db: the database can't be written to")
}

// TestTheCommandLine says what comes of words that it doesn't know.
func TestTheCommandLine(t *testing.T) {
	cases := []struct {
		name      string
		arguments []string
		status    int
		says      string
	}{
		{"no arguments show the commands", nil, 0, "demo"},
		{"the version", []string{"--version"}, 0, "ladle version"},
		{"an unknown command", []string{"lod"}, 2, `did you mean "load"?`},
		{"an unknown option", []string{"load", "--force", "f.ladle.yaml"}, 2,
			"--force is no option of load\n    did you mean --yes?"},
		{"a mistyped option", []string{"load", "--corected", "x", "f.ladle.yaml"}, 2, "did you mean --corrected?"},
		{"an option before the command", []string{"--json", "load"}, 2, "the options of a command come after its name"},
		{"an option of one dash", []string{"load", "-db", "x"}, 2, "did you mean --db?"},
		{"an option without its value", []string{"load", "f.ladle.yaml", "--db"}, 2, "--db needs a value"},
		{"an option in the place of a value", []string{"load", "f.ladle.yaml", "--db", "--json"}, 2,
			"--db needs a value, but is followed by --json"},
		{"an empty value", []string{"load", "f.ladle.yaml", "--db="}, 2, "--db has an empty value"},
		{"a switch with a value", []string{"load", "f.ladle.yaml", "--db", "db", "--yes=no"}, 2,
			"--yes takes no value"},
		{"an option given twice", []string{"load", "f.ladle.yaml", "--db", "db", "--db", "x"}, 2,
			"--db is given 2 times"},
		{"a value that can't be", []string{"load", "f.ladle.yaml", "--db", "db", "--check-level", "cell"}, 2,
			`did you mean "cells"?`},
		{"a number that is none", []string{"try", "f.ladle.yaml", "--db", "db", "--first", "few"}, 2,
			"give a whole number, from 1"},
		{"files of both kinds", []string{"try", "f.ladle.yaml", "g.csv", "--db", "db"}, 2,
			"try takes ladle files, or files of rows"},
		{"no folder", []string{"prepare", "f.ladle.yaml"}, 2, "prepare needs --output FOLDER"},
		{"help for an unknown command", []string{"help", "lod"}, 2, `did you mean "load"?`},
		{"no ladle file", []string{"try", "--db", "db"}, 2, "try needs ladle files, or files of rows"},
		{"no database", []string{"try", "f.ladle.yaml"}, 2, "no database is named"},
		{"a database of another kind", []string{"try", "f.ladle.yaml", "--db", "paper://x:secret@y/z"}, 2,
			`"paper" is not a kind of database`},
		{"load without a terminal and without --yes", []string{"load", "f.ladle.yaml", "--db", "db"}, 2,
			"no terminal to ask on"},
	}
	w := newWorld(t, sqliteFile{}, port)
	w.write("in.csv", goodFile)
	w.write("f.ladle.yaml", vesselBlock)
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r := w.run(c.arguments...)
			assert.Equal(t, c.status, r.status, r.stdout+r.stderr)
			assert.Contains(t, r.stdout+r.stderr, c.says)
			assert.NotContains(t, r.stdout+r.stderr, "secret")
		})
	}
}
