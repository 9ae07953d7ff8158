package reshape

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/internal/core/clean"
	"ladle/internal/core/source"
)

// said is something that a ladle file says.
func said(text string) clean.Located { return clean.Located{Text: text, Line: 7, Column: 3} }

func saidAll(all ...string) (made []clean.Located) {
	for _, text := range all {
		made = append(made, said(text))
	}
	return made
}

// lines reads a table: the fields of each line behind the number of its line, or why they can't be trusted.
func lines(t *testing.T, table source.Table) (all []string) {
	for {
		chunk, err := table.Next()
		if err != nil {
			return all
		}
		again, err := table.Again(chunk.Seal())
		require.NoError(t, err)
		for r, same := (source.Record{}), (source.Record{Keep: true}); chunk.Next(&r); {
			require.True(t, again.Next(&same))
			require.Equal(t, r.Fields, same.Fields)
			words := source.PlaceOf(table, r.Position).Words()
			if why := source.Misshapen(&r, len(table.Header().Names)); why != nil {
				all = append(all, words+": "+why.Words())
				continue
			}
			words += ":"
			for i, f := range r.Fields {
				words += " " + string(f)
				if cell := source.CellOf(table, &r, i); cell != "" {
					words += "@" + cell
				}
			}
			all = append(all, words)
		}
	}
}

func TestShapes(t *testing.T) {
	months := &ColumnsToRows{Names: saidAll("Jan", "Feb"), Heading: said("Month"), Value: said("Tons")}
	cases := []struct {
		name, content string
		shape         Shape
		header        string
		want          []string
	}{
		{"months become lines, and blank ones don't", "Berth,Jan,Feb,Note\nN1,5,,x\nN2,,,y\nN3,1,2,\n",
			Shape{Columns: months},
			"Berth Note Month Tons", []string{"line 2: N1 x Jan 5", "line 4: N3  Jan 1", "line 4: N3  Feb 2"}},
		{"or do", "Berth,Jan,Feb\nN1,5,\n", Shape{Columns: &ColumnsToRows{From: said("Jan"), Heading: said("Month"),
			Value: said("Tons"), Blanks: true}}, "Berth Month Tons", []string{"line 2: N1 Jan 5", "line 2: N1 Feb "}},
		{"by a pattern, which says what they are called", "2024 tons,Berth,2025 tons\n5,N1,6\n",
			Shape{Columns: &ColumnsToRows{
				Pattern: regexp.MustCompile(`^(\d+) tons$`), Heading: said("Year"), Value: said("Tons")}},
			"Berth Year Tons",
			[]string{"line 2: N1 2024 5", "line 2: N1 2025 6"}},
		{"from one to another", "a,b,c,d\n1,2,3,4\n", Shape{Columns: &ColumnsToRows{From: said("b"), To: said("c"),
			Heading: said("h"), Value: said("v")}}, "a d h v", []string{"line 2: 1 4 b 2", "line 2: 1 4 c 3"}},
		{"several cells for each", "Berth,2024 tons,2024 dues,2025 dues\nN1,5,50,60\nN2,,,\n",
			Shape{Columns: &ColumnsToRows{
				Heading: said("Year"), Values: []ValueColumn{{said("Tons"), regexp.MustCompile(`(\d+) tons`)},
					{said("Dues"), regexp.MustCompile(`(\d+) dues`)}}}}, "Berth Year Tons Dues",
			[]string{"line 2: N1 2024 5 50", "line 2: N1 2025  60"}},
		{"parts of a cell", "Vessel,Cargo\nTern,Wheat; Salt;;Fish meal\nHeron,\nOtter,Coal\n",
			Shape{Parts: &PartsToRows{
				Column: said("Cargo"), At: ";", Number: said("Part")}}, "Vessel Cargo Part",
			[]string{"line 2: Tern Wheat 1",
				"line 2: Tern Salt 2", "line 2: Tern Fish meal 3", "line 3: Heron  1", "line 4: Otter Coal 1"}},
		{"lists of JSON", "Vessel,Cargo\nTern,\"[\"\"Wheat\"\", 7, null, {\"\"a\"\":1}]\"\nHeron,[]\nOtter,Coal\n",
			Shape{Parts: &PartsToRows{
				Column: said("Cargo")}}, "Vessel Cargo", []string{"line 2: Tern Wheat", "line 2: Tern 7",
				`line 2: Tern {"a":1}`,
				"line 3: Heron ", "line 4: Otter Coal"}},
		{"parts of columns", "Vessel,Jan,Feb\nTern,a/b,c\n", Shape{Columns: months,
			Parts: &PartsToRows{Column: said("Tons"),
				At: "/"}}, "Vessel Month Tons", []string{"line 2: Tern Jan a", "line 2: Tern Jan b", "line 2: Tern Feb c"}},
		{"a line that can't be trusted stays one", "Berth,Jan,Feb\nN1,5\nN2,1,2\n", Shape{Columns: months},
			"Berth Month Tons",
			[]string{"line 2: the line has only 2 of 3 fields", "line 3: N2 Jan 1", "line 3: N2 Feb 2"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in.csv")
			require.NoError(t, os.WriteFile(path, []byte(c.content), 0o600))
			asked := source.ReadOptions{Header: source.HeaderLines{First: 1, Last: 1}}
			table, err := Open([]string{path}, asked, c.shape, "f.ladle.yaml")
			require.NoError(t, err)
			defer table.Close()
			assert.Equal(t, c.header, strings.Join(table.Header().Names, " "))
			assert.Equal(t, c.want, lines(t, table))
		})
	}
}

