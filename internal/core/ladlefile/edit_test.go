package ladlefile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const edited = `# The register.
ladle: 1

inputs:
  register:
    file: r.csv   # as sent
    columns:
      # how they write it
      Dues: {number: "1.234,50"}  # euros
      Größe: {blank_is: ['?', "n/a"]}
      Type:
        recode:
          Tg: Tug   # a slip

        clean: trim
      Word: {blank_is: x}
      Flag: {recode: {Norwey: Norway}}
      Note:
        blank_is:
        - none
        - '-'

      # the end
  calls:
    file: c.csv

tables:
  vessel:
    from: register
    key: reg_no
    columns:
      reg_no: Reg. No.  # the key
      berth_id: {from: Berth, lookup: berth.code}
      flag_id: {from: Flag, lookup: flag.name,}
      note: "it's # here"
  port_call: {from: calls, key: none, columns: {no: No}}
`

// TestEdit: a setting is put in where it belongs, and all else stays as it is.
func TestEdit(t *testing.T) {
	rule := func(column, key string, value any) Setting {
		return Setting{At: []string{"inputs", "register", "columns", column}, Key: key, Value: value}
	}
	block := func(name, key string, value any) Setting {
		return Setting{At: []string{"tables", name}, Key: key, Value: value}
	}
	for _, c := range []struct {
		name     string
		setting  Setting
		was, now string // the lines that change
	}{
		{"a key in braces", rule("Dues", "round", 2), `"1.234,50"}  # euros`, `"1.234,50", round: 2}  # euros`},
		{"a value in braces", rule("Dues", "number", []string{"1.234,50", "1234.5"}), `number: "1.234,50"}`,
			`number: ['1.234,50', 1234.5]}`},
		{"a key by another case", rule("dues", "round", 2), `50"}  # euros`, `50", round: 2}  # euros`},
		{"words of a list", Setting{At: []string{"inputs", "register", "columns", "Größe", "blank_is"},
			Value: []string{"nil"}},
			`['?', "n/a"]`, `['?', "n/a", nil]`},
		{"a word beside a single one", Setting{At: []string{"inputs", "register", "columns", "Word", "blank_is"},
			Value: []string{"y"}}, "{blank_is: x}", "{blank_is: [x, y]}"},
		{"a word of a list on lines", Setting{At: []string{"inputs", "register", "columns", "Note", "blank_is"},
			Value: []string{"a: b"}}, "        - '-'\n", "        - '-'\n        - 'a: b'\n"},
		{"pairs of a block", Setting{At: []string{"inputs", "register", "columns", "Type", "recode"},
			Value: []Pair{{"Barg", "Barge"}, {"Cstr", "Coaster"}}}, "          Tg: Tug   # a slip\n",
			"          Tg: Tug   # a slip\n          Barg: Barge\n          Cstr: Coaster\n"},
		{"a key of a block", rule("Type", "if_blank", "Tug"), "        clean: trim\n",
			"        clean: trim\n        if_blank: Tug\n"},
		{"a value of a block", rule("Type", "clean", "squeeze"), "clean: trim", "clean: squeeze"},
		{"a rule of a column that has none", Setting{At: []string{"inputs", "register", "columns"}, Under: "Built: on",
			Key: "date", Value: "d.M.yyyy", Comment: "seen"}, "        - '-'\n",
			"        - '-'\n      'Built: on': {date: d.M.yyyy}  # seen\n"},
		{"the first rule of an input", Setting{At: []string{"inputs", "calls", "columns"}, Under: "Day", Key: "date",
			Value: "d.M.yyyy"}, "    file: c.csv\n", "    file: c.csv\n    columns:\n      Day: {date: d.M.yyyy}\n"},
		{"a key of a table", block("vessel", "contradictions", "most"), "      note: \"it's # here\"\n",
			"      note: \"it's # here\"\n    contradictions: most\n"},
		{"a value of a table", block("vessel", "key", "name"), "key: reg_no", "key: name"},
		{"a key of a table in braces", block("port_call", "already_there", "update"), "columns: {no: No}}",
			"columns: {no: No}, already_there: update}"},
		{"a key of a lookup", Setting{At: []string{"tables", "vessel", "columns", "berth_id"}, Key: "not_found",
			Value: "add"},
			"lookup: berth.code}", "lookup: berth.code, not_found: add}"},
		{"a key behind a comma", Setting{At: []string{"tables", "vessel", "columns", "flag_id"}, Key: "not_found",
			Value: "add"}, "lookup: flag.name,}", "lookup: flag.name, not_found: add}"},
		{"the long form of a source", Setting{At: []string{"tables", "vessel", "columns", "reg_no"}, Key: "blank",
			Value: "clear"},
			"reg_no: Reg. No.  # the key", "reg_no: {from: Reg. No., blank: clear}  # the key"},
		{"a quoted value", Setting{At: []string{"tables", "vessel", "columns"}, Key: "note", Value: "x"},
			`note: "it's # here"`, "note: x"},
		{"a column in braces", Setting{At: []string{"tables", "port_call", "columns"}, Key: "berth", Value: "a, b"},
			"{no: No}", "{no: No, berth: 'a, b'}"},
		{"lines of a block", Setting{At: []string{"tables", "vessel", "columns"}, Value: Lines{"# ? two",
			"built:  # year",
			"  lookup: {table: year}"}}, "      note: \"it's # here\"\n",
			"      note: \"it's # here\"\n      # ? two\n      built:  # year\n        lookup: {table: year}\n"},
		{"lines of a section that is not there", Setting{At: []string{"inputs", "calls", "columns"},
			Value: Lines{"A: {round: 1}"}},
			"    file: c.csv\n", "    file: c.csv\n    columns:\n      A: {round: 1}\n"},
		{"another source", Setting{At: []string{"tables", "vessel", "columns", "reg_no"}, Key: "from", Value: "Reg"},
			"reg_no: Reg. No.  # the key", "reg_no: Reg  # the key"},
		{"another source of a lookup", Setting{At: []string{"tables", "vessel", "columns", "berth_id"}, Key: "from",
			Value: "At: x"}, "{from: Berth, ", "{from: 'At: x', "},
		{"another name", Setting{At: []string{"inputs", "register", "columns"}, Key: "Dues", Rename: "Fees: all"},
			"      Dues: {", "      'Fees: all': {"},
		{"another name in braces", Setting{At: []string{"tables", "port_call", "columns"}, Key: "no", Rename: "number"},
			"{no: No}", "{number: No}"},
		{"words that are added", Setting{At: []string{"inputs", "register", "columns", "Größe"}, Key: "blank_is",
			Value: []string{"nil"}, Add: true}, `['?', "n/a"]`, `['?', "n/a", nil]`},
		{"pairs in braces", Setting{At: []string{"inputs", "register", "columns", "Flag", "recode"},
			Value: []Pair{{"Denmrk", "Denmark"}, {"UK", "United Kingdom"}}}, "{Norwey: Norway}",
			"{Norwey: Norway, Denmrk: Denmark, UK: United Kingdom}"},
		{"pairs that are added", Setting{At: []string{"inputs", "register", "columns", "Type"}, Key: "recode",
			Value: []Pair{{"Barg", "Barge"}}, Add: true}, "          Tg: Tug   # a slip\n",
			"          Tg: Tug   # a slip\n          Barg: Barge\n"},
		{"a cleaning that is added", Setting{At: []string{"inputs", "register", "columns", "Type"}, Key: "clean",
			Value: []string{"squeeze"}, Add: true}, "clean: trim", "clean: [trim, squeeze]"},
		{"a section that is not there", Setting{Key: "set_aside_limit", Value: 5}, "columns: {no: No}}\n",
			"columns: {no: No}}\nset_aside_limit: 5\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, 1, strings.Count(edited, c.was), c.was)
			want := strings.Replace(edited, c.was, c.now, 1)
			got, err := Edit("f.ladle.yaml", []byte(edited), c.setting)
			require.NoError(t, err)
			assert.Equal(t, want, string(got))
			dos, err := Edit("f.ladle.yaml", []byte(strings.ReplaceAll(edited, "\n", "\r\n")), c.setting)
			require.NoError(t, err)
			assert.Equal(t, strings.ReplaceAll(want, "\n", "\r\n"), string(dos))
		})
	}
}

