package survey

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/notation"
	"ladle/internal/core/source"
	"ladle/internal/seeded"
)

// of surveys files with the given contents; the names are letters from a.
func of(t *testing.T, contents ...string) *Survey {
	t.Helper()
	var paths []string
	dir := t.TempDir()
	for i, content := range contents {
		paths = append(paths, filepath.Join(dir, string(rune('a'+i))+".csv"))
		require.NoError(t, os.WriteFile(paths[i], []byte(content), 0o600))
	}
	tables, err := Open(paths, source.ReadOptions{})
	require.NoError(t, err)
	defer Close(tables)
	s, err := Run(context.Background(), tables, nil)
	require.NoError(t, err)
	return s
}

// column surveys a column of cells beside one with the numbers of the rows.
func column(t *testing.T, cells ...string) *Column {
	t.Helper()
	var b strings.Builder
	b.WriteString("No.\tValue\n")
	for i, c := range cells {
		fmt.Fprintf(&b, "%d\t%s\n", i+1, c)
	}
	return of(t, b.String()).Inputs[0].Columns[1]
}

func times(n int, cells ...string) []string {
	var all []string
	for range n {
		all = append(all, cells...)
	}
	return all
}

func TestTypesOfColumns(t *testing.T) {
	cases := []struct {
		name                 string
		cells                []string
		kind, written        string
		fit                  int64
		least, most, unclear string
	}{
		{"whole numbers", []string{"12", "-3", "0", ""}, typeWhole, "", 3, "-3", "12", ""},
		{"decimals with a point", []string{"12.50", "3", ".5", "1000"}, typeDecimal, "", 4, "0.5", "1000", ""},
		{"decimals with a comma", []string{"12,50", "3", "1.000,5"}, typeDecimal, "1.234,5", 3, "3", "1000.5", ""},
		{"thousands, decided by one cell", []string{"1,234", "2,500", "1,000.5"}, typeDecimal, "1,234.5", 3, "1000.5",
			"2500", ""},
		{"thousands or thousandths", []string{"1,234", "2,500"}, typeWhole, "1,234.5", 2, "1234", "2500",
			"point and comma could be swapped in every cell"},
		{"blanks between thousands", []string{"1 234,5", "12", "2\u00a0500"}, typeDecimal, "1 234,5", 3, "12", "2500",
			""},
		{"a currency", []string{"€ 12.50", "€ 3.00", "€ -7.00"}, typeDecimal, "€1234.50"[:7] + ".5", 3, "-7.00",
			"12.50", ""},
		{"brackets and minus signs behind", times(2, "(12.5)", "3-"), typeDecimal, "(1234.5)", 4, "-12.5", "-3", ""},
		{"percentages", []string{"12 %", "3 %"}, typeWhole, "1234 %", 2, "3", "12", ""},
		{"digits with leading zeros are text", []string{"007", "012", "120"}, typeText, "", 3, "007", "120", ""},
		{"nine in ten cells", append(times(9, "1"), "many"), typeWhole, "", 9, "1", "1", ""},
		{"less than that", append(times(8, "1"), "many", "few"), typeText, "", 10, "1", "many", ""},
		{"dates of ISO 8601", []string{"2026-03-01", "1999-12-31"}, typeDate, "yyyy-MM-dd", 2, "1999-12-31",
			"2026-03-01", ""},
		{"days first, decided by one cell", []string{"03/04/2026", "13/04/2026"}, typeDate, "dd/MM/yyyy", 2,
			"2026-04-03", "2026-04-13", ""},
		{"months first", []string{"03/04/2026", "03/14/2026"}, typeDate, "MM/dd/yyyy", 2, "2026-03-04", "2026-03-14",
			""},
		{"day and month unclear", []string{"3/4/2026", "5/6/2026"}, typeDate, "d/M/yyyy", 2, "2026-04-03", "2026-06-05",
			"day and month could be swapped in every cell"},
		{"points", []string{"1.4.2026", "31.12.1999"}, typeDate, "d.M.yyyy", 2, "1999-12-31", "2026-04-01", ""},
		{"names of months", []string{"1 Mar 2026", "12 May 1999"}, typeDate, "d MMM yyyy", 2, "1999-05-12",
			"2026-03-01", ""},
		{"days without marks", []string{"20260301", "19991231", "20000229"}, typeDate, "yyyyMMdd", 3, "1999-12-31",
			"2026-03-01", ""},
		{"a day that isn't there", append(times(9, "2026-02-28"), "2026-02-29"), typeDate, "yyyy-MM-dd", 9,
			"2026-02-28", "2026-02-28", ""},
		{"dates with times", []string{"2026-03-01 14:30", "2026-03-01T06:00"}, typeDateTime, "yyyy-MM-dd HH:mm", 2,
			"2026-03-01 06:00:00", "2026-03-01 14:30:00", ""},
		{"halves of days", []string{"03/14/2026 4:15 PM", "03/14/2026 12:05 am"}, typeDateTime, "MM/dd/yyyy h:mm a", 2,
			"2026-03-14 00:05:00", "2026-03-14 16:15:00", ""},
		{"times", []string{"14:30:05", "06:00:00"}, typeTime, "HH:mm:ss", 2, "06:00:00", "14:30:05", ""},
		{"yes and no", []string{"yes", "No", "YES"}, typeTruth, "", 3, "No", "yes", ""},
		{"nothing", []string{"", " ", "n/a"}, typeBlank, "", 0, "", "", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got := column(t, c.cells...)
			assert.Equal(t, []string{c.kind, c.written, c.least, c.most, c.unclear},
				[]string{got.Type, got.Written, got.Least, got.Most, got.Unclear})
			assert.Equal(t, c.fit, got.Fit)
			switch got.Type { // what is proposed can be written into a ladle file
			case typeWhole, typeDecimal:
				_, err := notation.NumberLike(cmp.Or(got.Written, "1234.5"))
				assert.NoError(t, err)
			case typeDate, typeDateTime, typeTime:
				_, err := notation.NewPattern(got.Written, notation.CenturyFrom())
				assert.NoError(t, err)
			}
		})
	}
}

