package propose

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// surveyed surveys files, by their names, in the order of these.
func surveyed(t *testing.T, files ...string) *survey.Survey {
	t.Helper()
	dir := t.TempDir()
	var paths []string
	for i := 0; i < len(files); i += 2 {
		path := filepath.Join(dir, files[i])
		require.NoError(t, os.WriteFile(path, []byte(files[i+1]), 0o600))
		paths = append(paths, path)
	}
	tables, err := survey.Open(paths, source.ReadOptions{})
	require.NoError(t, err)
	t.Cleanup(func() { survey.Close(tables) })
	s, err := survey.Run(context.Background(), tables, nil)
	require.NoError(t, err)
	return s
}

// lines are the statements without reasons and blank lines.
func lines(sql string) (all []string) {
	for _, l := range strings.Split(sql, "\n") {
		l, _, _ = strings.Cut(l, " -- ")
		if l = strings.TrimSpace(l); l != "" && !strings.HasPrefix(l, "--") {
			all = append(all, l)
		}
	}
	return all
}

func TestTypesComeFromAllValues(t *testing.T) {
	cases := []struct {
		name  string
		cells []string
		is    string // of the column, in PostgreSQL
		why   string
		doubt string
	}{
		{name: "small numbers", cells: []string{"1", "250", "-3"}, is: "INTEGER NOT NULL", why: "from -3 to 250"},
		{name: "numbers with little room in 32 bits", cells: []string{"1", "400000000"}, is: "BIGINT NOT NULL"},
		{name: "numbers below that", cells: []string{"-400000000", "1"}, is: "BIGINT NOT NULL"},
		{name: "numbers of more than 64 bits", cells: []string{"1", "123456789012345678901"},
			is: "DECIMAL(26,0) NOT NULL"},
		{name: "decimals", cells: []string{"1.5", "1234.25"}, is: "DECIMAL(8,2) NOT NULL",
			why: "from 1.5 to 1234.25, 2 digits after the point"},
		{name: "leading zeros are no numbers", cells: []string{"007", "012"}, is: "VARCHAR(5) NOT NULL"},
		{name: "dates", cells: []string{"2026-03-01", "2025-12-31"}, is: "DATE NOT NULL",
			why: "from 2025-12-31 to 2026-03-01"},
		{name: "dates with times", cells: []string{"2026-03-01 10:00", "2025-12-31 09:30"}, is: "TIMESTAMP NOT NULL"},
		{name: "times", cells: []string{"10:00", "09:30"}, is: "TIME NOT NULL"},
		{name: "yes and no", cells: []string{"yes", "no", "yes", "no"}, is: "BOOLEAN NOT NULL", why: "yes or no"},
		{name: "short texts", cells: []string{"N1", "S2"}, is: "VARCHAR(5) NOT NULL",
			why: "greatest length 2 in line 2"},
		{name: "longer texts", cells: []string{"North Quay, at the mole head", "x"}, is: "VARCHAR(45) NOT NULL",
			why: "greatest length 28 in line 2"},
		{name: "very long texts", cells: []string{strings.Repeat("tide ", 500), "x"}, is: "TEXT NOT NULL"},
		{name: "characters, not bytes", cells: []string{"Grüße", "Größe"}, is: "VARCHAR(8) NOT NULL"},
		{name: "blanks", cells: []string{"N1", "", "S2"}, is: "VARCHAR(5)", why: "blank in 1 line"},
		{name: "words for blank", cells: []string{"12", "n/a", "13"}, is: "INTEGER", doubt: `"n/a" seems to mean blank`},
		{name: "nothing at all", cells: []string{"", "", ""}, is: "VARCHAR(255)", doubt: "blank in every line"},
		{name: "a cell that doesn't fit", cells: append(numbers(19), "many"), is: "INTEGER NOT NULL",
			doubt: `1 of 20 cells is not a whole number: line 21 "many"`},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			csv := "Line,Value\n"
			for i, cell := range c.cells {
				csv += fmt.Sprintf("L%d,%s\n", i, `"`+cell+`"`)
			}
			p, err := Make(surveyed(t, "berths.csv", csv), Options{})
			require.NoError(t, err)
			column := p.Tables[0].column("Value")
			assert.Equal(t, "value_ "+c.is, column.definition(Postgres))
			assert.Contains(t, column.Why, c.why)
			assert.Contains(t, strings.Join(column.Doubts, "; "), c.doubt)
			if c.doubt == "" {
				assert.Empty(t, column.Doubts)
			}
		})
	}
}

