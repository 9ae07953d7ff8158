package conformance

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/demo"
)

// harbourWords makes the words of servers_test of those of the harbour's script.
var harbourWords = strings.NewReplacer("INTEGER PRIMARY KEY AUTOINCREMENT", "ID", "VARCHAR(40) NOT NULL COLLATE NOCASE",
	"WORD NOT NULL", "DATETIME", "MOMENT",
	"BOOLEAN       NOT NULL DEFAULT 1", "BOOLEAN NOT NULL DEFAULT true")

// drafted is the part of the document of draft that tests look at.
type drafted struct {
	Text    string `json:"text"`
	Matches []struct {
		Block, Column string
		From          []string `json:"from_columns"`
		Score         float64
	}
	Doubts []string
	Errors []string `json:"obstacles"`
}

func (w *world) draft(files ...string) drafted {
	w.Helper()
	r := w.run(append([]string{"draft", "--db", w.db, "-o", "f.ladle.yaml", "--json"}, files...)...)
	require.Equal(w, 0, r.status, r.stdout+r.stderr)
	var d drafted
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &d))
	assert.Equal(w, w.read("f.ladle.yaml"), d.Text)
	return d
}

func (d drafted) matches() []string {
	var all []string
	for _, m := range d.Matches {
		all = append(all, m.Block+"."+m.Column+" = "+strings.Join(m.From, " + "))
	}
	return all
}

// TestDraftsOfOrdinaryFilesLoadAsTheyAre: from files that nobody has looked at to rows, on all databases.
func TestDraftsOfOrdinaryFilesLoadAsTheyAre(t *testing.T) {
	const calls = "Reg. No.;Vessel;Type;Flag;GT;Berth;Arrived;Agent;Dues;Entered by;Weather\nPM-0301;Blue " +
		"Marl;Ferry;Norway;1.204,5;N1;01.04.2026 06:30;Merrow Shipping;1.101,40;mate;fair\n" +
		"PM-0302;Sandling;Tug;Denmark;98,0;S1;13.04.2026 07:30;Mole House;12,00;mate;fog\nPM-0301;Blue " +
		"Marl;Ferry;Norway;1.204,5;N2;14.04.2026 06:45;Mole House;2.400,00;master;fair\nPM-0101;Grey " +
		"Heron;coaster;Norway;1.840,5;N2;21.04.2026 06:45;Mole House;2.400,00;master;fair\n"
	everywhere(t, func(t *testing.T, on server) {
		t.Run("the ordinary files of the harbour", func(t *testing.T) {
			w := newWorld(t, on, harbourWords.Replace(demo.Script()))
			w.harbourFiles("berths.csv", "pilots.csv", "harbour-log.csv", "vessel-register.csv")
			d := w.draft("berths.csv", "pilots.csv", "harbour-log.csv")
			assert.Empty(t, d.Errors)
			assert.Equal(t, []string{"berth.code = Code", "berth.name = Name", "berth.depth_m = Depth",
				"pilot.licence = Licence", "pilot.name = Name",
				"pilot.mentor_id = Mentor", "harbour_log.logged_at = Time", "harbour_log.vessel_id = Reg. No.",
				"harbour_log.entry = Entry"}, d.matches())
			w.write("f.ladle.yaml", strings.ReplaceAll(d.Text, "file: harbour-log.csv",
				"file: harbour-log.csv\n    only: reg_no != \"PM-0105\" and reg_no != \"PM-0108\" and reg_no != "+
					"\"PM-0109\""))
			doc, out := w.load("load")
			require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
			assert.Equal(t, []string{"MP-03|NULL", "MP-07|MP-03", "MP-11|MP-07", "MP-12|MP-11", "MP-13|MP-07"},
				w.query("SELECT p.licence, m.licence FROM pilot p LEFT JOIN pilot m ON m.id = p.mentor_id ORDER BY 1"))
			assert.Equal(t, []string{"6|6"}, w.query("SELECT (SELECT count(*) FROM berth), (SELECT depth_m FROM berth "+
				"WHERE code = 'S2')"))
		})
		t.Run("a flat file that hides several tables, in the numbers and dates of another country", func(t *testing.T) {
			w := newWorld(t, on, harbourWords.Replace(demo.Script()))
			w.write("calls.csv", calls)
			d := w.draft("calls.csv")
			assert.Empty(t, d.Errors)
			assert.Contains(t, d.Text, "# not used of calls: Weather")
			assert.Contains(t, d.Text, "agent_id: {from: Agent, lookup: agent.name, not_found: add}")
			assert.Contains(t, d.Text, "Arrived: {date: 'dd.MM.yyyy HH:mm'}")
			doc, out := w.load("load")
			require.Equal(t, 0, doc.Status, d.Text+out.stdout+out.stderr)
			assert.Equal(t, []string{"vessel: 4, 2 added, 1 same, 1 repeated", "port_call: 4, 4 added"}, doc.accounts())
			assert.Equal(t, []string{"Blue Marl|Ferry|Norway|1204.5|2", "Grey Heron|Coaster|Norway|1840.5|1",
				"Sandling|Tug|Denmark|98|1"},
				w.query(`SELECT v.name, t.name, f.name, gross_tonnage, count(*) FROM port_call c JOIN vessel v ON v.id = vessel_id JOIN vessel_type t ON t.id = type_id
					JOIN flag_state f ON f.id = flag_id WHERE c.id > 3 GROUP BY 1, 2, 3, 4 ORDER BY 1`))
		})
	})
}

