package conformance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// drafted is the ladle file that is drafted for in.csv.
func (w *world) drafted(csv string) (text, screen string) {
	w.write("in.csv", csv)
	r := w.run("draft", "in.csv", "--db", w.db)
	require.Equal(w, 0, r.status, r.stderr)
	return r.stdout, unwrap(r.stderr)
}

// TestADraftChangesNoValueInSilence: words that could mean blank, blanks and spellings are left as they are where they
// could be meant, and what a draft does change it marks.
func TestADraftChangesNoValueInSilence(t *testing.T) {
	const tables = "CREATE TABLE flag (id ID, name WORD NOT NULL UNIQUE);\n" +
		"CREATE TABLE vessel (id ID, name WORD NOT NULL UNIQUE, flag_id INT REFERENCES flag(id), note WORD);\n" +
		"INSERT INTO flag (name) VALUES ('NA'), ('Norway'), ('None');"
	w := newWorld(t, sqliteFile{}, tables)
	text, screen := w.drafted("Name,Flag,Note\nUnknown,NA,n/a\nNone,Norway, late\nMissing,None,n/a\nGrey  " +
		"Heron,Norway,\"Towed.\n\nWaited.\"\nTern,?,two  gaps\n")
	for _, says := range []string{
		`    # ? Name: "Unknown" in line 2 is kept as it is; blank_is: 'Unknown' would make it blank`,
		`    # ? Name: "None" in line 3 is kept as it is`,
		`    # ? Name: "Missing" in line 4 is kept as it is`,
		`    # ? Flag: "NA" in line 2 is kept as it is`,
		`    # ? Flag: "None" in line 4 is kept as it is`,
		`      Flag: {blank_is: ['?']}  # ? 1 cell is made blank: "?" (1)`,
		`      Note: {blank_is: ['n/a'], clean: trim}  # ? 2 cells are made blank: "n/a" (2); 1 cell is trimmed, the first in line 3: " late"`,
		`    # ? Note: 1 cell with doubled blanks, the first in line 8: "two  gaps" is kept as it is; clean: squeeze would make one of each, and of line ends`,
	} {
		assert.Contains(t, text, says)
		_, why, _ := strings.Cut(says, "# ? ")
		assert.Contains(t, screen, strings.Join(strings.Fields(strings.TrimPrefix(why, "Name: ")), " "),
			"it stands on the screen too")
	}
	assert.NotContains(t, text, "squeeze]")
	assert.NotContains(t, text, "Name: {")
	w.write("f.ladle.yaml", text)
	doc, r := w.load("load")
	require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
	assert.Equal(t, []string{"Unknown|NA", "None|Norway", "Missing|None", "Grey  Heron|Norway", "Tern|NULL"},
		w.query("SELECT v.name, f.name FROM vessel v LEFT JOIN flag f ON f.id = v.flag_id ORDER BY v.id"))
	assert.Equal(t, []string{"Towed.\n\nWaited."}, w.query("SELECT note FROM vessel WHERE name = 'Grey  Heron'"))
}

