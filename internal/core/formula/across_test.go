package formula

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFunctionsOverLines(t *testing.T) {
	cases := []struct {
		formula string
		across  []Across
		why     string
	}{
		{formula: "count_same(berth)", across: []Across{{CountSame, 2, -1}}},
		{formula: `rank_same(col("Reg. No."), arrived) == count_same(col("Reg. No."), arrived)`,
			across: []Across{{RankSame, 8, 4}, {CountSame, 8, 4}}},
		{formula: "tons / sum_same(berth, tons) + sum_same(berth, tons)", across: []Across{{SumSame, 2, 0}}},
		{formula: "count_same()", why: "count_same() takes 1 or 2 columns"},
		{formula: "rank_same(berth)", why: "rank_same() takes 2 columns"},
		{formula: "sum_same(berth, tons, crew)", why: "sum_same() takes 2 columns"},
		{formula: "rank_same(berth, gt)", why: "GT is neither a column of numbers nor of dates"},
		{formula: "sum_same(berth, arrived)", why: "Arrived is not a column of numbers"},
		{formula: "count_same(upper(berth))", why: "count_same() takes columns"},
		{formula: `count_same("N1")`, why: "count_same() takes columns"},
		{formula: "count_same(bearth)", why: `there is no column "bearth"`},
		{formula: "count_same + 1", why: "count_same is a function"},
	}
	for _, c := range cases {
		t.Run(c.formula, func(t *testing.T) {
			f, err := Compile(c.formula, columns())
			if c.why != "" {
				assert.ErrorContains(t, err, c.why)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.across, f.Across())
			m := machine(t)
			for i, a := range f.Across() {
				v := &Value{}
				v.Kind = Number
				v.Number.SetInt64(int64(i + 2))
				m.SetAcross(a, v)
			}
			v, err := m.Run(f)
			require.NoError(t, err)
			assert.False(t, v.Blank)
			m.SetAcross(f.Across()[0], &Value{Kind: Number, Bad: true})
			_, err = m.Run(f)
			assert.ErrorIs(t, err, ErrCell)
		})
	}
}