// harbourFiles unpacks files of the harbour into the folder.
func (w *world) harbourFiles(names ...string) {
	w.Helper()
	for _, name := range names {
		content, err := demo.File(name)
		require.NoError(w, err)
		w.write(name, string(content))
	}
}

// TestDraftSaysWhatItDoesNotKnow: doubts are marked and listed, what is missing is an error, nothing is overwritten.
func TestDraftSaysWhatItDoesNotKnow(t *testing.T) {
	w := newWorld(t, sqliteFile{}, `CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL UNIQUE, quay VARCHAR(8) NOT NULL, depth_m DECIMAL(4,1));
		CREATE TABLE stay (id ID, berth_id INTEGER NOT NULL, day DATE NOT NULL, UNIQUE (berth_id, day)); INSERT INTO berth (code, quay) VALUES ('N1', 'N'), ('N2', 'N'), ('N3', 'N');`)
	w.write("berths.csv", "Code,Depth\nN4,9\nN5,deep\nN6,1\nN7,2\nN8,3\nN9,4\nM1,5\nM2,6\nM3,7\nM4,8\nM5,9\nM5,9\n")
	w.write("stays.csv", "Berth,Day\nN1,2026-01-02\nN2,2026-01-03\nN4,2026-01-03\n")
	w.write("weather.csv", "Gale,Rain\n9,8\n7,6\n")
	d := w.draft("berths.csv", "stays.csv", "weather.csv")
	assert.Equal(t, []string{"berth: quay is required, and no column of the file matches it",
		"weather: it fits no table; write a block for it, or delete it"}, d.Errors)
	assert.Contains(t, d.Text, "# ? quay is required")
	assert.Contains(t, d.Text, "guessed from its name, since the database declares no foreign key")
	assert.Contains(t, strings.Join(d.Doubts, "\n"), "duplicate keys: in 1 line, the first is line 13")
	assert.Contains(t, strings.Join(d.Doubts, "\n"), `1 cell is not a whole number, the first in line 3: "deep"`)

	again := w.run("draft", "stays.csv", "--db", w.db, "-o", "f.ladle.yaml")
	assert.Equal(t, 2, again.status)
	assert.Contains(t, again.stderr, "the file exists already")
	assert.Equal(t, d.Text, w.read("f.ladle.yaml"))
	for arguments, says := range map[string]string{"draft --db db": "draft needs a file",
		"draft stays.csv": "no database is named", "draft none.csv --db db": "none.csv",
		"draft stays.csv --db db -o x.txt": "give it a name like x.ladle.yaml"} {
		r := w.run(strings.Fields(arguments)...)
		assert.NotZero(t, r.status)
		assert.Contains(t, r.stderr, says)
	}
	nowhere := w.run("draft", "stays.csv", "--db", w.db, "-o", "none/x.ladle.yaml")
	assert.Equal(t, 3, nowhere.status)
	assert.Contains(t, nowhere.stderr, "none/x.ladle.yaml: the ladle file can't be written")
	entries, err := os.ReadDir(w.dir)
	require.NoError(t, err)
	for _, e := range entries {
		assert.NotContains(t, e.Name(), ".ladle-draft", "nothing is left behind")
	}
	shown := w.run("draft", "stays.csv", "--db", w.db)
	assert.Zero(t, shown.status)
	assert.Contains(t, shown.stdout, "ladle: 1")
	assert.Contains(t, shown.stderr, "Matches")
}

