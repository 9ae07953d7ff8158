package ladlefile

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

const sample = `ladle: 1
inputs:
  calls: {file: calls.csv, header: 2}
tables:
  port_call:
    from: calls
    key: [vessel_id, arrived]
    already_there: refuse
    repeats: last
    columns:
      vessel_id: {from: Reg. No., find: vessel.reg_no}
      arrived: 2026
      code: {constant: NO}
      berth_id: {find: {table: berth, by: {code: Berth, side: {constant: 007}}}, not_found: add, several: leave_blank}
set_aside_limit: 2.5%
`

func TestDecode(t *testing.T) {
	f, err := Decode("dir/f.ladle.yaml", []byte(sample))
	require.NoError(t, err)
	assert.Equal(t, source.Asked{Header: source.Lines{First: 2, Last: 2}}, f.Inputs[0].Asked)
	assert.Equal(t, []string{"dir/calls.csv"}, f.Inputs[0].Paths)
	assert.InDelta(t, 0.025, f.Limit.Share, 1e-9)
	b := f.Blocks[0]
	assert.Equal(t, "port_call", b.Table().Value)
	assert.Equal(t, []There{RefuseThere}, []There{b.There})
	assert.Equal(t, LastRepeat, b.Repeats)
	assert.Equal(t, "2026", b.Columns[1].Source.From.Value, "a number is text, as it is written")
	assert.Equal(t, "NO", b.Columns[2].Source.Constant.Value)
	find := b.Columns[3].Source.Find
	assert.Equal(t, "007", find.By[1].Source.Constant.Value)
	assert.Equal(t, AddNotFound, find.NotFound)
	assert.Equal(t, BlankSeveral, find.Several)
	assert.Equal(t, "Reg. No.", b.Columns[0].Source.Find.By[0].Source.From.Value)
}

func TestDecodeTellsEveryProblemWithItsPlace(t *testing.T) {
	cases := []struct {
		name, from, to string
		want           []string
	}{
		{"a key twice", "    from: calls\n", "    from: calls\n    from: other\n", []string{`f:7:5: this is not YAML: mapping key "from" already defined`}},
		{"a list instead of a mapping", "columns:\n", "columns: [a]\n    ignored:\n", []string{"f:10:14: columns: must be a mapping", `f:11:5: a block has no key "ignored"`}},
		{"an unknown word", "refuse", "reject", []string{`already_there: can't be "reject"; write one of: keep, update, refuse`}},
		{"a find without a column", "vessel.reg_no", "vessel", []string{`find: can't be "vessel"; write it as TABLE.COLUMN`}},
		{"a constant and a column", "{constant: NO}", "{constant: NO, from: Code}", []string{"code has a constant and another source"}},
		{"no source", "{constant: NO}", "{}", []string{"f:13:7: code has no source"}},
		{"nothing behind a key", "from: calls", "from:", []string{"nothing is said behind from:", "block port_call has no from:"}},
		{"not_found without find", "{constant: NO}", "{from: Code, not_found: add}", []string{"without find:"}},
		{"from beside by", "{find: {table", "{from: X, find: {table", []string{"from: stands beside by:"}},
		{"a limit that isn't one", "2.5%", "some", []string{`set_aside_limit: can't be "some"`}},
		{"a header that isn't one", "header: 2", "header: 0", []string{`f:3:36: header: can't be "0"`}},
		{"an anchor", "{constant: NO}", "{constant: &x NO}", []string{"must be a single value"}},
		{"no version", "ladle: 1\n", "", []string{"the version of the format is missing"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, sample, c.from)
			_, err := Decode("f", []byte(strings.Replace(sample, c.from, c.to, 1)))
			require.Error(t, err)
			assert.Equal(t, fault.Wrong, fault.ClassOf(err))
			for _, w := range c.want {
				assert.ErrorContains(t, err, w)
			}
		})
	}
}

func TestLimit(t *testing.T) {
	assert.True(t, Limit{}.Passed(1, 100))
	assert.False(t, Limit{}.Passed(0, 100))
	assert.False(t, Limit{Count: 5}.Passed(5, 6))
	assert.False(t, Limit{Share: 0.05}.Passed(5, 100))
	assert.True(t, Limit{Share: 0.05}.Passed(6, 100))
	assert.False(t, Limit{Any: true}.Passed(100, 100))
}

