package engine

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// slow is a Reader that reports when one of its methods is called while work is under way.
type slow struct {
	Reader
	busy  *atomic.Bool
	calls int
	early []string
}

func (s *slow) call(name string) {
	s.calls++
	if s.busy.Load() {
		s.early = append(s.early, name)
	}
}

func (s *slow) ColumnsOf(context.Context, *schema.Table) ([]string, error) {
	s.call("ColumnsOf")
	return nil, nil
}
func (s *slow) Count(context.Context, *schema.Table) (int64, bool, error) {
	s.call("Count")
	return 7, true, nil
}
func (s *slow) CountFrom(context.Context, *schema.Table, int64) (int64, error) {
	s.call("CountFrom")
	return 0, nil
}
func (s *slow) Scan(context.Context, *schema.Table, []string, func(*value.Batch) error) error {
	s.call("Scan")
	return nil
}
func (s *slow) Among(context.Context, *schema.Table, string, []string, func(*value.Batch) error) error {
	s.call("Among")
	return nil
}
func (s *slow) Between(context.Context, *schema.Table, string, int64, int64, []string, func(*value.Batch) error) error {
	s.call("Between")
	return nil
}
func (s *slow) Probe(context.Context, *schema.Table, []string, *value.Batch, []string, func(*value.Batch) error) error {
	s.call("Probe")
	return nil
}
func (s *slow) Fold(context.Context, *schema.Column, *value.Column) (*value.Column, error) {
	s.call("Fold")
	return nil, nil
}
func (s *slow) Orphans(context.Context, *schema.Table, schema.Relation) (int64, error) {
	s.call("Orphans")
	return 0, nil
}
func (s *slow) Broken(context.Context, *schema.Table, schema.Check, []string, *value.Batch) ([]Rejection, error) {
	s.call("Broken")
	return nil, nil
}
func (s *slow) Ask(context.Context, string, func([]string, [][]byte) error) error {
	s.call("Ask")
	return nil
}
func (s *slow) Rows(context.Context, *schema.Table, []DisplayColumn, Window) ([][]*string, error) {
	s.call("Rows")
	return nil, nil
}

// TestEveryMethodOfAPipeWaits for the work that is under way, and comes behind its error; Fold alone doesn't. The methods are
// those of the interface, so that a new one is not forgotten.
func TestEveryMethodOfAPipeWaits(t *testing.T) {
	broken, told := errors.New("broken"), errors.New("told")
	busy := &atomic.Bool{}
	under := &slow{busy: busy}
	p := NewPipe(under, func(err error) error {
		if err != nil {
			return errors.Join(told, err)
		}
		return nil
	})
	reader := reflect.TypeFor[Reader]()
	for i := range reader.NumMethod() {
		name := reader.Method(i).Name
		method := reflect.ValueOf(&p).MethodByName(name)
		call := func() error {
			arguments := make([]reflect.Value, method.Type().NumIn())
			for k := range arguments {
				arguments[k] = reflect.Zero(method.Type().In(k))
			}
			results := method.Call(arguments)
			err, _ := results[len(results)-1].Interface().(error)
			return err
		}
		busy.Store(true)
		require.NoError(t, p.Send(func() error {
			time.Sleep(5 * time.Millisecond)
			busy.Store(false)
			return nil
		}))
		calls := under.calls
		assert.NoError(t, call(), name)
		assert.Equal(t, calls+1, under.calls, name)
		if name == "Fold" {
			require.NoError(t, p.Settle())
			continue
		}
		require.NoError(t, p.Send(func() error { return broken }))
		err := call()
		assert.ErrorIs(t, err, told, name)
		assert.ErrorIs(t, err, broken, name)
		assert.Equal(t, calls+1, under.calls, "%s: what comes behind an error is not asked", name)
		assert.NoError(t, call(), "%s: an error is told once", name)
	}
	assert.Equal(t, []string{"Fold"}, under.early)
}

