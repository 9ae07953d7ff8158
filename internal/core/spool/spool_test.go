package spool

import (
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/value"
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

func TestLogsAndStreamsGiveBackWhatTheyGot(t *testing.T) {
	for name, size := range sizes {
		t.Run(name, func(t *testing.T) {
			l, s := NewLog(t.TempDir()), NewStream(t.TempDir(), 3)
			records := size * 100
			for i := range records {
				require.NoError(t, l.Append([]int64{int64(i), -7}, []string{"", strings.Repeat("é", i%50)}))
				require.NoError(t, s.Append(uint64(i), 1<<63, ^uint64(i)))
			}
			assert.Equal(t, int64(records), l.Len())
			assert.Equal(t, int64(records), s.Len())
			logs, numbers, texts := l.Reader(), make([]int64, 2), make([]string, 2)
			stream, err := s.Reader()
			require.NoError(t, err)
			for i := range records {
				more, err := logs.Next(numbers, texts)
				require.True(t, more && err == nil)
				require.Equal(t, []int64{int64(i), -7}, numbers)
				require.Equal(t, strings.Repeat("é", i%50), texts[1])
				words, err := stream.Next()
				require.NoError(t, err)
				require.Equal(t, []uint64{uint64(i), 1 << 63, ^uint64(i)}, words)
			}
			more, err := logs.Next(numbers, texts)
			assert.False(t, more || err != nil)
			_, err = stream.Next()
			assert.Equal(t, io.EOF, err)
			require.NoError(t, l.Close())
			require.NoError(t, s.Close())
		})
	}
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
