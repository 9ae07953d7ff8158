package formula

import (
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/cockroachdb/apd/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
	"ladle/internal/core/value"
)

// cells are those of one call of the harbour.
var cells = []struct {
	name string
	kind Kind
	cell string
}{
	{"Tons", Number, "1205.75"}, {"Dues per ton", Number, "0.1"}, {"Berth", Text, "N1"}, {"Agent", Text, ""},
	{"Arrived", Moment, "2026-02-27 05:40"}, {"Departed", Moment, "2026-03-02"}, {"GT", Text, "388.6"},
	{"Crew", Number, ""},
	{"Reg. No.", Text, "PM-0101"}, {"Reg No", Text, "PM-0102"}, {"date", Text, "2026-03-01"},
	{"Draught", Text, "4,5 m"},
}

func columns() (all []Column) {
	for _, c := range cells {
		all = append(all, Column{c.name, PlainName(c.name), c.kind})
	}
	return all
}

func machine(t *testing.T) *Machine {
	m := NewMachine(len(cells))
	for i, c := range cells {
		v := &Value{Kind: c.kind, From: c.name, Blank: c.cell == "", Text: c.cell}
		switch {
		case v.Blank:
		case c.kind == Number:
			d, err := value.ScanNumber([]byte(c.cell))
			require.NoError(t, err)
			v.SetNumber(d)
		case c.kind == Moment:
			v.Moment, _ = value.ScanMoment([]byte(c.cell))
		}
		m.Set(i, v)
	}
	return m
}

func TestFormulas(t *testing.T) {
	m := machine(t)
	for formula, want := range formulas {
		f, err := Compile(formula, columns())
		if why, wrong := strings.CutPrefix(want, "error:"); wrong {
			var advised fault.InvalidValue
			if assert.Error(t, err, formula) && assert.ErrorAs(t, err, &advised, formula) {
				assert.Contains(t, err.Error(), strings.TrimSpace(why), formula)
			}
			continue
		}
		if !assert.NoError(t, err, formula) {
			continue
		}
		v, err := m.Run(f)
		if why, no := strings.CutPrefix(want, "refused: "); no {
			assert.ErrorContains(t, err, why, formula)
			continue
		}
		if assert.NoError(t, err, formula) {
			assert.Equal(t, want, v.String(), formula)
			assert.True(t, v.Blank || f.Kind() == v.Kind, "%s says it is a %s, and is a %s", formula, f.Kind(), v.Kind)
		}
	}
}