func numbers(n int) (all []string) {
	for i := range n {
		all = append(all, fmt.Sprint(i*7))
	}
	return all
}

func TestNamesArePlain(t *testing.T) {
	for name, want := range map[string]string{"Reg. No.": "reg_no", "Größe (m)": "grosse_m", "  Café  ": "cafe",
		"Order": "order_",
		"1st":   "column_1st", "№": "column", "": "column", "GT": "gt", "a__b": "a_b", "naïve—name": "naive_name",
		strings.Repeat("long ", 30): "long_long_long_long_long_long_long_long_long_long_long_long"} {
		assert.Equal(t, want, plain(name, "column"), name)
	}
	assert.Equal(t, "id_3", free("id", func(n string) bool { return n == "id" || n == "id_2" }))
}

func TestKeysAndRelations(t *testing.T) {
	berths, calls, moves := "Code,Quay\n", "Call,Berth,Note\n", "Vessel,Day,Berth,Type,Flag\n"
	pilots, copies := "Licence,Mentor\n", "Licence,Again\n"
	for i := range 20 {
		pilots += fmt.Sprintf("MP-%d,MP-%d\n", i, i%4*5)
		copies += fmt.Sprintf("MP-%d,MP-%d\n", i, 19-i)
	}
	for i := range 10 {
		berths += fmt.Sprintf("B%d,Q%d\n", i, i%3)
	}
	for i := range 40 {
		calls += fmt.Sprintf("%d,B%d,%s\n", 1000+i, i*3%10, strings.Repeat("x", i%7))
		vessel := i % 5
		moves += fmt.Sprintf("V%d,2026-03-%02d,B%d,%s,%s\n", vessel, i/5+1, i*i*3%7, []string{"Tug", "Ferry"}[vessel%2],
			[]string{"NO", "DK", "IS"}[vessel%3])
	}
	cases := []struct {
		name  string
		files []string
		o     Options
		want  []string
	}{
		{"numbers that tell lines apart are the primary key, texts are unique", []string{"berths.csv", berths,
			"calls.csv", calls},
			Options{}, []string{"CREATE TABLE berths (", "id INTEGER PRIMARY KEY AUTOINCREMENT,",
				"code VARCHAR(5) NOT NULL,",
				"quay VARCHAR(5) NOT NULL,", "UNIQUE (code)", ");", "CREATE TABLE calls (",
				"call_ INTEGER PRIMARY KEY,",
				"berths_id INTEGER NOT NULL,", "note VARCHAR(9),", "FOREIGN KEY (berths_id) REFERENCES berths " +
					"(id)", ");"}},
		{"the order of the files doesn't matter, nor that a name is taken", []string{"calls.csv", calls,
			"berths.csv", berths},
			Options{Taken: []string{"BERTHS"}, LeaveOut: []string{"note", "QUAY"}},
			[]string{"CREATE TABLE berths_2 (", "id INTEGER PRIMARY KEY AUTOINCREMENT,",
				"code VARCHAR(5) NOT NULL,", "UNIQUE (code)",
				");", "CREATE TABLE calls (", "call_ INTEGER PRIMARY KEY,", "berths_2_id INTEGER NOT NULL,",
				"FOREIGN KEY (berths_2_id) REFERENCES berths_2 (id)", ");"}},
		{"what a column decides is a table of its own", []string{"moves.csv", moves}, Options{},
			[]string{"CREATE TABLE vessel (", "id INTEGER PRIMARY KEY AUTOINCREMENT,", "vessel VARCHAR(5) NOT NULL,",
				"type VARCHAR(8) NOT NULL,", "flag VARCHAR(5) NOT NULL,", "UNIQUE (vessel)", ");",
				"CREATE TABLE moves (",
				"id INTEGER PRIMARY KEY AUTOINCREMENT,", "vessel_id INTEGER NOT NULL,", "day DATE NOT NULL,",
				"berth VARCHAR(5) NOT NULL,", "UNIQUE (vessel_id, day),", "FOREIGN KEY (vessel_id) REFERENCES " +
					"vessel (id)", ");"}},
		{"lines refer to others of the same file", []string{"pilots.csv", pilots}, Options{}, []string{"CREATE TABLE pilots (",
			"id INTEGER PRIMARY KEY AUTOINCREMENT,", "licence VARCHAR(8) NOT NULL,", "mentor_id INTEGER NOT NULL,",
			"UNIQUE (licence),", "FOREIGN KEY (mentor_id) REFERENCES pilots (id)", ");"}},
		{"but not by a key of their own", []string{"pilots.csv", copies}, Options{}, []string{"CREATE TABLE pilots (",
			"id INTEGER PRIMARY KEY AUTOINCREMENT,", "licence VARCHAR(8) NOT NULL,", "again VARCHAR(8) NOT NULL,",
			"UNIQUE (licence)", ");"}},
		{"unless it is to be flat, with checks", []string{"moves.csv", moves}, Options{Flat: true, Sets: true,
			LeaveOut: []string{"Berth"}},
			[]string{"CREATE TABLE moves (", "id INTEGER PRIMARY KEY AUTOINCREMENT,",
				"vessel VARCHAR(5) NOT NULL CHECK (vessel IN " +
					"('V0', 'V1', 'V2', 'V3', 'V4')),", "day DATE NOT NULL,", "type VARCHAR(8) NOT NULL CHECK (type IN " +
					"('Ferry', 'Tug')),",
				"flag VARCHAR(5) NOT NULL CHECK (flag IN ('DK', 'IS', 'NO')),", "UNIQUE (vessel, day)", ");"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			p, err := Make(surveyed(t, c.files...), c.o)
			require.NoError(t, err)
			assert.Equal(t, c.want, lines(p.SQL(SQLite)))
		})
	}
}

