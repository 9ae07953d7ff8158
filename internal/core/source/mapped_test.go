package source

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ladle/internal/core/reason"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// doubling doubles the first field, adds one, and leaves records with an x out.
type doubling struct{ buf [][]byte }

func (d *doubling) Map(r *Record) bool {
	if len(r.Fields) > 1 && string(r.Fields[1]) == "x" {
		return false
	}
	d.buf = append(d.buf[:0], append(append([]byte{}, r.Fields[0]...), r.Fields[0]...))
	d.buf = append(d.buf, r.Fields[1:]...)
	d.buf = append(d.buf, []byte("new"))
	r.Fields, r.Stored, r.Raw = d.buf, []Stored{StoredText}, nil
	r.Faults = append(r.Faults, Fault{Field: 0, Why: reason.Fault(reason.Unreadable, "is doubled")})
	return true
}

// collect writes the records of a table, a line each.
func collect(t *testing.T, table Table) []string {
	var all []string
	work := func(c *Chunk) (lines []string) {
		c.Seal()
		var r Record
		for c.Next(&r) {
			_, line := PositionIn(r.Position)
			lines = append(lines, fmt.Sprintf("%d: %s %d %d", line, strings.Join(texts(r.Fields), "|"), len(r.Faults),
				len(r.Stored)))
		}
		return lines
	}
	require.NoError(t, Each(context.Background(), table, work,
		func(_ *Chunk, lines []string) error { all = append(all, lines...); return nil }))
	return all
}

func TestMappedRecordsLeaveTheReaderItsMemory(t *testing.T) {
	content := "A,B\n1,a\n2,x\n\"3\"\"\",c\n4,d\n"
	want := []string{"2: 11|a|new 1 1", `4: 3"3"|c|new 1 1`, "5: 44|d|new 1 1"}
	table, err := open(t, content, ReadOptions{})
	require.NoError(t, err)
	front := Map(table, Header{Names: []string{"A", "B", "New"}}, func(*Chunk) Mapping { return &doubling{} })
	assert.Equal(t, []string{"A", "B", "New"}, front.Header().Names)
	assert.Equal(t, want, collect(t, front))
	assert.Equal(t, table, bare(front))
	assert.Equal(t, Dialect{',', '"'}, DialectOf(front))

	t.Run("and two mappings follow each other", func(t *testing.T) {
		table, err := open(t, content, ReadOptions{})
		require.NoError(t, err)
		twice := Map(Map(table, table.Header(), func(*Chunk) Mapping { return &doubling{} }), table.Header(),
			func(*Chunk) Mapping { return &doubling{} })
		assert.Equal(t, []string{"2: 1111|a|new|new 2 1", `4: 3"3"3"3"|c|new|new 2 1`, "5: 4444|d|new|new 2 1"},
			collect(t, twice))
	})
}

func TestReplayGivesTheSameRecordsAgain(t *testing.T) {
	var content strings.Builder
	content.WriteString("A,B\n")
	for i := range 150_000 {
		fmt.Fprintf(&content, "%d,%d\n", i, i%7)
	}
	table, err := open(t, content.String(), ReadOptions{})
	require.NoError(t, err)
	var origins []Origin
	first := 0
	work := func(c *Chunk) (n int) {
		c.Seal()
		var r Record
		for c.Next(&r) {
			n++
		}
		return n
	}
	require.NoError(t, Each(context.Background(), table, work,
		func(c *Chunk, n int) error { origins, first = append(origins, c.Origin), first+n; return nil }))
	require.Greater(t, len(origins), 1)
	before := table.Formats()[0]
	for range 2 {
		again := collect(t, Replay(table, origins))
		require.Len(t, again, first)
		assert.Equal(t, "150001: 149999|3 0 0", again[first-1])
	}
	assert.Equal(t, before, table.Formats()[0], "what was counted is not counted twice")
}

// TestFirstGivesSoManyRecords, whatever the chunks, and the same ones again.
func TestFirstGivesSoManyRecords(t *testing.T) {
	var content strings.Builder
	content.WriteString("A,B\n")
	for i := range 150_000 {
		fmt.Fprintf(&content, "%d,\"%d\n\"\n", i, i%7)
	}
	for _, n := range []int64{1, 2, 40_000, 149_999, 150_000, 150_001} {
		table, err := open(t, content.String(), ReadOptions{})
		require.NoError(t, err)
		first := First(table, n)
		var origins []Origin
		got := int64(0)
		count := func(c *Chunk) (n int64) {
			c.Seal()
			for r := (Record{}); c.Next(&r); {
				n++
			}
			return n
		}
		require.NoError(t, Each(context.Background(), first, count,
			func(c *Chunk, n int64) error { origins, got = append(origins, c.Origin), got+n; return nil }))
		assert.Equal(t, min(n, 150_000), got)
		again := int64(0)
		require.NoError(t, Each(context.Background(), Replay(first, origins), count,
			func(_ *Chunk, n int64) error { again += n; return nil }))
		assert.Equal(t, got, again)
		require.NoError(t, first.Close())
	}
}
