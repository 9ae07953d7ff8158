package check_test

import (
	"context"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	zombie "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

const tables = `
	CREATE TABLE berth (id INTEGER PRIMARY KEY, code TEXT NOT NULL);
	CREATE TABLE call (id INTEGER PRIMARY KEY, berth_id INTEGER REFERENCES berth (id), code TEXT, dues DECIMAL(10,2), tons NUMERIC, pilots INTEGER, day DATE);
	INSERT INTO berth VALUES (1, 'N1'), (2, 'N2');
	INSERT INTO call VALUES (1, 1, 'a', 1, 1, 1, '2025-01-01');
`

// sent is what a load claims to have written into call: three rows, with ids from 2 on.
var sent = [][]string{
	{"2", "1", "b", "10.50", "0.1", "9223372036854775807", "2026-01-03"},
	{"3", "2", "c", "-0.75", "0.2", "9223372036854775807", "2026-01-01"},
	{"4", "", "d", "", "", "", ""},
}

// world is a transaction with the rows of sent in it, and the work that says so.
func world(t *testing.T, spoil string) (engine.Tx, *schema.Schema, check.Work) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "db")
	conn, err := zombie.OpenConn(path, zombie.OpenReadWrite, zombie.OpenCreate)
	require.NoError(t, err)
	require.NoError(t, sqlitex.ExecuteScript(conn, tables, nil))
	db, err := sqlite.Open(path, engine.UsualWaits)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	s, err := db.Schema(ctx)
	require.NoError(t, err)
	call := s.Table("call")
	batch := func() *value.Batch {
		b := value.NewBatch(engine.Types(call, call.Names()))
		for _, row := range sent {
			for i, cell := range row {
				require.NoError(t, value.Parse(&b.Columns[i], call.Columns[i].Type, []byte(cell)))
			}
		}
		return b
	}
	tx, err := db.Begin(ctx, nil, nil, 0)
	require.NoError(t, err)
	_, err = tx.Insert(ctx, call, call.Names(), batch())
	require.NoError(t, err)
	require.NoError(t, tx.Commit(ctx))
	require.NoError(t, sqlitex.ExecuteScript(conn, spoil, nil))
	require.NoError(t, conn.Close())
	tx, err = db.Begin(ctx, nil, nil, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = tx.Rollback() })
	return tx, s, check.Work{Table: call, Columns: call.Names()[1:], Key: []string{"code"}, Added: 3, First: 2,
		Points: call.Relations,
		Totals: []string{"dues", "tons", "pilots", "day"}, By: []string{"id"},
		Sent: func(take func(*value.Batch) error) error {
			all := batch()
			for row := range all.Len() {
				one := value.NewBatch(engine.Types(call, call.Names()))
				for c := range one.Columns {
					one.Columns[c].AppendFrom(&all.Columns[c], row)
				}
				if err := take(one); err != nil {
					return err
				}
			}
			return nil
		}}
}

// oneThing is a transaction that is asked nothing while it gives rows, as a connection to a server can do only one thing at
// a time.
type oneThing struct {
	engine.Tx
	t      *testing.T
	giving bool
}

func (o *oneThing) give(sink func(*value.Batch) error) func(*value.Batch) error {
	o.free()
	return func(b *value.Batch) error {
		o.giving = true
		defer func() { o.giving = false }()
		return sink(b)
	}
}

func (o *oneThing) free() { assert.False(o.t, o.giving, "it is asked while it gives rows") }

func (o *oneThing) Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error {
	return o.Tx.Scan(ctx, t, columns, o.give(sink))
}

func (o *oneThing) Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string,
	sink func(*value.Batch) error) error {
	return o.Tx.Between(ctx, t, column, least, most, columns, o.give(sink))
}

func (o *oneThing) Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
	sink func(*value.Batch) error) error {
	return o.Tx.Probe(ctx, t, by, keys, columns, o.give(sink))
}

