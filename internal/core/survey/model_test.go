package survey

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
)

// flat is a table of texts, to be surveyed and counted.
type flat struct {
	names []string
	rows  [][]string
}

func (f flat) content() string {
	var b strings.Builder
	b.WriteString(strings.Join(f.names, ";") + "\n")
	for _, r := range f.rows {
		b.WriteString(strings.Join(r, ";") + "\n")
	}
	return b.String()
}

// someFlat makes a table whose columns depend on each other in known and in random ways.
func someFlat(r *rand.Rand) flat {
	f := flat{names: []string{"Call", "Vessel", "Type", "Berth", "Day", "Tons", "Remark"}}
	vessels, berths, rows := 5+r.IntN(60), 2+r.IntN(9), 200+r.IntN(3000)
	for i := range rows {
		vessel := r.IntN(vessels)
		row := []string{fmt.Sprintf("C%d", i), fmt.Sprintf("V%d", vessel), fmt.Sprintf("T%d", vessel%4),
			fmt.Sprintf("B%d", r.IntN(berths)), fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)),
			fmt.Sprint(r.IntN(100_000)), []string{"", "", "late", "n/a"}[r.IntN(4)]}
		switch r.IntN(400) {
		case 0:
			row[0] = "C0"
		case 1:
			row[2] = "T9"
		case 2:
			row[r.IntN(len(row))] = ""
		}
		f.rows = append(f.rows, row)
	}
	return f
}

// repeats counts rows whose cells in columns stood in an earlier row, and rows with a blank in them.
func (f flat) repeats(columns []int) (repeats, blanks int64) {
	seen := map[string]bool{}
	for _, r := range f.rows {
		var key []string
		blank := false
		for _, c := range columns {
			key, blank = append(key, r[c]), blank || r[c] == ""
		}
		k := strings.Join(key, "\x00")
		switch {
		case blank:
			blanks++
		case seen[k]:
			repeats++
		}
		if !blank {
			seen[k] = true
		}
	}
	return repeats, blanks
}

// against counts rows in which b is another than in most rows with the same a.
func (f flat) against(a, b int) (n int64) {
	counts, total := map[string]map[string]int64{}, map[string]int64{}
	for _, r := range f.rows {
		if r[a] == "" {
			continue
		}
		if counts[r[a]] == nil {
			counts[r[a]] = map[string]int64{}
		}
		counts[r[a]][r[b]]++
		total[r[a]]++
	}
	for value, others := range counts {
		most := int64(0)
		for _, k := range others {
			most = max(most, k)
		}
		n += total[value] - most
	}
	return n
}

func (f flat) distinct(column int) int64 {
	seen := map[string]bool{}
	for _, r := range f.rows {
		if r[column] != "" {
			seen[r[column]] = true
		}
	}
	return int64(len(seen))
}

