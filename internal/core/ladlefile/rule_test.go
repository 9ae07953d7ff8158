package ladlefile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

// TestRulesAreToldWhereTheyAreWrong: every problem of a rule has its place in the ladle file, and says what to do.
func TestRulesAreToldWhereTheyAreWrong(t *testing.T) {
	for rule, want := range map[string]string{
		"{number: 1,234}":                            "7:",
		"{number: '1,234'}":                          `7:22: number: can't be "1,234": it doesn't tell whether "," parts thousands or a fraction; write a number with thousands and a fraction as it stands in the file`,
		"{date: DD/MM/YYYY}":                         `7:20: date: can't be "DD/MM/YYYY": DD is no field of a date that is read here; use y M d E H h m s S a X x Z`,
		"{date: [dd/MM/yyyy HH:mm]}":                 `7:21: date: must be a single value; put quotes around a value that has a colon in it`,
		"{date: dd/MM/yy}":                           "7:20: date: can't be \"dd/MM/yy\": two digits don't tell the century; say two_digit_years_from:",
		"{clean: [trim, upcase]}":                    `7:28: there is no cleaning "upcase"; `,
		"{clean: [{part: 0, at: x}]}":                "7:22: this is no cleaning; write one at a time",
		"{clean: {strip: a, pad: 3}}":                "7:21: this is no cleaning",
		"{clean: {pad: x}}":                          `7:27: pad: can't be "x"; write a whole number from 1 to 10000`,
		"{clean: {pad: 3, with: ab}}":                "7:36: pad: fills with one character",
		"{round: -1}":                                `7:21: round: can't be "-1"; write a whole number from 0 to 10000`,
		"{time_zone: Mars/Port}":                     `7:25: there is no time zone "Mars/Port"; write a name of the IANA time zone database`,
		"{if_blank: {formula: x, constant: y}}":      "7:24: if_blank: needs one of formula:, same_for: and constant:; several are written as a list",
		"{recode: {a: b, a: c}}":                     "7:",
		"{recode: {a: [b]}}":                         "7:26: a value of recode: must be a single value",
		"{recode_others: refuse}":                    "recode_others: stands without recode:; add recode: or recode_from:",
		"{recode_others: drop}":                      `7:29: recode_others: can't be "drop"; write one of: keep, refuse, blank`,
		"{yes_is: [y], no_is: [Y]}":                  `"y" stands for yes and for no; take it out of yes_is: or no_is:`,
		"{number: '1.5', date: yyyy-MM-dd}":          "a column is one of number:, date:, and yes_is: with no_is:; keep one of them",
		"{number: '1.5', shorten_to: 3}":             "shorten_to: is for texts",
		"{split: {at: '/', into: [A, B]}, round: 1}": "a cell that is split is a text",
		"{blank: n/a}":                               `7:14: the rule of a column has no key "blank"; there are: blank_is, clean`,
		"{if_blank: {formula: join(x, y)}}":          "put quotes around a formula or value that has a comma in it",
	} {
		_, err := Decode("f", []byte("ladle: 1\ninputs:\n  in:\n    file: in.csv\n    header: 1\n    columns:\n      Cell: "+rule+"\ntables: {t: {from: in, columns: {a: Cell}}}\n"))
		if !assert.Error(t, err, rule) {
			continue
		}
		assert.Contains(t, err.Error(), want, rule)
		for _, p := range fault.ProblemsOf(err) {
			assert.Equal(t, "f", p.File)
			assert.Equal(t, 7, p.Line, "%s: %s", rule, p.What)
		}
	}
}