// TestTables: the tables in the order of loading, with circles broken, and what else the catalogue says.
func TestTables(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, harbourWords.Replace(demo.Script())+
			"CREATE VIEW in_port AS SELECT id FROM port_call WHERE departed IS NULL;")
		r := w.run("tables", "--db", w.db, "--json")
		require.Equal(t, 0, r.status, r.stderr)
		var doc struct {
			Levels [][]struct {
				Name     string
				Rows     int64                    `json:"row_count"`
				Unique   [][]string               `json:"unique_keys"`
				Required []string                 `json:"required"`
				Fills    []string                 `json:"filled_by_database"`
				PointsAt []struct{ Table string } `json:"foreign_keys"`
			}
			Later []string `json:"filled_later"`
			Views []string
		}
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
		levels := map[string]int{}
		for i, level := range doc.Levels {
			for _, b := range level {
				levels[b.Name] = i + 1
				if b.Name == "vessel" {
					assert.Equal(t, int64(4), b.Rows)
					assert.Equal(t, [][]string{{"reg_no"}}, b.Unique)
					assert.Equal(t, []string{"reg_no", "name", "type_id", "flag_id", "gross_tonnage"}, b.Required)
					assert.Equal(t, []string{"id", "active"}, b.Fills)
					assert.Len(t, b.PointsAt, 3)
				}
			}
		}
		assert.Equal(t, map[string]int{"flag_state": 1, "vessel_type": 1, "berth": 1, "agent": 1, "commodity": 1,
			"pilot": 1, "vessel": 2, "port_call": 3, "harbour_log": 3, "call_cargo": 4}, levels)
		assert.ElementsMatch(t, []string{"vessel.last_call_id -> port_call", "pilot.mentor_id -> pilot"}, doc.Later)
		assert.Equal(t, []string{"in_port"}, doc.Views)

		one := w.run("tables", "--db", w.db, "--table", "port_call")
		require.Equal(t, 0, one.status, one.stderr)
		for _, says := range []string{"level 3 of 4", "vessel_id", "required", "flag_state.id", "vessel.id",
			"key 1: no two rows have the same vessel_id and arrived", "call_cargo.call_id refers to it"} {
			if says != "flag_state.id" {
				assert.Contains(t, one.stdout, says)
			}
		}
		assert.Contains(t, w.run("tables", "--db", w.db, "--table", "port_cal").stderr, `did you mean "port_call"?`)
		diagram := w.run("tables", "--db", w.db, "--diagram").stdout
		assert.Contains(t, diagram, `"vessel" -> "port_call" [label="last_call_id", style=dashed]`)
		assert.Contains(t, diagram, `"call_cargo" -> "commodity" [label="commodity_id"]`)
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {in_port: {from: in, columns: {id: "+
			"I}}}\n")
		w.write("in.csv", "I\n1\n")
		doc2, _ := w.load("load")
		assert.Equal(t, 2, doc2.Status)
		assert.Contains(t, doc2.Problems[0].What, `"in_port" is a view`)
	})
}