// TestNumbersOfAFileAreNotTakenForIds: values decide what a number refers to, not that names are alike.
func TestNumbersOfAFileAreNotTakenForIds(t *testing.T) {
	const tables = "CREATE TABLE pilot (id ID, licence_no INT NOT NULL UNIQUE, name WORD);\n" +
		"CREATE TABLE shift (id ID, pilot_id INT NOT NULL REFERENCES pilot(id), hours INT NOT NULL);\n" +
		"INSERT INTO pilot (licence_no, name) VALUES (501, 'A'), (502, 'B'), (503, 'C');"
	w := newWorld(t, sqliteFile{}, tables)
	for _, c := range []struct {
		name, csv string
		says, not string
	}{
		{"licences", "pilotId,hours\n501,5\n502,6\n503,7\n",
			"      pilot_id: {from: pilotId, lookup: pilot.licence_no}  # 3 of 3 distinct values are in " +
				"pilot.licence_no\n", "ids of"},
		{"names, which aren't unique", "pilot,hours\nA,5\nC,7\n",
			"      pilot_id: {from: pilot, lookup: pilot.name}  # ? " +
				"named like shift.pilot_id; 2 of 2 distinct values are in pilot.name; name is not unique in pilot: a " +
				"line whose value is there several times is set aside", ""},
		{"numbers that could be ids", "pilotId,hours\n1,5\n2,6\n3,7\n",
			"      pilot_id: pilotId  # ? the same name; the numbers of the file are taken for ids of pilot, which " +
				"has 3 of 3 of them", "lookup"},
		{"numbers that are neither", "pilotId,hours\n71,5\n72,6\n73,7\n", "  # ? in fits no table",
			"pilot_id: pilotId"},
		{"a table's own number", "id,licence_no,name\n9,504,D\n",
			"      id: id  # ? the same name; the table numbers its rows by itself", ""},
		{"a table's own number, as the rows have it", "id,licence_no,name\n1,501,A\n3,503,C\n",
			"      id: id  # ids of pilot: in 2 lines, licence_no and name are as in the row with that id\n",
			"# ? the same"},
		{"a table's own number, which other rows have", "id,licence_no,name\n1,501,A\n3,502,B\n",
			`      # ? id of the file is not taken for id: in line 3, licence_no is "502", but the row of pilot with id 3 has another licence_no`,
			"id: id"},
		{"ids beside names that are not unique", "pilot_id,pilot,hours\n1,A,5\n3,C,6\n",
			"      pilot_id: pilot_id  # ids of pilot: in 2 lines, pilot is as in the row with that id\n", "lookup"},
		{"numbers beside names that are not unique", "pilot_id,pilot,hours\n2,A,5\n3,C,6\n",
			"      pilot_id: {from: pilot, lookup: pilot.name}  # ? ", "ids of"},
		{"the name that is exactly the same", "Name,name,licence_no\nx,D,504\n",
			"      name: column 2  # the same name\n",
			"name: column 1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text, _ := w.drafted(c.csv)
			assert.Contains(t, text, c.says)
			if c.not != "" {
				assert.NotContains(t, text, c.not)
			}
		})
	}
}

// TestAllValuesAreHeldAgainstATable: also those behind the ones by which columns are matched.
func TestAllValuesAreHeldAgainstATable(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);\n"+
		"CREATE TABLE stay (no INT PRIMARY KEY, berth_id INT NOT NULL REFERENCES berth(id));\n"+
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 12000) INSERT INTO berth (code) "+
		"SELECT 'B' || i FROM n;")
	var csv strings.Builder
	csv.WriteString("no,berth\n")
	for i := range 20_000 {
		fmt.Fprintf(&csv, "%d,B%d\n", i+1, i+1)
	}
	text, _ := w.drafted(csv.String())
	assert.Contains(t, text, `      berth_id: {from: berth, lookup: berth.code}  # ? named like stay.berth_id; `+
		`1000 of the first 1000 distinct values are in berth.code; of all lines, 12,000 of 20,000 cells are; the first other is "B12001" in line 12002`)
}

// TestRelationsThatOnlyNamesTell: they are drafted as a doubt, where the values bear them out, and judged by a load.
func TestRelationsThatOnlyNamesTell(t *testing.T) {
	for _, c := range []struct{ name, column, csv, says, stays string }{
		{"its codes", "berth_code WORD", "no,berth_code\n1,N1\n2,N2\n3,N4\n",
			"      berth_code: {from: berth_code, points_at: berth.code}  # ? " +
				"the same name; 2 of 3 distinct values are in berth.code, for which the database declares no " +
				"foreign key\n", "1|N1 2|N2"},
		{"its ids", "berth_id INT", "no,berth_id\n7,1\n8,9\n",
			"      berth_id: {from: berth_id, points_at: berth.id}  # ? the same name; " +
				"1 of 2 distinct values are in berth.id", "7|1"},
		{"codes of something else", "berth_code WORD", "no,berth_code\n1,X\n2,Y\n",
			"      berth_code: berth_code  # ? the same name; " +
				"it is named like a foreign key, but only 0 of 2 distinct values are in berth.code\n", "1|X 2|Y"},
		{"codes instead of ids", "berth_id INT", "no,berth\n1,N1\n2,N3\n",
			"      berth_id: {from: berth, lookup: berth.code}  # ? ", "1|1 2|3"},
		{"ids instead of codes", "berth_code WORD", "no,berth_id\n1,2\n2,3\n",
			"      berth_code: berth_id  # ? part of the name; " +
				"it is named like a foreign key, but only 0 of 2 distinct values are in berth.code\n", "1|2 2|3"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);\n"+
				"CREATE TABLE stay (no INT PRIMARY KEY, "+c.column+");\nINSERT INTO berth (code) VALUES ('N1'), "+
				"('N2'), ('N3');")
			text, _ := w.drafted(c.csv)
			require.Contains(t, text, c.says)
			w.write("f.ladle.yaml", text+"set_aside_limit: any\n")
			doc, r := w.load("load")
			require.Contains(t, []int{0, 4}, r.status, r.stderr+string(doc.Why)) // 4: with lines set aside
			assert.Equal(t, strings.Fields(c.stays), w.query("SELECT * FROM stay ORDER BY no"))
		})
	}
}

