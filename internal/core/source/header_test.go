package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
)

// rowsOfText makes rows of lines whose cells are parted by bars.
func rowsOfText(lines ...string) []row {
	var rows []row
	for i, line := range lines {
		rows = append(rows, row{line: int64(i + 1), cells: strings.Split(line, "|")})
	}
	return rows
}

func TestWhereTheHeaderIs(t *testing.T) {
	cases := []struct {
		name  string
		rows  []row
		first int // -1 for none
		last  int
	}{
		{"names over numbers", rowsOfText("Berth|Depth", "N1|7.5", "N2|8"), 0, 0},
		{"names over dates", rowsOfText("Vessel|Arrived", "Otter|2026-03-01"), 0, 0},
		{"values from the first row on", rowsOfText("N1|7.5", "N2|8", "S1|9"), -1, -1},
		{"text over text, none of it twice", rowsOfText("Berth|Quay", "N1|North", "N2|North"), 0, 0},
		{"text over text that comes again", rowsOfText("N1|North", "N2|North", "S1|South", "N1|West"), -1, -1},
		{"sentences are no names", rowsOfText(strings.Repeat("a long remark ", 6)+"|x", "b|y", "c|z"), -1, -1},
		{"the same name twice over text", rowsOfText("Name|Name", "a|b", "c|d"), -1, -1},
		{"only a header", rowsOfText("Berth|Depth"), 0, 0},
		{"only values", rowsOfText("7|8"), -1, -1},
		{"titles, and a header below", rowsOfText("Berths of the harbour|", "|", "Berth|Depth", "N1|7", "N2|8"), 2, 2},
		{"a title with two cells", rowsOfText("Register|as of March||", "Reg|Name|GT|Built", "A|b|1|2", "C|d|3|4"), 1,
			1},
		{"a header with a gap", rowsOfText("Reg||GT|Built", "A|x|1|2", "C|y|3|4"), 0, 0},
		{"groups above names that are not clear", rowsOfText("Vessel||Stay|", "Reg|Name|From|Name", "A|b|1|x",
			"C|d|3|y"), 0, 1},
		{"names below groups that leave some open", rowsOfText("Reg|Size||Stay", "|Length|Beam|Days", "A|80|12|1",
			"B|75|11|2"), 0, 1},
		{"one column of numbers", rowsOfText("Tons", "5", "7", "9"), 0, 0},
		{"one column without a name", rowsOfText("5", "7", "9"), -1, -1},
		{"years over numbers", rowsOfText("Berth|Quay|2024|Note", "N1|a|7|x", "N2|b|8|y"), -1, -1},
		{"one year among names of columns of values", rowsOfText("Berth|Tons|Calls|2024", "1|5|7|8", "2|6|8|9"), 0, 0},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got := judgeHeader(c.rows)
			assert.Equal(t, []int{c.first, c.last}, []int{got.first, got.last})
			assert.True(t, got.sure > 0 && got.sure < 1)
		})
	}
}

func TestNamesOfColumns(t *testing.T) {
	cases := []struct {
		name  string
		rows  []row
		width int
		want  string
	}{
		{"as they stand, with single blanks", rowsOfText("Reg.  No.|GT"), 2, "Reg. No.|GT"},
		{"by position where there are none", rowsOfText("a||c"), 4, "a|column 2|c|column 4"},
		{"none at all", nil, 2, "column 1|column 2"},
		{"groups hold for the columns to the right", rowsOfText("Vessel||Stay|", "Reg|Name|From|To"), 4,
			"Vessel Reg|Vessel Name|Stay From|Stay To"},
		{"a group doesn't hold where nothing stands below", rowsOfText("Reg|Size||", "|Length|Beam|"), 4,
			"Reg|Size Length|Size Beam|column 4"},
		{"a name that stands in both rows stands once", rowsOfText("Reg|Size", "Reg|Length"), 2, "Reg|Size Length"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want,
				strings.Join(names(c.rows, c.width, numbered), "|"))
		})
	}
	h := Header{Names: []string{"Reg. No.", "Name", "name ", "column 9"}}
	for name, want := range map[string][]int{"reg.  NO.": {0}, "Name": {1, 2}, "column 2": {1}, "Column 4": {3},
		"column 9": {3}, "column 5": nil, "column 0": nil, "GT": nil} {
		assert.Equal(t, want, h.Find(name), name)
	}
}

