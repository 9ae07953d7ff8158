package setaside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
)

// located is a reason about the column Dues of the input calls.
func located(c reason.Cause, cell string, of Column) ColumnReason {
	of.Name = "Dues"
	return ColumnReason{Reason: reason.Reason{Place: reason.Place{File: "calls.csv", Line: 2}, Column: "Dues",
		Content: cell, Cause: c}, Of: of}
}

func TestGroupsSayWhatWouldSolveThem(t *testing.T) {
	flag := &schema.Table{Name: "flag", Columns: []schema.Column{{Name: "id", Identity: true},
		{Name: "name", Required: true}, {Name: "code"}}}
	call := &schema.Table{Name: "call", Columns: []schema.Column{{Name: "flag_id"}, {Name: "dues", Required: true}}}
	step := &plan.Step{Name: "call", Table: call, Block: &ladlefile.Block{Name: ladlefile.Text{Value: "call"}}}
	lookup := Column{Step: step, Target: "flag_id", Lookup: &plan.Lookup{Table: flag, Yields: &flag.Columns[0],
		By: []plan.Assignment{{Column: &flag.Columns[1]}}}}
	narrow := lookup
	narrow.Lookup = &plan.Lookup{Table: &schema.Table{Name: "flag",
		Columns: append(flag.Columns[:2:2], schema.Column{Name: "code", Required: true})}, Yields: &flag.Columns[0],
		By: lookup.Lookup.By}
	narrow.Target = "dues"
	notFound, looksLike := reason.Why{Kind: reason.NotFound, Table: "flag", Columns: "name"},
		reason.Why{Kind: reason.LooksLike, Table: "flag", Columns: "name"}
	near := func(w reason.Why, name string, isNew bool) reason.Cause {
		return reason.Cause{Why: w, Detail: reason.Detail{Near: name, IsNew: isNew}}
	}
	number, date := reason.New(reason.NotPlainNumber), reason.New(reason.NotDate)
	for _, c := range []struct {
		why   reason.Cause
		of    Column
		cells []string
		says  []string // the settings, then the number that the first covers, then the note
	}{
		{number, Column{}, []string{"1.234,56", "7,5", "12.000"}, []string{"Dues: {number: '1.234,50'}"}},
		{number, Column{}, []string{"4,060.00", "n/a", "1,200"}, []string{"Dues: {number: '1,234.50'}", "2"}},
		{reason.New(reason.NotNumber), Column{}, []string{"n/a", "-"},
			[]string{"Dues: {blank_is: [n/a, '-']}", "if these cells mean blank"}},
		{number, Column{}, []string{" 12", "7 "}, []string{"Dues: {clean: trim}"}},
		{reason.Because(reason.Why{Kind: reason.NotNumberLike, List: "1234.5"}), Column{}, []string{"€ 12", "€ 13"},
			[]string{"Dues: {number: [1234.5, €1234]}"}},
		{date, Column{}, []string{"14/03/2026", "03/04/2026"}, []string{"Dues: {date: [dd/MM/yyyy, yyyy-MM-dd]}"}},
		{date, Column{}, []string{"03/04/2026"}, []string{"Dues: {date: dd/MM/yyyy}", "Dues: {date: MM/dd/yyyy}",
			"no line shows which is right"}},
		{reason.New(reason.NotDateTime), Column{}, []string{"14/03/2026 03:10"},
			[]string{"Dues: {date: ['dd/MM/yyyy HH:mm', 'yyyy-MM-dd HH:mm']}"}},
		{reason.New(reason.CellError), Column{}, []string{"#N/A", "#REF!"}, []string{"Dues: {blank_is: ['#N/A', '#REF!']}",
			"if these cells mean blank"}},
		{date, Column{}, []string{"soon"}, []string{"Dues: {blank_is: [soon]}", "if these cells mean blank"}},
		{reason.Because(reason.Why{Kind: reason.NotDateLike, List: reason.List("dd/MM/yyyy")}), Column{},
			[]string{"2026-03-14"}, []string{"Dues: {date: [dd/MM/yyyy, yyyy-MM-dd]}"}},
		{reason.Because(reason.Why{Kind: reason.TooLong, Limit: 40, Type: "characters"}), Column{}, []string{"x"},
			[]string{"Dues: {shorten_to: 40}", "this cuts the texts; the longest has 1 character"}},
		{reason.Because(reason.Why{Kind: reason.TooManyDecimals, Limit: 2}), Column{}, []string{"1.234"},
			[]string{"Dues: {round: 2}", "this rounds the numbers"}},
		{reason.New(reason.NotYesNo), Column{}, []string{"Y", "N"},
			[]string{"set yes_is: and no_is: to the words that mean yes and no"}},
		{near(notFound, "Norway", false), lookup, []string{"Norwey"}, []string{"Dues: {recode: {Norwey: Norway}}"}},
		{near(notFound, `Rope "heavy"`, false), lookup, []string{"Rope heavy"},
			[]string{`Dues: {recode: {Rope heavy: 'Rope "heavy"'}}`}},
		{near(looksLike, "Norway", false), lookup, []string{"Norwey"},
			[]string{"Dues: {recode: {Norwey: Norway}}", "similar_names: accept"}},
		{near(looksLike, "Norwai", true), lookup, []string{"Norwey"}, []string{"similar_names: accept"}},
		{near(notFound, "S1", false), lookup, []string{"S1 "}, []string{"Dues: {clean: trim}"}},
		{reason.Because(notFound), lookup, []string{"Merrow"}, []string{"not_found: add", "not_found: leave_blank"}},
		{reason.Because(notFound), narrow, []string{"Merrow"},
			[]string{"to add new names, give flag a block of its own: its rows need code too"}},
		{reason.Because(reason.Why{Kind: reason.BlankRequired}), Column{}, []string{""},
			[]string{"give the column a value for blanks with default: or if_blank:"}},
		{reason.New(reason.LeadingZero), Column{}, []string{"007"},
			[]string{"Dues: {number: 0001}", "if the zeros have no meaning"}},
		{reason.New(reason.ZoneMissing), Column{}, []string{"x"},
			[]string{"set time_zone: in the input, for example time_zone: Europe/Lisbon"}},
		{reason.New(reason.NotUUID), Column{}, []string{"x"}, nil},
	} {
		var groups Groups
		for _, cell := range c.cells {
			groups.Add("calls", located(c.why, cell, c.of))
		}
		list := groups.List()
		require.Len(t, list, 1)
		assert.EqualValues(t, len(c.cells), list[0].Count)
		var says []string
		if a := list[0].Advice; a != nil {
			for _, s := range a.Settings {
				says = append(says, s.YAML())
			}
			if a.Covers > 0 {
				says = append(says, fmt.Sprint(a.Covers))
			}
			if a.Says != "" {
				says = append(says, a.Says)
			}
		}
		assert.Equal(t, c.says, says, c.why.Words())
	}
}

