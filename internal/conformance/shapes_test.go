package conformance

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/internal/seeded"
)

// TestShapesAreLoaded: columns and lists that become lines are loaded, set aside and corrected like others.
func TestShapesAreLoaded(t *testing.T) {
	const table = "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);\n" +
		"CREATE TABLE tonnage (id ID, berth_id INT NOT NULL REFERENCES berth(id), month WORD NOT NULL, tons INT, " +
		"part INT, UNIQUE (berth_id, month, part));\nINSERT INTO berth (code) VALUES ('N1'), ('N2');"
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, table)
		w.write("in.csv", "Quay,Berth,Jan,Feb\nNorth,N1,5;6,x\n,N2,,7\n,N9,8,\n")
		w.write("f.ladle.yaml", `ladle: 1
inputs:
  in:
    file: in.csv
    header: 1
    columns_to_rows: {columns: {from: Jan}, heading: Month, value: Tons}
    parts_to_rows: {column: Tons, at: ";", number: Part}
    columns: {Quay: {if_blank: above}}
    only: quay == "North"
tables:
  tonnage:
    from: in
    key: [berth_id, month, part]
    columns: {berth_id: {from: Berth, lookup: berth.code}, month: Month, tons: Tons, part: Part}
set_aside_limit: any
`)
		doc, r := w.load("load")
		require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{`in.csv:2: Tons "x" is not a number`, `in.csv:4: Berth "N9" is not in berth.code`},
			doc.asides())
		query := "SELECT b.code, t.month, t.tons, t.part FROM tonnage t JOIN berth b ON b.id = t.berth_id ORDER BY " +
			"b.code, t.month, t.part"
		assert.Equal(t, []string{"N1|Jan|5|1", "N1|Jan|6|2", "N2|Feb|7|1"}, w.query(query))
		lines := strings.ReplaceAll(w.read("in.set-aside.csv"), "\r\n", "\n")
		assert.Contains(t, lines, "line,why,Quay,Berth,Month,Tons,Part\n")
		assert.Contains(t, lines, `,North,N1,Feb,x,1`)
		w.write("in.set-aside.csv", strings.Replace(w.read("in.set-aside.csv"), "N1,Feb,x,1", "N1,Feb,9,1", 1))
		doc, r = w.load("load", "--corrected", "in.set-aside.csv")
		require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{`in.csv:4: Berth "N9" is not in berth.code`}, doc.asides())
		assert.Equal(t, []string{"N1|Feb|9|1", "N1|Jan|5|1", "N1|Jan|6|2", "N2|Feb|7|1"}, w.query(query))
	})
}

// TestOtherColumnsThanTheLastTimeAreTold: a column that is new, and one that is gone.
func TestOtherColumnsThanTheLastTimeAreTold(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);")
		w.write("in.csv", "Code,Depth\nN1,9\n")
		w.write("f.ladle.yaml",
			"ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {berth: {from: in, columns: {code: Code}}}\n")
		doc, r := w.load("load")
		require.Equal(t, 0, r.status, r.stderr)
		assert.NotContains(t, strings.Join(doc.Notes, "\n"), "columns")
		w.write("in.csv", "Quay,code,Length\nNorth,N2,7\n")
		doc, r = w.load("try")
		require.Equal(t, 0, r.status, r.stderr)
		notes := strings.Join(doc.Notes, "\n")
		assert.Contains(t, notes, "in has columns that it didn't have in run 1: Quay, Length")
		assert.Contains(t, notes, "in lacks columns that it had in run 1: Depth")
	})
}