// TestDraftsOfOddNames: whatever files and tables are called, the ladle file can be read, and no terminal is commanded.
func TestDraftsOfOddNames(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quotedFor(on,
			`CREATE TABLE Q[odd: table #1]Q (id ID, Q[it's: "x" #1]Q VARCHAR(20) NOT NULL UNIQUE, Q[{n}, m]Q INTEGER, Q[- none]Q VARCHAR(9));`))
		w.write("odd, file.csv", "it's: \"x\" #1,\"{n}, m\",- none,\x1b[31mred\u202e\n~,1,null,\n- a,2,# b,x\n*c: "+
			"d,3,',\n")
		d := w.draft("odd, file.csv")
		assert.Empty(t, d.Errors)
		for _, bad := range []string{"\x1b", "\u202e"} {
			shown := w.run("draft", "odd, file.csv", "--db", w.db)
			assert.NotContains(t, shown.stdout+shown.stderr+d.Text, bad)
		}
		doc, out := w.load("load")
		require.Equal(t, 0, doc.Status, d.Text+out.stdout)
		assert.Equal(t, []string{"*c: d|3|'", "- a|2|# b", "~|1|null"},
			w.query(quotedFor(on,
				`SELECT Q[it's: "x" #1]Q, Q[{n}, m]Q, Q[- none]Q FROM Q[odd: table #1]Q ORDER BY 2 DESC`))[:3])
	})
}

// TestDraftsOfOtherForms: sheets of a workbook, standard input, and files of one name.
func TestDraftsOfOtherForms(t *testing.T) {
	const script = `CREATE TABLE quay (id ID, name VARCHAR(20) NOT NULL UNIQUE); CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL UNIQUE, quay_id INTEGER NOT NULL REFERENCES quay (id), depth_m DECIMAL(4,1), lit BOOLEAN);`
	t.Run("sheets that belong together", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, script)
		f := excelize.NewFile()
		for sheet, rows := range map[string][][]any{"Quays": {{"Name"}, {"North"}, {"Salt"}},
			"Berths 2026": {{"Code", "Quay", "Depth", "Lit"}, {"N1", "North", 9.5, true}, {"S1", "Salt", 6, false}}} {
			_, err := f.NewSheet(sheet)
			require.NoError(t, err)
			for i, r := range rows {
				require.NoError(t, f.SetSheetRow(sheet, fmt.Sprint("A", i+1), &r))
			}
		}
		require.NoError(t, f.DeleteSheet("Sheet1"))
		require.NoError(t, f.SaveAs(w.path("port.xlsx")))
		d := w.draft("port.xlsx")
		assert.Empty(t, d.Errors, d.Text)
		assert.Contains(t, d.Text, "sheet: Quays")
		doc, out := w.load("load")
		require.Equal(t, 0, doc.Status, d.Text+out.stdout)
		assert.Equal(t, []string{"N1|North|9.5|1", "S1|Salt|6|0"},
			w.query("SELECT code, q.name, depth_m, lit FROM berth b JOIN quay q ON q.id = quay_id ORDER BY 1"))
	})
	t.Run("standard input", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, script)
		c := exec.Command(program, "draft", "-", "--db", w.path("db"))
		c.Stdin = strings.NewReader("Name\nNorth\nSalt\n")
		out, err := c.Output()
		require.NoError(t, err)
		assert.Contains(t, string(out), "  input:\n    file: '-'\n")
		assert.Contains(t, string(out), "  quay:\n    from: input\n")
	})
	t.Run("files of one name, one without a header", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, script)
		require.NoError(t, os.Mkdir(w.path("old"), 0o755))
		w.write("quays.csv", "Name,Opened\nNorth,2019-01-01\nSalt,2020-05-01\n")
		w.write("old/quays.csv", "North;7\nSalt;8\nEast;9\n")
		d := w.draft("quays.csv", "old/quays.csv")
		for _, says := range []string{"  quays:\n    file: quays.csv\n", "  quays-2:\n    file: old/quays.csv\n",
			"header: none", "name: Name"} {
			assert.Contains(t, d.Text, says)
		}
	})
}