// TestAdviceCanBePastedAsItStands: into the rule that a column has, or under the place that it names.
func TestAdviceCanBePastedAsItStands(t *testing.T) {
	const start, end = "ladle: 1\ninputs:\n  calls:\n    file: a\n    columns:\n",
		"tables: {t: {from: calls, columns: {a: b}}}\n"
	for rule, c := range map[string]struct {
		cause reason.Cause
		cell  string
		where string
		whole string // the ladle file with the advice in its place
	}{
		"": {reason.New(reason.NotNumber), "n/a", "inputs: calls: columns:",
			"      Dues: {blank_is: [n/a]}\n"},
		"      Dues: {clean: trim}\n": {reason.New(reason.NotNumber), "n/a", "inputs: calls: columns: Dues:",
			"      Dues: {clean: trim, blank_is: [n/a]}\n"},
		"      Dues: {blank_is: [x]}\n": {reason.New(reason.NotNumber), "n/a",
			"inputs: calls: columns: Dues: blank_is:", "      Dues: {blank_is: [x, n/a]}\n"},
		"      Dues: {recode: {a: b}}\n": {reason.Cause{Why: reason.Why{Kind: reason.NotFound},
			Detail: reason.Detail{Near: "It's"}}, "it: s", "inputs: calls: columns: Dues: recode:",
			"      Dues: {recode: {a: b, 'it: s': 'It''s'}}\n"},
	} {
		f, err := ladlefile.Decode("f", []byte(start+rule+"      Other: {clean: trim}\n"+end))
		require.NoError(t, err)
		groups := Groups{File: f}
		groups.Add("calls", located(c.cause, c.cell, Column{}))
		s := groups.List()[0].Advice.Settings[0]
		assert.Equal(t, c.where, s.Where())
		assert.Contains(t, c.whole, s.YAML())
		_, err = ladlefile.Decode("f", []byte(start+c.whole+end))
		assert.NoError(t, err, c.whole)
	}
}

