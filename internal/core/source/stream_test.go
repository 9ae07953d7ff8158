package source

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// streamed is a stream of n rows of three columns, which fails behind them where err isn't nil.
func streamed(n int, err error, ended *bool) RowPart {
	return RowPart{File: File{Path: "table berth", Query: true}, Each: func(take func([]string, [][]byte) error) error {
		defer func() { *ended = true }()
		if err := take([]string{"code", "note", "depth"}, nil); err != nil {
			return err
		}
		long := []byte(strings.Repeat("x", 300))
		row := [][]byte{nil, nil, {}}
		for i := range n {
			row[0], row[1] = fmt.Appendf(row[0][:0], "B,\n\"%d", i), nil
			if i%7 == 0 {
				row[1] = long
			}
			if err := take([]string{"code", "note", "depth"}, row); err != nil {
				return err
			}
		}
		return err
	}}
}

func TestStreamGivesRowsAsTheyCome(t *testing.T) {
	for _, n := range []int{0, 1, 50_000} {
		ended := false
		table, err := Stream(streamed(n, nil, &ended))
		require.NoError(t, err)
		assert.Equal(t, []string{"code", "note", "depth"}, table.Header().Names)
		at, long := 0, 0
		count := func(c *Chunk) (rows int) {
			r := Record{Keep: true}
			for c.Next(&r) {
				rows++
			}
			return rows
		}
		err = Each(context.Background(), table, func(c *Chunk) []string {
			var codes []string
			var r Record
			for c.Next(&r) {
				_, line := PositionIn(r.Position)
				assert.Len(t, r.Fields, 3)
				assert.Empty(t, r.Fields[2])
				codes = append(codes, fmt.Sprintf("%d %s %d", line, r.Fields[0], len(r.Fields[1])))
			}
			return codes
		}, func(c *Chunk, codes []string) error {
			assert.Zero(t, count(c), "it was read to its end")
			for _, code := range codes {
				want := 0
				if at%7 == 0 {
					want, long = 300, long+1
				}
				assert.Equal(t, fmt.Sprintf("%d B,\n\"%d %d", at+1, at, want), code)
				at++
			}
			return nil
		})
		require.NoError(t, err)
		assert.Equal(t, n, at)
		_, err = table.Again(Origin{})
		assert.ErrorContains(t, err, "table berth can be read once")
		require.NoError(t, table.Close())
		assert.True(t, ended)
	}
}

func TestStreamEndsWithItsRows(t *testing.T) {
	lost := errors.New("the connection was lost")
	ended := false
	table, err := Stream(streamed(3, lost, &ended))
	require.NoError(t, err)
	err = Each(context.Background(), table, func(*Chunk) int { return 0 }, func(*Chunk, int) error { return nil })
	assert.ErrorIs(t, err, lost)
	require.NoError(t, table.Close())

	_, err = Stream(RowPart{Each: func(func([]string, [][]byte) error) error { return lost }})
	assert.ErrorIs(t, err, lost, "before the header")

	ended = false
	table, err = Stream(streamed(1_000_000, nil, &ended))
	require.NoError(t, err)
	_, err = table.Next()
	require.NoError(t, err)
	require.NoError(t, table.Close())
	assert.True(t, ended, "nobody gives rows any more once it is closed")
}