// TestStepsHaveTheirConditions: the condition of the input comes before that of the block, and each is cleaned once.
func TestStepsHaveTheirConditions(t *testing.T) {
	decode := func(only string) (*Plan, error) {
		f, err := Decode("f", []byte(`ladle: 1
inputs: {in: {file: in.csv, columns: {Day: {date: dd/MM/yyyy}}, only: "berth != 'X'"}}
tables:
  berth: {from: in, only: `+only+`, columns: {code: Berth, quay: {constant: North}}}
  vessel: {from: in, key: reg_no, columns: {reg_no: Reg. No.}}
`))
		require.NoError(t, err)
		return Resolve(f, map[string]source.Header{"in": {Names: []string{"Reg. No.", "IMO", "Day", "Berth"}}}, harbour())
	}
	plan, err := decode(`day > "2026-01-01"`)
	require.NoError(t, err)
	feed := plan.Feeds[0]
	counts := map[string]int{}
	for _, s := range plan.Steps {
		counts[s.Name] = len(s.Only)
		assert.Equal(t, feed.Recipe.Only(), feed.Columns[s.Only[0]].Of)
	}
	assert.Equal(t, map[string]int{"berth": 2, "vessel": 1}, counts)
	kinds := 0
	for _, c := range feed.Columns {
		if feed.Recipe.Name(c.Of) == "only:" {
			kinds++
		}
	}
	assert.Equal(t, 2, kinds)
	for only, why := range map[string]string{"dya > 1": `there is no column "dya" (at character 1 of dya > 1); did you mean "day"?`, "berth": "needs a condition, and this is a text", "imo > berth": "stands between texts"} {
		_, err := decode(only)
		require.ErrorContains(t, err, why)
		assert.True(t, strings.HasPrefix(err.Error(), "f:4:27: "), err.Error())
	}
}

func TestRulesAreDecoded(t *testing.T) {
	f, err := Decode("port/f.ladle.yaml", []byte(`ladle: 1
inputs:
  in:
    columns:
      A: {blank_is: ["-", 0], recode: {1: 2, NO: Norway, none: }, recode_from: more.csv, recode_others: blank, default: 007, shorten_to: 9}
      B: {if_blank: [{same_for: [A, C]}, {formula: c + 1}, {constant: 1.50}], round: 2}
    new_columns: {X: a, Y: {join: [A, B], with: "; ", clean: trim}}
    time_zone: UTC
    file: in.csv
tables: {t: {from: in, columns: {a: A}}}
`))
	require.NoError(t, err)
	in := f.Inputs[0]
	a, b := in.Rules[0].Rule, in.Rules[1].Rule
	assert.Equal(t, clean.Words{"-": true, "0": true}, a.BlankIs)
	assert.Equal(t, &clean.Recode{Values: map[string]string{"1": "2", "NO": "Norway", "none": ""}, File: clean.Said{Text: "more.csv", Line: 5, Column: 80}, Path: "port/more.csv", Others: clean.BlankOthers}, a.Recode)
	assert.Equal(t, []any{"007", 9, "UTC"}, []any{a.Default.Text, a.ShortenTo, a.Zone.String()})
	assert.Equal(t, []string{"A", "C"}, []string{b.IfBlank[0].SameFor[0].Text, b.IfBlank[0].SameFor[1].Text})
	assert.Equal(t, []any{"c + 1", "1.50", true, 2}, []any{b.IfBlank[1].Formula.Text, b.IfBlank[2].Constant.Text, b.Rounded, b.Round})
	assert.Equal(t, []string{"a", ""}, []string{in.Made[0].Formula.Text, in.Made[1].Formula.Text})
	assert.Equal(t, "; ", in.Made[1].With)
	assert.Len(t, in.Made[1].Rule.Clean, 1)
}

// TestInputsHaveNamesThatFilesCanHave: set-aside and prepared files are called like their input.
func TestInputsHaveNamesThatFilesCanHave(t *testing.T) {
	for name, fits := range map[string]bool{"calls": true, "Port calls 2026-03": true, "reçus": true, "'../calls'": false, "a/b": false, `'a\b'`: false, "''": false, ".calls": false, `"a\tb"`: false, "'a:b'": false} {
		_, err := Decode("f", []byte("ladle: 1\ninputs: {"+name+": {file: in.csv}}\ntables: {t: {from: "+name+", columns: {a: b}}}\n"))
		if fits {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, "an input can't be called", name)
		}
	}
}
