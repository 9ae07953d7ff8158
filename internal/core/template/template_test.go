package template

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

const harbour = `
	CREATE TABLE kind (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(20) NOT NULL UNIQUE);
	CREATE TABLE craft (id INTEGER PRIMARY KEY AUTOINCREMENT, reg_no VARCHAR(8) NOT NULL UNIQUE, kind_id INTEGER NOT NULL REFERENCES kind (id),
		tug_id INTEGER REFERENCES craft (id), status VARCHAR(9) DEFAULT 'open' CHECK (status IN ('open', 'shut')), active BOOLEAN NOT NULL, "a: b" TEXT, built INTEGER CHECK (built BETWEEN 1850 AND 2100), draught DECIMAL(4,1) CHECK (draught > 0), beam DECIMAL(6,2) CHECK (beam >= 1.1 AND beam < 60), crew INTEGER CHECK (crew < 99.5), label TEXT GENERATED ALWAYS AS (reg_no || '!'));
	CREATE TABLE stay (id INTEGER PRIMARY KEY AUTOINCREMENT, craft_id INTEGER NOT NULL REFERENCES craft (id), day DATE NOT NULL, UNIQUE (craft_id, day));
	CREATE TABLE move (stay_id INTEGER NOT NULL REFERENCES stay (id), next_stay_id INTEGER REFERENCES stay (id), note TEXT);
	CREATE TABLE flag (code CHAR(2) PRIMARY KEY, name VARCHAR(20));
	CREATE TABLE port (id INTEGER PRIMARY KEY AUTOINCREMENT, flag_code CHAR(2) REFERENCES flag (code), name VARCHAR(20) UNIQUE);
	INSERT INTO kind (name) VALUES ('Tug'), ('Ferry'); INSERT INTO flag VALUES ('NO', 'Norway');`

func planned(t *testing.T, tables ...string) *Template {
	t.Helper()
	db, err := sqlite.NewScratch(harbour)
	require.NoError(t, err)
	defer db.Close()
	s, err := db.Schema(context.Background())
	require.NoError(t, err)
	made, err := Make(context.Background(), db, s, tables)
	require.NoError(t, err)
	return made
}

// headers are those of a sheet, the required ones with an asterisk, with the names that they offer.
func headers(s Sheet) (all []string) {
	for _, c := range s.Columns {
		h := c.Header
		if c.Required {
			h += "*"
		}
		if c.Lookup != nil {
			h += ": " + c.Lookup.Table + "." + c.Lookup.Column + " " + strings.Join(c.Lookup.Names, ",")
		}
		if len(c.Allowed) > 0 {
			h += ": " + strings.Join(c.Allowed, ",")
		}
		all = append(all, strings.TrimSpace(h))
	}
	return all
}

func TestSheetsNameRowsInPlaceOfIDs(t *testing.T) {
	made := planned(t, "move", "craft", "port")
	var order []string
	for _, s := range made.Sheets {
		order = append(order, s.Name)
	}
	assert.ElementsMatch(t, []string{"craft", "move", "port"}, order)
	assert.Less(t, strings.Index(strings.Join(order, " "), "craft"), strings.Index(strings.Join(order, " "), "move"))
	for _, s := range made.Sheets {
		want := map[string][]string{
			"craft": {"Reg no*", "Kind*: kind.name Ferry,Tug", "Tug: craft.reg_no", "Status: open,shut", "Active*", "A b", "Built", "Draught", "Beam", "Crew"},
			"move": {"Stay craft*: craft.reg_no", "Stay day*: stay.day", "Next stay craft: craft.reg_no",
				"Next stay day: stay.day",
				"Note"},
			"port": {"Flag code: flag.code NO", "Name"},
		}[s.Name]
		assert.Equal(t, want, headers(s), s.Name)
	}
	text := made.Ladle("new.xlsx")
	_, err := ladlefile.Decode("new.ladle.yaml", []byte(text))
	require.NoError(t, err, text)
	for _, says := range []string{"kind_id: {from: Kind, lookup: kind.name}",
		"tug_id: {from: Tug, lookup: craft.reg_no}",
		"stay_id: {lookup: {table: stay, by: {craft_id: {from: Stay craft, lookup: craft.reg_no}, day: Stay day}}}",
		"flag_code: Flag code", "'a: b': A b", "Active: {yes_is: ['yes'], no_is: ['no']}", "key: [reg_no]",
		"key: none"} {
		assert.Contains(t, text, says)
	}
}

