package clean_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/formula"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// folder cleans the cells of a file by what a ladle file says of an input.
type folder struct {
	*testing.T
	dir string
}

func (k folder) write(name, content string) {
	require.NoError(k, os.WriteFile(filepath.Join(k.dir, name), []byte(content), 0o600))
}

// input opens in.csv and makes the recipe of an input with the given keys.
func (k folder) input(says string) (source.Table, *clean.Recipe, error) {
	path := filepath.Join(k.dir, "f.ladle.yaml")
	f, err := ladlefile.Decode(path, []byte("ladle: 1\ninputs:\n  in:\n    file: in.csv\n"+says+
		"tables: {t: {from: in, columns: {a: b}}}\n"))
	if err != nil {
		return nil, nil, err
	}
	t, err := source.Open(f.Inputs[0].Paths, f.Inputs[0].Asked)
	require.NoError(k, err)
	k.Cleanup(func() { t.Close() })
	recipe, err := plan.Recipe(path, f.Inputs[0], t.Header())
	return t, recipe, err
}

// recipeOf makes the recipe of an input with the given keys for files under a header.
func recipeOf(says string, h source.Header) (*clean.Recipe, error) {
	f, err := ladlefile.Decode("f.ladle.yaml", []byte("ladle: 1\ninputs:\n  in:\n    file: in.csv\n"+says+
		"tables: {t: {from: in, columns: {a: b}}}\n"))
	if err != nil || len(f.Inputs) != 1 {
		return nil, errors.Join(err, errors.New("no input"))
	}
	return plan.Recipe("f.ladle.yaml", f.Inputs[0], h)
}

// types are those that cells of a form are read as here.
var types = map[formula.Kind]value.Type{formula.Text: {}, formula.Number: {Kind: value.Decimal}, formula.Moment: {},
	formula.Truth: {Kind: value.Bool}}

// cleaned returns the cleaned rows, cells parted by |, and the problems of each.
func (k folder) cleaned(csv, says string, more ...clean.Column) []string {
	k.Helper()
	rows, recipe, columns := k.rows(csv, says, more...)
	defer rows.Close()
	var out []string
	var b clean.Batch
	all := make([]int, len(columns))
	for c := range all {
		all[c] = c
	}
	for i := range rows.Batches() {
		require.NoError(k, rows.Read(i, all, &b))
		for row := range b.Len() {
			out = append(out, k.row(&b, len(columns), row, recipe.Only() >= 0))
		}
	}
	for r := rows.Problems.Reader(); ; {
		p, err := r.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(k, err)
		name := "row"
		if p.Column >= 0 {
			name = recipe.Name(p.Column)
		}
		if why := fmt.Sprintf(" <%s %q %s>", name, p.Cell, p.Why.Words()); !strings.Contains(out[p.Row], why) {
			out[p.Row] += why
		}
	}
}

// rows cleans the columns of a file, and the condition of the input.
func (k folder) rows(csv, says string, columns ...clean.Column) (*clean.Rows, *clean.Recipe, []clean.Column) {
	k.Helper()
	k.write("in.csv", csv)
	t, recipe, err := k.input(says)
	require.NoError(k, err)
	if columns == nil {
		for i := range recipe.Names() {
			columns = append(columns, clean.Column{Of: i, Type: types[recipe.Form(i)]})
		}
	}
	if recipe.Only() >= 0 {
		columns = append(columns, clean.Column{Of: recipe.Only(), Type: value.Type{Kind: value.Bool}})
	}
	recipe.Tell(clean.Provenance{Files: t.Files(), Day: time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)})
	rows, err := clean.Read(context.Background(), t, recipe, columns, k.dir, nil)
	require.NoError(k, err)
	return rows, recipe, columns
}

// columns are those of a recipe for files with a header, read as the types that some are given.
func (k folder) columns(header, says string, typed map[string]value.Type) (all []clean.Column) {
	k.Helper()
	k.write("in.csv", header)
	_, recipe, err := k.input(says)
	require.NoError(k, err)
	for i, name := range recipe.Names() {
		typ, said := typed[name]
		if !said {
			typ = types[recipe.Form(i)]
		}
		all = append(all, clean.Column{Of: i, Type: typ})
	}
	return all
}