func TestRun(t *testing.T) {
	cases := []struct {
		name, spoil string
		failed      string // the check that must fail, and no other
		problem     string
	}{
		{"all is as it was sent", "", "", ""},
		{"a cell differs", "UPDATE call SET dues = 10.51 WHERE id = 2", "cells",
			"id 2: dues was sent as 10.50, and is 10.51"},
		{"a blank is filled", "UPDATE call SET code = '' WHERE id = 4", "cells",
			`id 4: code was sent as "d", and is ""`},
		{"a value is of another kind", "UPDATE call SET day = 'soon' WHERE id = 3", "cells",
			"is a value that is not a date"},
		{"a row is gone, another came", "DELETE FROM call WHERE id = 3; INSERT INTO call (id, code) VALUES (9, 'z')",
			"cells", "id 3 was sent, but does not exist"},
		{"a row too many", "INSERT INTO call (id, code) VALUES (9, 'z')", "balance",
			"something else adds or removes rows"},
		{"a parent is gone", "DELETE FROM berth WHERE id = 2", "relations",
			"berth_id 2: berth"},
		{"a key is a duplicate", "UPDATE call SET code = 'b' WHERE id = 1", "keys", `code "b" is a duplicate`},
	}
	for i, c := range slices.Repeat(cases, 2) {
		rows, name, empty := int64(1), c.name, ""
		if i >= len(cases) { // a table that was empty is read as a whole
			rows, name, empty = 0, c.name+", in a table that was empty", "; DELETE FROM call WHERE id = 1"
		}
		if rows == 0 && c.failed == "keys" {
			continue // the other row is one of those before
		}
		t.Run(name, func(t *testing.T) {
			plain, s, work := world(t, c.spoil+empty)
			tx := &oneThing{Tx: plain, t: t}
			shown := 0
			work.Whole = []string{"tons"}
			work.See = func(b *value.Batch) error {
				tx.free()
				assert.Len(t, b.Columns, 2)
				shown += b.Len()
				return nil
			}
			before := map[*schema.Table]check.Before{s.Table("call"): {Rows: rows, Exact: true}}
			defer func() {
				if c.failed == "" {
					assert.Equal(t, 3, shown, "each row is shown once")
				}
			}()
			results, err := check.Run(context.Background(), tx, check.Input{Work: []check.Work{work}, Before: before})
			require.NoError(t, err)
			require.Len(t, results, 4)
			assert.Equal(t, c.failed != "", check.Failed(results))
			for _, r := range results {
				assert.Equal(t, r.Check != c.failed, r.OK, "%s: %s %v", r.Check, r.Says, r.Problems)
				if r.Check == c.failed {
					assert.Contains(t, r.Problems[0], c.problem)
				}
			}
		})
	}
}

func TestTotalsAreExact(t *testing.T) {
	for rows, spoil := range map[int64]string{1: "", 0: "DELETE FROM call WHERE id = 1"} {
		tx, _, work := world(t, spoil)
		results, err := check.Run(context.Background(), tx, check.Input{Work: []check.Work{work},
			Before: map[*schema.Table]check.Before{work.Table: {Rows: rows, Exact: true}}})
		require.NoError(t, err)
		assert.Equal(t, []check.Total{
			{Column: "dues", Count: 2, Sum: "9.75", Least: "-0.75", Most: "10.50"},
			{Column: "tons", Count: 2, Sum: "0.3", Least: "0.1", Most: "0.2"},
			{Column: "pilots", Count: 2, Sum: "18446744073709551614", Least: "9223372036854775807",
				Most: "9223372036854775807"},
			{Column: "day", Count: 2, Least: "2026-01-01", Most: "2026-01-03"},
		}, results[3].Totals)
	}
}

func TestALargeTableIsCountedFromTheFirstNewRow(t *testing.T) {
	for spoil, ok := range map[string]bool{"": true, "DELETE FROM call WHERE id = 4": false,
		"INSERT INTO call (id) VALUES (77)": false} {
		tx, _, work := world(t, spoil)
		results, err := check.Run(context.Background(), tx, check.Input{Work: []check.Work{work},
			Before: map[*schema.Table]check.Before{work.Table: {Rows: 5_000_000}}})
		require.NoError(t, err)
		assert.Equal(t, ok, results[0].OK, results[0].Says)
	}
}

func TestOlderOrphansAreCountedInSmallTables(t *testing.T) {
	tx, _, work := world(t, "DELETE FROM berth")
	for rows, want := range map[int64]int{4: 1, 5_000_000: 0} {
		in := check.Input{Work: []check.Work{work}, Before: map[*schema.Table]check.Before{work.Table: {Rows: rows}}}
		var err error
		in.Earlier, err = check.LookBefore(context.Background(), tx, in)
		require.NoError(t, err)
		results, err := check.Run(context.Background(), tx, in)
		require.NoError(t, err)
		warnings := 0
		for _, r := range results {
			warnings += len(r.Warnings)
		}
		assert.Equal(t, want, warnings)
	}
}

