package spool

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/reason"
	"ladle/internal/core/value"
	"ladle/internal/seeded"
)

// sizes are numbers of batches that stay in memory, and that go to disk.
var sizes = map[string]int{"in memory": 3, "on disk": 400}

func TestASpoolGivesBackWhatItGot(t *testing.T) {
	types := []value.Type{{Kind: value.Int}, {Kind: value.Text}, {Kind: value.Fixed, Scale: 2}}
	for name, batches := range sizes {
		t.Run(name, func(t *testing.T) {
			s := New(t.TempDir(), types)
			for i := range batches {
				require.NoError(t, s.Append(batchOf(types, i)))
			}
			assert.Equal(t, batches > 100, s.file.disk != nil)
			var got value.Batch
			for i := batches - 1; i >= 0; i-- {
				want := batchOf(types, i)
				require.NoError(t, s.Read(i, []int{1, 2}, &got))
				for row := range want.Len() {
					require.True(t, want.Columns[1].Same(row, &got.Columns[1], row))
					require.True(t, want.Columns[2].Same(row, &got.Columns[2], row))
					require.Equal(t, i, s.Holding(s.First(i)+int64(row)))
				}
				assert.Zero(t, got.Columns[0].Len(), "columns that are not wanted stay empty")
			}
			require.NoError(t, s.Close())
			left, err := os.ReadDir(s.file.dir)
			require.NoError(t, err)
			assert.Empty(t, left, "no temporary file may stay")
		})
	}
}

// batchOf makes a batch of 1 to 100 rows that only number i has.
func batchOf(types []value.Type, i int) *value.Batch {
	b := value.NewBatch(types)
	for row := range i%100 + 1 {
		b.Columns[0].AppendNum(int64(i * row))
		if row%3 == 0 {
			b.Columns[1].AppendState(value.Null)
		} else {
			b.Columns[1].AppendBytes([]byte(strings.Repeat("text ", row%20) + fmt.Sprint(i)))
		}
		b.Columns[2].AppendNum(int64(-i))
	}
	return b
}

// point is a record of a stream.
type point struct {
	at   int64
	key  [2]uint64
	high bool
}

func TestLogsStreamsAndProblemsGiveBackWhatTheyGot(t *testing.T) {
	for name, size := range sizes {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			l, s, p := NewLog(dir), NewStream[point](dir), NewProblems(dir)
			records := size * 100
			problem := func(i int) Problem {
				why := reason.Cause{Why: reason.Why{Kind: reason.NotFound, Table: "berth",
					Columns: reason.List("quay", "code")}, Detail: reason.Detail{Near: fmt.Sprint(i)}}
				return Problem{Row: int64(i), Column: i%5 - 1, Cell: strings.Repeat("é", i%50), Why: why}
			}
			of := func(i int) point { return point{int64(-i), [2]uint64{1 << 63, ^uint64(i)}, i%2 == 0} }
			for i := range records {
				require.NoError(t, l.Append(fmt.Appendf(l.Room(), "%d %s", i, strings.Repeat("é", i%50))))
				require.NoError(t, s.Append(of(i)))
				require.NoError(t, p.Append(problem(i)))
			}
			assert.Equal(t, []int64{int64(records), int64(records), int64(records)}, []int64{l.Len(), s.Len(), p.Len()})
			logs, problems := l.Reader(), p.Reader()
			i := 0
			require.NoError(t, s.Each(func(x *point) error {
				require.Equal(t, of(i), *x)
				text, err := logs.Next()
				require.NoError(t, err)
				require.Equal(t, fmt.Sprintf("%d %s", i, strings.Repeat("é", i%50)), string(text))
				got, err := problems.Next()
				require.NoError(t, err)
				require.Equal(t, problem(i), got)
				i++
				return nil
			}))
			assert.Equal(t, records, i)
			_, err := logs.Next()
			assert.Equal(t, io.EOF, err)
			_, err = problems.Next()
			assert.Equal(t, io.EOF, err)
			for _, c := range []io.Closer{l, s, p} {
				require.NoError(t, c.Close())
			}
		})
	}
}

func TestRowSet(t *testing.T) {
	var s RowSet
	for _, row := range []int64{0, 63, 64, 1000, 1000} {
		s.Add(row)
	}
	assert.Equal(t, int64(4), s.Len())
	assert.True(t, s.Has(63) && s.Has(64) && s.Has(1000))
	assert.False(t, s.Has(1) || s.Has(1001) || s.Has(1<<40))
	assert.True(t, s.Any(900, 101))
	assert.False(t, s.Any(65, 935))
}

func TestAFullDiskIsSaid(t *testing.T) {
	s := New(t.TempDir()+"/gone", []value.Type{{Kind: value.Text}})
	b := value.NewBatch(s.Types())
	b.Columns[0].AppendBytes(make([]byte, 2*resident))
	err := s.Append(b)
	if err == nil {
		err = s.Append(b)
	}
	assert.ErrorContains(t, err, "making a temporary file")
}

func TestASorterOrdersByKeysAndThenByTheOrderOfAdding(t *testing.T) {
	for name, most := range map[string]int{"in memory": 0, "in pieces": 2000, "in more pieces than are merged at a " +
		"time": 60} {
		t.Run(name, func(t *testing.T) {
			r := seeded.Rand(t)
			s := NewSorter(t.TempDir(), most)
			var want []string
			for i := range 1000 {
				key := strings.Repeat("k", r.IntN(4)) + fmt.Sprint(r.IntN(50))
				want = append(want, fmt.Sprintf("%s:%03d", key, i))
				require.NoError(t, s.Add([]byte(key), fmt.Appendf(nil, "%03d", i)))
			}
			slices.SortStableFunc(want, func(a, b string) int {
				return strings.Compare(strings.Split(a, ":")[0], strings.Split(b, ":")[0])
			})
			var got []string
			require.NoError(t, s.Each(func(key, content []byte) error {
				got = append(got, string(key)+":"+string(content))
				return nil
			}))
			assert.Equal(t, want, got)
			require.NoError(t, s.Close())
		})
	}
}