func TestWhatIsOddInAColumn(t *testing.T) {
	c := column(t, append(times(12, "Norway"), "norway", " Norway", "Nor  way", "n/a", "-", "", "Nor\u00a0way", "")...)
	assert.Equal(t, int64(2), c.Blank)
	assert.Equal(t, []Oddity{{"-", 1, []Place{{18, "", "-"}}}, {"n/a", 1, []Place{{17, "", "n/a"}}}}, c.Words)
	var told []string
	for _, o := range c.Oddities {
		var places []string
		for _, p := range o.Places {
			places = append(places, fmt.Sprintf("%d %s", p.Line, p.Says))
		}
		told = append(told, fmt.Sprintf("%d %s: %s", o.Count, o.What, strings.Join(places, ", ")))
	}
	assert.Equal(t, []string{"1 with leading or trailing blanks: 15  Norway", "1 with doubled blanks: 16 Nor  way",
		"1 with no-break blanks: 20 Nor\u00a0way",
		"2 spellings of one word: 16 Nor  way, 20 Nor\u00a0way",
		"14 spellings of one word: 2 Norway, 14 norway, 15  Norway"}, told)
	assert.Equal(t, Count{"Norway", 12}, c.Frequent[0])
	assert.Equal(t, int64(7), c.Distinct)

	numbers := column(t, append(times(20, "7"), "8", "x", "9.5")...)
	assert.Equal(t, Oddity{Count: 1, Places: []Place{{23, "", "x"}}}, numbers.Misfits)
	assert.Equal(t, []int{2, 1}, []int{numbers.Digits, numbers.Scale})
	sum := int64(0)
	for _, b := range numbers.Values {
		sum += b.Count
	}
	assert.Equal(t, int64(22), sum)
	assert.Equal(t, []Bar{{"1", "1", 22}, {"2", "2", 0}, {"3", "3", 1}}, numbers.Lengths)

	for looks, cell := range map[string]string{"e-mail addresses": "desk@merrow.example",
		"phone numbers": "+00 (0)55 123-4567", "web addresses": "https://merrow.example/a",
		"postcodes": "AB1 2CD", "amounts with a currency": "€ 12", "percentages": "5%",
		"numbers with a unit": "12.5 m³", "": "Berth 7"} {
		assert.Equal(t, looks, column(t, cell, cell, "x").Looks, cell)
	}
}

func TestRowsThatAreNoRecords(t *testing.T) {
	in := of(t, "Vessel,Tons\n"+strings.Repeat("Otter,5\n", 20)+"Heron\n\n,\nTotal,100\n").Inputs[0]
	assert.Equal(t, int64(21), in.Rows)
	assert.Equal(t, Oddity{Count: 1, Places: []Place{{22, "", "the line has only 1 of 2 fields"}}}, in.Broken)
	assert.Equal(t, []Place{{25, "", "Total"}}, in.Totals)
	assert.Equal(t, int64(2), in.Read.Blank)
}