func TestGroupsAreFewWhateverThereIs(t *testing.T) {
	var groups Groups
	for i := range 5000 {
		line := located(reason.Cause{Why: reason.Why{Kind: reason.Contradiction, Columns: "reg_no", List: "GT"},
			Detail: reason.Detail{Other: reason.Place{Line: int64(i)}}}, "", Column{})
		line.Column, line.Of.Step = "", &plan.Step{Block: &ladlefile.Block{}}
		groups.Add("calls", line)
		groups.Add("calls", located(reason.Cause{Why: reason.Why{Kind: reason.NotFound, Table: "berth",
			Columns: "code"}, Detail: reason.Detail{Near: fmt.Sprint(i)}}, fmt.Sprint(i), Column{}))
		other := located(reason.New(reason.NotNumber), "x", Column{})
		other.Column = fmt.Sprint("c", i)
		groups.Add("calls", other)
	}
	list := groups.List()
	assert.Len(t, list, mostGroups+1)
	assert.Equal(t, []string{"another line has the same key (reg_no), but a different GT", "is not in berth.code",
		"for other reasons"}, []string{list[0].Says, list[1].Says, list[2].Says})
	total := int64(0)
	for _, g := range list {
		total += g.Count
		assert.LessOrEqual(t, len(g.First), firstOnes)
	}
	assert.EqualValues(t, 15000, total)
}

// calls opens a table of three files with a line each that is called by its place.
func calls(t *testing.T, contents ...string) source.Table {
	dir := t.TempDir()
	for i, c := range contents {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("calls-%d.csv", i+1)), []byte(c), 0o600))
	}
	table, err := source.Open([]string{filepath.Join(dir, "calls-*.csv")}, source.ReadOptions{})
	require.NoError(t, err)
	t.Cleanup(func() { table.Close() })
	return table
}

// written writes a set-aside file of a table with the given lines behind its head.
func written(t *testing.T, table source.Table, lines string) string {
	path := filepath.Join(t.TempDir(), "calls.set-aside.csv")
	sum, err := table.Sum()
	require.NoError(t, err)
	d := source.DialectOf(table)
	moved, err := placeFile(path, title(2, FileNames(table), sum, "NOT LOADED"), d, func(out io.Writer) error {
		_, err := io.WriteString(out, head(d, table.Header())+lines)
		return err
	})
	require.NoError(t, err)
	require.Empty(t, moved)
	return path
}

