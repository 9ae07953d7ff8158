package clean

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

func opened(t *testing.T, content string) source.Table {
	path := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	f, err := source.Open([]string{path}, source.Asked{})
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// plainly is a recipe that does nothing.
func plainly(t *testing.T, table source.Table) *Recipe {
	recipe, problems := NewRecipe(table.Header(), nil, nil, nil)
	require.Empty(t, problems)
	return recipe
}

// columns reads the first column as whole numbers, and the second both as text and as a date.
var columns = []Column{{0, value.Type{Kind: value.Int}}, {1, value.Type{Length: 12}}, {1, value.Type{Kind: value.Date}}}

// told writes the problems, a line each.
func told(t *testing.T, rows *Rows) (all []string) {
	numbers, texts := make([]int64, 2), make([]string, 2)
	for r := rows.Problems.Reader(); ; {
		more, err := r.Next(numbers, texts)
		require.NoError(t, err)
		if !more {
			return all
		}
		all = append(all, fmt.Sprintf("row %d, column %d: %q %s", numbers[0], numbers[1], texts[0], texts[1]))
	}
}

// read reads a table by a recipe that does nothing.
func read(t *testing.T, ctx context.Context, table source.Table, columns []Column, dir string, told func(int64)) (*Rows, error) {
	return Read(ctx, table, plainly(t, table), columns, dir, told)
}

func TestReadTellsEveryProblemOnce(t *testing.T) {
	rows, err := read(t, context.Background(), opened(t, "No,Day\n1,2026-01-01\nx,\n3\n4,\"a\"b\n5,a long long text\n"), columns, t.TempDir(), nil)
	require.NoError(t, err)
	defer rows.Close()
	assert.Equal(t, []string{
		`row 1, column 0: "x" is not a number`,
		`row 2, column -1: "" the line has only 1 of 2 fields`,
		`row 3, column -1: "" text follows the closing quote of a field`,
		`row 4, column 1: "a long long text" is longer than the 12 characters that the column takes`,
		`row 4, column 1: "a long long text" is not a date like 2026-03-31`,
	}, told(t, rows))
	var b value.Batch
	require.NoError(t, rows.Spool.Read(0, []int{Lines, 1, 3}, &b))
	assert.Equal(t, []int64{2, 3, 4, 5, 6}, b.Columns[Lines].Nums)
	assert.Equal(t, []value.State{value.Given, value.Bad, value.Bad, value.Bad, value.Given}, b.Columns[1].States)
	assert.Equal(t, []value.State{value.Given, value.Null, value.Bad, value.Bad, value.Bad}, b.Columns[3].States)
}

func TestRowsKeepTheOrderOfTheFile(t *testing.T) {
	var content strings.Builder
	content.WriteString("No,Day\n")
	const lines = 120_000
	for i := range lines {
		fmt.Fprintf(&content, "%d,\n", i)
	}
	bytes := int64(0)
	rows, err := read(t, context.Background(), opened(t, content.String()), columns, t.TempDir(), func(n int64) { bytes = n })
	require.NoError(t, err)
	defer rows.Close()
	require.Greater(t, rows.Spool.Batches(), 2, "the file must be read in several chunks")
	require.Equal(t, int64(lines), rows.Spool.Rows())
	var b value.Batch
	for i := range rows.Spool.Batches() {
		require.NoError(t, rows.Spool.Read(i, []int{Lines, 1}, &b))
		for row, n := range b.Columns[1].Nums {
			require.Equal(t, rows.Spool.First(i)+int64(row), n)
			require.Equal(t, n+2, b.Columns[Lines].Nums[row])
		}
	}
	assert.Equal(t, int64(content.Len()), bytes)
	assert.Len(t, rows.Origins, rows.Spool.Batches())
}

func TestReadStops(t *testing.T) {
	t.Run("when it is told to", func(t *testing.T) {
		ctx, stop := context.WithCancel(context.Background())
		stop()
		_, err := read(t, ctx, opened(t, "No,Day\n"+strings.Repeat("1,\n", 1_000_000)), columns, t.TempDir(), nil)
		assert.ErrorIs(t, err, context.Canceled)
	})
	t.Run("where the file can't be told apart any more", func(t *testing.T) {
		_, err := read(t, context.Background(), opened(t, "No,Day\n1,\n2,\"\n"), columns, t.TempDir(), nil)
		assert.ErrorContains(t, err, "in.csv:3:3: the quote that opens here is never closed")
	})
}