// TestColumnsWithTheSameValues: names decide between columns whose values are those of the same key, and where they
// don't, it is said.
func TestColumnsWithTheSameValues(t *testing.T) {
	for _, c := range []struct {
		name, tables, csv string
		says              []string
	}{
		{"a row that refers to its own table",
			"CREATE TABLE berth (id ID, berth_code WORD NOT NULL UNIQUE, name WORD, part_of_id INT REFERENCES " +
				"berth(id));\nINSERT INTO berth (berth_code) VALUES ('N1'), ('N2');",
			"berth_id,name,part_of\nN1,North,\nN2,South,N1\nN3,West,N1\n",
			[]string{"      berth_code: berth_id  # part of the name; 2 of 3",
				"      part_of_id: {from: part_of, lookup: berth.berth_code}  # named like berth.part_of_id; 1 of 1"}},
		{"two relations to a table", berthsAndTows, "tow_no,to_berth,from_berth\n1,N1,N2\n2,N2,N3\n3,N3,N1\n",
			[]string{"      from_id: {from: from_berth, lookup: berth.code}  # named like tow.from_id, but for the " +
				"name of berth; 3 of 3", "      to_id: {from: to_berth, lookup: berth.code}  # named"}},
		{"names that tell nothing", berthsAndTows, "tow_no,a,b\n1,N1,N2\n2,N2,N3\n3,N3,N1\n",
			[]string{"      from_id: {from: a, lookup: berth.code}  # ? 3 of 3 distinct values are in berth.code; " +
				"the column b fits as well\n",
				"      to_id: {from: b, lookup: berth.code}  # ? 3 of 3 distinct values are in berth.code; the " +
					"column a fits as well\n"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			text, _ := newWorld(t, sqliteFile{}, c.tables).drafted(c.csv)
			for _, says := range c.says {
				assert.Contains(t, text, says)
			}
		})
	}
}

const berthsAndTows = "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE);\n" +
	"CREATE TABLE tow (tow_no INT PRIMARY KEY, from_id INT NOT NULL REFERENCES berth(id), to_id INT NOT NULL " +
	"REFERENCES berth(id));\nINSERT INTO berth (code) VALUES ('N1'), ('N2'), ('N3');"

// TestReasonsSayWhereValuesAre: what only comes with the files is not said to be in a table.
func TestReasonsSayWhereValuesAre(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE, depth INT);\n"+
		"CREATE TABLE visit (id ID, berth_id INT NOT NULL REFERENCES berth(id), tons INT NOT NULL);")
	w.write("berth.csv", "code,depth\nN1,5\nN2,6\nN3,7\n")
	w.write("visit.csv", "berth,tons\nN1,5\nN2,6\nN3,9\n")
	r := w.run("draft", "berth.csv", "visit.csv", "--db", w.db)
	require.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, r.stdout, "3 of 3 distinct values come into berth.code with the files")
	assert.NotContains(t, r.stdout, "distinct values are in")
}