func TestAPipeDoesOneThingAtATime(t *testing.T) {
	p := NewPipe(nil, func(err error) error { return err })
	var order []int
	for i := range 5 {
		assert.NoError(t, p.Send(func() error { order = append(order, i); return nil })) // a race, were two under way
	}
	assert.NoError(t, p.Settle())
	assert.Equal(t, []int{0, 1, 2, 3, 4}, order)
}

// TestWhatIsReadAheadTellsItsOwnError, and what was sent before tells its own to whoever comes next.
func TestWhatIsReadAheadTellsItsOwnError(t *testing.T) {
	broken := errors.New("broken")
	busy := &atomic.Bool{}
	under := &slow{busy: busy}
	p := NewPipe(under, func(err error) error { return err })
	reads := func(err error) func(Reader) error {
		return func(r Reader) error {
			busy.Store(true)
			defer busy.Store(false)
			assert.Same(t, under, r, "it asks past the pipe, which waits for it")
			time.Sleep(5 * time.Millisecond)
			return err
		}
	}
	failing := p.Ahead(reads(broken))
	other := p.Ahead(reads(nil))
	_, _, err := p.Count(t.Context(), nil)
	assert.NoError(t, err, "it waits, and what was read ahead is none of its business")
	assert.Empty(t, under.early)
	assert.ErrorIs(t, failing(), broken)
	assert.NoError(t, other())

	require.NoError(t, p.Send(func() error { return broken }))
	unread := p.Ahead(func(Reader) error { t.Error("what comes behind an error is not asked"); return nil })
	assert.ErrorIs(t, unread(), broken)
	assert.NoError(t, p.Settle())
}

func TestRun(t *testing.T) {
	table := &schema.Table{Locator: "id"}
	cases := []struct {
		by   []string
		keys []int64
		run  bool
	}{
		{[]string{"id"}, []int64{4, 5, 6}, true}, {[]string{"id"}, []int64{4}, true}, {[]string{"id"}, nil, false},
		{[]string{"id"}, []int64{4, 6}, false}, {[]string{"id"}, []int64{5, 4}, false},
		{[]string{"code"}, []int64{4, 5}, false},
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
	for _, way := range []string{"names a row", "names none", "one by one", "not one by one", "one by one at once"} {
		for _, bad := range [][]int{nil, {0}, {9}, {0, 1, 2}, {4, 5}, {0, 1, 2, 3, 4, 5, 6, 7, 8, 9}} {
			taken := map[int]int{}
			var waiting []int
			c := CarefulSender{
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
					if way != "names a row" {
						return -1, "no", true
					}
					return int(row), "no", true
				},
			}
			expecting := way == "one by one at once"
			if strings.Contains(way, "one by one") {
				c.Expecting = &expecting
				c.Each = func(start, end int) (rejected []Rejection, able bool, err error) {
					if way == "not one by one" {
						return nil, false, nil
					}
					for row := start; row < end; row++ {
						if slices.Contains(bad, row) {
							rejected = append(rejected, Rejection{Row: row - start, Why: "no"})
							continue
						}
						taken[row]++
					}
					return rejected, true, nil
				}
			}
			rejected, err := c.Rows(10)
			assert.NoError(t, err)
			if c.Each != nil {
				assert.Equal(t, bad != nil, expecting)
			}
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
			c.Send, expecting = func(int, int) error { return broken }, false
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
		"select 1": true, " ((SELECT 1))": true, "with a as (select 1) select * from a": true,
		"/* note */ -- more\n# and more\nselect 1": true, "values (1)": true, "table berth": true,
		"delete from berth returning id": false, "pragma journal_mode = off": false, "explain select 1": false,
		"": false, "--": false, "/* select": false, "selection": false, "`select`": false,
	} {
		assert.Equal(t, is, IsQuery(statement) == nil, statement)
	}
}