// TestTheSchemaHasTheKeysOfTheDecoder: an unknown key makes the decoder list those that it knows.
func TestTheSchemaHasTheKeysOfTheDecoder(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/ladle-file.schema.json")
	require.NoError(t, err)
	type object struct{ Properties map[string]any }
	var schema struct {
		object
		Defs map[string]object `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(raw, &schema))
	const unknown = "an_unknown_key_of_some_length_that_is_like_no_other"
	for name, c := range map[string]struct {
		of   object
		file string
	}{
		"a ladle file":         {schema.object, unknown + ": 1\n"},
		"an input":             {schema.Defs["input"], "inputs: {in: {" + unknown + ": 1}}\n"},
		"the rule of a column": {schema.Defs["rule"], "inputs: {in: {columns: {c: {" + unknown + ": 1}}}}\n"},
		"a new column":         {schema.Defs["new_column"], "inputs: {in: {new_columns: {c: {" + unknown + ": 1}}}}\n"},
		"if_blank:":            {schema.Defs["fill"], "inputs: {in: {columns: {c: {if_blank: {" + unknown + ": 1}}}}}\n"},
		"a block":              {schema.Defs["block"], "tables: {t: {" + unknown + ": 1}}\n"},
		"a source":             {schema.Defs["source"], "tables: {t: {columns: {c: {" + unknown + ": 1}}}}\n"},
		"a find":               {schema.Defs["find"], "tables: {t: {columns: {c: {find: {" + unknown + ": 1}}}}}\n"},
		"a claim":              {schema.Defs["claim"], "checks: [{" + unknown + ": 1}]\n"},
		"a total":              {schema.Defs["total"], "checks: [{equal: [a, {" + unknown + ": 1}]}]\n"},
		"gone_from_file:":      {schema.Defs["gone"], "tables: {t: {gone_from_file: {" + unknown + ": 1}}}\n"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Decode("f", []byte(c.file))
			var keys []string
			for k := range c.of.Properties {
				keys = append(keys, k)
			}
			slices.Sort(keys)
			list, more := keys, ""
			if len(keys) > 12 {
				list, more = keys[:12], fmt.Sprintf(" and %d more", len(keys)-12)
			}
			assert.ErrorContains(t, err, name+` has no key "`+unknown+`"; there are: `+strings.Join(list, ", ")+more)
			for _, k := range keys {
				_, err := Decode("f", []byte(strings.Replace(c.file, unknown, k, 1)))
				if err != nil {
					assert.NotContains(t, err.Error(), `no key "`+k)
				}
			}
		})
	}
}

// FuzzDecode: no content makes the decoder panic, and what it refuses has a place or a reason.
func FuzzDecode(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("ladle: 1\ninputs: {a: {file: |\n  x\n}}"))
	f.Add([]byte("- *x\n"))
	f.Add([]byte("ladle: 1\ninputs: {a: {file: x, columns: {A: {clean: [trim, {pad: 3}, {pattern: '(a)', with: $1}], split: {at: x, into: [B, C]}, recode: {a: b}}}, new_columns: {X: a + 1, Y: {join: [A], date: [dd/MM/yy]}}, only: a > 1, time_zone: UTC}}\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		if _, err := Decode("f", source); err != nil {
			require.NotEmpty(t, fault.ProblemsOf(err))
		}
	})
}

func TestInputs(t *testing.T) {
	f, err := Decode("port/f.ladle.yaml", []byte(`
ladle: 1
inputs:
  calls: {file: [calls-*.csv, /post/more.zip], header: 3-4, footer: 2, encoding: windows-1252, delimiter: tab, quote: none}
  log: {file: "-", delimiter: ";", quote: "'"}
  register: {file: register.xlsx, sheet: 2, range: B4:K900, header: none}
tables: {vessel: {from: calls, columns: {a: b}}}
`))
	require.NoError(t, err)
	want := []Input{
		{Paths: []string{"port/calls-*.csv", "/post/more.zip"}, Asked: source.Asked{Header: source.Lines{First: 3, Last: 4}, Footer: 2, Encoding: "windows-1252", Delimiter: '\t', Quote: "none"}},
		{Paths: []string{"-"}, Asked: source.Asked{Delimiter: ';', Quote: "'"}},
		{Paths: []string{"port/register.xlsx"}, Asked: source.Asked{Sheet: "2", Range: "B4:K900", Header: source.Lines{None: true}}},
	}
	for i, in := range f.Inputs {
		assert.Equal(t, want[i].Paths, in.Paths)
		assert.Equal(t, want[i].Asked, in.Asked)
	}
	for said, what := range map[string]string{"header: 0": "f:1:36: header: can't be \"0\"", "footer: many": `footer: can't be "many"`, "encoding: x": "its name in the IANA registry",
		"delimiter: ''": "one ASCII character", "quote: '\"\"'": "one ASCII character", "sheet: [1]": "must be a single value", "rnage: A1": `did you mean "range"?`} {
		_, err := Decode("f", []byte("{ladle: 1, inputs: {in: {file: a, "+said+"}}, tables: {t: {from: in, columns: {a: b}}}}"))
		require.ErrorContains(t, err, what[strings.Index(what, ": ")+2:], said)
	}
}