func TestRowsThatCantBeToldApartFailTheCheck(t *testing.T) {
	tx, _, work := world(t, "")
	work.By = nil
	results, err := check.Run(context.Background(), tx, check.Input{Work: []check.Work{work},
		Before: map[*schema.Table]check.Before{work.Table: {Rows: 1, Exact: true}}})
	require.NoError(t, err)
	assert.True(t, check.Failed(results))
}

// TestRowsThatNothingTellsApartAreProvedBySums: over all rows of the table, before and after.
func TestRowsThatNothingTellsApartAreProvedBySums(t *testing.T) {
	cases := []struct {
		name, spoil string
		ok          bool
		sent        int
	}{
		{"all is as it was sent", "", true, 3},
		{"a cell differs", "UPDATE call SET code = 'x' WHERE id = 3", false, 3},
		{"two cells change places", "UPDATE call SET code = CASE id WHEN 2 THEN 'c' ELSE 'b' END WHERE id IN (2, 3)",
			false, 3},
		{"a row of before differs", "UPDATE call SET dues = 2 WHERE id = 1", false, 3},
		{"a row is gone", "DELETE FROM call WHERE id = 4", false, 3},
		{"a row too many", "INSERT INTO call (id, code) VALUES (9, 'd')", false, 3},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			ctx := context.Background()
			before, _, _ := world(t, "DELETE FROM call WHERE id > 1")
			tx, _, work := world(t, c.spoil)
			sent := work.Sent
			work.By, work.Key, work.Totals = nil, nil, nil
			work.Sent = func(take func(*value.Batch) error) error {
				return sent(func(b *value.Batch) error { return take(&value.Batch{Columns: b.Columns[1:]}) })
			}
			in := check.Input{Work: []check.Work{work}, Before: map[*schema.Table]check.Before{}}
			earlier, err := check.LookBefore(ctx, before, in)
			require.NoError(t, err)
			in.Earlier = earlier
			results, err := check.Run(ctx, tx, in)
			require.NoError(t, err)
			for _, r := range results {
				if r.Check == "cells" {
					assert.Equal(t, c.ok, r.OK, r.Says)
				}
			}
		})
	}
}

// TestWhatIsUpdatedAndRemovedIsProved: cells that were left as they were may be anything, removed rows must be gone.
func TestWhatIsUpdatedAndRemovedIsProved(t *testing.T) {
	ctx := context.Background()
	for spoil, want := range map[string]string{
		"":                                       "",
		"UPDATE call SET dues = 99 WHERE id = 2": "", // untouched
		"UPDATE call SET code = 'z' WHERE id = 3": `cells: id 3: code was sent as "c", and is "z"`,
		"DELETE FROM call WHERE id = 3":           "cells: id 3 was sent, but does not exist",
		"INSERT INTO call (id) VALUES (50)":       "removed: id 50 still exists",
	} {
		tx, s, work := world(t, spoil)
		call := s.Table("call")
		batch := value.NewBatch(engine.Types(call, []string{"id", "code", "dues"}))
		for i, row := range sent {
			require.NoError(t, value.Parse(&batch.Columns[0], call.Columns[0].Type, []byte(row[0])))
			require.NoError(t, value.Parse(&batch.Columns[1], call.Column("code").Type, []byte(row[2])))
			batch.Columns[2].AppendState(check.Untouched)
			require.Equal(t, i+1, batch.Len())
		}
		gone := value.NewBatch(engine.Types(call, []string{"id"}))
		gone.Columns[0].AppendNum(50)
		results, err := check.Run(ctx, tx, check.Input{Before: map[*schema.Table]check.Before{call: {Rows: 4}},
			Work: []check.Work{{Table: call, Updated: 3, Columns: []string{"code", "dues"}, Points: work.Points,
				By: []string{"id"}, Sent: func(take func(*value.Batch) error) error { return take(batch) }}},
			Removed: []check.Removal{{Table: call, Rows: 1, By: []string{"id"},
				Keys: func(take func(*value.Batch) error) error { return take(gone) }}}})
		require.NoError(t, err)
		failed := ""
		for _, r := range results {
			if !r.OK {
				failed += r.Check + ": " + r.Problems[0]
			}
		}
		assert.Equal(t, want, failed, spoil)
	}
}