// TestEndingsAreTold: totals and notes below a table are told before they are loaded, with the key that leaves them
// out.
func TestEndingsAreTold(t *testing.T) {
	cases := []struct{ name, lines, input, note string }{
		{"a line called total", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\n", "file: in.csv",
			`in.csv:5: "Total" seems to sum up the lines above; it is read like others. To leave it out: footer_lines: 1`},
		{"a line that sums up", "N1,5,x\nN2,6,x\nN3,7,x\nall,18,\n", "file: in.csv",
			"in.csv:5: its numbers are the sums of those above; it is read like others. To leave it out: " +
				"footer_lines: 1"},
		{"a total and a note", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\nAs of 31 March 2026,,\n", "file: in.csv",
			`in.csv:5: "Total" seems to sum up the lines above, and 1 more behind it; it is read like others. To leave it out: footer_lines: 2`},
		{"a total whose parts become lines", "N1,5,x\nN2,6,x\nTotal,18,y;z\n",
			`file: in.csv, parts_to_rows: {column: Quay, at: ";"}`,
			`in.csv:4: "Total" seems to sum up the lines above, and 1 more behind it; it is read like others. To leave it out: only: with a condition`},
		{"one that is left out", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\n", `file: in.csv, only: code != "Total"`, ""},
		{"one that is left when another is cut off", "N1,5,x\nN2,6,x\nN3,7,x\nSum,18,\nTotal,18,\n",
			"file: in.csv, footer_lines: 1",
			`in.csv:5: "Sum" seems to sum up the lines above; it is read like others. To leave it out: footer_lines: 2`},
		{"one that is cut off", "N1,5,x\nN2,6,x\nN3,7,x\nTotal,18,\n", "file: in.csv, footer_lines: 1", ""},
		{"a header that comes again", "N1,5,x\nN2,6,x\nCode,Depth,Quay\nN3,7,x\n", "file: in.csv",
			"in.csv:4 repeats the header, and is read like other lines; only: with a condition that such lines " +
				"don't meet leaves them out"},
		{"and is left out", "N1,5,x\nN2,6,x\nCode,Depth,Quay\nN3,7,x\n", `file: in.csv, only: code != "Code"`, ""},
		{"another table", "N1,5,x\nN2,6,x\n\nAgent,Phone,Town\nMole House,555,Ness\n", "file: in.csv",
			"in.csv:5 seems to be the header of another table: it comes after a blank line, and its cells don't fit; " +
				"it and the lines below are read like others. To leave them out: footer_lines: 2"},
		{"another table, wider", "N1,5,x\nN2,6,x\n,,\nAgent,Phone,Town,Fax\nMole House,555,Ness,556\n", "file: in.csv",
			"in.csv:5 seems to be the header of another table: it comes after a blank line, and its cells don't fit; " +
				"it and the lines below are read like others. To leave them out: footer_lines: 2"},
		{"another table that is cut off", "N1,5,x\nN2,6,x\n\nAgent,Phone,Town\nMole House,555,Ness\n",
			"file: in.csv, footer_lines: 2", ""},
		{"groups", "N1,5,x\nN2,6,x\n\nS1,7,y\n\nWest,,y\n", "file: in.csv", ""},
		{"a row like others", "N1,5,x\nN2,6,x\nN3,7,x\nN4,18,\nN5,19,\n", "file: in.csv", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE, depth INT, quay "+
				"WORD);")
			w.write("in.csv", "Code,Depth,Quay\n"+c.lines)
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {"+c.input+", header: 1}}\ntables: {berth: {from: in, "+
				"columns: {code: Code, depth: Depth, quay: Quay}}}\nset_aside_limit: any\n")
			doc, r := w.load("try")
			require.Contains(t, []int{0, 4}, r.status, r.stderr)
			notes := strings.Join(doc.Notes, "\n")
			if c.note == "" {
				assert.NotContains(t, notes, "leave")
				return
			}
			assert.Contains(t, notes, c.note)
		})
	}
}