func (k folder) row(b *clean.Batch, width, row int, only bool) string {
	var cells []string
	columns := make([]*value.Column, width)
	for c := range columns {
		columns[c] = b.Cell(c)
	}
	if only {
		last := columns[len(columns)-1]
		if last.States[row] != value.Bad && last.Nums[row] == 0 {
			return "left out"
		}
		columns = columns[:len(columns)-1]
	}
	for i := range columns {
		cells = append(cells, map[value.State]string{value.Null: "-", value.Bad: "!",
			value.Given: columns[i].Text(row)}[columns[i].States[row]])
	}
	return strings.Join(cells, "|")
}

func TestCleanings(t *testing.T) {
	for _, c := range []struct{ rule, cell, want string }{
		{"{clean: trim}", "\u00a0 N1\u200b ", "N1"},
		{"{clean: [squeeze]}", " North \u00a0  Quay\u200b 1 ", "North Quay 1"},
		{"{clean: [trim, upper]}", " grêve ", "GRÊVE"},
		{"{clean: lower}", "ÅRHUS N1", "århus n1"},
		{"{clean: title}", "GREY HERON o'brien d’or 2nd", "Grey Heron O'brien D’or 2nd"},
		{"{clean: digits}", "(0555) 01-17 ext. ٣", "0555" + "0117"},
		{"{clean: letters}", "PM-0101 é", "PMé"},
		{`{clean: [{without: "()-"}]}`, "(0555)-01", "055501"},
		{`{clean: {add_prefix: PM-}}`, "0101", "PM-0101"},
		{`{clean: {add_prefix: PM-}}`, "PM-0101", "PM-0101"},
		{`{clean: {add_suffix: " t"}}`, "5", "5 t"},
		{`{clean: [{drop_prefix: "No. "}, {drop_suffix: "."}]}`, "No. 17.", "17"},
		{`{clean: {replace: {"&": and, "  ": " "}}}`, "Quill & Daughters", "Quill and Daughters"},
		{`{clean: {regex: '^(\w+), (?P<first>\w+)$', becomes: '${first} $1$$'}}`, "Heron, Grey", "Grey Heron$"},
		{`{clean: {regex: '\d', becomes: ''}}`, "a1b2", "ab"},
		{"{clean: {pad: 4}}", "17", "0017"},
		{"{clean: {pad: 4, using: x}}", "12345", "12345"},
		{`{clean: {part: 2, at: "/"}}`, "N1 / Salt Wharf", "Salt Wharf"},
		{`{clean: {part: -1, at: "/"}}`, "a/b/c", "c"},
		{`{clean: {part: 3, at: "/"}}`, "a/b", "-"},
		{"{clean: nfc}", "e\u0301", "é"},
		{"{clean: ascii}", "Ærø – “Łódź” ½", `AEro - "Lodz" ½`},
		{"{blank_is: [n/a, '-', '?']}", "N/A", "-"},
		{"{blank_is: PM, clean: letters}", "PM-12", "-"},
		{"{recode: {U.K.: United Kingdom, none:}}", "U.K.", "United Kingdom"},
		{"{recode: {U.K.: United Kingdom, none:}}", "none", "-"},
		{"{recode: {UK: United Kingdom}}", "Norway", "Norway"},
		{"{recode: {UK: United Kingdom}, recode_others: blank}", "Norway", "-"},
		{"{recode: {UK: United Kingdom}, recode_others: set_aside}", "Norway",
			`! <Cell "Norway" is not one of the values in its recode:>`},
		{"{recode: {'one': '1'}, number: '1234'}", "one", "1"},
		{"{number: '€1.234,56'}", "€ -1.234,5", "-1234.5"},
		{"{number: '1.234,56'}", "12.5", `! <Cell "12.5" is not a number like 1.234,56>`},
		{"{clean: trim, number: '1234 t', round: 1}", " 12.25 t", "! <Cell \" 12.25 t\" is not a number like 1234 t>"},
		{"{number: '1234.5', round: 1}", "12.25", "12.3"},
		{"{number: '1234.5', round: 1}", "-12.25", "-12.3"},
		{"{number: '1234.5', round: 0}", "99.5", "100"},
		{"{round: 2}", "12345678901234567890.125", "12345678901234567890.13"},
		{"{round: 2}", "1.2.3", `! <Cell "1.2.3" has separators, so it is not a plain number like 1234.5>`},
		{"{date: [dd/MM/yyyy, yyyy-MM-dd]}", "14/03/2026", "2026-03-14"},
		{"{date: [dd/MM/yyyy, yyyy-MM-dd]}", "2026-03-14", "2026-03-14"},
		{"{date: [dd/MM/yyyy, yyyy-MM-dd]}", "31/02/2026", `! <Cell "31/02/2026" is a day or time that doesn't exist>`},
		{"{date: d.M.yy, two_digit_years_from: 1940}", "1.2.41", "1941-02-01"},
		{"{yes_is: [y, ja], no_is: n}", "JA", "true"},
		{"{yes_is: [y, ja], no_is: n}", "maybe", `! <Cell "maybe" is neither yes (y, ja) nor no (n)>`},
		{"{shorten_to: 4}", "Ärmelkanal", "Ärme"},
		{"{default: none}", "", "none"},
		{"{number: '1.234,5', default: '1.000,5'}", "", "1000.5"},
		{"{date: dd/MM/yyyy, default: 2026-01-01}", "", "2026-01-01"},
		{"{default: N1}", "", "N1"},
		{"{default: N1}", "N2", "N2"},
		{"{if_blank: {formula: '\"call \" + other'}}", "x", "error: + has a text on both sides"},
		{"{if_blank: {formula: 'join(\" \", \"call\", other)'}}", "", "call 7"},
		{"{number: '1234', if_blank: {formula: other}}", "", "7"},
		{"{number: '1234', if_blank: {formula: 'other * 1.5'}, round: 0}", "", "11"},
		{"{number: '1234', if_blank: {formula: 'upper(other) == \"7\"'}}", "",
			"error: results in a condition, but Cell is a number"},
		{"{if_blank: {formula: 'other / (other - 7)'}}", "",
			`! <Cell "" can't be computed: the formula divides by zero>`},
		{"{if_blank: {formula: 'othr * 2'}}", "", `error: did you mean "other"?`},
		{"{if_blank: {formula: 'cell * 2'}}", "", "error: circular reference between these columns: Cell needs Cell"},
		{"{clean: uper}", "", `error: did you mean "upper"?`},
		{"{clean: pad}", "", "error: write it with its argument: {pad: ...}"},
		{"{clean: {pad: 100000000}}", "", "error: write a whole number from 1 to 10000"},
		{"{clean: {pad: 2, at: x}}", "", "error: this is not one cleaning"},
		{"{clean: {regex: '(', becomes: x}}", "", "error: missing closing"},
		{"{clean: {regex: 'a', becomes: $1}}", "", "error: a group that the pattern doesn't have"},
		{"{number: 1.234}", "", "error: thousands or decimals"},
		{"{number: '1234', date: yyyy}", "", "error: a date needs y, M and d"},
		{"{number: '1234', yes_is: x}", "", "error: keep one of them"},
		{"{date: dd/MM/yyyy, round: 1}", "", "error: round: is for numbers"},
		{"{number: '12', default: abc}", "", `error: "abc" is not a number`},
		{"{yes_is: x, no_is: X}", "", "error: means both yes and no"},
		{"{time_zone: Merrow}", "", "error: IANA"},
		{"{recode_others: keep}", "", "error: needs recode:"},
		{"{recode_file: no.csv}", "", "error: no such file"},
		{"{if_blank: {as_in_lines_with_same: a, formula: b}}", "", "error: needs above, formula: or"},
		{"{split: {at: x, columns: [A]}}", "", "error: split: needs at: and columns:"},
	} {
		k := folder{t, t.TempDir()}
		k.write("in.csv", "")
		says := "    delimiter: tab\n    header: 1\n    columns: {Cell: " + c.rule + "}\n"
		csv := "Cell\tOther\n" + c.cell + "\t7\n"
		if why, wrong := strings.CutPrefix(c.want, "error: "); wrong {
			k.write("in.csv", csv)
			_, _, err := k.input(says)
			assert.ErrorContains(t, err, why, c.rule)
			continue
		}
		want, problem, _ := strings.Cut(c.want, " <")
		if problem != "" {
			problem = " <" + problem
		}
		assert.Equal(t, []string{want + "|7" + problem}, k.cleaned(csv, says), "%s of %q", c.rule, c.cell)
	}
}

