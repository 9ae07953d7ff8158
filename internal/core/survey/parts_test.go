package survey

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"testing"

	"ladle/internal/core/source"
	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// words are what a cell fits, in a fixed order.
func (f forms) words() (all []string) {
	for bit, word := range map[forms]string{fitWhole: "whole", fitDot: "dot", fitComma: "comma", fitTime: "time",
		fitTruth: "truth", fitClock: "clock", fitSwap: "swap"} {
		if f&bit != 0 {
			all = append(all, word)
		}
	}
	for p, pattern := range datePatterns {
		if f&dateFit(p) != 0 {
			all = append(all, pattern)
		}
	}
	slices.Sort(all)
	return all
}

func TestWhatACellCouldBe(t *testing.T) {
	cases := map[string][]string{
		"7": {"comma", "dot", "whole"}, "-7": {"comma", "dot", "whole"}, "0": {"comma", "dot", "whole"}, "007": nil,
		"00":  nil,
		"7.5": {"dot"}, "7,5": {"comma"}, "1,234": {"comma", "dot", "swap"}, "1.234": {"comma", "dot", "swap"},
		"1,234.5": {"dot"}, "1.234,5": {"comma"},
		"1.234.567": {"comma"}, "1,234,567": {"dot"}, "1,2,3": nil, "1234,567": {"comma"}, "0.125": {"dot"},
		"0,125": {"comma"},
		".5":    {"dot"}, "5.": nil, "-": nil, "+7": {"comma", "dot"}, "--7": nil, "7-": {"comma", "dot"},
		"(7)": {"comma", "dot"}, "()": nil, "−7": {"comma", "dot"},
		"1 234": {"comma", "dot"}, "1 234,5": {"comma"}, "1'234.5": {"dot"}, "12 34": nil,
		"1\u00a0234": {"comma", "dot"}, "1\u202f234,5": {"comma"},
		"€7": {"comma", "dot"}, "7 €": {"comma", "dot"}, "-€7.50": {"dot"}, "€ -7,5": {"comma"},
		"EUR 7": {"comma", "dot"}, "7%": {"comma", "dot"}, "%": nil, "€": nil,
		"12a": nil, "a12": nil, "1e5": nil, "PM-007465": nil, "12-34": nil, "1/2": nil,
		"2026-03-31": {"yyyy-MM-dd"}, "2026-3-1": {"yyyy-MM-dd"}, "2026-02-29": nil, "2024-02-29": {"yyyy-MM-dd"},
		"2026-13-01": nil, "2026-00-10": nil,
		"03/04/2026": {"MM/dd/yyyy", "dd/MM/yyyy"}, "13/04/2026": {"dd/MM/yyyy"}, "04/13/2026": {"MM/dd/yyyy"},
		"31/02/2026": nil, "3/4/26": {"MM/dd/yy", "dd/MM/yy"},
		"31.12.1999": {"dd.MM.yyyy"}, "31.12.99": {"dd.MM.yy"}, "2026.12.31": {"yyyy.MM.dd"},
		"2026/12/31": {"yyyy/MM/dd"}, "05-06-2026": {"MM-dd-yyyy", "dd-MM-yyyy"},
		"20260331": {"comma", "dot", "whole", "yyyyMMdd"}, "20261331": {"comma", "dot", "whole"},
		"18990101":   {"comma", "dot", "whole"},
		"1 Mar 2026": {"dd MMM yyyy"}, "01-March-2026": {"dd-MMM-yyyy"}, "Mar 1, 2026": {"MMM dd, yyyy"},
		"1 Mars 2026": nil, "March": nil, "May 2026": nil,
		"2026-03-31 15:04": {"clock", "yyyy-MM-dd"}, "2026-03-31T15:04:05.250": {"clock", "yyyy-MM-dd"},
		"2026-03-31T15:04:05Z":   {"clock", "yyyy-MM-dd"},
		"2026-03-31T15:04+02:00": {"clock", "yyyy-MM-dd"}, "2026-03-31 25:04": nil, "2026-02-30 12:00": nil,
		"31.12.1999 06:00":   {"clock", "dd.MM.yyyy"},
		"03/14/2026 4:15 pm": {"MM/dd/yyyy", "clock"}, "03/14/2026 13:15 pm": nil, "15:04": {"time"}, "5:04": {"time"},
		"15:04:05": {"time"}, "15:4": nil, "24:00": nil, "15:60": nil,
		"12:00 AM": {"time"}, "00:30 am": nil, "yes": {"truth"}, "NO": {"truth"}, "Y": {"truth"}, "maybe": nil,
		"true": {"truth"}, "": nil, "Otter": nil,
	}
	for cell, want := range cases {
		assert.Equal(t, want, readCell([]byte(cell), classesOf([]byte(cell))).fits.words(), cell)
	}
	noon := readCell([]byte("12:05 AM"), classesOf([]byte("12:05 AM")))
	assert.Equal(t, int64(5*60*1e6), noon.micros)
	assert.Equal(t, "h:mm a", noon.clock)
}

