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
    already_there: set_aside
    contradictions: last
    columns:
      vessel_id: {from: Reg. No., lookup: vessel.reg_no}
      arrived: 2026
      code: {constant: NO}
      berth_id: {lookup: {table: berth, by: {code: Berth, side: {constant: 007}}}, not_found: add, several: leave_blank}
set_aside_limit: 2.5%
`

func TestDecode(t *testing.T) {
	f, err := Decode("dir/f.ladle.yaml", []byte(sample))
	require.NoError(t, err)
	assert.Equal(t, source.ReadOptions{Header: source.HeaderLines{First: 2, Last: 2}}, f.Inputs[0].Asked)
	assert.Equal(t, []string{"dir/calls.csv"}, f.Inputs[0].Paths)
	assert.InDelta(t, 0.025, f.Limit.Share, 1e-9)
	b := f.Blocks[0]
	assert.Equal(t, "port_call", b.Table().Value)
	assert.Equal(t, SetAsideThere, b.AlreadyThere)
	assert.Equal(t, LastOfContradictions, b.Contradictions)
	assert.Equal(t, "2026", b.Columns[1].Source.From.Value, "a number is text, as it is written")
	assert.Equal(t, "NO", b.Columns[2].Source.Constant.Value)
	lookup := b.Columns[3].Source.Lookup
	assert.Equal(t, "007", lookup.By[1].Source.Constant.Value)
	assert.Equal(t, AddNotFound, lookup.NotFound)
	assert.Equal(t, BlankSeveral, lookup.Several)
	assert.Equal(t, "Reg. No.", b.Columns[0].Source.Lookup.By[0].Source.From.Value)
}

func TestDecodeTellsEveryProblemWithItsPlace(t *testing.T) {
	cases := []struct {
		name, from, to string
		want           []string
	}{
		{"a key twice", "    from: calls\n", "    from: calls\n    from: other\n",
			[]string{`f:7:5: this is not YAML: mapping key "from" already defined`}},
		{"a list instead of a mapping", "columns:\n", "columns: [a]\n    ignored:\n",
			[]string{"f:10:14: columns: must be a mapping", `f:11:5: a block has no key "ignored"`}},
		{"an unknown word", "set_aside\n    contra", "reject\n    contra",
			[]string{`already_there: can't be "reject"; write one of: keep, update, fill_blanks, set_aside`}},
		{"a lookup without a column", "vessel.reg_no", "vessel",
			[]string{`lookup: can't be "vessel"; write it as TABLE.COLUMN`}},
		{"a constant and a column", "{constant: NO}", "{constant: NO, from: Code}",
			[]string{"code has a constant and another source"}},
		{"no source", "{constant: NO}", "{}", []string{"f:13:7: code has no source"}},
		{"nothing behind a key", "from: calls", "from:", []string{"from: has no value; give it one, or delete the key",
			"block port_call has no from:"}},
		{"not_found without a lookup", "{constant: NO}", "{from: Code, not_found: add}", []string{"but no lookup:"}},
		{"from beside by", "{lookup: {table", "{from: X, lookup: {table", []string{"from: can't be combined with by:"}},
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
		"if_blank:": {schema.Defs["fill"], "inputs: {in: {columns: {c: {if_blank: {" + unknown +
			": 1}}}}}\n"},
		"a block":         {schema.Defs["block"], "tables: {t: {" + unknown + ": 1}}\n"},
		"a source":        {schema.Defs["source"], "tables: {t: {columns: {c: {" + unknown + ": 1}}}}\n"},
		"a lookup":        {schema.Defs["lookup"], "tables: {t: {columns: {c: {lookup: {" + unknown + ": 1}}}}}\n"},
		"a claim":         {schema.Defs["claim"], "checks: [{" + unknown + ": 1}]\n"},
		"a total":         {schema.Defs["total"], "checks: [{equal: [a, {" + unknown + ": 1}]}]\n"},
		"gone_from_file:": {schema.Defs["gone"], "tables: {t: {gone_from_file: {" + unknown + ": 1}}}\n"},
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
	f.Add([]byte("ladle: 1\ninputs: {a: {file: x, columns: {A: {clean: [trim, {pad: 3}, {regex: '(a)', becomes: " +
		"$1}], split: {at: x, columns: [B, C]}, recode: {a: b}}}, new_columns: {X: a + 1, Y: {join: [A], date: " +
		"[dd/MM/yy]}}, only: a > 1, time_zone: UTC}}\n"))
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
  calls: {file: [calls-*.csv, /post/more.zip], header: 3-4, footer_lines: 2, encoding: windows-1252, delimiter: tab, quote: none}
  log: {file: "-", delimiter: ";", quote: "'"}
  register: {file: register.xlsx, sheet: 2, range: B4:K900, header: none}