// TestDraftsAreBroughtUpToDate: columns that were renamed in a file or a table get their new names, new ones are put
// in, and all that a person wrote stays.
func TestDraftsAreBroughtUpToDate(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);\n"+
			"CREATE TABLE stay (stay_no INT PRIMARY KEY, berth_id INT NOT NULL REFERENCES berth(id), day DATE NOT "+
			"NULL, tonnage AMOUNT, draft_m AMOUNT);\n"+
			"CREATE TABLE tide (day DATE PRIMARY KEY, high_water_m AMOUNT NOT NULL);\n"+
			"INSERT INTO berth (code) VALUES ('N1'), ('N2'), ('N3');")
		const before = "# By hand.\nladle: 1\ninputs:\n  stays:\n    file: stays.csv  # monthly\n    columns:\n     " +
			" Berth: {clean: trim}\n\ntables:\n  stay:\n    from: stays\n    key: stay_no\n    # not used of stays: " +
			"Pilot\n    columns:\n      stay_no: No\n      berth_id: {from: Berth, lookup: berth.code}  # checked\n  " +
			"    day: Day\n      tons: Tons\n"
		w.write("f.ladle.yaml", before)
		w.write("stays.csv", "No,Mooring,Day,Tons,Pilot,Draft\n1,N1,2026-04-01,9.5,A,\"4,5 "+
			"m\"\n2,N2,2026-04-02,8.25,B,\"4,25 m\"\n3,N3,2026-04-03,8,C,6 m\n")
		w.write("tides.csv", "Day,High water\n2026-04-01,4.5\n2026-04-02,4.25\n")
		r := w.run("draft", "--update", "f.ladle.yaml", "tides.csv", "--db", w.db, "--json")
		require.Equal(t, 0, r.status, r.stderr)
		var doc struct {
			Outcome, Text string
			Changes       []struct{ Where, Says string }
			Obstacles     []string
		}
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc))
		assert.Equal(t, "changed", doc.Outcome)
		assert.Equal(t, before, w.read("f.ladle.yaml"), "nothing is written unasked")
		want := strings.NewReplacer("      Berth: {", "      Mooring: {", "from: Berth", "from: Mooring",
			"      tons: Tons\n",
			"      tonnage: Tons\n      draft_m: Draft  # the same name, but for the unit; the number: rule above "+
				"reads its cells\n"+
				"  tide:\n    from: tides\n    key: day  # a unique constraint\n    columns:\n      day: Day  # the "+
				"same name\n      high_water_m: High water  # the same name, but for the unit\n",
			"\n\ntables", "\n      Draft: {number: '1234,50 m'}  # ? \"m\" around the numbers is left out; is it "+
				"the unit of the column?\n  tides:\n    file: tides.csv\n    header: 1\n\ntables").Replace(before)
		assert.Equal(t, want, doc.Text)
		assert.Empty(t, doc.Obstacles)
		shown := w.run("draft", "--update", "f.ladle.yaml", "tides.csv", "--db", w.db, "-o", "f.ladle.yaml",
			"--replace")
		require.Equal(t, 0, shown.status, shown.stderr)
		assert.Contains(t, shown.stdout, "  -      tons: Tons\n  +      tonnage: Tons\n")
		assert.Equal(t, want, w.read("f.ladle.yaml"))
		_, loaded := w.load("load")
		assert.Equal(t, 0, loaded.status, loaded.stdout+loaded.stderr)
		again := w.run("draft", "--update", "f.ladle.yaml", "--db", w.db)
		assert.Contains(t, again.stdout, "f.ladle.yaml needs no changes.\n")

		w.write("stays.csv", "No,Quay side,Day,Tons\n1,x,2026-04-01,9.5\n2,y,2026-04-02,9.5\n")
		gone := w.run("draft", "--update", "f.ladle.yaml", "--db", w.db)
		assert.Contains(t, gone.stdout, `stay.berth_id: stays has no column "Mooring"`)
		assert.Contains(t, gone.stdout, `there is a rule for "Mooring", and no such column`)
	})
	w := newWorld(t, sqliteFile{}, "CREATE TABLE t (x INT);")
	for arguments, says := range map[string]string{"draft --update x.yaml --db db": "is not by its name",
		"draft --update x.ladle.yaml --db db": "x.ladle.yaml", "draft x.csv --input a=b --db db": "--input goes " +
			"with --update",
		"draft --update x.ladle.yaml --table t --db db": "--table doesn't go with --update"} {
		r := w.run(strings.Fields(arguments)...)
		assert.NotZero(t, r.status)
		assert.Contains(t, r.stderr, says)
	}
}