// TestCellsOfAWorkbookKeepTheirPlace: each cell of a line is told by its name in the sheet.
func TestCellsOfAWorkbookKeepTheirPlace(t *testing.T) {
	f := excelize.NewFile()
	for i, row := range [][]any{{"Berth", "Jan", "Feb"}, {"N1", 5, "x;y"}} {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		require.NoError(t, err)
		require.NoError(t, f.SetSheetRow("Sheet1", at, &row))
	}
	path := filepath.Join(t.TempDir(), "in.xlsx")
	require.NoError(t, f.SaveAs(path))
	table, err := Open([]string{path}, source.ReadOptions{}, Shape{
		Columns: &ColumnsToRows{Names: saidAll("Jan", "Feb"), Heading: said("Month"), Value: said("Tons")},
		Parts:   &PartsToRows{Column: said("Tons"), At: ";"}}, "f.ladle.yaml")
	require.NoError(t, err)
	defer table.Close()
	assert.Equal(t, []string{"row 2: N1@A2 Jan 5@B2", "row 2: N1@A2 Feb x@C2", "row 2: N1@A2 Feb y@C2"}, lines(t,
		table))
}

func TestWrongShapes(t *testing.T) {
	path := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(path, []byte("Berth,Jan,Feb,jan\n1,2,3,4\n"), 0o600))
	for _, c := range []struct {
		shape Shape
		says  string
	}{
		{Shape{Columns: &ColumnsToRows{Names: saidAll("Fev"), Heading: said("Month"), Value: said("Tons")}},
			`f.ladle.yaml:7:3: the input has no column "Fev"; did you mean "Feb"?`},
		{Shape{Columns: &ColumnsToRows{Names: saidAll("Jan"), Heading: said("Month"), Value: said("Tons")}},
			`the input has several columns "Jan"; rename one of them, or write: column 2`},
		{Shape{Columns: &ColumnsToRows{Pattern: regexp.MustCompile("^x"), Heading: said("Month"), Value: said("Tons")}},
			"columns_to_rows: no column of the input has such a name; its columns are: Berth, Jan, Feb, jan"},
		{Shape{Columns: &ColumnsToRows{From: said("Feb"), To: said("Berth"), Heading: said("Month"),
			Value: said("Tons")}},
			`"Berth" stands before "Feb" in the input`},
		{Shape{Columns: &ColumnsToRows{Names: saidAll("Feb"), Heading: said("berth"), Value: said("Tons")}},
			`there is already a column "berth"`},
		{Shape{Columns: &ColumnsToRows{Heading: said("h"), Values: []ValueColumn{{said("v"),
			regexp.MustCompile("(?i)(jan)")},
			{said("w"), regexp.MustCompile("x")}}}}, "no column of the input fits the pattern of w"},
		{Shape{Columns: &ColumnsToRows{Heading: said("h"), Values: []ValueColumn{{said("v"),
			regexp.MustCompile("(an|eb)")}}}},
			`the columns "Jan" and "jan" are both v of an; make the pattern narrower`},
		{Shape{Parts: &PartsToRows{Column: said("Feb"), At: ";", Number: said("Berth")}},
			`there is already a column "Berth"`},
	} {
		_, err := Open([]string{path}, source.ReadOptions{Header: source.HeaderLines{First: 1, Last: 1}}, c.shape,
			"f.ladle.yaml")
		assert.ErrorContains(t, err, c.says)
	}
}