// TestDecodeOfWhatBecomesOfRows: updates, removals, old ids and near names.
func TestDecodeOfWhatBecomesOfRows(t *testing.T) {
	const ladle = `ladle: 1
inputs: {tugs: {file: a.csv}}
tables:
  tugs:
    into: vessel
    from: tugs
    already_there: update
    not_there: leave
    blank: clears
    blank_key: match
    gone_from_file: {remove: 2.5%, among: kind = 'tug'}
    columns:
      name: Name
      owner_id: {find: {block: tugs, by_old_id: {No.: Owner}}, not_found: leave_blank}
      type_id: {from: Type, find: type.name, not_found: add, similar: accept}
  b: {from: tugs, columns: {name: Name}}
`
	f, err := Decode("f", []byte(ladle))
	require.NoError(t, err)
	b := f.Blocks[0]
	assert.Equal(t, []any{UpdateThere, LeaveNotThere, BlankClears, MatchBlankKey, "2.5%", "kind = 'tug'"}, []any{b.There, b.NotThere, b.Blank, b.BlankKey, b.Gone.Most.String(), b.Gone.Among.Value})
	old := b.Columns[1].Source.Find
	assert.Equal(t, []any{"tugs", "No.", "Owner", BlankNotFound}, []any{old.Block.Value, old.Old.Value, old.Is.Value, old.NotFound})
	assert.Equal(t, AcceptSimilar, b.Columns[2].Source.Find.Similar)
	plain := f.Blocks[1]
	assert.Equal(t, []any{KeepThere, AddNotThere, BlankKeeps, RefuseBlankKey, RefuseRepeats}, []any{plain.There, plain.NotThere, plain.Blank, plain.BlankKey, plain.Repeats})
	assert.Nil(t, plain.Gone)

	for wrong, says := range map[string]string{
		"{find: {block: tugs, by: {a: b}}}":                      "a find needs table: and by:",
		"{find: {table: t, block: b, by_old_id: {a: b}}}":        "needs either table: or block:",
		"{find: {table: t, by: {a: b}, by_old_id: {a: b}}}":      "a find has by: and by_old_id:",
		"{find: {table: t, by_old_id: {a: b, c: d}}}":            "by_old_id: needs one pair of columns",
		"{from: a, find: {table: t, by_old_id: {a: b}}}":         "from: stands beside by:",
		"{from: a, find: t.c, similar: accept}":                  "has similar:, but adds no names",
		"{from: a, find: t.c, not_found: add, similar: perhaps}": `similar: can't be "perhaps"`,
		"{from: a, similar: accept}":                             "without find:",
	} {
		_, err := Decode("f", []byte("ladle: 1\ninputs: {in: {file: a}}\ntables: {t: {from: in, columns: {c: "+wrong+"}}}\n"))
		assert.ErrorContains(t, err, says, wrong)
	}
	for wrong, says := range map[string]string{
		"gone_from_file: {among: a = 1}": "doesn't say how many rows may be removed", "gone_from_file: {remove: any}": "doesn't say how many rows may be removed",
		"gone_from_file: {remove: most}": `remove: can't be "most"`, "blank: empties": `blank: can't be "empties"`, "not_there: skip": "write one of: add, leave, refuse",
	} {
		_, err := Decode("f", []byte("ladle: 1\ninputs: {in: {file: a}}\ntables: {t: {from: in, "+wrong+", columns: {c: d}}}\n"))
		assert.ErrorContains(t, err, says, wrong)
	}
}
