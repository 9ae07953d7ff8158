package survey

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
	"ladle/internal/seeded"
)

// TestColumnsByThemselves: rows as they come tell the same of each column as the file does, but for what only keys tell.
func TestColumnsByThemselves(t *testing.T) {
	for range seeded.Rounds(6) {
		f := someFlat(seeded.Rand(t))
		part := source.RowPart{File: source.File{Path: "table call", Query: true}, Each: func(take func([]string, [][]byte) error) error {
			if err := take(f.names, nil); err != nil {
				return err
			}
			for _, row := range f.rows {
				if len(row) != len(f.names) { // no table has such rows
					continue
				}
				cells := make([][]byte, len(row))
				for i := range row {
					cells[i] = []byte(row[i])
				}
				if err := take(f.names, cells); err != nil {
					return err
				}
			}
			return nil
		}}
		table, err := source.Stream(part)
		require.NoError(t, err)
		in, err := Columns(context.Background(), table)
		require.NoError(t, err)
		require.NoError(t, table.Close())
		kept, err := source.Rows(part)
		require.NoError(t, err)
		whole, err := Run(context.Background(), []source.Table{kept}, nil)
		require.NoError(t, err)
		defer kept.Close()
		assert.Empty(t, in.Keys)
		assert.Empty(t, in.Parents)
		assert.Equal(t, whole.Inputs[0].Rows, in.Rows)
		for i, want := range whole.Inputs[0].Columns {
			is := in.Columns[i]
			if !is.Exact {
				want.Distinct, want.Exact = is.Distinct, false
			}
			assert.Equal(t, want, is, want.Name)
			assert.Equal(t, whole.Inputs[0].Distinct(i), in.Distinct(i), want.Name)
		}
	}
}