// calls is a flat file in which each vessel has a type and a flag, and a call is identified by its vessel and its day.
func calls(t *testing.T, rows int, change func(row int, cells []string)) string {
	r := seeded.Rand(t)
	var b strings.Builder
	b.WriteString("No.,Vessel,Type,Flag,Day,Berth,Tons\n")
	for i := range rows {
		vessel := (i * 7) % 300
		cells := []string{fmt.Sprintf("C-%05d", i), fmt.Sprintf("Vessel %d", vessel),
			[]string{"Tug", "Barge", "Coaster"}[vessel%3], []string{"Norway", "Denmark"}[vessel%2],
			fmt.Sprintf("day %d", i/300), fmt.Sprintf("B%d", r.IntN(9)), fmt.Sprint(r.IntN(5000))}
		if change != nil {
			change(i, cells)
		}
		b.WriteString(strings.Join(cells, ",") + "\n")
	}
	return b.String()
}

func TestKeysAndParents(t *testing.T) {
	in := of(t, calls(t, 60_000, nil)).Inputs[0]
	require.Len(t, in.Keys, 2)
	assert.Equal(t, Key{Columns: []string{"No."}, column: 0}, in.Keys[0])
	assert.Equal(t, Key{Columns: []string{"Vessel", "Day"}, column: -1}, in.Keys[1])
	require.Len(t, in.Parents, 1)
	assert.Equal(t, Parent{"Vessel", 300, []Decision{{"Type", Oddity{}}, {"Flag", Oddity{}}}}, in.Parents[0])

	far := of(t, calls(t, 60_000, func(row int, cells []string) {
		switch row {
		case 59_000:
			cells[0] = "C-00010"
			cells[1], cells[2], cells[3] = "Vessel 0", "Tug", "Norway"
			cells[4] = "day 0"
		case 59_500:
			cells[2] = "Frigate"
		}
	})).Inputs[0]
	assert.Equal(t, Key{Columns: []string{"No."}, Repeats: 1, First: []Repeat{{59_002, 12}}, column: 0}, far.Keys[0],
		"what repeats stands far behind the sample")
	assert.Equal(t, []Repeat{{59_002, 2}}, far.Keys[1].First)
	assert.Equal(t, []Place{{59_502, "", "Vessel 100"}}, far.Parents[0].Decides[0].Against.Places)

	many := of(t, calls(t, 60_000, func(row int, cells []string) {
		if row > 30_000 {
			cells[0], cells[2] = fmt.Sprint(row%100), fmt.Sprint(row)
		}
	})).Inputs[0]
	assert.Equal(t, []string{"Vessel", "Day"}, many.Keys[0].Columns,
		"what the sample promises is given up when the rows don't keep it")
	assert.Equal(t, []Decision{{"Flag", Oddity{}}}, many.Parents[0].Decides)
}

func TestFilesThatBelongTogether(t *testing.T) {
	var berths, stays strings.Builder
	berths.WriteString("Code,Depth\n")
	stays.WriteString("Berth,Hours\n")
	for i := range 40 {
		fmt.Fprintf(&berths, "B%d,%d\n", i, i+3)
		fmt.Fprintf(&stays, "B%d,%d\nB%d,7\n", i, i+3, (i*3)%40)
	}
	stays.WriteString("B99,1\n")
	relations := of(t, berths.String(), stays.String()).Relations
	require.Len(t, relations, 1, "numbers that are within each other by chance are no relation")
	r := relations[0]
	assert.Equal(t, []string{"Berth", "Code"}, []string{r.Column, r.Key})
	assert.Equal(t, []int{40, 41}, []int{r.Shared, r.Values})
	assert.Equal(t, []string{"B99"}, r.Missing)
	assert.False(t, r.Sampled)
}