// TestTextsAsTheyAreSaid: what a text has that isn't usual is said in the ladle file, and lines that are set aside from
// it are given back as usual ones.
func TestTextsAsTheyAreSaid(t *testing.T) {
	cases := []struct {
		name, keys, content string
		asides, rows, notes []string
	}{
		{"escapes", `escape: '\'`, "Code,Name,Depth\nN1,\"say \\\"N\\\"\",5\nN2,a\\,b,x\n",
			[]string{`in.csv:3: Depth "x" is not a number`},
			[]string{`N1|say "N"|5`, "N2|a,b|7"}, nil},
		{"a delimiter of two characters", `delimiter: "::"`, "Code::Name::Depth\nN1::a:b::5\nN2::c::x\n",
			[]string{`in.csv:3: Depth "x" is not a number`}, []string{"N1|a:b|5", "N2|c|7"}, nil},
		{"fixed widths", "widths: [4, 6, 3]", "CodeName  Depth\nN1  North 5\nN2  South x\n",
			[]string{`in.csv:3: Depth "x" is not a number`},
			[]string{"N1|North|5", "N2|South|7"}, nil},
		{"comments, short lines and blanks beside quotes", `comment: "#", short_lines: accept, delimiter: ","`,
			"Code,Name,Depth\n# gate 1\nN1,\"a\" ,5\nN2\nN3,b,x\n", []string{`in.csv:5: Depth "x" is not a number`},
			[]string{"N1|a|5", "N2|NULL|NULL", "N3|b|7"}, []string{"in.csv: 1 line is a comment",
				"in.csv: 1 line ends early; its missing cells are blank",
				"in.csv: 1 line has blanks beside quotes; they are no part of its values"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE, name WORD, depth "+
				"INT);")
			content := c.content
			if strings.HasPrefix(c.keys, "widths") {
				content = strings.Replace(content, "CodeName  Depth", "CodeName  Dep", 1)
			}
			w.write("in.csv", content)
			depth := map[bool]string{true: "Dep", false: "Depth"}[content != c.content]
			w.write("f.ladle.yaml",
				"ladle: 1\ninputs: {in: {file: in.csv, header: 1, "+c.keys+"}}\ntables: {berth: {from: in, columns: "+
					"{code: Code, name: Name, depth: "+depth+"}}}\nset_aside_limit: any\n")
			doc, r := w.load("load")
			require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
			assert.Equal(t, c.asides, replaced(doc.asides(), depth+" ", "Depth "))
			for _, note := range c.notes {
				assert.Contains(t, doc.Notes, note)
			}
			aside := w.read("in.set-aside.csv")
			w.write("in.set-aside.csv", aside[:strings.LastIndex(aside, "x")]+"7"+aside[strings.LastIndex(aside,
				"x")+1:])
			doc, r = w.load("load", "--corrected", "in.set-aside.csv")
			require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
			assert.Equal(t, c.rows, w.query("SELECT code, name, depth FROM berth ORDER BY code"))
		})
	}
}

func replaced(all []string, old, now string) (made []string) {
	for _, s := range all {
		made = append(made, strings.ReplaceAll(s, old, now))
	}
	return made
}

// TestAnEncodingThatIsntCertain: draft writes the question, and a load is refused until the answer is written.
func TestAnEncodingThatIsntCertain(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE agent (id ID, name WORD NOT NULL UNIQUE, phone WORD);")
	w.write("in.csv", "Name,Phone\nMerrow Shipping,01\nH\xe4fler,02\nGda\xf1sk Lines,03\n")
	r := w.run("draft", "in.csv", "--db", w.db, "-o", "f.ladle.yaml")
	require.Equal(t, 0, r.status, r.stderr)
	question := `    # encoding: windows-1250  # ? not certain; it could be windows-1250 ("Gdańsk Lines,03")`
	require.Contains(t, w.read("f.ladle.yaml"), question)
	for _, command := range []string{"try", "load", "verify"} {
		doc, r := w.load(command)
		require.Equal(t, 1, r.status, r.stderr)
		require.Contains(t, r.stderr,
			`in.csv:4: the text isn't UTF-8, and its encoding isn't certain; it could be windows-1250 ("Gdańsk Lines,03"), `+
				`windows-1252 ("Gdañsk Lines,03")`, command)
		_ = doc
	}
	r = w.run("survey", "in.csv")
	require.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, unwrap(r.stdout), `its encoding isn't certain; it could be windows-1250 ("Gdańsk Lines,03")`)
	w.write("f.ladle.yaml", strings.Replace(w.read("f.ladle.yaml"), "    # encoding: windows-1250  # ?",
		"    encoding: windows-1250  #", 1))
	doc, r := w.load("load")
	require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
	assert.Equal(t, []string{"Gdańsk Lines", "Häfler", "Merrow Shipping"},
		w.query("SELECT name FROM agent ORDER BY name"))
}

// TestMonthsAndPlaces: dates in another language, digits of another script, errors of a spreadsheet and where lines
// come from.
func TestMonthsAndPlaces(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on,
			"CREATE TABLE stay (id ID, code WORD NOT NULL UNIQUE, arrived MOMENT, tons INT, origin WORD, note WORD);")
		w.write("in.csv", "Code,Arrived,Tons,Note\nN1,3 août 2026,١٢,#N/A\nN2,14 déc. 2026,7,#REF!\nN3,1 May "+
			"2026,8,x\n")
		w.write("f.ladle.yaml", `ladle: 1
inputs:
  in:
    file: in.csv
    header: 1
    columns:
      Arrived: {date: [{pattern: d MMMM yyyy, language: fr}, {pattern: d MMM yyyy, language: fr}]}
      Tons: {number: "١"}
      Note: {blank_is: "#N/A"}
    new_columns: {Origin: 'join(":", file_name(), line_number())'}
tables:
  stay: {from: in, columns: {code: Code, arrived: Arrived, tons: Tons, note: Note, origin: Origin}}
set_aside_limit: any
`)
		doc, r := w.load("load")
		require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
		assert.Equal(t, []string{`in.csv:3: Note "#REF!" is an error, not a value`,
			`in.csv:4: Arrived "1 May 2026" is not a date like d MMMM yyyy in fr or d MMM yyyy in fr`}, doc.asides())
		assert.Equal(t, []string{"N1|2026-08-03 00:00:00|12|in.csv:2|NULL"},
			w.query("SELECT code, arrived, tons, origin, note FROM stay"))
	})
}