func TestNotesSayWhatACellHolds(t *testing.T) {
	notes := map[string]string{}
	for _, s := range planned(t, "craft", "stay").Sheets {
		for _, c := range s.Columns {
			notes[s.Name+"."+c.Header] = c.Note()
		}
	}
	for column, want := range map[string]string{
		"craft.Reg no": "Required. A text of at most 8 characters.",
		"craft.Kind":   "Required. The name of a row of kind.",
		"craft.Tug": "May be left blank. The reg_no of a row of craft. It can be one that is added in the sheet " +
			"for craft.",
		"craft.Status":  "May be left blank. One of: open, shut. Blank means open.",
		"craft.Active":  "Required. yes or no.",
		"craft.Built":   "May be left blank. A whole number from 1850 to 2100.",
		"craft.Draught": "May be left blank. A number greater than 0, with at most 1 digit after the point.",
		"craft.Beam":    "May be left blank. A number of at least 1.1 and less than 60, with at most 2 digits after the point.",
		"stay.Day":      "Required. A date, such as 2026-03-31.",
	} {
		assert.Equal(t, want, notes[column], column)
	}
}

func TestSheetNamesAreThoseThatASheetCanHave(t *testing.T) {
	made := &Template{}
	for table, want := range map[string]string{"a/b?": "a_b_", "lists": "lists 2", strings.Repeat("x",
		40): strings.Repeat("x", 31)} {
		assert.Equal(t, want, made.sheetName(table))
	}
	made.Sheets = []Sheet{{Name: "Berth"}, {Name: "berth 2"}}
	assert.Equal(t, "berth 3", made.sheetName("berth"))
}

func TestCellsAreHeldAgainstLimits(t *testing.T) {
	for header, want := range map[string][2]string{"Built": {"1850", "2100"}, "Draught": {"0.1", "999.9"},
		"Beam": {"1.10", "59.99"}, "Crew": {"-9007199254740992", "99"}} {
		craft := planned(t, "craft").Sheets[0]
		at := slices.IndexFunc(craft.Columns, func(c Column) bool { return c.Header == header })
		dv, err := (&book{}).check(&craft.Columns[at])
		require.NoError(t, err)
		assert.Equal(t, want, [2]string{dv.Formula1, dv.Formula2}, header)
	}
}

func TestDefaults(t *testing.T) {
	for said, want := range map[string]string{"'open'": "open", "'it''s'::character varying": "it's", "('a b')": "a b",
		"5": "5", "-1.50": "-1.50", "((0))": "0", "'7'::numeric(8,2)": "7", "''": "", "NULL::character varying": "",
		"CURRENT_TIMESTAMP": "", "now()": "", "nextval('x'::regclass)": "", "'a' || 'b'": "", "5 + 1": "", "": ""} {
		c := &schema.Column{Defaulted: said != "", Default: said}
		assert.Equal(t, want, defaultOf(c), said)
		left := slices.Contains([]string{"CURRENT_TIMESTAMP", "now()", "nextval('x'::regclass)", "'a' || 'b'", "5 + 1"}, said)
		assert.Equal(t, left, computes(c), said)
	}
	for said, want := range map[string]string{"true": "yes", "'f'::boolean": "no", "1": "yes", "2": ""} {
		assert.Equal(t, want, defaultOf(&schema.Column{Defaulted: true, Default: said, Type: value.Type{Kind: value.Bool}}), said)
	}
}