// TestSurveysAgainstAModel holds what is told of random tables against going through them naively.
func TestSurveysAgainstAModel(t *testing.T) {
	r := seeded.Rand(t)
	at := func(f flat, name string) int { return slices.Index(f.names, name) }
	keys, parents := 0, 0
	for range 25 {
		f := someFlat(r)
		in := of(t, f.content()).Inputs[0]
		assert.Equal(t, int64(len(f.rows)), in.Rows)
		for i, c := range in.Columns {
			assert.Equal(t, f.distinct(i), c.Distinct, c.Name)
			assert.True(t, c.Exact)
			blank := int64(0)
			for _, row := range f.rows {
				if row[i] == "" {
					blank++
				}
			}
			assert.Equal(t, blank, c.Blank, c.Name)
		}
		assert.Equal(t, []string{typeText, typeText, typeText, typeText, typeDate, typeWhole, typeText},
			[]string{in.Columns[0].Type, in.Columns[1].Type, in.Columns[2].Type, in.Columns[3].Type, in.Columns[4].Type,
				in.Columns[5].Type, in.Columns[6].Type})
		for _, k := range in.Keys {
			keys++
			var columns []int
			for _, name := range k.Columns {
				columns = append(columns, at(f, name))
			}
			repeats, blanks := f.repeats(columns)
			assert.Equal(t, []int64{repeats, blanks}, []int64{k.Repeats, k.Blanks}, k.Columns)
			for _, x := range k.First {
				for _, c := range columns {
					assert.Equal(t, f.rows[x.Earlier-2][c], f.rows[x.Line-2][c], "line %d repeats line %d", x.Line,
						x.Earlier)
				}
			}
		}
		assert.True(t, slices.ContainsFunc(in.Keys, func(k Key) bool {
			return slices.Equal(k.Columns,
				[]string{"Call"})
		}))
		for _, p := range in.Parents {
			for _, d := range p.Decides {
				parents++
				assert.Equal(t, f.against(at(f, p.Column), at(f, d.Column)), d.Against.Count, p.Column+" and "+d.Column)
			}
		}
		assert.True(t, slices.ContainsFunc(in.Parents, func(p Parent) bool {
			return p.Column == "Vessel" && slices.ContainsFunc(p.Decides,
				func(d Decision) bool { return d.Column == "Type" })
		}), "each vessel has one type")
	}
	assert.Greater(t, keys, 25)
	assert.GreaterOrEqual(t, parents, 25)
}

// TestColumnsOfOddRows: what is told is the same wherever in the file it stands, also far behind the first chunks.
func TestColumnsOfOddRows(t *testing.T) {
	const rows = 50_000
	for _, where := range []int{0, rows / 2, rows - 1} {
		var b strings.Builder
		b.WriteString("No.;Tons;Day;Name\n")
		for i := range rows {
			line := fmt.Sprintf("%d;%d.5;2026-03-%02d;Otter\n", i, i%900, 1+i%28)
			if i == where {
				line = fmt.Sprintf("%d;many;someday; otter\n", i)
			}
			b.WriteString(line)
		}
		in := of(t, b.String()).Inputs[0]
		want := []Place{{Line: int64(where + 2), Says: "many"}}
		assert.Equal(t, Oddity{Count: 1, Places: want}, in.Columns[1].Misfits)
		assert.Equal(t, "decimal number", in.Columns[1].Type)
		want[0].Says = "someday"
		assert.Equal(t, Oddity{Count: 1, Places: want}, in.Columns[2].Misfits)
		want[0].Says = " otter"
		assert.Equal(t, Oddity{"with leading or trailing blanks", 1, want}, in.Columns[3].Oddities[0])
		assert.Equal(t, "spellings of one word", in.Columns[3].Oddities[1].What)
		assert.Equal(t, int64(rows), in.Columns[3].Oddities[1].Count)
		assert.Equal(t, []string{"0.5", "899.5"}, []string{in.Columns[1].Least, in.Columns[1].Most})
	}
}

// TestSheetsAreSurveyedByTheirCells: errors are no values, numbers that are stored as text are told, cells have
// addresses.
func TestSheetsAreSurveyedByTheirCells(t *testing.T) {
	tables, err := Open([]string{"../source/sheet/testdata/register.xlsx"}, askedSheet("Register"))
	assert.NoError(t, err)
	defer Close(tables)
	s, err := Run(t.Context(), tables, nil)
	assert.NoError(t, err)
	in := s.Inputs[0]
	twice := in.Columns[10]
	assert.Equal(t, []int64{1, 2}, []int64{twice.Fit, twice.Blank})
	assert.Equal(t, Oddity{"with an error", 1, []Place{{5, "L5", "#DIV/0! is an error, not a value"}}},
		twice.Oddities[0])
	assert.Equal(t, []Place{{4, "B4", "007"}, {5, "B5", "008"}, {6, "B6", "009"}}, in.Columns[0].Oddities[0].Places)
	assert.Equal(t, []string{"whole number", "yes/no", "time", "date and time"},
		[]string{twice.Type, in.Columns[9].Type, in.Columns[8].Type, in.Columns[6].Type})
	assert.Equal(t, "0.0000125", in.Columns[4].Least)
}