// TestNumbersInSeveralWaysAreMatched: with the notations that read them, and a doubt for what stands around them.
func TestNumbersInSeveralWaysAreMatched(t *testing.T) {
	w := newWorld(t, sqliteFile{},
		"CREATE TABLE vessel (id ID, name WORD NOT NULL UNIQUE, length_m AMOUNT, crew INT, draft AMOUNT);")
	text, _ := w.drafted("name;length;crew;draft\nA;24,94 m;5;4.5\nB;18,2 m;5.0;4,5\nC;9,00 m;7;5\nD;11 m;abc;5.5\n")
	assert.Contains(t, text,
		"      length: {number: '1234,50 m'}  # ? \"m\" around the numbers is left out; is it the unit of the "+
			"column?\n")
	assert.Contains(t, text, "      draft: {number: ['1234.5', '1234,50']}  # ? numbers are written in 2 ways\n")
	assert.Contains(t, text, "      crew: crew  # ? the same name; 1 of 4 distinct values can't be read as INT")
	w.write("f.ladle.yaml", text+"set_aside_limit: 1\n")
	doc, r := w.load("load")
	require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
	assert.Equal(t, []string{"A|24.94|5|4.5", "B|18.2|5|4.5", "C|9|7|5"},
		w.query("SELECT name, length_m, crew, draft FROM vessel ORDER BY name"))
}

// TestDatesInSeveralWaysAreMatched: a column in which dates are written in two ways is one of dates, and a pattern that
// is drafted reads the cells.
func TestDatesInSeveralWaysAreMatched(t *testing.T) {
	w := newWorld(t, sqliteFile{},
		"CREATE TABLE stay (id ID, code WORD NOT NULL UNIQUE, arrived DATE, built DATE, surveyed DATE);")
	text, _ := w.drafted("Code,Arrived,Built,Surveyed\nN1,2026-01-05,Jun 12 1998,12 June 1998\nN2,2026-02-14,Jul 3 " +
		"1999,3 July 1999\nN3,25/03/2026,May 9 2001,9 May 2001\nN4,26/03/2026,Mar 9 2001,1 March 2002\n")
	assert.Contains(t, text, "      Arrived: {date: ['yyyy-MM-dd', 'dd/MM/yyyy']}  # ? dates are written in 2 ways")
	assert.Contains(t, text, "      Built: {date: 'MMM d yyyy'}\n")
	assert.Contains(t, text, "      Surveyed: {date: 'd MMMM yyyy'}\n")
	w.write("f.ladle.yaml", text)
	doc, r := w.load("load")
	require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
	assert.Equal(t, []string{"N1|2026-01-05|1998-06-12|1998-06-12", "N2|2026-02-14|1999-07-03|1999-07-03",
		"N3|2026-03-25|2001-05-09|2001-05-09",
		"N4|2026-03-26|2001-03-09|2002-03-01"}, w.query("SELECT code, arrived, built, surveyed FROM stay ORDER BY "+
		"code"))
}

// TestMergedCellsAreDrafted: a cell that stands for several rows gives its value to those below, as a doubt.
func TestMergedCellsAreDrafted(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE quay (id ID, name WORD NOT NULL UNIQUE);\n"+
		"CREATE TABLE berth (code WORD PRIMARY KEY, quay_id INT NOT NULL REFERENCES quay(id), depth_m AMOUNT);\n"+
		"INSERT INTO quay (name) VALUES ('North'), ('South');")
	f := excelize.NewFile()
	for i, row := range [][]any{{"Quay", "Code", "Depth"}, {"North", "N1", 9.5}, {nil, "N2", 8}, {nil, "N3", 7},
		{"South", "S1", nil}} {
		require.NoError(t, f.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &row))
	}
	require.NoError(t, f.MergeCell("Sheet1", "A2", "A4"))
	require.NoError(t, f.SaveAs(w.path("berths.xlsx")))
	d := w.draft("berths.xlsx")
	assert.Contains(t, d.Text, "      Quay: {if_blank: above}  # ? 2 blank cells below merged ones get their value\n")
	assert.NotContains(t, d.Text, "Depth: {")
	_, r := w.load("load")
	require.Equal(t, 0, r.status, r.stderr)
	assert.Equal(t, []string{"N1|North", "N2|North", "N3|North", "S1|South"},
		w.query("SELECT code, q.name FROM berth JOIN quay q ON q.id = quay_id ORDER BY code"))
}
