package clean_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/value"
	"ladle/internal/seeded"
)

// TestQuickWaysGiveWhatTheSlowOneDoes holds what becomes of the cells of a column that stands alone, and of one that a formula
// needs, against what they become one by one, for values of all types: cells about the bounds of a type, and such as are
// almost written as the rule says.
func TestQuickWaysGiveWhatTheSlowOneDoes(t *testing.T) {
	r := seeded.Rand(t)
	typed := []value.Type{{}, {Length: 6}, {Kind: value.Int}, {Kind: value.Int, Least: -128, Most: 127}, {Kind: value.Int, Most: 65535},
		{Kind: value.Fixed, Precision: 5, Scale: 2}, {Kind: value.Fixed, Precision: 15, Scale: 2}, {Kind: value.Fixed, Precision: 18, Scale: 10},
		{Kind: value.Fixed, Precision: 18, Scale: 0}, {Kind: value.Fixed, Precision: 16, Scale: 6, Storage: value.AsDouble}, {Kind: value.Decimal},
		{Kind: value.Decimal, Precision: 30, Scale: 4}, {Kind: value.Float}, {Kind: value.Bool}, {Kind: value.Bytes}, {Kind: value.Date},
		{Kind: value.Time}, {Kind: value.DateTime}, {Kind: value.DateTime, Step: 1e6}, {Kind: value.DateTime, Zoned: true},
		{Among: &[]string{"17", "N1"}}}
	rules := []string{"{}", `{number: "1234.5"}`, `{number: "€1.234,56"}`, `{number: "1,234.5 t"}`, `{number: "(1,234.50)"}`, `{number: "12.5 %"}`,
		`{number: ["1234.5", "1.234,5"]}`, `{number: "1234.5", round: 2}`, `{number: "€1.234,56", round: 0}`, "{date: dd/MM/yyyy}",
		"{date: d MMM yyyy}", "{date: yyyy-MM-dd HH:mm:ss}", "{date: [dd.MM.yyyy, yyyyMMdd]}", "{date: HH:mm}", "{date: dd/MM/yyyy HH:mm}",
		"{clean: [trim, upper]}", "{clean: squeeze, number: '1234.5'}", "{blank_is: [n/a, '-'], number: '1234.5', default: 7}",
		"{yes_is: [y, 1], no_is: [n, 0]}", "{recode: {N1: N2}, clean: trim}", "{shorten_to: 3}"}
	samples := []string{"1234.5", "17", "-0.05", "€1.234,56", "1,234.5 t", "(1,234.50)", "12.5 %", "972027198196829", "10000000000000", "999999999999999", "0.005",
		"14/03/2026", "3 Mar 2026", "2026-03-14 05:40:00", "14.03.2026", "20260314", "05:40", "29/03/2026 01:30", "2026-03-14", "N1", "n/a", "y",
		"#N/A", "1.23E+11", "\u00e9 n", "true", "2026-03-14T05:40Z", "00", "-0", "1e5"}
	bad, given := 0, 0
	for range seeded.Rounds(160) {
		typ, rule := typed[r.IntN(len(typed))], rules[r.IntN(len(rules))]
		var csv strings.Builder
		csv.WriteString("Cell;Other\n")
		for range 200 {
			cell := []byte(samples[r.IntN(len(samples))])
			for range max(0, r.IntN(5)-1) {
				switch at := r.IntN(len(cell) + 1); {
				case r.IntN(3) == 0:
					cell = append(cell[:at:at], append([]byte{"0123456789 .,-+€:/"[r.IntN(18)]}, cell[at:]...)...)
				case at < len(cell) && r.IntN(2) == 0:
					cell[at] = "0123456789"[r.IntN(10)]
				case at < len(cell) && len(cell) > 1:
					cell = append(cell[:at:at], cell[at+1:]...)
				}
			}
			fmt.Fprintf(&csv, "%s;o\n", strings.ToValidUTF8(string(cell), "?"))
		}
		k := folder{t, t.TempDir()}
		column := clean.Column{Of: 0, Type: typ}
		alone := "    columns: {Cell: " + rule + "}\n"
		needed := alone + "    new_columns: {Joined: {join: [Cell]}}\n"
		slow := "    columns: {Cell: " + rule + ", Other: {if_blank: above}}\n    new_columns: {Joined: {join: [Cell]}}\n"
		want := k.cleaned(csv.String(), slow, column, clean.Column{Of: 1}, clean.Column{Of: 2})
		for i, row := range k.cleaned(csv.String(), needed, column, clean.Column{Of: 1}, clean.Column{Of: 2}) {
			require.Equal(t, want[i], row, "%s as %+v, row %d, with what needs it", rule, typ, i)
		}
		first := func(row string) string {
			cells, problems, _ := strings.Cut(row, " <")
			cells, _, _ = strings.Cut(cells, "|o|")
			return cells + " <" + problems
		}
		for i, row := range k.cleaned(csv.String(), alone, column, clean.Column{Of: 1}) {
			row = strings.Replace(row, "|o", "|o|", 1)
			require.Equal(t, first(want[i]), first(row), "%s as %+v, row %d, alone", rule, typ, i)
			if strings.HasPrefix(row, "!") {
				bad++
			} else {
				given++
			}
		}
	}
	assert.Greater(t, bad, 200)
	assert.Greater(t, given, 200)
}