func TestDecimals(t *testing.T) {
	sorted := []string{"-1000", "-12.5", "-12.05", "-0.001", "0", "0.001", "0.01", "7", "12.05", "12.5", "1000"}
	read := func(s string) decimal { return readCell([]byte(s), classesOf([]byte(s))).dot }
	for i, a := range sorted {
		for j, b := range sorted {
			n := read(a).compare(read(b))
			assert.Equal(t, []bool{i < j, i == j, i > j}, []bool{n < 0, n == 0, n > 0}, a+" and "+b)
		}
	}
	assert.Zero(t, read("12.50").compare(read("12.5")))
	assert.Zero(t, decimal{negative: true, whole: []byte("0")}.compare(decimal{whole: []byte("0")}))
	assert.InDelta(t, -12.05, read("-12.05").float(), 1e-12)
	for _, f := range []float64{-1e9, -3.7, 0, 1e-9, 5, 123456.789} {
		start, next := bucketStart(bucketOf(f)), bucketStart(bucketOf(f)+1)
		assert.True(t, math.Min(start, next) <= f && f <= math.Max(start, next), f)
	}
}

// TestDaysAreThoseOfTheCalendar holds day numbers against counting days one by one.
func TestDaysAreThoseOfTheCalendar(t *testing.T) {
	want := int64(0)
	for year := 1970; year < 2405; year++ {
		for month := 1; month <= 12; month++ {
			for day := 1; day <= 31; day++ {
				got, ok := dayNumber(year, month, day)
				if !ok {
					continue
				}
				require.Equal(t, want, got, "%d-%d-%d", year, month, day)
				want++
			}
		}
	}
	assert.Equal(t, int64(158_881), want, "435 years with 106 leap days")
}

// tallyOf counts cells of one chunk.
func tallyOf(cells []string) *tally {
	t := &tally{}
	t.reset(nil, 4)
	for i, c := range cells {
		t.add([]byte(c), 0, int64(i))
	}
	return t
}

func TestTallies(t *testing.T) {
	var cells []string
	counts := map[string]int32{}
	r := seeded.Rand(t)
	for range 20_000 {
		c := fmt.Sprint(r.IntN(6000))
		cells = append(cells, c)
		counts[c]++
	}
	tl := tallyOf(cells)
	require.Len(t, tl.entries, len(counts))
	for row, id := range tl.ids {
		e := &tl.entries[id]
		require.Equal(t, cells[row], string(tl.text(e)))
		require.Equal(t, counts[cells[row]], e.count)
		require.LessOrEqual(t, e.first, int64(row))
	}
	tl.reset(nil, 4)
	assert.Empty(t, tl.entries)
}

func TestValuesBeyondTheirBound(t *testing.T) {
	v := newValues(slotBudget / 1024) // a file of many columns: 1,024 values each
	require.Equal(t, 1024, v.bound)
	all, often := 40_000, 0
	for start := 0; start < all; start += 500 {
		var cells []string
		for i := range 500 {
			cells = append(cells, fmt.Sprint("value ", start+i), "often")
			often++
		}
		v.add(tallyOf(cells))
	}
	n, exact := v.distinct()
	assert.False(t, exact)
	assert.InEpsilon(t, all+1, n, 0.05)
	assert.LessOrEqual(t, v.used, 2*v.bound)
	assert.Equal(t, value{"often", int64(often), 1}, v.frequent(1)[0], "what came early is counted to the end")

	half := newValues(slotBudget / 1024)
	var cells []string
	for i := range all / 2 {
		cells = append(cells, fmt.Sprint("value ", i))
	}
	half.add(tallyOf(cells))
	shared, of := half.within(v)
	assert.Equal(t, of, shared, "samples of several columns hold the same cells")
	assert.Greater(t, of, 100)
	shared, of = v.within(half)
	assert.InEpsilon(t, float64(of)/2, shared, 0.25)
	assert.Empty(t, half.missing(v, 3))
}

