package engine

import (
	"context"
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// counter is a Reader that only counts.
type counter struct {
	Reader
	counted int
}

func (c *counter) Count(context.Context, *schema.Table) (int64, bool, error) {
	c.counted++
	return 7, true, nil
}

func TestAPipeDoesOneThingAtATimeAndTellsItsErrorsLate(t *testing.T) {
	broken, told := errors.New("broken"), errors.New("told")
	under := &counter{}
	p := &Pipe{Reader: under, Judge: func(err error) error {
		if err != nil {
			return errors.Join(told, err)
		}
		return nil
	}}
	var order []int
	for i := range 5 {
		assert.NoError(t, p.Send(func() error { order = append(order, i); return nil })) // a race, were two under way
	}
	assert.NoError(t, p.Settle())
	assert.Equal(t, []int{0, 1, 2, 3, 4}, order)

	assert.NoError(t, p.Send(func() error { return broken }))
	_, _, err := p.Count(context.Background(), nil)
	assert.ErrorIs(t, err, told)
	assert.ErrorIs(t, err, broken)
	assert.Zero(t, under.counted, "what comes behind an error is not asked")
	n, exact, err := p.Count(context.Background(), nil)
	assert.NoError(t, err, "an error is told once")
	assert.True(t, exact)
	assert.Equal(t, int64(7), n)
}

func TestRun(t *testing.T) {
	table := &schema.Table{Locator: "id"}
	cases := []struct {
		by   []string
		keys []int64
		run  bool
	}{
		{[]string{"id"}, []int64{4, 5, 6}, true}, {[]string{"id"}, []int64{4}, true}, {[]string{"id"}, nil, false},
		{[]string{"id"}, []int64{4, 6}, false}, {[]string{"id"}, []int64{5, 4}, false}, {[]string{"code"}, []int64{4, 5}, false},
	}
	for _, c := range cases {
		keys := &value.Batch{Columns: []value.Column{{Kind: value.Int}}}
		for _, n := range c.keys {
			keys.Columns[0].AppendNum(n)
		}
		first, last, run := Run(table, c.by, keys)
		assert.Equal(t, c.run, run)
		if run {
			assert.Equal(t, []int64{c.keys[0], c.keys[len(c.keys)-1]}, []int64{first, last})
		}
	}
}

// TestCarefulFindsAllRowsThatAreNotTaken, whether the server names them or not, and takes each other one once.
func TestCarefulFindsAllRowsThatAreNotTaken(t *testing.T) {
	broken := errors.New("the connection is gone")
	for _, names := range []bool{true, false} {
		for _, bad := range [][]int{nil, {0}, {9}, {0, 1, 2}, {4, 5}, {0, 1, 2, 3, 4, 5, 6, 7, 8, 9}} {
			taken := map[int]int{}
			var waiting []int
			c := Careful{
				Exec: func(statement string) error {
					switch statement {
					case "RELEASE SAVEPOINT ladle_batch":
						for _, row := range waiting {
							taken[row]++
						}
						waiting = nil
					case "ROLLBACK TO SAVEPOINT ladle_batch":
						waiting = nil
					}
					return nil
				},
				Send: func(start, end int) error {
					for row := start; row < end; row++ {
						if slices.Contains(bad, row) {
							return refusedRow(row - start)
						}
						waiting = append(waiting, row)
					}
					return nil
				},
				Refusal: func(err error) (int, string, bool) {
					var row refusedRow
					if !errors.As(err, &row) {
						return 0, "", false
					}
					if !names {
						return -1, "no", true
					}
					return int(row), "no", true
				},
			}
			rejected, err := c.Rows(10)
			assert.NoError(t, err)
			var rows []int
			for _, r := range rejected {
				rows = append(rows, r.Row)
				assert.Equal(t, "no", r.Why)
			}
			assert.Equal(t, bad, rows)
			assert.Len(t, taken, 10-len(bad))
			for row, n := range taken {
				assert.Equal(t, 1, n, row)
			}
			c.Send = func(int, int) error { return broken }
			_, err = c.Rows(3)
			assert.ErrorIs(t, err, broken)
		}
	}
}

// refusedRow is the error of a server that does not take a row.
type refusedRow int

func (refusedRow) Error() string { return "no" }

func TestWhatBeginsAsAQuery(t *testing.T) {
	for statement, is := range map[string]bool{
		"select 1": true, " ((SELECT 1))": true, "with a as (select 1) select * from a": true, "/* note */ -- more\n# and more\nselect 1": true, "values (1)": true, "table berth": true,
		"delete from berth returning id": false, "pragma journal_mode = off": false, "explain select 1": false, "": false, "--": false, "/* select": false, "selection": false, "`select`": false,
	} {
		assert.Equal(t, is, IsQuery(statement) == nil, statement)
	}
}
