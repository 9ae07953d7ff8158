package engine

import (
	"context"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// crowd is a Reader of a table with so many rows for each number.
type crowd struct {
	Reader
	rows        int
	least, most int64
	asked       int
}

func (c *crowd) Between(_ context.Context, t *schema.Table, _ string, least, most int64, columns []string,
	sink func(*value.Batch) error) error {
	c.asked, c.least, c.most = c.asked+1, least, most
	for n := least; n <= most; n++ {
		b := value.NewBatch(Types(t, columns))
		for range c.rows {
			b.Columns[0].AppendNum(n)
		}
		if err := sink(b); err != nil {
			return err
		}
	}
	return nil
}

// TestNearKeysAreReadTogether: only those that start with numbers close together, and only while few other rows do.
func TestNearKeysAreReadTogether(t *testing.T) {
	whole := value.Type{Kind: value.Int}
	table := &schema.Table{Name: "stay", Columns: []schema.Column{{Name: "vessel", Type: whole}, {Name: "note"}},
		Indexes: [][]string{{"vessel", "note"}}}
	keys := func(states value.State, numbers ...int64) *value.Batch {
		b := value.NewBatch([]value.Type{whole, {}})
		for _, n := range numbers {
			b.Columns[0].AppendNum(n)
			b.Columns[1].AppendBytes([]byte("x"))
		}
		b.Columns[0].AppendState(states)
		b.Columns[1].AppendBytes(nil)
		return b
	}
	for name, c := range map[string]struct {
		keys        *value.Batch
		rows        int
		read        bool
		least, most int64
	}{
		"close together":        {keys(value.Null, 12, 9, 7, 9), 1, true, 7, 12},
		"not close together":    {keys(value.New, 1, 2, 30), 1, false, 0, 0},
		"at both ends":          {keys(value.Null, math.MinInt64, math.MaxInt64), 1, false, 0, 0},
		"none":                  {keys(value.Null), 1, false, 0, 0},
		"few others among them": {keys(value.Bad, 1, 2), 12, true, 1, 2},
		"a crowd":               {keys(value.Null, 1, 2), 13, false, 1, 2},
	} {
		db, near, rows := &crowd{rows: c.rows}, Near{}, value.Batch{}
		read, err := near.Read(t.Context(), db, table, []string{"vessel", "note"}, c.keys, []string{"vessel"}, &rows)
		require.NoError(t, err, name)
		assert.Equal(t, c.read, read, name)
		assert.Equal(t, []int64{c.least, c.most}, []int64{db.least, db.most}, name)
		if read {
			assert.Equal(t, c.rows*int(c.most-c.least+1), rows.Len(), name)
		}
		again, err := near.Read(t.Context(), db, table, []string{"vessel", "note"}, c.keys, []string{"vessel"}, &rows)
		require.NoError(t, err, name)
		assert.Equal(t, c.read, again, name)
		if name == "a crowd" {
			assert.Equal(t, 1, db.asked, "once is enough")
		}
	}
	near := Near{}
	read, err := near.Read(t.Context(), &crowd{}, table, []string{"note"}, &value.Batch{Columns: keys(value.Null, 1).Columns[1:]},
		[]string{"vessel"}, &value.Batch{})
	require.NoError(t, err)
	assert.False(t, read, "texts are not")
}

// TestKeysThatAreAllThereIs are named by their range; others are not.
func TestKeysThatAreAllThereIs(t *testing.T) {
	table := &schema.Table{Name: "stay", Columns: []schema.Column{{Name: "vessel", Type: value.Type{Kind: value.Int}}},
		Indexes: [][]string{{"vessel"}}}
	for name, c := range map[string]struct {
		keys  []int64
		rows  int
		whole bool
	}{
		"all of them":              {[]int64{9, 7, 8}, 1, true},
		"another one between them": {[]int64{7, 9, 10}, 1, false},
		"several of each":          {[]int64{7, 8}, 2, false},
		"one that is named twice":  {[]int64{7, 7, 9}, 1, false},
		"far from each other":      {[]int64{1, 1000}, 1, false},
		"gone":                     {[]int64{7, 8}, 0, false},
	} {
		keys := value.NewBatch([]value.Type{{Kind: value.Int}})
		for _, n := range c.keys {
			keys.Columns[0].AppendNum(n)
		}
		var near Near
		least, most, whole, err := near.Whole(t.Context(), &crowd{rows: c.rows}, table, []string{"vessel"}, keys)
		require.NoError(t, err)
		assert.Equal(t, c.whole, whole, name)
		if whole {
			assert.Equal(t, []int64{7, 9}, []int64{least, most}, name)
		}
	}
}