func TestCleaningTwiceIsCleaningOnce(t *testing.T) {
	for _, name := range clean.PlainNames() {
		do, _ := clean.Plain(name)
		for _, cell := range []string{" a  b ", "É\u0301a", "PM-0101", "o'BRIEN d’or", "\u200b", "ß", "½ ﬁ",
			"\xff\xfe a"} {
			once := string(do.Change(nil, []byte(cell)))
			assert.Equal(t, once, string(do.Change(nil, []byte(once))), "%s of %q", name, cell)
		}
	}
}

// TestCleaningsDoNotMixUpTheirMemory: a chain of cleanings writes to two buffers in turn, whatever the length of the
// cell.
func TestCleaningsDoNotMixUpTheirMemory(t *testing.T) {
	recipe, err := recipeOf("    columns: {Cell: {clean: [upper, lower, {replace: {a: bb}}, upper, {add_suffix: X}, "+
		"lower, {drop_suffix: x}, {replace: {bb: a}}]}}\n", source.Header{Names: []string{"Cell"}, Line: 1})
	require.NoError(t, err)
	cells := recipe.NewCells()
	for n := 1; n < 300; n++ {
		for _, cell := range []string{strings.Repeat("a", n), strings.Repeat("Ca", n), strings.Repeat("é", n),
			strings.Repeat("-", n)} {
			cells.Clean(&source.Record{Fields: [][]byte{[]byte(cell)}})
			text, _, _ := cells.Append(nil, 0)
			require.Equal(t, strings.ToLower(cell), string(text))
		}
	}
}

