package dictionary

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/internal/core/schema"
)

// edited is the path of the workbook of a dictionary, after an edit.
func edited(t *testing.T, d *Dictionary, edit func(*excelize.File)) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, d.Workbook(&b))
	book, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	edit(book)
	path := filepath.Join(t.TempDir(), "plan.xlsx")
	require.NoError(t, book.SaveAs(path))
	require.NoError(t, book.Close())
	return path
}

// TestAWorkbookSaysWhatTheDictionarySays: what is written is read again, but for what only tells something.
func TestAWorkbookSaysWhatTheDictionarySays(t *testing.T) {
	for _, o := range []Options{{}, {Values: true}} {
		d := described(t, o)
		read, err := Read(edited(t, d, func(*excelize.File) {}))
		require.NoError(t, err)
		require.Len(t, read.Tables, len(d.Tables))
		for i, want := range d.Tables {
			is := read.Tables[i]
			assert.Equal(t, want.Name, is.Name)
			assert.Equal(t, want.Primary, is.Primary)
			assert.ElementsMatch(t, want.Keys, is.Keys)
			assert.Equal(t, want.Checks, withoutConditions(is.Checks, want.Checks))
			assert.Equal(t, len(want.PointsAt), len(is.PointsAt))
			assert.Equal(t, len(want.Lookups), len(is.Lookups))
			for c, column := range want.Columns {
				column.Required = column.Required || column.Counted // SQLite doesn't say so
				if column.Computed {
					column.Required, column.Default = false, ""
				}
				if len(column.Values) == 0 {
					column.Values = nil
				}
				assert.Equal(t, column, is.Columns[c], want.Name)
			}
		}
	}
}

// withoutConditions gives checks the conditions of others, which no workbook has.
func withoutConditions(checks, of []schema.Check) []schema.Check {
	for i := range checks {
		checks[i].Condition = of[i].Condition
	}
	return checks
}

func TestWorkbooksThatAreNoPlan(t *testing.T) {
	set := func(sheet, cell, to string) func(*excelize.File) {
		return func(f *excelize.File) { _ = f.SetCellValue(sheet, cell, to) }
	}
	for _, c := range []struct {
		name string
		edit func(*excelize.File)
		why  string
	}{
		{"a sheet is gone", func(f *excelize.File) { _ = f.DeleteSheet("relations") }, `no sheet "relations"`},
		{"a title is gone", set("columns", "D1", "kind"), `[columns]: the column "type" is missing`},
		{"a table twice", set("tables", "A3", "quay"), "[tables]:3: the table quay is listed twice"},
		{"a column twice", set("columns", "C2", "name"), "[columns]:3: quay has the column name twice"},
		{"a row without a table", set("columns", "A3", ""), "[columns]:3: the table is blank"},
		{"a row without a column", set("columns", "C3", ""), "[columns]:3: the column is blank"},
		{"a value that says nothing", set("columns", "E3", "default "), `[columns]:3: the value of quay.name is "default"`},
		{"a relation of no table", set("relations", "A2", "bert"), "[relations]:2: there is no table bert"},
		{"a relation of no column", set("relations", "B2", "quay"), `[relations]:2: the table berth has no column "quay"`},
		{"a relation to no column", set("relations", "D2", "no"), `[relations]:2: the table quay has no column "no"`},
		{"a relation without columns", set("relations", "B2", ""), "[relations]:2: the columns are blank"},
		{"columns without partners", set("relations", "B2", "quay_id, code"), "[relations]:2: 2 columns refer to 1"},
		{"a condition that is blank", set("CHECK constraints", "C2", ""), "[CHECK constraints]:2: the condition is blank"},
		{"a condition on no table", set("CHECK constraints", "A2", "x"), "[CHECK constraints]:2: there is no table x"},
		{"rows with other columns", set("lookup values", "B3", "id"), "[lookup values]:3: the rows of quay have different columns"},
		{"rows of too many columns", set("lookup values", "B2", "id, name, id"), "[lookup values]:2: there are 3 columns, and 2 values"},
		{"a key only here", set("columns", "F2", ""), `[columns]:2: the key of quay.id is "" here, but "primary key"`},
		{"a relation only there", set("columns", "G6", ""), `berth.quay_id refers to "" here, but to "quay.id"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Read(edited(t, described(t, Options{Values: true}), c.edit))
			assert.ErrorContains(t, err, c.why)
		})
	}
	path := filepath.Join(t.TempDir(), "plan.xlsx")
	require.NoError(t, os.WriteFile(path, []byte("no workbook"), 0o600))
	_, err := Read(path)
	assert.Error(t, err)
}

// TestATableThatOnlyTheColumnsName: its keys and relations stand beside its columns.
func TestATableThatOnlyTheColumnsName(t *testing.T) {
	add := func(f *excelize.File, row string, cells ...any) { _ = f.SetSheetRow("columns", row, &cells) }
	d, err := Read(edited(t, described(t, Options{}), func(f *excelize.File) {
		add(f, "A9", "crane", 1, "no", "INTEGER", "required", "primary key")
		add(f, "A10", "crane", 2, "at", "INTEGER", "", "", "quay.id")
		add(f, "A11", "crane", 3, "name", "TEXT", "required, default 'none'", "unique")
	}))
	require.NoError(t, err)
	crane := d.Tables[2]
	assert.Equal(t, []string{"no"}, crane.Primary)
	assert.Equal(t, [][]string{{"name"}}, crane.Keys)
	assert.Equal(t, []schema.Reference{{Table: "quay", Columns: []string{"at"}, Keys: []string{"id"}}}, crane.PointsAt)
	assert.Equal(t, schema.ColumnOutline{Name: "name", Declared: "TEXT", Required: true, Default: "'none'"}, crane.Columns[2])
	for cell, why := range map[string]string{"F9": `write "primary key" or "unique"`, "G9": "write TABLE.COLUMN"} {
		_, err := Read(edited(t, described(t, Options{}), func(f *excelize.File) {
			add(f, "A9", "crane", 1, "no", "INTEGER")
			_ = f.SetCellValue("columns", cell, "what")
		}))
		assert.ErrorContains(t, err, why)
	}
}

func FuzzNames(f *testing.F) {
	for _, seed := range []string{"a", "a, b", `a"b`, "a,b\x00;c", " a ", `""`, "a\x00b\x00c"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var want []string
		for _, name := range strings.Split(text, "\x00") {
			if strings.TrimSpace(name) != "" {
				want = append(want, name)
			}
		}
		if want == nil {
			return
		}
		joined := joined(want)
		assert.Equal(t, want, names(joined), joined)
		assert.Equal(t, [][]string{want, want}, parted(joined+"; "+joined), joined)
	})
}
