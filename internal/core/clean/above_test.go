package clean_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/value"
)

func TestBlankCellsTakeTheValueAbove(t *testing.T) {
	cases := []struct {
		name, csv, says string
		want            []string
	}{
		{"a category that is written once", "Quay,Berth\n,N0\nNorth,N1\n,N2\nSouth,S1\n,S2\n",
			"    columns: {Quay: {if_blank: above}}\n", []string{"-|N0", "North|N1", "North|N2", "South|S1",
				"South|S2"}},
		{"its words for blank, cleaned", "Quay,Berth\n north ,N1\n-,N2\n",
			"    columns: {Quay: {blank_is: '-', clean: [trim, title], if_blank: above}}\n",
			[]string{"North|N1", "North|N2"}},
		{"the last of several ways", "Day,Berth,Dues\n2026-01-01,N1,5\n,N2,6\n",
			"    columns: {Day: {date: yyyy-MM-dd, if_blank: [{formula: 'date(\"\")'}, above]}, Dues: {number: '1', " +
				"if_blank: above}}\n",
			[]string{"2026-01-01|N1|5", "2026-01-01|N2|6"}},
		{"titles of sections, in lines that are left out", "Berth,Tons\nNorth Quay,\nN1,5\nN2,6\nSouth Quay,\nS1,7\n",
			"    new_columns: {Quay: {formula: 'choose(ends(berth, \"Quay\"), berth, \"\")', if_blank: above}}\n    " +
				"only: not ends(berth, \"Quay\")\n",
			[]string{"left out", "N1|5|North Quay", "N2|6|North Quay", "left out", "S1|7|South Quay"}},
		{"a value that was filled is not handed on twice", "Quay,Berth\n,N1\nNorth,N2\n",
			"    columns: {Quay: {if_blank: above, default: unknown}}\n", []string{"unknown|N1", "North|N2"}},
		{"behind a value that can't be read nothing is known", "Dues,Berth\n5,N1\nx,N2\n,N3\n6,N4\n,N5\n",
			"    columns: {Dues: {number: '1', if_blank: above}}\n", []string{"5|N1",
				`!|N2 <Dues "x" is not a number like 1>`,
				`!|N3 <Dues "" takes the value of the line above, and that can't be read>`, "6|N4", "6|N5"}},
		{"nor behind a line that can't", "Quay,Berth\nNorth,N1\nSouth\n,N2\nEast,E1\n",
			"    columns: {Quay: {if_blank: above}}\n",
			[]string{"North|N1", `!|! <row "" the line has only 1 of 2 fields>`,
				`!|N2 <Quay "" takes the value of the line above, and that can't be read>`, "East|E1"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			k := folder{t, t.TempDir()}
			assert.Equal(t, c.want, k.cleaned(c.csv, c.says))
		})
	}
}

// TestTheValueAboveComesFromAnotherChunk: chunks are cleaned side by side, and know what the lines before them left.
func TestTheValueAboveComesFromAnotherChunk(t *testing.T) {
	var csv strings.Builder
	var want []string
	csv.WriteString("Quay,Berth\n")
	for i := range 120_000 {
		quay := ""
		if i%50_000 == 7 {
			quay = fmt.Sprint("Quay ", i)
		}
		fmt.Fprintf(&csv, "%s,B%d\n", quay, i)
		now := "-"
		if i >= 7 {
			now = fmt.Sprint("Quay ", (i-7)/50_000*50_000+7)
		}
		want = append(want, fmt.Sprintf("%s|B%d", now, i))
	}
	k := folder{t, t.TempDir()}
	require.Equal(t, want, k.cleaned(csv.String(), "    columns: {Quay: {if_blank: above}}\n"))
}

// TestWhereLinesComeFrom: formulas can ask for the place of a line, and the day.
func TestWhereLinesComeFrom(t *testing.T) {
	k := folder{t, t.TempDir()}
	k.write("in.csv", "Berth\nN1\nN2\n")
	table, recipe, err := k.input("    header: 1\n    new_columns: {At: 'file_name()', Sheet: " +
		"'coalesce(sheet_name(), \"none\")', Line: 'line_number() + 1', Day: 'today()', By: 'upper(loaded_by())'}\n  " +
		"  only: line_number() > 2\n")
	require.NoError(t, err)
	recipe.Tell(clean.Provenance{Files: table.Files(), Day: time.Date(2026, 3, 31, 23, 59, 0, 0, time.UTC),
		User: "clerk"})
	var columns []clean.Column
	for i := range recipe.Names() {
		columns = append(columns, clean.Column{Of: i})
	}
	rows, err := clean.Read(context.Background(), table, recipe, append(columns, clean.Column{Of: recipe.Only(),
		Type: value.Type{Kind: value.Bool}}), k.dir, nil)
	require.NoError(t, err)
	defer rows.Close()
	var b clean.Batch
	require.NoError(t, rows.Read(0, []int{0, 1, 2, 3, 4, 5, 6}, &b))
	var got []string
	for i := range b.Len() {
		got = append(got, k.row(&b, 7, i, true))
	}
	assert.Equal(t, []string{"left out", "N2|in.csv|none|4|2026-03-31|CLERK"}, got)
	_, _, err = k.input("    new_columns: {At: 'file_name(Berth)'}\n")
	assert.ErrorContains(t, err, "file_name() takes no arguments")
}