func TestColumnsAreMadeOfOthers(t *testing.T) {
	k := folder{t, t.TempDir()}
	k.write("spelt.csv", "UK,United Kingdom\nU.K.,United Kingdom\n")
	assert.Equal(t, []string{
		"N1/Salt|12|4|United Kingdom|ok|N1|Salt|3|N1-United Kingdom|36|true",
		"S1|1.5|-|Norway|ok|S1|-|-|S1-Norway|-|-",
		"left out",
		`N2/a/b|-|2|Norway|ok|!|!|-|!|4|- <Place "N2/a/b" has more than the 2 parts that it is split into>`,
		`N3|!|2|Norway|ok|N3|-|!|N3-Norway|!|! <Tons "x" is not a number like 1.234,5>`,
		`N4|3|0|Norway|ok|N4|-|!|N4-Norway|!|! <Per call "" can't be computed: the formula divides by zero>`,
	}, k.cleaned("Place;Tons;Calls;Flag;Status\nN1/Salt;12;4;UK;ok\nS1;1,5;;Norway;ok\nN1;x;y;;cancelled\n"+
		"N2/a/b;;2;Norway;ok\nN3;x;2;Norway;ok\nN4;3;0;Norway;ok\n", `
    columns:
      Place: {split: {at: /, columns: [Berth, Quay]}}
      Tons: {number: "1.234,5"}
      Calls: {number: "1234"}
      Flag: {recode_file: spelt.csv}
    new_columns:
      Per call: tons / calls
      Berth and flag: {join: [Berth, Flag], between: "-"}
      Tripled: {formula: "coalesce(tons, 2) * choose(is_blank(per_call), calls, 3)", round: 0}
      Large: per_call >= 3
    only: status not in ["cancelled", "test"]
`))
}

func TestBlanksAreWhatTheirSiblingsHave(t *testing.T) {
	k := folder{t, t.TempDir()}
	says := `
    columns:
      Quay: {clean: trim, if_blank: {as_in_lines_with_same: Berth}, default: unknown}
      District: {if_blank: {as_in_lines_with_same: [Quay, Side]}}
      Depth: {number: "1,5", if_blank: {as_in_lines_with_same: Berth}}
    only: side != "x"
`
	assert.Equal(t, []string{
		"N1|North|a|Harbour|9.5",
		`N1|North|a|Harbour|9.5`,
		"N1|North|b|-|9.5",
		`S1|!|a|!|4 <Quay "" is blank, and lines with the same Berth disagree: line 6 has "Salt", line 7 has "Fish">`,
		"S1|Salt|a|-|4", "S1|Fish|a|-|4",
		"Q9|unknown|a|-|-",
		"-|unknown|a|-|-",
		"left out",
	}, k.cleaned("Berth;Quay;Side;District;Depth\nN1; North ;a;Harbour;\nN1;;a;;9,50\nN1;;b;;9,5\nS1;;a;;4\n"+
		"S1;Salt;a;;\nS1;Fish;a;;\nQ9;;a;;\n;;a;;\nQ9;Odd;x;;\n", says))

	t.Run("over chunks, in the order of the file", func(t *testing.T) {
		k := folder{t, t.TempDir()}
		var csv strings.Builder
		csv.WriteString("Berth;Quay;Side;District;Depth\n")
		const lines = 60_000
		for i := range lines {
			quay := ""
			if i >= lines-500 {
				quay = fmt.Sprintf("Quay %d", i%500)
			}
			fmt.Fprintf(&csv, "B%d;%s;a;;1\n", i%500, quay)
		}
		rows := k.cleaned(csv.String(), says)
		require.Len(t, rows, lines)
		for i, row := range rows {
			require.Equal(t, fmt.Sprintf("B%d|Quay %d|a|-|1", i%500, i%500), row)
		}
	})
}

