package keyindex

import (
	"fmt"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
	"ladle/internal/seeded"
)

func key(n int) Hash { return HashOf(fmt.Appendf(nil, "key %d", n)) }

// TestAnIndexKnowsWhatItWasTold holds an index, in memory and in parts on disk, against a map.
func TestAnIndexKnowsWhatItWasTold(t *testing.T) {
	table := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "code"},
		{Name: "id", Type: value.Type{Kind: value.Int}}}}
	for _, parts := range []int{1, 7} {
		t.Run(fmt.Sprintf("%d parts", parts), func(t *testing.T) {
			r := seeded.Rand(t)
			x := New(table, []string{"code"}, Options{Yields: "id", Parts: parts, Dir: t.TempDir()})
			defer x.Close()
			want := map[int]Entry{}
			for range 20_000 {
				n := r.IntN(6000)
				e := Entry{State: []State{SetAside, Present, Present}[r.IntN(3)], Ref: int64(r.IntN(2))}
				require.NoError(t, x.Put(key(n), e))
				old, known := want[n]
				switch {
				case !known || old.State == SetAside && e.State == Present:
					want[n] = e
				case old.State == Present && e.State == Present && old.Ref != e.Ref:
					want[n] = Entry{State: Several, Ref: old.Ref}
				}
			}
			for i := range parts {
				part, err := x.Load(i)
				require.NoError(t, err)
				for n := range 6500 {
					if h := key(n); h.Part(parts) == i {
						require.Equal(t, want[n], part.Get(h), "key %d", n)
					}
				}
				part.Unload()
			}
		})
	}
}

func TestHashesSpreadOverParts(t *testing.T) {
	counts := make([]int, 8)
	for n := range 80_000 {
		counts[key(n).Part(8)]++
	}
	for part, count := range counts {
		assert.InDelta(t, 10_000, count, 600, "part %d", part)
	}
}

// TestManyRowsAreHashedAsFewAre: they are shared among the processors.
func TestManyRowsAreHashedAsFewAre(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	r := seeded.Rand(t)
	for _, n := range []int{0, 1, 2*fewRows - 1, 2 * fewRows, 4*fewRows + 3} {
		a, b := value.Column{Kind: value.Int}, value.Column{Kind: value.Text}
		for range n {
			a.AppendNum(r.Int64N(50))
			if state := []value.State{value.Null, value.Given, value.Bad}[r.IntN(3)]; state != value.Given {
				b.AppendState(state)
			} else {
				b.AppendBytes([]byte{byte(r.IntN(9))})
			}
		}
		for _, blanks := range []bool{false, true} {
			want := make([]Hash, n)
			hashRows([]*value.Column{&a, &b}, blanks, want, 0, n)
			assert.Equal(t, want, hashes([]*value.Column{&a, &b}, blanks, make([]Hash, 7)))
		}
	}
}

// TestAnIndexMergesWhatItHearsOfOneKey: rows that are there, that steps touch, and that leave for another key.
func TestAnIndexMergesWhatItHearsOfOneKey(t *testing.T) {
	cases := []struct {
		name string
		told []Entry
		want Entry
	}{
		{"a row that is there", []Entry{{State: Present, Ref: 7}}, Entry{State: Present, Ref: 7}},
		{"twice the same", []Entry{{State: Present, Ref: 7}, {State: Present, Ref: 7}}, Entry{State: Present, Ref: 7}},
		{"two rows", []Entry{{State: Present, Ref: 7}, {State: Present, Ref: 8}}, Entry{State: Several, Ref: 7}},
		{"two rows stay several", []Entry{{State: Present, Ref: 7}, {State: Touched, Ref: 8}, {State: Touched, Ref: 7}},
			Entry{State: Several, Ref: 7}},
		{"an earlier step touches it", []Entry{{State: Present, Ref: 7}, {State: Touched, Ref: 7}},
			Entry{State: Touched, Ref: 7}},
		{"what a row has that is read again", []Entry{{State: Present, Content: 5}, {State: Present, Content: 5}},
			Entry{State: Present, Content: 5}},
		{"two rows with other contents, where nothing is yielded", []Entry{{State: Present, Content: 5},
			{State: Present, Content: 6}, {State: Present, Content: 5}}, Entry{State: Present}},
		{"what a row had before it was touched", []Entry{{State: Present, Ref: 7, Content: 5}, {State: Touched, Ref: 7}},
			Entry{State: Touched, Ref: 7}},
		{"which the table says again", []Entry{{State: Touched, Ref: 7}, {State: Present, Ref: 7}},
			Entry{State: Touched, Ref: 7}},
		{"a line that is set aside is nothing against a row",
			[]Entry{{State: SetAside, Ref: 3}, {State: Present, Ref: 7}, {State: SetAside, Ref: 4}},
			Entry{State: Present, Ref: 7}},
		{"the row gets another key", []Entry{{State: Present, Ref: 7}, {State: Left, Ref: 7}},
			Entry{State: Left, Ref: 7}},
		{"which the table doesn't know yet", []Entry{{State: Left, Ref: 7}, {State: Present, Ref: 7}},
			Entry{State: Left, Ref: 7}},
		{"another row takes its place", []Entry{{State: Present, Ref: 7}, {State: Left, Ref: 7},
			{State: Touched, Ref: 9}}, Entry{State: Touched, Ref: 9}},
		{"another row leaves", []Entry{{State: Present, Ref: 7}, {State: Left, Ref: 9}}, Entry{State: Present, Ref: 7}},
		{"a name that may be added", []Entry{{State: Left, Ref: 7}, {State: Addable, Ref: 2}},
			Entry{State: Addable, Ref: 2}},
	}
	for _, c := range cases {
		for _, parts := range []int{1, 3} {
			t.Run(fmt.Sprintf("%s, %d parts", c.name, parts), func(t *testing.T) {
				table := &schema.Table{Name: "berth", Columns: []schema.Column{{Name: "code"},
					{Name: "id", Type: value.Type{Kind: value.Int}}}}
				x := New(table, []string{"code"}, Options{Yields: "id", Parts: parts, Dir: t.TempDir()})
				defer x.Close()
				for _, e := range c.told {
					require.NoError(t, x.Put(key(1), e))
				}
				at := key(1).Part(parts)
				part, err := x.Load(at)
				require.NoError(t, err)
				got := part.Get(key(1))
				assert.Equal(t, c.want, got)
				assert.Equal(t, got.State == Present || got.State == Touched, got.One())
				assert.Equal(t, got.One() || got.State == Several, got.There())
			})
		}
	}
}
