package look

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// TestFileTakesNoMoreThanIsShown: of a long file the first lines, and those from one on, whatever is wrong with them.
func TestFileTakesNoMoreThanIsShown(t *testing.T) {
	path := filepath.Join(t.TempDir(), "in.csv")
	content := "A,B\n" + strings.Repeat("1,2\n", 50_000) + "x\n" + strings.Repeat("3,4\n", 10)
	require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	for _, c := range []struct {
		from, n     int64
		first, last int64
		odd         string
		more        bool
	}{
		{0, 3, 2, 4, "", true},
		{50_001, 3, 50_001, 50_003, "", true},
		{50_002, 1, 50_002, 50_002, "the line has only 1 of 2 fields", true},
		{50_010, 20, 50_010, 50_012, "", false},
	} {
		table, err := source.Open([]string{path}, source.ReadOptions{})
		require.NoError(t, err)
		p, err := File(context.Background(), "in.csv", table, c.from, int(c.n))
		require.NoError(t, err)
		assert.Equal(t, []string{"A", "B"}, p.Columns)
		require.NotEmpty(t, p.Rows)
		assert.Equal(t, c.first, p.Rows[0].Line)
		assert.Equal(t, c.last, p.Rows[len(p.Rows)-1].Line)
		assert.Equal(t, c.odd, p.Rows[0].Odd)
		assert.Equal(t, c.more, p.More)
		for _, r := range p.Rows {
			assert.Len(t, r.Cells, 2)
		}
		table.Close()
	}
	table, err := source.Open([]string{path}, source.ReadOptions{})
	require.NoError(t, err)
	defer table.Close()
	stopped, stop := context.WithCancel(context.Background())
	stop()
	_, err = File(stopped, "in.csv", table, 1, 3)
	assert.ErrorIs(t, err, context.Canceled)
}

// TestRowsOfOddTables: one that can't be read, and one without a whole number to begin from.
func TestRowsOfOddTables(t *testing.T) {
	from := int64(3)
	_, err := Rows(context.Background(), nil, &schema.Table{Name: "v", Odd: "it is a view"}, nil, false, 5)
	assert.ErrorContains(t, err, "v can't be read: it is a view")
	named := &schema.Table{Name: "t", Columns: []schema.Column{{Name: "code", Type: value.Type{Kind: value.Text}}},
		Keys: []schema.Key{{Columns: []string{"code"}}}}
	_, err = Rows(context.Background(), nil, named, &from, false, 5)
	assert.ErrorContains(t, err, "t has no whole-number key to begin from")
	named.Columns[0].Type.Kind = value.Int
	assert.Equal(t, "code", numberKey(named))
	named.Locator = "hidden"
	assert.Equal(t, "code", numberKey(named), "a hidden row number is no column")
}

func TestTooLong(t *testing.T) {
	assert.True(t, Pair{Longest: 9, Length: 8}.TooLong())
	assert.False(t, Pair{Longest: 9}.TooLong(), "there is no bound")
	assert.False(t, Pair{Longest: 9, Length: 8, Lookup: "quay"}.TooLong(), "the row is looked up, the text isn't stored")
}