// TestShapesOfManyTables loads random tables with months as columns from texts and workbooks, and finds each cell
// again.
func TestShapesOfManyTables(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		rng := seeded.Rand(t)
		months := []string{"Jan", "Feb", "Mar", "Apr", "May"}
		for _, form := range []string{"csv", "xlsx"} {
			w := newWorld(t, on, "CREATE TABLE tonnage (id ID, quay WORD, berth WORD NOT NULL, month WORD NOT NULL, "+
				"tons INT, place WORD, UNIQUE (berth, month));")
			header := append([]string{"Quay", "Berth"}, months[:2+rng.IntN(4)]...)
			rows, want, quay := [][]string{header}, []string{}, ""
			for i := range 20 + rng.IntN(200) {
				row := []string{"", fmt.Sprintf("B%03d", i)}
				if i == 0 || rng.IntN(5) == 0 {
					quay = fmt.Sprint("Quay ", rng.IntN(9))
					row[0] = quay
				}
				for _, month := range header[2:] {
					if rng.IntN(3) == 0 {
						row = append(row, "")
						continue
					}
					tons := fmt.Sprint(rng.IntN(9000))
					row = append(row, tons)
					want = append(want, strings.Join([]string{quay, row[1], month, tons, fmt.Sprint(i + 2)}, "|"))
				}
				rows = append(rows, row)
			}
			name := "in." + form
			if form == "csv" {
				w.write(name, inDelimiters(rows, ",", "\n"))
			} else {
				f := excelize.NewFile()
				for n, row := range rows {
					cells := make([]any, len(row))
					for i, c := range row {
						if cells[i] = c; c == "" {
							cells[i] = nil
						}
					}
					require.NoError(t, f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", n+1), &cells))
				}
				require.NoError(t, f.SaveAs(w.path(name)))
			}
			w.write("f.ladle.yaml",
				"ladle: 1\ninputs:\n  in:\n    file: "+name+"\n    header: 1\n    columns_to_rows: {columns: {from: "+
					header[2]+"}, heading: Month, value: Tons}\n    columns: {Quay: {if_blank: above}}\n    "+
					"new_columns: {Place: line_number()}\n"+
					"tables:\n  tonnage: {from: in, columns: {quay: Quay, berth: Berth, month: Month, tons: Tons, "+
					"place: Place}}\n")
			doc, r := w.load("load")
			require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
			got := w.query("SELECT quay, berth, month, tons, place FROM tonnage")
			slices.Sort(got)
			slices.Sort(want)
			assert.Equal(t, want, got)
			again, r := w.load("load")
			require.Equal(t, 0, r.status, r.stderr)
			assert.Equal(t, fmt.Sprintf("tonnage: %d = 0 added, %d same, 0 repeated, 0 aside", len(want), len(want)),
				again.tallies())
		}
	})
}

// TestSeveralFilesWithTheirNames: formulas know which file a line is from, and the names of JSON, text and archives
// stand for one input.
func TestSeveralFilesWithTheirNames(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE, origin WORD);")
	w.write("a.csv", "Code\nN1\nN2\n")
	w.write("b.jsonl", "{\"Code\":\"S1\"}\n{\"Code\":\"S2\"}\n")
	w.write("f.ladle.yaml", `ladle: 1
inputs: {in: {file: [a.csv, b.jsonl], new_columns: {Origin: 'join(":", file_name(), line_number())'}}}
tables: {berth: {from: in, columns: {code: Code, origin: Origin}}}
`)
	doc, r := w.load("load")
	require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
	assert.Equal(t, []string{"N1|a.csv:2", "N2|a.csv:3", "S1|b.jsonl:1", "S2|b.jsonl:2"},
		w.query("SELECT code, origin FROM berth ORDER BY code"))
}
