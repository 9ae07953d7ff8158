package ladlefile

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
)

// TestRulesAreToldWhereTheyAreWrong: every problem of a rule has its place in the ladle file, and says what to do.
func TestRulesAreToldWhereTheyAreWrong(t *testing.T) {
	for rule, want := range map[string]string{
		"{number: 1,234}":    "7:",
		"{number: '1,234'}":  `7:22: number: can't be "1,234": it is not clear whether "," separates thousands or decimals; write a number with thousands and a fraction as the file does`,
		"{date: DD/MM/YYYY}": `7:20: date: can't be "DD/MM/YYYY": DD is not a field of dates that ladle reads; use y M d E H h m s S a X x Z`,
		"{date: [dd/MM/yyyy " +
			"HH:mm]}": `7:21: date: must be a single value; put quotes around a value that has a colon in it`,
		"{date: dd/MM/yy}": "7:20: date: can't be \"dd/MM/yy\": two digits don't say which century; " +
			"set two_digit_years_from:",
		"{clean: [trim, upcase]}":       `7:28: there is no cleaning "upcase"; `,
		"{clean: [{part: 0, at: x}]}":   "7:22: this is not one cleaning; write one at a time",
		"{clean: {without: a, pad: 3}}": "7:21: this is not one cleaning",
		"{clean: {pad: x}}":             `7:27: pad: can't be "x"; write a whole number from 1 to 10000`,
		"{clean: {pad: 3, using: ab}}":  "7:37: pad: needs a single character",
		"{round: -1}":                   `7:21: round: can't be "-1"; write a whole number from 0 to 10000`,
		"{time_zone: " +
			"Mars/Port}": `7:25: there is no time zone "Mars/Port"; write a name of the IANA time zone database`,
		"{if_blank: {formula: x, as_in_lines_with_same: y}}": "7:24: if_blank: needs above, formula: or " +
			"as_in_lines_with_same:; write several as a list",
		"{recode: {a: b, a: c}}":     "7:",
		"{recode: {a: [b]}}":         "7:26: a value of recode: must be a single value",
		"{recode_others: set_aside}": "recode_others: needs recode: or recode_file:; add one of them",
		"{recode_others: drop}":      `7:29: recode_others: can't be "drop"; write one of: keep, set_aside, blank`,
		"{yes_is: [y], no_is: [Y]}":  `"y" means both yes and no; delete it from yes_is: or no_is:`,
		"{number: '1.5', date: yyyy-MM-dd}": "a column has only one of number:, date:, and yes_is: with " +
			"no_is:; keep one of them",
		"{number: '1.5', shorten_to: 3}":                "shorten_to: is for texts",
		"{split: {at: '/', columns: [A, B]}, round: 1}": "a cell that is split is a text",
		"{blank: n/a}":                      `7:14: the rule of a column has no key "blank"; there are: blank_is, clean`,
		"{if_blank: {formula: join(x, y)}}": "put quotes around a formula, query or value that has a comma in it",
	} {
		_, err := Decode("f", []byte("ladle: 1\ninputs:\n  in:\n    file: in.csv\n    header: 1\n    columns:\n"+
			"      Cell: "+rule+"\ntables: {t: {from: in, columns: {a: Cell}}}\n"))
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

func TestRulesAreDecoded(t *testing.T) {
	f, err := Decode("port/f.ladle.yaml", []byte(`ladle: 1
inputs:
  in:
    columns:
      A: {blank_is: ["-", 0], recode: {1: 2, NO: Norway, none: }, recode_file: more.csv, recode_others: blank, default: 007, shorten_to: 9}
      B: {if_blank: [{as_in_lines_with_same: [A, C]}, {formula: c + 1}], default: 1.50, round: 2}
    new_columns: {X: a, Y: {join: [A, B], between: "; ", clean: trim}}
    time_zone: UTC
    file: in.csv
tables: {t: {from: in, columns: {a: A}}}
`))
	require.NoError(t, err)
	in := f.Inputs[0]
	a, b := in.Rules[0].Rule, in.Rules[1].Rule
	assert.Equal(t, clean.WordSet{"-": true, "0": true}, a.BlankIs)
	assert.Equal(t, &clean.Recode{Values: map[string]string{"1": "2", "NO": "Norway", "none": ""},
		File: clean.Located{Text: "more.csv", Line: 5, Column: 80}, Path: "port/more.csv", Others: clean.BlankOthers},
		a.Recode)
	assert.Equal(t, []any{"007", 9, "UTC"}, []any{a.Default.Text, a.ShortenTo, a.Zone.String()})
	assert.Equal(t, []string{"A", "C"}, []string{b.IfBlank[0].Same[0].Text, b.IfBlank[0].Same[1].Text})
	assert.Equal(t, []any{"c + 1", "1.50", true, 2}, []any{b.IfBlank[1].Formula.Text, b.Default.Text, b.Rounded,
		b.Round})
	assert.Equal(t, []string{"a", ""}, []string{in.Made[0].Formula.Text, in.Made[1].Formula.Text})
	assert.Equal(t, "; ", in.Made[1].Between)
	assert.Len(t, in.Made[1].Rule.Clean, 1)
}

// TestInputsHaveNamesThatFilesCanHave: set-aside and prepared files are called like their input.
func TestInputsHaveNamesThatFilesCanHave(t *testing.T) {
	for name, fits := range map[string]bool{"calls": true, "Port calls 2026-03": true, "reçus": true,
		"'../calls'": false, "a/b": false, `'a\b'`: false, "''": false, ".calls": false, `"a\tb"`: false,
		"'a:b'": false} {
		_, err := Decode("f", []byte("ladle: 1\ninputs: {"+name+": {file: in.csv}}\ntables: {t: {from: "+name+
			", columns: {a: b}}}\n"))
		if fits {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, "an input can't be called", name)
		}
	}
}
