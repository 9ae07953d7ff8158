package prepare

import (
	"bytes"
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/internal/core/formula"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/value"
)

func TestTextsThatASpreadsheetWouldRunAreGuarded(t *testing.T) {
	for text, want := range map[string]string{"=1+1": "'=1+1", "+47 0555": "'+47 0555", "-": "'-", "@a": "'@a",
		"\tx": "'\tx", "\rx": "\"'\rx\"", "-5": "-5", "-5.25": "-5.25",
		"-5 t": "'-5 t", "a=b": "a=b", "'a": "'a", " a": `" a"`, "a,b": `"a,b"`, `say "x"`: `"say ""x"""`,
		"=\"x\"": `"'=""x"""`, "": ""} {
		var b bytes.Buffer
		guarded := int64(0)
		out, err := newText(&b, []string{"A", "B"}, &guarded)
		require.NoError(t, err)
		b.Reset()
		require.NoError(t, out.row([]cell{{[]byte(text), formula.Text}, {[]byte("-1"), formula.Number}}))
		require.NoError(t, out.finish())
		line := b.String()[strings.Index(b.String(), "B\r\n")+3:]
		assert.Equal(t, want+",-1\r\n", line, "%q", text)
		assert.Equal(t, strings.Contains(want, "'") && !strings.HasPrefix(text, "'"), guarded > 0, "%q", text)
	}
}

func TestOneBlankColumnIsStillALine(t *testing.T) {
	var b bytes.Buffer
	guarded := int64(0)
	out, err := newText(&b, []string{"A"}, &guarded)
	require.NoError(t, err)
	for range 3 {
		require.NoError(t, out.row([]cell{{}}))
	}
	require.NoError(t, out.finish())
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"A"}, {""}, {""}, {""}}, rows)
}

// TestCellsOfAWorkbookAreTypedWhereTheyAreExact: what a double or a day number can't hold stays text.
func TestCellsOfAWorkbookAreTypedWhereTheyAreExact(t *testing.T) {
	var b bytes.Buffer
	w, err := newWorkbook(&b, "calls", []string{"A"})
	require.NoError(t, err)
	cases := []struct {
		text  string
		form  formula.Kind
		kind  excelize.CellType
		shown string
	}{
		{"1234.5", formula.Number, excelize.CellTypeUnset, "1234.5"},
		{"-0.1", formula.Number, excelize.CellTypeUnset, "-0.1"},
		{"123456789012345", formula.Number, excelize.CellTypeUnset, "123456789012345"},
		{"1234567890123456", formula.Number, excelize.CellTypeInlineString, "1234567890123456"},
		{"007", formula.Text, excelize.CellTypeInlineString, "007"},
		{"=SUM(A1)", formula.Text, excelize.CellTypeInlineString, "=SUM(A1)"},
		{"true", formula.Truth, excelize.CellTypeBool, "TRUE"},
		{"false", formula.Truth, excelize.CellTypeBool, "FALSE"},
		{"2026-03-14", formula.Moment, excelize.CellTypeUnset, "2026-03-14"},
		{"2026-03-14 23:59:59", formula.Moment, excelize.CellTypeUnset, "2026-03-14 23:59:59"},
		{"1899-12-31", formula.Moment, excelize.CellTypeInlineString, "1899-12-31"},
		{"2026-03-14 03:10:00.5", formula.Moment, excelize.CellTypeInlineString, "2026-03-14 03:10:00.5"},
		{"2026-03-14 03:10:00Z", formula.Moment, excelize.CellTypeInlineString, "2026-03-14 03:10:00Z"},
		{"30:15:00", formula.Moment, excelize.CellTypeInlineString, "30:15:00"},
	}
	for _, c := range cases {
		require.NoError(t, w.row([]cell{{[]byte(c.text), c.form}}))
	}
	for text, why := range map[string]string{strings.Repeat("x", value.CellUnits+1): "no room for more than 32767 " +
		"characters",
		"a\x01b": `can't hold the characters of "a\x01b"; write CSV`, "a\rb": "write CSV"} {
		assert.ErrorContains(t, w.row([]cell{{[]byte(text), formula.Text}}), why)
	}
	require.NoError(t, w.finish())
	f, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	for i, c := range cases {
		at, err := excelize.CoordinatesToCellName(1, i+2)
		require.NoError(t, err)
		kind, err := f.GetCellType("calls", at)
		require.NoError(t, err)
		shown, err := f.GetCellValue("calls", at)
		require.NoError(t, err)
		assert.Equal(t, c.kind, kind, c.text)
		assert.Equal(t, c.shown, shown)
	}
	w.rows = value.SheetRows
	assert.ErrorContains(t, w.row(nil), "a sheet has no room for more than 1048575 rows")
}

func TestPreparingStopsWithNothingLeft(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.csv"), []byte("A,B\n"+strings.Repeat("1,2\n", 200_000)),
		0o600))
	f, err := ladlefile.Decode(filepath.Join(dir, "f.ladle.yaml"),
		[]byte("ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {t: {from: in, columns: {a: A}}}\n"))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	out := filepath.Join(dir, "out")
	_, err = Run(ctx, f, nil, Options{Folder: out, Format: CSV, Progress: func(string, int64, int64) { stop() }})
	assert.ErrorIs(t, err, context.Canceled)
	left, err := os.ReadDir(out)
	require.NoError(t, err)
	assert.Empty(t, left)
	r, err := Run(context.Background(), f, nil, Options{Folder: out, Format: CSV})
	require.NoError(t, err)
	assert.Equal(t, InputReport{Input: "in", Files: "in.csv", Tally: Tally{Read: 200_000, Written: 200_000},
		Output: filepath.Join(out, "in.csv"), Notes: []string{}}, r.Inputs[0])
}