func TestTimesGetTheirZone(t *testing.T) {
	zoned, plain := value.Type{Kind: value.DateTime, Zoned: true}, value.Type{Kind: value.DateTime}
	k := folder{t, t.TempDir()}
	assert.Equal(t, []string{
		"2026-02-27 05:40:00|2026-07-01 04:40:00", // UTC; Lisbon is an hour ahead in summer
		`!|2026-07-01 04:40:00 <Arrived "29/03/2026 01:30" never occurs on the clocks of Europe/Lisbon, which are set forward then>`,
		`!|2026-07-01 04:40:00 <Arrived "25/10/2026 01:30" occurs twice on the clocks of Europe/Lisbon, which are set back then; add its offset>`,
		"2026-10-25 02:30:00|2026-07-01 05:40:00",
	}, k.cleaned("Arrived;Left\n27/02/2026 05:40;2026-07-01 05:40\n29/03/2026 01:30;2026-07-01 05:40\n"+
		"25/10/2026 01:30;2026-07-01 05:40\n25/10/2026 02:30;2026-07-01T05:40Z\n", `
    time_zone: Europe/Lisbon
    columns: {Arrived: {date: dd/MM/yyyy HH:mm}, Left: {}}
`, clean.Column{Of: 0, Type: zoned}, clean.Column{Of: 1, Type: zoned}))
	assert.Equal(t, []string{"2026-07-01 06:40:00"}, k.cleaned("Left\n2026-07-01T05:40Z\n",
		"    columns: {Left: {time_zone: Europe/Lisbon}}\n", clean.Column{Of: 0, Type: plain}))
}

func TestRulesThatDoNotFit(t *testing.T) {
	k := folder{t, t.TempDir()}
	k.write("in.csv", "Berth,Quay,Quay\nN1,a,b\n")
	for says, why := range map[string]string{
		"columns: {Brth: {clean: trim}}":                              `there is no column "Brth"; did you mean "Berth"?`,
		"columns: {Quay: {clean: trim}}":                              `there are several columns "Quay"; rename one of them, or write: column 2`,
		"columns: {Berth: {clean: trim}, berth: {clean: upper}}":      "berth has two rules",
		"columns: {Berth: {split: {at: x, columns: [A, Berth]}}}":     `there is already a column "Berth"`,
		"new_columns: {berth: '1'}":                                   `there is already a column "berth"`,
		"new_columns: {A: b, B: '1'}":                                 "there is no column \"b\"",
		"new_columns: {A: {join: [Berth, Dock]}}":                     `there is no column "Dock"`,
		"new_columns: {'': '1'}":                                      "a column needs a name",
		"new_columns: {A: {with: x}}":                                 "needs a formula or a join",
		"only: berth":                                                 "only: needs a condition, but this is a text",
		"only: berth == quay":                                         `is the name of several columns: Quay, Quay`,
		"columns: {Berth: {if_blank: {as_in_lines_with_same: Dock}}}": `there is no column "Dock"`,
		"columns: {Berth: {if_blank: {as_in_lines_with_same: column 2}}, column 2: {if_blank: " +
			"{as_in_lines_with_same: Berth}}}": "circular reference",
		"time_zone: Local": "there is no time zone",
	} {
		_, _, err := k.input("    header: 1\n    " + says + "\n")
		if assert.ErrorContains(t, err, why, says) {
			assert.Regexp(t, `f\.ladle\.yaml:6:\d+: `, err.Error(), says)
		}
	}
}
