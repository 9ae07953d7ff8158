package check

import (
	"context"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

func TestStretchesAreJoinedWhereNothingIsBetweenThem(t *testing.T) {
	assert.Equal(t, []stretch{{1, 9}, {11, 20}, {math.MaxInt64 - 1, math.MaxInt64}}, joined([]stretch{{5, 9}, {11, 12}, {1, 4}, {2, 3},
		{13, 20}, {math.MaxInt64 - 1, math.MaxInt64}, {math.MaxInt64, math.MaxInt64}}))
	assert.Empty(t, joined(nil))
}

// shelf is a transaction on a table in which these numbers are left; it counts how often each way of looking is taken.
type shelf struct {
	engine.Tx
	left            []int64
	between, probed int
}

func (s *shelf) Between(_ context.Context, _ *schema.Table, _ string, least, most int64, _ []string, sink func(*value.Batch) error) error {
	s.between++
	b := value.NewBatch([]value.Type{{Kind: value.Int}})
	for _, n := range s.left {
		if least <= n && n <= most {
			b.Columns[0].AppendNum(n)
		}
	}
	return sink(b)
}

func (s *shelf) Probe(_ context.Context, _ *schema.Table, _ []string, keys *value.Batch, _ []string, sink func(*value.Batch) error) error {
	s.probed++
	b := value.NewBatch([]value.Type{{Kind: value.Int}})
	for _, n := range s.left {
		for _, key := range keys.Columns[0].Nums {
			if n == key {
				b.Columns[0].AppendNum(n)
			}
		}
	}
	return sink(b)
}

// TestRemovedRowsAreLookedForInFewQueries, and one by one only where rows are left around them.
func TestRemovedRowsAreLookedForInFewQueries(t *testing.T) {
	table := &schema.Table{Name: "call", Locator: "id", Columns: []schema.Column{{Name: "id", Type: value.Type{Kind: value.Int}}}}
	for name, c := range map[string]struct {
		keys            [][]int64
		left            []int64
		between, probed int
		problems        []string
	}{
		"nothing is left":                {[][]int64{{1, 2, 3}, {4, 5, 6}, {7, 9, 10}}, []int64{11, 0}, 1, 0, nil},
		"others are left between them":   {[][]int64{{1, 2, 3}, {4, 6, 7}}, []int64{5}, 2, 1, nil},
		"one of them is left":            {[][]int64{{1, 2, 3}, {4, 6, 7}}, []int64{6}, 2, 1, []string{"id 6 still exists"}},
		"one of a run is left":           {[][]int64{{1, 2, 3}, {4, 5, 6}}, []int64{3}, 3, 0, []string{"id 3 still exists"}},
		"they are far from each other":   {[][]int64{{1, 2, 3}, {10, 1000}}, []int64{500, 1000}, 1, 1, []string{"id 1000 still exists"}},
		"two stretches, nothing in them": {[][]int64{{50, 51}, {1, 2}}, []int64{10}, 2, 0, nil},
	} {
		s := &shelf{left: c.left}
		result, err := (&Input{}).removed(t.Context(), s, Removal{Table: table, By: []string{"id"}, Keys: func(take func(*value.Batch) error) error {
			for _, numbers := range c.keys {
				b := value.NewBatch([]value.Type{{Kind: value.Int}})
				for _, n := range numbers {
					b.Columns[0].AppendNum(n)
				}
				if err := take(b); err != nil {
					return err
				}
			}
			return nil
		}})
		require.NoError(t, err, name)
		assert.Equal(t, c.problems, result.Problems, name)
		assert.Equal(t, c.problems == nil, result.OK, name)
		assert.Equal(t, []int{c.between, c.probed}, []int{s.between, s.probed}, name)
	}
}