func TestDialects(t *testing.T) {
	p, err := Make(surveyed(t, "log.csv", "No,Reg\\No,When,Text\n"+
		"1,'a,2026-03-01 10:00,"+strings.Repeat("x", 3000)+"\n2,b,2026-03-02 11:00,y\n"), Options{})
	require.NoError(t, err)
	p.Tables[0].Columns[1].Among = []string{`it's a\b`}
	for d, want := range map[Dialect][]string{
		Postgres: {"CREATE TABLE log (", "no_ INTEGER PRIMARY KEY,", `reg_no VARCHAR(5) NOT NULL CHECK (reg_no IN ('it''s a\b')),`,
			"when_ TIMESTAMP NOT NULL,", "text TEXT NOT NULL", ");", `COMMENT ON COLUMN log.no_ IS 'No';`,
			`COMMENT ON COLUMN log.reg_no IS 'Reg\No';`, "COMMENT ON COLUMN log.when_ IS 'When';"},
		MySQL: {"CREATE TABLE log (", "no_ INTEGER PRIMARY KEY COMMENT 'No',",
			`reg_no VARCHAR(5) NOT NULL CHECK (reg_no IN ('it''s a\\b')) COMMENT 'Reg\\No',`, "when_ DATETIME NOT NULL COMMENT 'When',",
			"text MEDIUMTEXT NOT NULL", ");"},
		Standard: {"CREATE TABLE log (", "no_ INTEGER PRIMARY KEY,", `reg_no VARCHAR(5) NOT NULL CHECK (reg_no IN ('it''s a\b')),`,
			"when_ TIMESTAMP NOT NULL,", "text CLOB NOT NULL", ");"},
	} {
		assert.Equal(t, want, lines(p.SQL(d)), d)
	}
	made := p.Statements(Postgres)
	require.Len(t, made, 1)
	assert.Len(t, made[0].Statements, 4)
	for _, s := range made[0].Statements {
		assert.False(t, strings.HasSuffix(s, ";"))
	}
	planned := p.Planned(p.Tables[0].input)
	assert.Equal(t, map[string]int{"log.no_": 1, "log.reg_no": 2, "log.when_": 3, "log.text": 4}, planned)
}