// TestManyDifferentValues: beyond the bound counts are estimates that say so, keys are still exact, and one worker says the
// same as several.
func TestManyDifferentValues(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and many other files are read side by side")
	}
	var b strings.Builder
	b.WriteString("No.,Half,Name,Remark\n")
	const rows = 300_000
	remarks := []string{" late", "7", "1.5", "n/a", "2026-03-14", "on  time", "late ", "7"}
	for i := range rows {
		fmt.Fprintf(&b, "%d,%d,\"name, %d\",%s\n", i, i/2, i%50_000, remarks[i*i%len(remarks)+i%3/2])
	}
	s := of(t, b.String())
	in := s.Inputs[0]
	assert.Equal(t, int64(rows), in.Rows)
	assert.Equal(t, int64(rows), in.Columns[0].Distinct)
	assert.True(t, in.Columns[0].Exact, "a key is counted row by row")
	assert.InEpsilon(t, rows/2, in.Columns[1].Distinct, 0.05)
	assert.False(t, in.Columns[1].Exact)
	assert.Equal(t, int64(50_000), in.Columns[2].Distinct)
	assert.True(t, in.Columns[2].Exact)
	assert.Equal(t, "299999", in.Columns[0].Most)
	assert.Equal(t, int64(200_002), in.Columns[1].LongLine, "the first, whoever reads it")
	one, err := json.Marshal(s.Inputs[0].Columns)
	require.NoError(t, err)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	two, err := json.Marshal(of(t, b.String()).Inputs[0].Columns)
	require.NoError(t, err)
	assert.Equal(t, string(one), string(two))
}

// TestAgainstCounting holds what is told of random cells against counting them one by one.
func TestAgainstCounting(t *testing.T) {
	r := seeded.Rand(t)
	words := []string{"7", "12.5", "-3", "", "n/a", "Otter", "otter", " Otter", "2026-03-01", "x@y.zz", "0.05", "1,5",
		"yes", "Æ"}
	for range 30 {
		var cells []string
		counts, lengths := map[string]int64{}, map[int]int64{}
		for range 1 + r.IntN(400) {
			cell := words[r.IntN(1+r.IntN(len(words)))]
			cells = append(cells, cell)
			counts[cell]++
			if strings.TrimSpace(cell) != "" {
				lengths[len([]rune(cell))]++
			}
		}
		c := column(t, cells...)
		blank := counts[""]
		delete(counts, "")
		assert.Equal(t, blank, c.Blank)
		assert.Equal(t, int64(len(counts)), c.Distinct)
		assert.Equal(t, int64(len(cells)), c.Blank+c.Fit+c.Misfits.Count+counts["n/a"])
		for _, f := range c.Frequent {
			assert.Equal(t, counts[f.Value], f.Count)
		}
		for _, b := range c.Lengths {
			var from int
			fmt.Sscan(b.From, &from)
			assert.Equal(t, lengths[from], b.Count)
		}
	}
}

// TestAFileOfBrokenLines: lines that can't be split are counted, however many they are, and don't hold the others
// up.
func TestAFileOfBrokenLines(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and many other files are read side by side")
	}
	const broken = 3_000_000
	in := of(t, "Vessel,Tons\n"+strings.Repeat("Otter,5\n", 400)+strings.Repeat("1,2,3,4\n", broken)+
		strings.Repeat("Heron,7\n", 30)).Inputs[0]
	assert.Equal(t, int64(430), in.Rows)
	assert.Equal(t, int64(broken), in.Broken.Count)
	assert.Equal(t, Place{Line: 402, Says: "the line has 4 fields, the header 2"}, in.Broken.Places[0])
	assert.Equal(t, int64(2), in.Columns[0].Distinct)
	assert.Equal(t, "whole number", in.Columns[1].Type)
}

func TestSurveyStops(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	stop()
	path := filepath.Join(t.TempDir(), "a.csv")
	require.NoError(t, os.WriteFile(path, []byte(calls(t, 50_000, nil)), 0o600))
	tables, err := Open([]string{path}, source.ReadOptions{})
	require.NoError(t, err)
	defer Close(tables)
	_, err = Run(ctx, tables, nil)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = Open([]string{path, path + ".none"}, source.ReadOptions{})
	assert.ErrorContains(t, err, "there is no such file")
}

func askedSheet(name string) source.ReadOptions { return source.ReadOptions{Sheet: name} }

// TestTheLongestCellHasItsLine: the first of several, also in a file of many chunks.
func TestTheLongestCellHasItsLine(t *testing.T) {
	c := column(t, "a", "Grüße!", "abcdef", "", "x")
	assert.Equal(t, []int64{6, 3}, []int64{int64(c.Longest), c.LongLine})
	assert.Zero(t, column(t, "", "").LongLine)
	var b strings.Builder
	b.WriteString("No.\tValue\n")
	const lines, at = 200_000, 150_001
	for i := range lines {
		cell := fmt.Sprintf("cell %d", i%1000)
		if i == at || i == at+40_000 {
			cell = "the longest of all"
		}
		fmt.Fprintf(&b, "%d\t%s\n", i, cell)
	}
	c = of(t, b.String()).Inputs[0].Columns[1]
	assert.Equal(t, []int64{18, at + 2}, []int64{int64(c.Longest), c.LongLine})
}