// TestRepeatsAgainstCounting holds the repeats of keys against counting them, in one pass and in several.
func TestRepeatsAgainstCounting(t *testing.T) {
	r := seeded.Rand(t)
	for _, rows := range []int{0, 1, 10, 5_000, 120_000} {
		c := &candidate{columns: []int{0}}
		seen, want, first := map[string]int64{}, int64(0), []repeat(nil)
		for start := 0; start < max(rows, 1); start += 3_000 {
			var cells []string
			p := &pass{}
			for row := start; row < min(start+3_000, rows); row++ {
				cell := fmt.Sprint(r.IntN(rows * 3))
				cells = append(cells, cell)
				p.positions = append(p.positions, int64(row+2))
				if at, again := seen[cell]; again {
					want++
					if len(first) < fewSpots {
						first = append(first, repeat{int64(row + 2), at})
					}
				} else {
					seen[cell] = int64(row + 2)
				}
			}
			p.rows, p.tallies = len(cells), []tally{*tallyOf(cells)}
			require.NoError(t, c.add(p, hashOf(nil), t.TempDir()))
		}
		got, spots, err := c.repeats(context.Background())
		require.NoError(t, err)
		assert.Equal(t, want, got)
		assert.Equal(t, first, spots)
		c.close()
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	c := &candidate{columns: []int{0}}
	require.NoError(t, c.add(&pass{rows: 1, positions: []int64{2}, tallies: []tally{*tallyOf([]string{"x"})}},
		hashOf(nil), t.TempDir()))
	_, _, err := c.repeats(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

func TestSpotsKeepTheFirst(t *testing.T) {
	a, b := &places{}, &places{}
	for i := range 10 {
		a.add(1, int64(100+i), []byte("a"))
		b.add(2, int64(10*i), []byte("b"))
	}
	a.merge(b)
	assert.Equal(t, int64(30), a.count)
	assert.Equal(t, b.first, a.first, "they stand before all of a")
	b.add(1, 5, []byte("c"))
	assert.Equal(t, []place{{0, "b"}, {5, "c"}, {10, "b"}, {20, "b"}, {30, "b"}}, b.first)
}

func TestNamesThatAreAlike(t *testing.T) {
	for names, want := range map[[2]string]bool{{"Vessel", "vessel id"}: true, {"berth_id", "Berth"}: true,
		{"GT", "gt"}: false, {"Tons", "Hours"}: false, {"Call No.", "no."}: false} {
		assert.Equal(t, want, alike(names[0], names[1]), names)
	}
}

func TestExamplesOfNumbers(t *testing.T) {
	for want, w := range map[string]writing{"1234.5": {}, "1,234.5": {group: ','}, "€1234.5": {before: "€"},
		"1'234.5 CHF": {group: '\'', behind: " CHF"}, "(1234.5)": {bracketed: true},
		"1234.5-": {trailing: true}, "1\u00a0234.5": {group: 0xc2}} {
		assert.Equal(t, want, w.example('.', true))
	}
	assert.Equal(t, "1.234,5", writing{group: '.'}.example(',', true))
	assert.Equal(t, "1234", writing{}.example('.', false))
}

// TestPlainCellsTakeAShortWay holds what is seen of cells by the short ways, for plain ones and for those that were met before,
// against what the long way sees.
func TestPlainCellsTakeAShortWay(t *testing.T) {
	r := seeded.Rand(t)
	digits := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte('0' + r.IntN(10))
		}
		return string(b)
	}
	kinds := []func() string{
		func() string { return digits(1 + r.IntN(17)) },
		func() string { return digits(r.IntN(9)) + "." + digits(r.IntN(8)) },
		func() string { return strconv.Itoa(r.IntN(1000)) + "." + strconv.Itoa(r.IntN(100)) },
		func() string { return fmt.Sprintf("%d-%02d-%02d", 900+r.IntN(2000), r.IntN(14), r.IntN(33)) },
		func() string {
			return fmt.Sprintf("20%s-%02d-%02d%c%02d:%02d", digits(2), 1+r.IntN(12), 1+r.IntN(28), " T-"[r.IntN(3)],
				r.IntN(25), r.IntN(61))
		},
		func() string {
			return []string{"Quay", "", " 7", "-3", "1,5", "7:30", "£5", "2026-02-30", "12-4"}[r.IntN(9)]
		},
	}
	for round := range seeded.Rounds(60) {
		short, long := newStats(1), newStats(1)
		long.known = nil
		for chunk := range 12 {
			var cells []string
			for range 60 {
				kind := kinds[round%len(kinds)]
				if r.IntN(12) == 0 {
					kind = kinds[r.IntN(len(kinds))]
				}
				cells = append(cells, kind())
			}
			tl := tallyOf(cells)
			for i := range tl.entries {
				tl.entries[i].first += int64(1000 * chunk)
				e := &tl.entries[i]
				long.cell(tl.text(e), source.StoredBlank, int64(e.count), e.first)
			}
			short.add(tl)
		}
		for _, s := range []*stats{short, long} {
			s.settle()
			s.known, s.met, s.metAgain, s.group, s.groupFits, s.bucketLast, s.length = nil, 0, 0, nil, 0, nil, 0
			s.odd, s.numeric, s.number, s.kind = false, false, 0, 0
		}
		require.Equal(t, long, short)
	}
}