// passed reads a table whose chunks keep lines that make none: the lines, with those before them in brackets.
func passed(t *testing.T, table source.Table) (all []string) {
	words := func(r *source.Record) (text string) {
		for _, f := range r.Fields {
			text += string(f) + "|"
		}
		return text
	}
	for {
		chunk, err := table.Next()
		if err != nil {
			return all
		}
		chunk.KeepPassed = true
		for r := (source.Record{}); chunk.Next(&r); {
			line := ""
			for i := range r.Passed {
				line += "(" + words(&r.Passed[i]) + ")"
			}
			all = append(all, line+words(&r))
		}
		for _, r := range chunk.Passed() {
			all = append(all, "("+words(&r)+")")
		}
	}
}

// TestLinesThatMakeNoneAreHandedOn: what stands in them can still be the value above others.
func TestLinesThatMakeNoneAreHandedOn(t *testing.T) {
	months := &ColumnsToRows{Names: saidAll("Jan", "Feb"), Heading: said("Month"), Value: said("Tons")}
	content := "Quay,Berth,Jan,Feb\nNorth,N0,,\n,N1,5,6;7\nSouth,S0,,\n,S1,,\n,S2,8,\nEast,E0,,\n"
	for _, c := range []struct {
		name  string
		shape Shape
		want  []string
	}{
		{"of columns", Shape{Columns: months}, []string{"(North|N0|||)|N1|Jan|5|", "|N1|Feb|6;7|",
			"(South|S0|||)(|S1|||)|S2|Jan|8|",
			"(East|E0|||)"}},
		{"of columns and their parts", Shape{Columns: months, Parts: &PartsToRows{Column: said("Tons"), At: ";",
			Number: said("No")}},
			[]string{"(North|N0||||)|N1|Jan|5|1|", "|N1|Feb|6|1|", "|N1|Feb|7|2|",
				"(South|S0||||)(|S1||||)|S2|Jan|8|1|",
				"(East|E0||||)"}},
		{"not where blanks make lines", Shape{Columns: &ColumnsToRows{Names: saidAll("Jan"), Heading: said("Month"),
			Value:  said("Tons"),
			Blanks: true}}, []string{"North|N0||Jan||", "|N1|6;7|Jan|5|", "South|S0||Jan||", "|S1||Jan||",
			"|S2||Jan|8|", "East|E0||Jan||"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in.csv")
			require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
			table, err := Open([]string{path}, source.ReadOptions{Header: source.HeaderLines{First: 1, Last: 1}},
				c.shape, "f.ladle.yaml")
			require.NoError(t, err)
			defer table.Close()
			assert.Equal(t, c.want, passed(t, table))
		})
	}
}