// TestTablesThatAreThereAreReferredTo: where all values of a column are keys by which people know their rows.
func TestTablesThatAreThereAreReferredTo(t *testing.T) {
	there := []There{
		{Table: "quay", Primary: "id", Type: Type{Kind: Integer}, As: "int(11)", Key: "name", Values: map[string]bool{"North": true,
			"South": true, "East": true}},
		{Table: "flag", Primary: "code", Type: Type{Kind: Text, Length: 2}, As: "char(2)", Key: "code",
			Values: map[string]bool{"NO": true, "DK": true}},
	}
	csv := "Code,Quay,Flag,Old quay,One\n"
	for i := range 20 {
		csv += fmt.Sprintf("B%d,%s,%s,%s,North\n", i, []string{"North", "South"}[i%2], []string{"NO", "DK"}[i/2%2],
			[]string{"North", "South", "West"}[i/2%3])
	}
	p, err := Make(surveyed(t, "berths.csv", csv), Options{There: there, Taken: []string{"quay", "flag"}, Style: Style{BigIDs: true}})
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE TABLE berths (", "id BIGINT AUTO_INCREMENT PRIMARY KEY,", "code VARCHAR(5) NOT NULL,",
		"quay_id int(11) NOT NULL COMMENT 'Quay',", "flag char(2) NOT NULL,", "old_quay VARCHAR(8) NOT NULL COMMENT 'Old quay',",
		"one VARCHAR(8) NOT NULL,", "UNIQUE (code),", "FOREIGN KEY (quay_id) REFERENCES quay (id),",
		"FOREIGN KEY (flag) REFERENCES flag (code)", ");"}, lines(p.SQL(MySQL)), "West is no quay, and one value proves nothing")
	assert.Equal(t, []string{`berths.old_quay: 2 of its 3 distinct values are in quay.name, but not "West": no foreign key`}, p.Doubts)
	assert.Equal(t, map[string]int{"berths.code": 1, "berths.flag": 3, "berths.old_quay": 4, "berths.one": 5},
		p.Planned(p.Tables[0].input), "the quay is looked up")
	db, err := sqlite.NewScratch(p.Scratch(there))
	require.NoError(t, err)
	defer db.Close()
	s, err := db.Schema(context.Background())
	require.NoError(t, err)
	again, err := Known(context.Background(), db, s)
	require.NoError(t, err)
	var names []string
	for _, x := range again {
		names = append(names, fmt.Sprintf("%s.%s %d", x.Table, x.Key, len(x.Values)))
	}
	assert.ElementsMatch(t, []string{"quay.name 3", "flag.code 2", "berths.code 0"}, names)
}

func TestTheStyleOfTablesThatAreThere(t *testing.T) {
	for declared, want := range map[string]Style{"": {}, "id bigint": {BigIDs: true}, "id BIGINT(20)": {BigIDs: true},
		"id integer": {}, "id bigint id int": {}, "t_id bigint id bigint": {BigIDs: true}, "t_id integer T_ID int": {TableIDs: true}} {
		made := &schema.Schema{Tables: []*schema.Table{{Name: "none"}}}
		words := strings.Fields(declared)
		for i := 0; i < len(words); i += 2 {
			made.Tables = append(made.Tables, &schema.Table{Name: "port.t", Columns: []schema.Column{{Name: words[i],
				Declared: words[i+1], Identity: true}}})
		}
		assert.Equal(t, want, StyleOf(made), declared)
	}
	p, err := Make(surveyed(t, "berths.csv", "Code,Depth\nN1,9.5\nN2,4\n"), Options{Style: Style{TableIDs: true}})
	require.NoError(t, err)
	assert.Equal(t, "berths_id", p.Tables[0].Columns[0].Name)
}

func TestLinesThatAreNoRows(t *testing.T) {
	p, err := Make(surveyed(t, "berths.csv", "Code,Depth\nN1,9.5\nN2\nN3,8.0\nS1,6,5\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"berths.code: 2 lines could not be split into columns and will be set aside: line 3 " +
		"(the line has only 1 of 2 fields)"}, p.Doubts)
}
