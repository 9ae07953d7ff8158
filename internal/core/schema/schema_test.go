package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOrder(t *testing.T) {
	names := []string{"cargo", "call", "vessel", "berth", "log"}
	need := func(after, before int) Need {
		return Need{Before: before, After: after, Why: names[after] + " refers to it"}
	}
	cases := []struct {
		name  string
		needs []Need
		want  []int
		cycle []string
	}{
		{"nothing is needed: as given", nil, []int{0, 1, 2, 3, 4}, nil},
		{"parents first, else as given", []Need{need(0, 1), need(1, 2), need(1, 3)}, []int{2, 3, 1, 0, 4}, nil},
		{"the same need twice", []Need{need(0, 1), need(0, 1)}, []int{1, 0, 2, 3, 4}, nil},
		{"a circle, with something hanging on it", []Need{need(0, 1), need(1, 2), need(2, 3), need(3, 1)}, nil,
			[]string{"call", "vessel", "berth", "call"}},
		{"a thing that needs itself", []Need{need(4, 4)}, nil, []string{"log", "log"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, err := Order(names, c.needs)
			if c.cycle == nil {
				require.NoError(t, err)
				assert.Equal(t, c.want, got)
				return
			}
			var cycle *Cycle
			require.ErrorAs(t, err, &cycle)
			assert.Equal(t, c.cycle, cycle.Names)
			assert.Len(t, cycle.Needs, len(c.cycle)-1)
		})
	}
}

func TestTable(t *testing.T) {
	table := &Table{
		Columns: []Column{{Name: "id", Required: true, Identity: true}, {Name: "code", Required: true},
			{Name: "unit", Required: true, Defaulted: true}, {Name: "sum", Required: true, Generated: true},
			{Name: "note"}},
		Keys:    []Key{{Columns: []string{"id"}, Primary: true}, {Columns: []string{"code", "unit"}}},
		Indexes: [][]string{{"id"}, {"code", "unit"}},
	}
	assert.Equal(t, []string{"code"}, table.Missing(nil))
	assert.Empty(t, table.Missing([]string{"code"}))
	assert.True(t, table.UniqueOn([]string{"unit", "code"}))
	assert.False(t, table.UniqueOn([]string{"code"}))
	assert.True(t, table.Indexed([]string{"code"}))
	assert.False(t, table.Indexed([]string{"unit"}))
	assert.Nil(t, table.Column("nothing"))
}

func TestACircleIsDrawn(t *testing.T) {
	_, err := Order([]string{"call", "berth"}, []Need{{Before: 0, After: 1, Why: "last_call"},
		{Before: 1, After: 0, Why: "berth_id"}})
	require.EqualError(t, err, "circular reference: call -> berth -> call")
	var cycle *Cycle
	require.ErrorAs(t, err, &cycle)
	assert.Equal(t, []int{1, 0}, cycle.Needs)
}
