package formula

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/value"
	"ladle/internal/seeded"
)

// TestFormulasOfABlockGiveWhatEachRowDoes goes through all formulas, over cells that are plain, blank, bad, and odd.
func TestFormulasOfABlockGiveWhatEachRowDoes(t *testing.T) {
	r := seeded.Rand(t)
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	var rows [][]*Value
	for range 200 {
		var row []*Value
		for _, c := range cells {
			v := &Value{Kind: c.kind, From: c.name, Bad: r.IntN(40) == 0, Text: "left by the row before"}
			switch {
			case r.IntN(6) == 0:
				v.Blank = true
			case c.kind == Number:
				d, err := value.ScanNumber([]byte(pick("0", "-0", "1205.75", "-2.5", "0.000000000000000001", "3", "7.50", "999999999999999999",
					"123456789012345678901.5")))
				require.NoError(t, err)
				v.SetNumber(d)
			case c.kind == Moment:
				v.Moment, _ = value.ScanMoment([]byte(pick("2026-02-27 05:40", "2026-03-02", "05:40", "2026-03-01 12:00Z", "9999-12-31")))
			default:
				v.Text = pick("N1", "N1 / S1", " é Ä ", "388.6", "2026-03-01", "true", "-", "x\x00", "PM-0101")
			}
			row = append(row, v)
		}
		rows = append(rows, row)
	}
	together := 0
	for text := range formulas {
		if f, err := Compile(text, columns()); err == nil {
			together += holdTogether(t, f, rows)
		}
	}
	for _, text := range []string{`join(agent, berth, gt)`, `text(arrived)`, `-tons`, `number(gt) in [1, crew, 388.6]`, `tons - crew * tons`,
		`length(trim(berth))`, `day(departed) + weekday(arrived)`, `replace(end(berth, 3), "1", agent)`, `tons in [crew, dues_per_ton]`,
		`greatest(tons, crew) == least(tons, crew)`, `round(tons / crew, 2)`, `round(tons, crew)`, `coalesce(agent, text(tons))`} {
		f, err := Compile(text, columns())
		require.NoError(t, err)
		together += holdTogether(t, f, rows)
	}
	assert.Greater(t, together, 60*len(rows)/2, "rows that were computed together")
	f, err := Compile("rank_same(berth, tons) + 1", columns())
	require.NoError(t, err)
	assert.False(t, f.Together(), "what depends on other lines")
}

// holdTogether holds what a Block gives for rows, if it can, against what a Machine does, and returns for how many it gave
// something.
func holdTogether(t *testing.T, f *Formula, rows [][]*Value) (together int) {
	if !f.Together() {
		return 0
	}
	b := NewBlock(f, len(cells))
	for i, c := range cells {
		v := &Vector{}
		v.Reset(c.kind, len(rows))
		for row := range rows {
			if v.set(row, rows[row][i]); rows[row][i].Bad {
				v.States[row] = Alone
			}
		}
		b.Set(i, v)
	}
	for range 2 { // in memory that was used before, too
		together = 0
		got := b.Run(len(rows))
		for row := range rows {
			if got.States[row] == Alone {
				continue
			}
			together++
			m := NewMachine(len(cells))
			for i, v := range rows[row] {
				m.Set(i, v)
			}
			want, err := m.Run(f)
			require.NoError(t, err, "%s for row %d", f, row)
			require.Equal(t, want.Blank, got.States[row] == Blank, "%s for row %d", f, row)
			if want.Blank {
				continue
			}
			var v Value
			got.Value(row, &v)
			require.Equal(t, want.Kind, v.Kind, "%s for row %d", f, row)
			require.Equal(t, want.String(), v.String(), "%s for row %d", f, row)
			require.Equal(t, want.String(), string(got.AppendTo(nil, row)), "%s for row %d", f, row)
			if want.Kind == Moment {
				require.Equal(t, want.Moment, v.Moment, "%s for row %d", f, row)
			}
		}
	}
	return together
}