func TestDialects(t *testing.T) {
	cases := []struct {
		name, text string
		want       Dialect
		sure       bool
	}{
		{"commas", "a,b,c\n1,2,3\n4,5,6\n", Dialect{',', '"'}, true},
		{"commas in quotes beside semicolons", "a;b\n\"x, y\";1\n\"z, w\";2\n", Dialect{';', '"'}, true},
		{"decimal commas", "a;b\n1,5;2,5\n3,5;4,5\n", Dialect{';', '"'}, false},
		{"tabs beside commas in text", "name\tnote\nOtter, the\tsmall, old\nHeron, grey\tlarge, new\n",
			Dialect{'\t', '"'}, true},
		{"times have colons", "a,b\n12:30,13:45\n01:00,02:15\n", Dialect{',', '"'}, true},
		{"carets", "a^b\n1^2\n3^4\n", Dialect{'^', '"'}, true},
		{"units of ASCII", "a\x1fb\n1\x1f2\n", Dialect{'\x1f', '"'}, true},
		{"inches", "a,b\n5\",x\n7\",y\n9\",z\n", Dialect{',', 0}, true},
		{"one stray quote is a mistake", "a,b\n5\",x\n\"7\",y\n9,z\n", Dialect{',', '"'}, true},
		{"line ends in quotes", "a,b\n\"x\ny\",1\n\"z\nw\",2\n", Dialect{',', '"'}, true},
		{"apostrophes in words", "a,b\nrock'n'roll,it's\nso'n'so,that's\n", Dialect{',', '"'}, true},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, guess := judgeDialect([]byte(c.text), ReadOptions{})
			assert.Equal(t, c.want, got)
			assert.Equal(t, string(c.want.Delimiter), guess.Value)
			if c.sure {
				assert.Greater(t, guess.Confidence, 0.5)
			}
		})
	}
	_, guess := judgeDialect([]byte("Berth\nN1\nN2\n"), ReadOptions{})
	assert.Equal(t, "none", guess.Value)
	got, guess := judgeDialect([]byte("a;b\n"), ReadOptions{Delimiter: ",", Quote: "none"})
	assert.Equal(t, Dialect{',', 0}, got)
	assert.True(t, guess.Given)
}

func TestLinesOfDialects(t *testing.T) {
	for d, want := range map[Dialect]string{{',', '"'}: `a;b,"c,d","e""f","g` + "\n" + `h",`,
		{';', '\''}: `'a;b';c,d;e"f;'g` + "\n" + `h';`, {'\t', 0}: "a;b\tc,d\te\"f\tg h\t"} {
		assert.Equal(t, want, d.Line("a;b", "c,d", `e"f`, "g\nh", ""))
	}
}

// TestYearsCanBeNames: years and months in a row are names of columns, unless those below are too.
func TestYearsCanBeNames(t *testing.T) {
	for content, want := range map[string]string{
		"Berth,2023,2024,2025\nN1,10,20,30\nN2,40,50,60\n":          "1",
		"Berth,2026-01,2026-02,2026-03\nN1,10,20,30\n":              "1",
		"N1,2023,2024,2025\nN2,2024,2025,2026\nN3,2020,2021,2022\n": "none",
		"Berth,2025,2024,2023\nN1,10,20,30\n":                       "none",
	} {
		table, err := open(t, content, ReadOptions{})
		require.NoError(t, err)
		assert.Equal(t, want, table.Formats()[0].Header.Value, content)
	}
}

func TestWhatIsAsked(t *testing.T) {
	var a ReadOptions
	for _, good := range []func() error{func() error { return a.SetHeader("3-4") },
		func() error { return a.SetFooter("2") }, func() error { return a.SetEncoding("ISO-8859-2") },
		func() error { return a.SetDelimiter("tab") }, func() error { return a.SetQuote("'") },
		func() error { return a.SetSheet("Calls") }, func() error { return a.SetRange("B4:K9") },
		func() error { return a.SetEscape("\\") },
		func() error { return a.SetComment("#") }, func() error { return a.SetWidths("8, 20") },
		func() error { return a.SetShortLines("accept") }} {
		assert.NoError(t, good())
	}
	assert.Equal(t, ReadOptions{Header: HeaderLines{First: 3, Last: 4}, Footer: 2, Encoding: "ISO-8859-2",
		Delimiter: "\t", Quote: "'", Sheet: "Calls", Range: "B4:K9", Escape: `\`, Comment: "#", Widths: "8, 20",
		ShortLines: true}, a)
	assert.NoError(t, a.SetHeader("none"))
	assert.True(t, a.Header.None && a.Header.Given())
	for _, bad := range []error{a.SetHeader("0"), a.SetHeader("4-3"), a.SetHeader("1-99"), a.SetHeader("x"),
		a.SetFooter("-1"), a.SetFooter("101"), a.SetEncoding("martian"), a.SetEncoding(""),
		a.SetDelimiter(""), a.SetDelimiter(";;;;;;;;;"), a.SetEscape("ab"), a.SetComment(""), a.SetShortLines("yes"),
		a.SetWidths("3,x"),
		a.SetDelimiter("é"), a.SetDelimiter(`"`), a.SetQuote("''"),
		a.SetQuote("")} {
		var advised fault.InvalidValue
		assert.ErrorAs(t, bad, &advised)
	}
}