tables: {vessel: {from: calls, columns: {a: b}}}
`))
	require.NoError(t, err)
	want := []Input{
		{Paths: []string{"port/calls-*.csv", "/post/more.zip"},
			Asked: source.ReadOptions{Header: source.HeaderLines{First: 3, Last: 4}, Footer: 2,
				Encoding: "windows-1252", Delimiter: "\t", Quote: "none"}},
		{Paths: []string{"-"}, Asked: source.ReadOptions{Delimiter: ";", Quote: "'"}},
		{Paths: []string{"port/register.xlsx"}, Asked: source.ReadOptions{Sheet: "2", Range: "B4:K900",
			Header: source.HeaderLines{None: true}}},
	}
	for i, in := range f.Inputs {
		assert.Equal(t, want[i].Paths, in.Paths)
		assert.Equal(t, want[i].Asked, in.Asked)
	}
	for said, what := range map[string]string{"header: 0": "f:1:36: header: can't be \"0\"",
		"footer_lines: many": `footer_lines: can't be "many"`, "encoding: x": "its name in the IANA registry",
		"delimiter: ''": "one ASCII character", "quote: '\"\"'": "one ASCII character",
		"sheet: [1]": "must be a single value", "rnage: A1": `did you mean "range"?`} {
		_, err := Decode("f", []byte("{ladle: 1, inputs: {in: {file: a, "+said+
			"}}, tables: {t: {from: in, columns: {a: b}}}}"))
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
    not_there: leave_out
    blank: clear
    blank_key: match
    gone_from_file: {remove: yes, at_most: 2.5%, where_sql: kind = 'tug'}
    columns:
      name: Name
      owner_id: {lookup: {block: tugs, by_old_id: {there: No., here: Owner}}, not_found: leave_blank}
      type_id: {from: Type, lookup: type.name, not_found: add, similar_names: accept}
  b: {from: tugs, columns: {name: Name}}
`
	f, err := Decode("f", []byte(ladle))
	require.NoError(t, err)
	b := f.Blocks[0]
	assert.Equal(t, []any{UpdateThere, LeaveOutNotThere, ClearBlank, MatchBlankKey, "2.5%", "kind = 'tug'"},
		[]any{b.AlreadyThere, b.NotThere, b.Blank, b.BlankKey, b.Gone.AtMost.String(), b.Gone.Where.Value})
	old := b.Columns[1].Source.Lookup
	assert.Equal(t, []any{"tugs", "No.", "Owner", BlankNotFound},
		[]any{old.Block.Value, old.There.Value, old.Here.Value, old.NotFound})
	assert.Equal(t, SimilarNames{All: AcceptSimilar}, b.Columns[2].Source.Lookup.Similar)
	plain := f.Blocks[1]
	assert.Equal(t, []any{KeepThere, AddNotThere, KeepBlank, SetAsideBlankKey, SetAsideContradictions},
		[]any{plain.AlreadyThere, plain.NotThere, plain.Blank, plain.BlankKey, plain.Contradictions})
	assert.Nil(t, plain.Gone)

	for wrong, says := range map[string]string{
		"{lookup: {block: tugs, by: {a: b}}}":                              "a lookup needs table: and by:",
		"{lookup: {table: t, block: b, by_old_id: {there: a, here: b}}}":   "needs either table: or block:",
		"{lookup: {table: t, by: {a: b}, by_old_id: {there: a, here: b}}}": "a lookup has by: and by_old_id:",
		"{lookup: {table: t, by_old_id: {there: a, here: b, c: d}}}":       `by_old_id: has no key "c"`,
		"{from: a, lookup: {table: t, by_old_id: {there: a, here: b}}}":    "from: can't be combined with by:",
		"{from: a, lookup: t.c, similar_names: accept}":                    "has similar_names:, but adds no names",
		"{from: a, lookup: t.c, not_found: add, similar_names: perhaps}":   `similar_names: can't be "perhaps"`,
		"{from: a, similar_names: accept}":                                 "but no lookup:",
	} {
		_, err := Decode("f", []byte("ladle: 1\ninputs: {in: {file: a}}\ntables: {t: {from: in, columns: {c: "+wrong+
			"}}}\n"))
		assert.ErrorContains(t, err, says, wrong)
	}
	for wrong, says := range map[string]string{
		"gone_from_file: {where_sql: a = 1}":           "doesn't say what becomes of the rows",
		"gone_from_file: {remove: yes, at_most: any}":  "doesn't say how many rows may be removed",
		"gone_from_file: {remove: yes, at_most: most}": `at_most: can't be "most"`,
		"gone_from_file: {mark: {a: b}, remove: yes}":  "can't be both removed and marked",
		"gone_from_file: {mark: {a: b}}":               "doesn't say how many rows may be marked",
		"gone_from_file: {mark: {a: {b: c}}}":          `a: has no key "b"`,
		"gone_from_file: {mark_back: {a: b}}":          "mark_back: has no effect without mark:",
		"gone_from_file: {remove: 5%}":                 "write remove: yes, and the cap as at_most: 5%",
		"blank: empties":                               `blank: can't be "empties"`,
		"not_there: skip":                              "write one of: add, leave_out, set_aside",
	} {
		_, err := Decode("f", []byte("ladle: 1\ninputs: {in: {file: a}}\ntables: {t: {from: in, "+wrong+
			", columns: {c: d}}}\n"))
		assert.ErrorContains(t, err, says, wrong)
	}
}

