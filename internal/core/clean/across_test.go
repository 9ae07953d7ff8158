package clean_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

func TestFormulasOverLinesWithTheSameValue(t *testing.T) {
	const visits = "Reg,Day,T\nA1,2026-01-02,1\nA2,2026-01-05,2.50\nA1,2026-01-04,3\nA1,,4\n,2026-01-01,5\nA2,2026-01-05,-0.25\n"
	const typed = "    columns: {Day: {date: yyyy-MM-dd}, T: {number: '1.5'}}\n"
	cases := []struct {
		name, csv, says string
		want            []string
	}{
		{"how many, which place, and what sum", visits, typed + "    new_columns: {N: count_same(reg), Dated: " +
			"'count_same(reg, day)', Place: 'rank_same(reg, day)', Sum: 'sum_same(reg, t)'}\n",
			[]string{"A1|2026-01-02|1|3|2|1|8", "A2|2026-01-05|2.5|2|2|1|2.25", "A1|2026-01-04|3|3|2|2|8",
				"A1|-|4|3|2|-|8",
				"-|2026-01-01|5|-|-|-|-", "A2|2026-01-05|-0.25|2|2|2|2.25"}},
		{"the newest of several", visits, typed + "    only: rank_same(reg, day) == count_same(reg, day)\n",
			[]string{"left out", "left out", "A1|2026-01-04|3", "left out", "left out", "A2|2026-01-05|-0.25"}},
		{"lines that are left out don't count", visits, typed + "    new_columns: {N: count_same(reg)}\n    only: t " +
			"!= 3\n",
			[]string{"A1|2026-01-02|1|2", "A2|2026-01-05|2.5|2", "left out", "A1|-|4|2", "-|2026-01-01|5|-",
				"A2|2026-01-05|-0.25|2"}},
		{"of columns that are made, and one of the other", visits, typed + "    new_columns: {Year: year(day), N: " +
			"count_same(year), Of: 'sum_same(reg, n)'}\n", []string{"A1|2026-01-02|1|2026|5|10",
			"A2|2026-01-05|2.5|2026|5|10",
			"A1|2026-01-04|3|2026|5|10", "A1|-|4|-|-|10", "-|2026-01-01|5|2026|5|-", "A2|2026-01-05|-0.25|2026|5|10"}},
		{"a cell that can't be read is needed by others", "Reg,Day\nA1,2026-01-02\nA1,soon\nA2,2026-01-03\n",
			"    columns: {Day: {date: yyyy-MM-dd}}\n    new_columns: {Place: 'rank_same(reg, day)'}\n",
			[]string{`A1|2026-01-02|! <Place "" needs Day of all lines with the same Reg, and that of line 3 can't be read>`,
				`A1|!|! <Day "soon" is not a date like yyyy-MM-dd>`, "A2|2026-01-03|1"}},
		{"a group that can't be read", "Reg,Name\n1,a\nx,b\n", "    columns: {Reg: {number: '1'}}\n    only: " +
			"count_same(reg) == 1\n", []string{"1|a", `!|b <Reg "x" is not a number like 1>`}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			k := folder{t, t.TempDir()}
			assert.Equal(t, c.want, k.cleaned(c.csv, c.says))
		})
	}
}

// TestLinesOfManyChunksWithTheSameValue: chunks are read side by side, and the value of a line depends on lines of all.
func TestLinesOfManyChunksWithTheSameValue(t *testing.T) {
	r := seeded.Rand(t)
	var csv strings.Builder
	csv.WriteString("Reg,T\n")
	count, sum := map[int]int{}, map[int]int{}
	type line struct{ reg, t, place int }
	var lines []line
	for range 120_000 {
		l := line{r.IntN(30_000), r.IntN(1000), 0}
		if r.IntN(3) == 0 {
			l.reg = 7
		}
		count[l.reg]++
		sum[l.reg] += l.t
		l.place = count[l.reg]
		lines = append(lines, l)
		fmt.Fprintf(&csv, "%d,%d\n", l.reg, l.t)
	}
	k := folder{t, t.TempDir()}
	got := k.cleaned(csv.String(), "    columns: {T: {number: '1'}}\n    new_columns: {N: count_same(reg), Sum: "+
		"'sum_same(reg, t)', Line: line_number(), Place: 'rank_same(reg, line)'}\n")
	require.Len(t, got, len(lines))
	for i, l := range lines {
		require.Equal(t, fmt.Sprintf("%d|%d|%d|%d|%d|%d", l.reg, l.t, count[l.reg], sum[l.reg], i+2, l.place), got[i])
	}
}