// formulas are what they give for the cells, or why they give nothing.
var formulas = map[string]string{
	`tons * dues_per_ton`:                        "120.575",
	`0.1 + 0.2`:                                  "0.3",
	`1 / 3`:                                      "0." + strings.Repeat("3", 40),
	`10 / 4 - -1`:                                "3.5",
	`12345678901234567890.5 * 10`:                "123456789012345678905",
	`gt * 2`:                                     "777.2",
	`tons + crew`:                                "",
	`coalesce(crew, tons)`:                       "1205.75",
	`coalesce(crew, 0)`:                          "0",
	`is_blank(agent)`:                            "true",
	`agent != "Strait Ferries"`:                  "",
	`not (agent == "Strait Ferries")`:            "",
	`agent in ["Strait Ferries"]`:                "",
	`agent == berth or true`:                     "true",
	`crew < 5`:                                   "",
	`crew < 5 or berth == "N1"`:                  "true",
	`crew < 5 and berth == "N1"`:                 "",
	`crew < 5 and berth == "N2"`:                 "false",
	`not (tons > 1000)`:                          "false",
	`tons > 1205.7 and tons <= 1205.75`:          "true",
	`0 < tons < 10`:                              "false",
	`gt == 388.60`:                               "true",
	`berth in ["N1", "N2"]`:                      "true",
	`berth not in ["N1", "N2"]`:                  "false",
	`choose(starts(berth, "N"), "north", "x")`:   "north",
	`choose(agent == "x", 1, 2)`:                 "",
	`choose(crew > 1, 1, 2)`:                     "",
	`choose(tons > 0, 1, 1 / 0)`:                 "1",
	`choose(tons > 0, blank, tons)`:              "",
	"fits(berth, `^[NS]\\d$`)":                   "true",
	`arrived < departed`:                         "true",
	`arrived == "2026-02-27 05:40:00"`:           "true",
	`date > "2026-02-28"`:                        "error: has a text on both sides",
	`date(date) > "2026-02-28"`:                  "true",
	`days_between(arrived, departed)`:            "3",
	`minutes_between(arrived, departed)`:         "3980",
	`add_days(departed, 30)`:                     "2026-04-01",
	`weekday(departed)`:                          "1",
	`year(arrived) * 100 + month(arrived)`:       "202602",
	`date_only(arrived)`:                         "2026-02-27",
	`part("N1 / S1", "/", 2)`:                    "S1",
	`part("N1", "/", 2)`:                         "",
	`join("-", berth, agent, tons)`:              "N1-1205.75",
	`start(berth, 1) == "N"`:                     "true",
	`end("Ärmel", 4)`:                            "rmel",
	`upper(trim("  é "))`:                        "É",
	`digits("(0555) 01-17")`:                     "05550117",
	`length(berth)`:                              "2",
	`round(2.675, 2)`:                            "2.68",
	`round(-2.5, 0)`:                             "-3",
	`abs(-3.20)`:                                 "3.2",
	`greatest(tons, 2000, gt)`:                   "2000",
	`least(arrived, departed)`:                   "2026-02-27 05:40:00",
	`replace(berth, "N", "S")`:                   "S1",
	`is_blank(agent) and not is_blank(berth)`:    "true",
	`col("Reg. No.")`:                            "PM-0101",
	`has(text(tons), "05") and ends(berth, "1")`: "true",
	`blank`: "",

	`reg_no`:                      "error: several columns: Reg. No., Reg No",
	`tonns * 2`:                   `error: (at character 1 of tonns * 2); did you mean "tons"?`,
	`agent + berth`:               "error: it is not clear whether",
	`tons + true`:                 "error: can't combine a number and a condition",
	`berth < "N2"`:                "error: has a text on both sides",
	`tons == arrived`:             "error: can't combine a number and a date or time",
	`upper(tons)`:                 "error: takes a text, not a number",
	`rond(1, 2)`:                  `error: did you mean "round"`,
	`round(1)`:                    "error: round() takes 2 arguments, not 1",
	`1e5`:                         "error: has letters in it",
	`tons *`:                      "error: is not a formula",
	`[1, 2]`:                      "error: no such expression",
	`tons startswith "N"`:         `error: there is no operator startswith (at character 6 of tons startswith "N"); use starts(x, "N")`,
	`tons contains "N"`:           `error: use has(x, "-")`,
	`left(berth, 2)`:              `error: there is no function "left" (at character 1 of left(berth, 2)); use start(x, 3)`,
	`tons = 2`:                    "error: there is no operator =",
	`tons <> 2`:                   "error: there is no operator <>",
	`tons && gt`:                  "error: there is no operator && (at character 6 of tons && gt); write and",
	`!true`:                       "error: there is no operator !",
	`crew ?? 0`:                   "error: use coalesce(a, b)",
	`berth == "N`:                 "error: the text that begins here has no closing quote (at character 10",
	`(tons * 2`:                   "error: this bracket is never closed (at character 1",
	`tons * 2)`:                   "error: this ) has no opening bracket (at character 9",
	`tons 2`:                      "error: an operator or a comma is missing before 2",
	`fits(berth, "\d")`:           "error: put the text in backquotes",
	`agent == ""`:                 "error: use is_blank(x)",
	`nil`:                         "error: write blank",
	`tons * * 2`:                  "error: it can't be understood from here on",
	`reg.no`:                      `error: col("Reg. No.")`,
	`€ 5`:                         "error: at character 1",
	`map(tons, # * 2)`:            "error: there is no operator #",
	`-5 | abs()`:                  "error: there is no operator |",
	`let x = 1; x`:                "error:",
	`tons % 2`:                    "error: there is no operator %",
	`1..3`:                        "error:",
	`tons ? 1 : 2`:                "error: use choose(condition, one, other)",
	`choose(tons, 1, 2)`:          "error: not a condition",
	`choose(berth, 1, 2)`:         "error: not a condition",
	`choose(true, 1)`:             "error: takes 3 arguments, not 2",
	`choose(true, 1, "one")`:      "error: one outcome is a number",
	`fits(berth, berth)`:          "error: the pattern of fits() must be in quotes",
	`fits(berth, "(")`:            "error: missing closing",
	`now()`:                       `error: there is no function "now"`,
	`$env`:                        "error:",
	`round`:                       "error: is a function",
	`tons / (gt - 388.6)`:         "refused: divides by zero",
	`draught * 2`:                 `refused: Draught "4,5 m" is not a number`,
	`berth == 5`:                  `refused: Berth "N1" has "N" in it`,
	`part(berth, "/", 0)`:         `refused: "0" is not a whole number of at least 1`,
	`add_days(arrived, 1e9)`:      "error: has letters",
	`add_days(arrived, 1/2)`:      "refused: not a whole number of days",
	`add_days(arrived, -9999999)`: "refused: out of range",
}