// TestNamesThatAreGoneSayTheNewOnes: a ladle file of an earlier program is told what its keys and words are called now.
func TestNamesThatAreGoneSayTheNewOnes(t *testing.T) {
	for said, want := range map[string]string{
		"input footer: 1":                                       "footer_lines:",
		"input stated_totals: {rows: 3}":                        "control_totals:",
		"input control_totals: {rows: 3}":                       "line_count:",
		"rule {recode_from: x.csv}":                             "recode_file:",
		"rule {recode: {a: b}, recode_others: refuse}":          "set_aside",
		"rule {if_blank: {same_for: B}}":                        "as_in_lines_with_same:",
		"rule {if_blank: {constant: B}}":                        "default:",
		"rule {clean: {strip: a}}":                              "without:",
		"rule {clean: {prefix: a}}":                             "add_prefix:",
		"rule {clean: {no_suffix: a}}":                          "drop_suffix:",
		"rule {clean: {pattern: a, with: b}}":                   "regex:",
		"rule {clean: {pad: 3, with: b}}":                       "using:",
		"rule {split: {at: x, into: [A, B]}}":                   "columns:",
		"block repeats: first":                                  "contradictions:",
		"block already_there: refuse":                           "set_aside",
		"block not_there: leave":                                "leave_out",
		"block blank: clears":                                   "clear",
		"block gone_from_file: {remove: 5%}":                    "at_most: 5%",
		"block gone_from_file: {remove: yes, among: a}":         "where_sql:",
		"source {from: a, find: t.c}":                           "lookup:",
		"source {from: a, lookup: t.c, not_found: refuse}":      "set_aside",
		"source {from: a, lookup: t.c, similar: accept}":        "similar_names:",
		"source {lookup: {table: t, by_old_id: {No.: Beside}}}": "by_old_id: {there: No., here: Beside}",
		"checks [{claim: c, how_many: q, least: 1}]":            "at_least:",
	} {
		where, what, _ := strings.Cut(said, " ")
		parts := map[string]string{"input": "header: 1", "rule": "{clean: trim}", "block": "key: none", "source": "A",
			"checks": "[{claim: c, no_rows: q}]"}
		parts[where] = what
		_, err := Decode("f", []byte(fmt.Sprintf("ladle: 1\ninputs: {in: {file: a, %s, columns: {C: %s}}}\n"+
			"tables: {t: {from: in, %s, columns: {c: %s}}}\nchecks: %s\n",
			parts["input"], parts["rule"], parts["block"], parts["source"], parts["checks"])))
		if assert.Error(t, err, said) {
			assert.Contains(t, err.Error(), want, said)
		}
	}
}