func TestCorrectedLinesTakeThePlaceOfTheirOrigin(t *testing.T) {
	table := calls(t, "Reg,Tons\nR1,a\nR2,2\n", "Reg,Tons\nR3,b\nR4\n")
	path := written(t, table, "calls-2.csv:2,\"Tons \"\"b\"\" is not a number\",R3,3\ncalls-1.csv:2,why,R1,\"1,5\"\n"+
		"calls-2.csv:3,the line has only 1 of 2 fields,R4\n")
	sum, err := table.Sum()
	require.NoError(t, err)
	kept, err := ReadKept(filepath.Join(t.TempDir(), "calls.corrected.csv"), table)
	require.NoError(t, err)
	again, err := kept.TakeIn(context.Background(), table, path, sum)
	require.NoError(t, err)
	require.NoError(t, kept.Write(table))
	kept, err = ReadKept(kept.Path, table)
	require.NoError(t, err)
	corrected := kept.In(again)
	assert.Contains(t, kept.Said(false), "calls.corrected.csv: 2 corrected lines are not used, since the input no longer "+
		"has what was corrected there", "nothing was read yet")
	var all []string
	work := func(c *source.Chunk) (lines []string) {
		var r source.Record
		for c.Next(&r) {
			why := ""
			if c := source.Misshapen(&r, 2); c != nil {
				why = c.Words()
			}
			lines = append(lines, fmt.Sprintf("%s %q %s", spotOf(&r).in(corrected), r.Fields, why))
		}
		return lines
	}
	require.NoError(t, source.Each(context.Background(), corrected, work,
		func(_ *source.Chunk, lines []string) error { all = append(all, lines...); return nil }))
	assert.Equal(t, []string{`calls-1.csv:2 ["R1" "1,5"] `, `calls-1.csv:3 ["R2" "2"] `, `calls-2.csv:2 ["R3" "3"] `,
		`calls-2.csv:3 ["R4"] the line has only 1 of 2 fields`}, all)
	assert.Equal(t, []string{"calls.corrected.csv: 2 corrected lines are used"}, kept.Said(false),
		"what was left as it was is not kept")
	both, err := corrected.Sum()
	require.NoError(t, err)
	assert.Equal(t, sum, both, "it is still the same input")
}

// takenIn takes the lines of a file in, and returns what is wrong with it.
func takenIn(t *testing.T, table source.Table, path, sum string) error {
	t.Helper()
	kept, err := ReadKept(filepath.Join(t.TempDir(), "calls.corrected.csv"), table)
	require.NoError(t, err)
	_, err = kept.TakeIn(context.Background(), table, path, sum)
	return err
}

func TestCorrectedLinesThatFitNothingAreRefused(t *testing.T) {
	table := calls(t, "Reg,Tons\nR1,a\n", "Reg,Tons\nR3,b\n")
	sum, err := table.Sum()
	require.NoError(t, err)
	for lines, why := range map[string]string{
		"calls-1.csv:2,x,R1,1\ncalls-1.csv:2,x,R1,2\n": "it has line 2 twice",
		"calls-3.csv:2,x,R1,1\n":                       `"calls-3.csv:2" is not a line`,
		"calls-1.csv:0,x,R1,1\n":                       "is not a line",
		",x,R1,1\n":                                    "is not a line", "calls-1.csv:two,x,R1,1\n": "is not a line",
		"calls-1.csv:2\n":        "the line has only 1 of 4 fields",
		"calls-1.csv:9,x,R1,1\n": "the input has no such line",
		"drop,x,R9,1\n":          "it is not clear which line is to be dropped",
		"drop here,x,R9,1\n":     "is not a line",
	} {
		err := takenIn(t, calls(t, "Reg,Tons\nR1,a\n", "Reg,Tons\nR3,b\n"), written(t, table, lines), sum)
		assert.ErrorContains(t, err, why, lines)
	}
	err = takenIn(t, table, written(t, table, ""), strings.Repeat("0", 64))
	assert.ErrorContains(t, err, "calls-1.csv, calls-2.csv has changed since these lines were set aside")
	err = takenIn(t, table, filepath.Join(t.TempDir(), "none.csv"), sum)
	assert.ErrorContains(t, err, "none.csv")
}

func TestASetAsideFileIsWholeOrAbsent(t *testing.T) {
	table := calls(t, "Reg,Tons\nR1,a\n")
	path := written(t, table, "2,x,R1,a\n")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	failed := errors.New("the disk is full")
	_, err = placeFile(path, "title", source.DialectOf(table), func(out io.Writer) error {
		_, err := io.WriteString(out, "half a li")
		return errors.Join(err, failed)
	})
	require.ErrorIs(t, err, failed)
	again, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(whole), string(again))
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing half is left beside it")
	require.NoError(t, os.WriteFile(path, append(whole, "3,x,R2,b\n"...), 0o600))
	moved, err := placeFile(path, "title", source.DialectOf(table), func(io.Writer) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSuffix(path, ".csv")+".edited-1.csv", moved)
}