func TestAFormulaSaysWhatItUses(t *testing.T) {
	f, err := Compile(`choose(tons > 0, tons * dues_per_ton, coalesce(crew, gt))`, columns())
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1, 6, 7}, f.Uses())
	m := machine(t)
	m.Set(0, &Value{Kind: Number, Bad: true})
	_, err = m.Run(f)
	assert.True(t, errors.Is(err, ErrCell), "a cell that could not be read makes no value")
}

func FuzzFormula(f *testing.F) {
	for _, seed := range []string{`tons * 2`, `choose(a, b, c)`, `join("", berth, "x") == blank`, `1/0`, `not true`,
		`round(1.005, 2)`, `x in [1]`, `rank_same(berth, tons) + 1`, `upper(file_name())`} {
		f.Add(seed)
	}
	all := columns()
	f.Fuzz(func(t *testing.T, text string) {
		formula, err := Compile(text, all)
		if err != nil {
			var advised fault.InvalidValue
			require.ErrorAs(t, err, &advised, "%q", text)
			return
		}
		m := machine(t)
		holdTogether(t, formula, [][]*Value{m.cells})
		v, err := m.Run(formula)
		if err == nil {
			assert.NotNil(t, v)
			return
		}
		var refused NoResult
		require.ErrorAs(t, err, &refused, "%q", text)
		assert.NotContains(t, err.Error(), "interface conversion", "%q", text)
	})
}

func TestPlainNames(t *testing.T) {
	for name, want := range map[string]string{"Reg. No.": "reg_no", "Dues per ton": "dues_per_ton", "GT": "gt",
		" Länge (m) ": "länge_m", "2026 dues": "_2026_dues", "---": "", "call_id": "call_id"} {
		assert.Equal(t, want, PlainName(name), name)
	}
}

// TestFormulasThatAreLongAreRefusedOrComputed: nothing in a formula takes more than its own length.
func TestFormulasThatAreLongAreRefusedOrComputed(t *testing.T) {
	m := machine(t)
	for _, text := range []string{strings.Repeat("(", 5000) + "1" + strings.Repeat(")", 5000),
		"1" + strings.Repeat(" + 1", 3000), "tons" + strings.Repeat(" * 99999999999999999", 500),
		strings.Repeat("-", 3000) + "1"} {
		f, err := Compile(text, columns())
		if err != nil {
			var advised fault.InvalidValue
			assert.ErrorAs(t, err, &advised)
			continue
		}
		v, err := m.Run(f)
		var refused NoResult
		assert.True(t, err == nil && !v.Blank || errors.As(err, &refused))
	}
}

// TestEveryFunctionIsDocumented: the table in the docs and the program name the same.
func TestEveryFunctionIsDocumented(t *testing.T) {
	docs, err := os.ReadFile("../../../docs/cleaning.md")
	require.NoError(t, err)
	for _, name := range functionNames {
		assert.True(t, strings.Contains(string(docs), "`"+name+"("), name)
	}
	for operator := range operators {
		if operator = strings.TrimPrefix(operator, "unary "); known(operator) {
			assert.True(t, strings.Contains(string(docs), operator), operator)
		}
	}
}

// FuzzRounded holds the rounding of digits against that of decimals.
func FuzzRounded(f *testing.F) {
	for _, text := range []string{"12.345", "-0.4", "99.995", "0.05", "007.5", "123456789012345.678", "-9.5"} {
		f.Add(text, 2)
		f.Add(text, 0)
	}
	f.Fuzz(func(t *testing.T, text string, places int) {
		if text == "" || places < 0 || places > 20 {
			return
		}
		d, err := value.ScanNumber([]byte(text))
		if err != nil {
			return
		}
		fast, done := d.Rounded(places, nil)
		if !done {
			return
		}
		var exact Value
		exact.SetNumber(d)
		var rounded apd.Decimal
		require.NoError(t, Round(&rounded, &exact.Number, places))
		exact.Number = rounded
		slow, err := exact.Digits(nil)
		require.NoError(t, err)
		assert.Equal(t, string(slow.Append(nil)), string(fast.Append(nil)))
		assert.Equal(t, len(slow.Fraction), len(fast.Fraction))
	})
}