// TestEditRefuses: what is written in a way that can't be edited for sure is left to the person.
func TestEditRefuses(t *testing.T) {
	for text, s := range map[string]Setting{
		"a: &x {b: 1}\nc: *x\n":    {At: []string{"c"}, Key: "b", Value: "2"},
		"a:\n- 1\n- 2\n":           {At: []string{"a"}, Key: "b", Value: "2"},
		"a:\n  b:\n    c: 1\n":     {At: []string{"a"}, Key: "b", Value: "2"},
		"a: |\n  long\n  # text\n": {At: []string{"a"}, Key: "b", Value: "2"},
		"a: {b: 1}\n":              {At: []string{"a"}, Value: Lines{"c: 1"}},
		"a:\n  b: 1\n  c: 2\n":     {At: []string{"a"}, Key: "b", Rename: "c"},
		"a: [":                     {At: []string{"a"}, Key: "b", Value: "2"},
	} {
		_, err := Edit("f.ladle.yaml", []byte(text), s)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), "put it there by hand")
	}
}

// FuzzEdit: whatever the file is like, an edit either does what it is to do or is refused, and no comment is lost.
func FuzzEdit(f *testing.F) {
	f.Add(edited, "inputs", "register", "columns", "Dues", "round")
	f.Add("a: {b: 'x # y', c: [1, \"}\"]} # z\n", "a", "c", "", "", "d")
	f.Add("a:\r\n  b: |\r\n    text\r\n  # last", "a", "", "", "", "c")
	f.Fuzz(func(t *testing.T, text, a, b, c, d, key string) {
		s := Setting{Key: key, Value: "new: value"}
		for _, k := range []string{a, b, c, d} {
			if k != "" {
				s.At = append(s.At, k)
			}
		}
		got, err := Edit("f.ladle.yaml", []byte(text), s)
		if err != nil {
			return
		}
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); strings.HasPrefix(line, "#") {
				assert.Contains(t, string(got), line)
			}
		}
	})
}
