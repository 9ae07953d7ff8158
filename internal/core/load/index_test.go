package load

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/aside"
	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

func key(n int) hash { return hashOf(fmt.Appendf(nil, "key %d", n)) }

// TestAnIndexKnowsWhatItWasTold holds an index, in memory and in parts on disk, against a map.
func TestAnIndexKnowsWhatItWasTold(t *testing.T) {
	table := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "code"}, {Name: "id", Type: value.Type{Kind: value.Int}}}}
	for _, parts := range []int{1, 7} {
		t.Run(fmt.Sprintf("%d parts", parts), func(t *testing.T) {
			r := rand.New(rand.NewPCG(uint64(parts), 5))
			x := newIndex(table, []string{"code"}, "id", parts, t.TempDir())
			defer x.close()
			want := map[int]entry{}
			for range 20_000 {
				n := r.IntN(6000)
				e := entry{[]entryState{isAside, present, present}[r.IntN(3)], int64(r.IntN(2))}
				require.NoError(t, x.put(key(n), e))
				old, known := want[n]
				switch {
				case !known || old.state == isAside && e.state == present:
					want[n] = e
				case old.state == present && e.state == present && old.ref != e.ref:
					want[n] = entry{several, old.ref}
				}
			}
			for i := range parts {
				require.NoError(t, x.load(i))
				for n := range 6500 {
					if h := key(n); h.part(parts) == i {
						require.Equal(t, want[n], x.parts[i].get(h), "key %d", n)
					}
				}
				x.unload(i)
			}
		})
	}
}

func TestHashesSpreadOverParts(t *testing.T) {
	counts := make([]int, 8)
	for n := range 80_000 {
		counts[key(n).part(8)]++
	}
	for part, count := range counts {
		assert.InDelta(t, 10_000, count, 600, "part %d", part)
	}
}

func TestRowSet(t *testing.T) {
	var s rowSet
	for _, row := range []int64{0, 63, 64, 1000, 1000} {
		s.add(row)
	}
	assert.Equal(t, int64(4), s.len())
	assert.True(t, s.has(63) && s.has(64) && s.has(1000))
	assert.False(t, s.has(1) || s.has(1001) || s.has(1<<40))
	assert.True(t, s.any(900, 101))
	assert.False(t, s.any(65, 935))
}

func TestLocatorsComeInTheOrderOfTheirSpans(t *testing.T) {
	l := locators{spans: []engine.Span{{First: 5, Count: 2}, {First: 0, Count: 0}, {First: 90, Count: 1}}}
	assert.Equal(t, []int64{5, 6, 90}, []int64{l.next(), l.next(), l.next()})
	none := locators{}
	assert.Zero(t, none.next(), "a table without locators gives none")
}

func TestRejectionsAreKeptByReason(t *testing.T) {
	r := &rejections{}
	for row := range int64(3000) {
		r.add(row, fmt.Sprintf("reason %d", row))
	}
	r.add(5, "reason 4")
	assert.Len(t, r.why, manyReasons)
	problems := r.in(&view{first: 4, n: 3})
	words := make([]string, len(problems))
	for i, p := range problems {
		words[i] = fmt.Sprintf("%d %s", p.row, p.why)
	}
	const before = "the database does not take the row: "
	assert.Equal(t, []string{"0 " + before + "reason 4", "1 " + before + "reason 4", "1 " + before + "reason 5", "2 " + before + "reason 6"}, words)
	assert.Len(t, r.in(&view{first: 2500, n: 2}), 2, "no row is lost where there are too many reasons")
}

func TestTallyAddsUp(t *testing.T) {
	var tally Tally
	for _, v := range []verdict{added, kept, kept, repeated, setAside} {
		tally.count(v)
	}
	assert.Equal(t, Tally{Read: 5, Added: 1, Kept: 2, Repeated: 1, SetAside: 1}, tally)
	assert.True(t, tally.Balanced())
	tally.Kept--
	assert.False(t, tally.Balanced())
}

func TestLongCellsAreShortenedInReasons(t *testing.T) {
	assert.Equal(t, 81, len([]rune(aside.Shorten(fmt.Sprintf("%0200d", 7)))))
}

func TestStatusOfOutcomes(t *testing.T) {
	aside := []InputReport{{SetAside: 2}}
	for want, r := range map[int]*Report{0: {Outcome: Loaded}, 1: {Outcome: Refused, Inputs: aside}, 2: {Outcome: Declined}, 4: {Outcome: Tried, Inputs: aside}} {
		assert.Equal(t, want, r.Status(), r.Outcome)
	}
}

// TestAnIndexMergesWhatItHearsOfOneKey: rows that are there, that steps touch, and that leave for another key.
func TestAnIndexMergesWhatItHearsOfOneKey(t *testing.T) {
	cases := []struct {
		name string
		told []entry
		want entry
	}{
		{"a row that is there", []entry{{present, 7}}, entry{present, 7}},
		{"twice the same", []entry{{present, 7}, {present, 7}}, entry{present, 7}},
		{"two rows", []entry{{present, 7}, {present, 8}}, entry{several, 7}},
		{"two rows stay several", []entry{{present, 7}, {touched, 8}, {touched, 7}}, entry{several, 7}},
		{"an earlier step touches it", []entry{{present, 7}, {touched, 7}}, entry{touched, 7}},
		{"which the table says again", []entry{{touched, 7}, {present, 7}}, entry{touched, 7}},
		{"a line that is set aside is nothing against a row", []entry{{isAside, 3}, {present, 7}, {isAside, 4}}, entry{present, 7}},
		{"the row gets another key", []entry{{present, 7}, {left, 7}}, entry{left, 7}},
		{"which the table doesn't know yet", []entry{{left, 7}, {present, 7}}, entry{left, 7}},
		{"another row takes its place", []entry{{present, 7}, {left, 7}, {touched, 9}}, entry{touched, 9}},
		{"another row leaves", []entry{{present, 7}, {left, 9}}, entry{present, 7}},
		{"a name that may be added", []entry{{left, 7}, {fresh, 2}}, entry{fresh, 2}},
	}
	for _, c := range cases {
		for _, parts := range []int{1, 3} {
			t.Run(fmt.Sprintf("%s, %d parts", c.name, parts), func(t *testing.T) {
				table := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "code"}, {Name: "id", Type: value.Type{Kind: value.Int}}}}
				x := newIndex(table, []string{"code"}, "id", parts, t.TempDir())
				defer x.close()
				for _, e := range c.told {
					require.NoError(t, x.put(key(1), e))
				}
				at := key(1).part(parts)
				require.NoError(t, x.load(at))
				got := x.parts[at].get(key(1))
				assert.Equal(t, c.want, got)
				assert.Equal(t, got.state == present || got.state == touched, got.one())
				assert.Equal(t, got.one() || got.state == several, got.there())
			})
		}
	}
}
