package clean

import (
	"context"
	"fmt"
	"io"
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
	f, err := source.Open([]string{path}, source.ReadOptions{})
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
	for r := rows.Problems.Reader(); ; {
		p, err := r.Next()
		if err == io.EOF {
			return all
		}
		require.NoError(t, err)
		all = append(all, fmt.Sprintf("row %d, column %d: %q %s", p.Row, p.Column, p.Cell, p.Why.Words()))
	}
}

// read reads a table by a recipe that does nothing.
func read(t *testing.T, ctx context.Context, table source.Table, columns []Column, dir string, told func(int64)) (*Rows,
	error) {
	return Read(ctx, table, plainly(t, table), columns, dir, told)
}

func TestReadTellsEveryProblemOnce(t *testing.T) {
	rows, err := read(t, context.Background(), opened(t, "No,Day\n1,2026-01-01\nx,\n3\n4,\"a\"b\n5,a long long text\n"),
		columns, t.TempDir(), nil)
	require.NoError(t, err)
	defer rows.Close()
	assert.Equal(t, []string{
		`row 1, column 0: "x" is not a number`,
		`row 2, column -1: "" the line has only 1 of 2 fields`,
		`row 3, column -1: "" text follows the closing quote of a field`,
		`row 4, column 1: "a long long text" is longer than the 12 characters that the column takes`,
		`row 4, column 1: "a long long text" is not a date like 2026-03-31`,
	}, told(t, rows))
	var b Batch
	require.NoError(t, rows.Read(0, []int{0, 2}, &b))
	for i := range b.Len() {
		assert.Equal(t, int64(i+2), b.Position(i))
	}
	assert.Equal(t, []value.State{value.Given, value.Bad, value.Bad, value.Bad, value.Given}, b.Cell(0).States)
	assert.Equal(t, []value.State{value.Given, value.Null, value.Bad, value.Bad, value.Bad}, b.Cell(2).States)
}

func TestRowsKeepTheOrderOfTheFile(t *testing.T) {
	var content strings.Builder
	content.WriteString("No,Day\n")
	const lines = 120_000
	for i := range lines {
		fmt.Fprintf(&content, "%d,\n", i)
	}
	bytes := int64(0)
	rows, err := read(t, context.Background(), opened(t, content.String()), columns, t.TempDir(),
		func(n int64) { bytes = n })
	require.NoError(t, err)
	defer rows.Close()
	require.Greater(t, rows.Batches(), 2, "the file must be read in several chunks")
	require.Equal(t, int64(lines), rows.Len())
	var b Batch
	for i := range rows.Batches() {
		require.NoError(t, rows.Read(i, []int{0}, &b))
		for row, n := range b.Cell(0).Nums {
			require.Equal(t, b.First+int64(row), n)
			require.Equal(t, n+2, b.Position(row))
		}
	}
	assert.Equal(t, int64(content.Len()), bytes)
}

func TestReadStops(t *testing.T) {
	t.Run("when it is told to", func(t *testing.T) {
		ctx, stop := context.WithCancel(context.Background())
		stop()
		_, err := read(t, ctx, opened(t, "No,Day\n"+strings.Repeat("1,\n", 1_000_000)), columns, t.TempDir(), nil)
		assert.ErrorIs(t, err, context.Canceled)
	})
	t.Run("where the file can not be split any more", func(t *testing.T) {
		_, err := read(t, context.Background(), opened(t, "No,Day\n1,\n2,\"\n"), columns, t.TempDir(), nil)
		assert.ErrorContains(t, err, "in.csv:3:3: the quote that opens here is never closed")
	})
}
