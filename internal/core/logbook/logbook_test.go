package logbook

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

func openFile(t *testing.T) *sqlite.Database {
	path := filepath.Join(t.TempDir(), "db")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	db, err := sqlite.Open(path, engine.UsualWaits)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

func TestALogbookTellsOfCommittedRunsOnly(t *testing.T) {
	ctx, db := context.Background(), openFile(t)
	has := func(token string) bool {
		there, err := Commitment{Token: token}.mark().in(ctx, db)
		require.NoError(t, err)
		return there
	}
	assert.False(t, has("x"), "without a logbook there is no run")
	kept, lost := NewToken(), NewToken()
	assert.NotEqual(t, kept, lost)
	started := time.Date(2026, 3, 1, 4, 5, 6, 7e6, time.UTC)
	run := &Run{Kind: Load, LadleFile: "harbour.ladle.yaml", LadleSum: "abc", Program: "1", User: "clerk",
		Level: "cells", Started: started, Format: format,
		Inputs: []Input{{"in", "a.csv", 12, "sum", 3, 1, []string{"Vessel", "GT"}, "abc"}}, Steps: []Step{{"a",
			"log", "in",
			Tally{Read: 9, Added: 1,
				Updated: 1, Unchanged: 1,
				Same: 1, Differs: 1, Repeated: 1, Overruled: 1, LeftOut: 1, SetAside: 1}, 1, 2, 3, []string{"depth"}}},
		Checks: []Check{{"balance", "log", "1 + 1 = 2"}}}
	for i, token := range []string{kept, lost} {
		tx, err := db.Begin(ctx, nil, Tables(), 0)
		require.NoError(t, err)
		run.Token = token
		id, err := Write(ctx, tx, run)
		require.NoError(t, err)
		assert.Equal(t, int64(i+1), id)
		if token == kept {
			require.NoError(t, tx.Commit(ctx))
		}
		require.NoError(t, tx.Rollback())
	}
	assert.True(t, has(kept))
	assert.False(t, has(lost))
	found, err := Find(ctx, db, 1)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), found.Finished, time.Minute)
	want := *run
	want.ID, want.Token, want.Finished = 1, kept, found.Finished
	assert.Equal(t, &want, found)
	_, err = Find(ctx, db, 7)
	assert.ErrorContains(t, err, "there is no run 7; the logbook holds 1 run, the newest is 1")
	for sum, n := range map[string]int{"sum": 1, "other": 0} {
		runs, err := Loaded(ctx, db, sum)
		require.NoError(t, err)
		assert.Len(t, runs, n)
	}
	assert.True(t, found.FilledBy("log", "sum"))
	assert.False(t, found.FilledBy("berth", "sum"))
}

func TestARunIsNotWrittenTwice(t *testing.T) {
	ctx := context.Background()
	tx, err := openFile(t).Begin(ctx, nil, Tables(), 0)
	require.NoError(t, err)
	r := &Run{Token: "same", Started: time.Now()}
	_, err = Write(ctx, tx, r)
	require.NoError(t, err)
	_, err = Write(ctx, tx, r)
	assert.ErrorContains(t, err, "ladle_run does not take a row: UNIQUE constraint failed")
}

func TestAnotherTableOfTheSameNameIsNoLogbook(t *testing.T) {
	ctx, db := context.Background(), openFile(t)
	missing, err := Ready(ctx, db)
	require.NoError(t, err)
	assert.True(t, missing)
	tx, err := db.Begin(ctx, nil, []*schema.Table{{Name: "ladle_run_step",
		Columns: []schema.Column{{Name: "id", Declared: "INTEGER"}}}}, 0)
	require.NoError(t, err)
	require.NoError(t, tx.Commit(ctx))
	_, err = Ready(ctx, db)
	assert.ErrorContains(t, err, "the table ladle_run_step exists, but can't be used as a logbook")
}

var kinds = []value.Type{{Kind: value.Text}, {Kind: value.Int}, {Kind: value.Fixed, Precision: 12, Scale: 3},
	{Kind: value.Decimal}, {Kind: value.Float}, {Kind: value.Bool},
	{Kind: value.Date}, {Kind: value.Time}, {Kind: value.DateTime}, {Kind: value.DateTime, Zoned: true},
	{Kind: value.Bytes}}

// FuzzRowsComeBackAsTheyWere: through the text of the logbook.
func FuzzRowsComeBackAsTheyWere(f *testing.F) {
	f.Add("Grey Heron", int64(7), 1.5, uint8(0))
	f.Add("", int64(math.MinInt64), math.Inf(1), uint8(1))
	f.Add("\xff\x00\"\\\n,[]", int64(-1), 0.25, uint8(2))
	f.Add("false", int64(20_000), 1e300, uint8(3))
	f.Fuzz(func(t *testing.T, text string, n int64, x float64, hole uint8) {
		if math.IsNaN(x) || math.IsInf(x, 0) {
			x = 0
		}
		b := value.NewBatch(kinds)
		for i := range kinds {
			c := &b.Columns[i]
			switch k := kinds[i]; {
			case int(hole)%len(kinds) == i:
				c.AppendState(value.Null)
			case int(hole)%(2*len(kinds)) == i+1:
				c.AppendState(value.Bad)
			case k.Kind == value.Text || k.Kind == value.Bytes:
				c.AppendBytes([]byte(text))
			case k.Kind == value.Decimal:
				c.AppendBytes(fmt.Appendf(nil, "%d", n))
			case k.Kind == value.Float:
				c.AppendFloat(x)
			case k.Kind == value.Int:
				c.AppendNum(n)
			case k.Kind == value.Bool:
				c.AppendNum(n & 1)
			default:
				c.AppendNum(n & 0xffff)
			}
		}
		for i := range b.Columns[1:] { // a second row, all blank
			b.Columns[i+1].AppendState(value.Null)
		}
		b.Columns[0].AppendState(value.Null)
		rows := 0
		require.NoError(t, eachRow(bytes.NewReader(appendRows(nil, b)), kinds, func(_ int, back *value.Batch) error {
			rows += back.Len()
			for row := range back.Len() {
				for i := range kinds {
					assert.True(t, b.Columns[i].Same(row, &back.Columns[i], row), "%v: %q became %q", kinds[i],
						b.Columns[i].Text(row), back.Columns[i].Text(row))
				}
			}
			return nil
		}))
		assert.Equal(t, 2, rows)
	})
}

// TestChunksHoldRowsAsRunsOfNumbersWhereTheyAre: what was written comes back, in the reverse order of turns.
func TestChunksHoldRowsAsRunsOfNumbersWhereTheyAre(t *testing.T) {
	ctx, db := context.Background(), openFile(t)
	tx, err := db.Begin(ctx, nil, Tables(), 0)
	require.NoError(t, err)
	defer tx.Rollback()
	berth := &schema.Table{Name: "berth", Locator: "id", Columns: []schema.Column{{Name: "id",
		Type: value.Type{Kind: value.Int}}, {Name: "code", Type: value.Type{Kind: value.Text}}}}
	rows := func(ids ...int64) *value.Batch {
		b := value.NewBatch(engine.Types(berth, []string{"id", "id", "code"}))
		for _, id := range ids {
			b.Columns[0].AppendNum(id)
			b.Columns[1].AppendNum(id)
			b.Columns[2].AppendBytes(fmt.Appendf(nil, "N%d", id))
		}
		return b
	}
	w, by, all := NewWriter(tx, "T"), []string{"id"}, []string{"id", "code"}
	for _, ids := range [][]int64{{5, 6, 7}, {8, 9}, {20, 40}, {41, 39}} {
		require.NoError(t, w.Added(ctx, 3, berth, by, all, rows(ids...)))
	}
	require.NoError(t, w.rows(ctx, 4, Removed, berth, by, all, rows(1, 2)))
	require.NoError(t, w.Uncompared(ctx, 5, berth, 12))
	require.NoError(t, w.Close(ctx))
	found, err := chunks(ctx, tx, "T")
	require.NoError(t, err)
	var told []string
	for _, short := range found {
		c, err := short.load(ctx, tx, "T")
		require.NoError(t, err)
		line := fmt.Sprintf("%s %d from %d, %d hashes:", c.What, c.Rows, c.First, len(c.Hashes)/hashBytes)
		if len(c.By) > 0 {
			require.NoError(t, c.each(berth, func(_ int, b *value.Batch) error {
				for row := range b.Len() {
					line += " " + b.Columns[len(b.Columns)-1].Text(row)
				}
				return nil
			}))
		}
		told = append(told, line)
	}
	assert.Equal(t, []string{"added 12 from 0, 0 hashes:", "removed 2 from 0, 0 hashes: N1 N2",
		"added 4 from 0, 4 hashes: 20 40 41 39", "added 5 from 5, 5 hashes: 5 6 7 8 9"}, told)
}

// answering is a transaction whose commit ends in one way or another.
type answering struct {
	engine.Tx
	commit func(context.Context, engine.Tx) error
}

func (a answering) Commit(ctx context.Context) error { return a.commit(ctx, a.Tx) }

func TestACommitWithoutAnAnswerIsAskedFor(t *testing.T) {
	lost := engine.Unanswered(errors.New("the line is dead"))
	silent := func(ctx context.Context) error { <-ctx.Done(); return engine.Unanswered(ctx.Err()) }
	cases := []struct {
		name   string
		commit func(context.Context, engine.Tx) error
		deaf   bool // the database can't be asked
		there  bool
		class  fault.Class
		says   string
	}{
		{name: "it is answered", commit: func(ctx context.Context, tx engine.Tx) error { return tx.Commit(ctx) },
			there: true},
		{name: "it is done, and its answer lost", there: true,
			commit: func(ctx context.Context, tx engine.Tx) error { return errors.Join(tx.Commit(ctx), lost) }},
		{name: "it is done, and never answered", there: true,
			commit: func(ctx context.Context, tx engine.Tx) error { return errors.Join(tx.Commit(ctx), silent(ctx)) }},
		{name: "it is not done, and never answered", class: fault.Failed, says: "did not answer the commit within 50ms",
			commit: func(ctx context.Context, tx engine.Tx) error { return errors.Join(tx.Rollback(), silent(ctx)) }},
		{name: "it is refused", class: fault.Failed, deaf: true, says: "a row is wrong",
			commit: func(context.Context, engine.Tx) error { return fault.New(fault.Failed, "a row is wrong", "") }},
		{name: "nobody can be asked", class: fault.Unknown, deaf: true, says: "can't be asked whether it took place",
			commit: func(_ context.Context, tx engine.Tx) error { return errors.Join(tx.Rollback(), lost) }},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			ctx, interrupt := context.WithCancel(context.Background())
			defer interrupt()
			path := filepath.Join(t.TempDir(), "db")
			require.NoError(t, os.WriteFile(path, nil, 0o600))
			open := func(context.Context) (engine.Database, error) { return sqlite.Open(path, engine.UsualWaits) }
			db, err := open(ctx)
			require.NoError(t, err)
			defer db.Close()
			tx, err := db.Begin(ctx, nil, Tables(), 0)
			require.NoError(t, err)
			run := &Run{Kind: Load, Token: NewToken()}
			_, err = Write(ctx, tx, run)
			require.NoError(t, err)
			commitment := Commitment{Tx: answering{tx, c.commit}, Token: run.Token, Reopen: open,
				Wait: 50 * time.Millisecond}
			if c.deaf {
				commitment.Reopen = nil
			}
			interrupt() // it comes too late
			err = commitment.Commit(ctx)
			if c.says == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.says)
				assert.Equal(t, c.class, fault.ClassOf(err))
			}
			there, err := Commitment{Token: run.Token}.mark().in(context.Background(), db)
			require.NoError(t, err)
			assert.Equal(t, c.there, there)
		})
	}
}

// TestMadeTablesAreKnownAgain: what is different in a table since it was made is said line by line.
func TestMadeTablesAreKnownAgain(t *testing.T) {
	ctx, db := context.Background(), openFile(t)
	scripts := []engine.TableScript{{Table: "quay", Statements: []string{"CREATE TABLE quay (id INTEGER PRIMARY KEY, name TEXT)"}},
		{Table: "crane", Statements: []string{"CREATE TABLE crane (no INTEGER, quay_id INTEGER REFERENCES quay (id))",
			"CREATE INDEX cranes ON crane (no)"}}}
	run := &Run{Program: "1", User: "me"}
	id, err := MakeTables(ctx, db, scripts, run, true, nil)
	require.NoError(t, err)
	found, err := Find(ctx, db, id)
	require.NoError(t, err)
	assert.Equal(t, Make, found.Kind)
	made, err := found.Made(ctx, db)
	require.NoError(t, err)
	require.Len(t, made, 2)
	assert.Equal(t, scripts[1].Statements, made[1].Statements)
	altered := func() (all []string) {
		s, err := db.Schema(ctx)
		require.NoError(t, err)
		for _, m := range made {
			all = append(all, m.Altered(s)...)
		}
		return all
	}
	assert.Empty(t, altered())
	for _, change := range []string{"DROP INDEX cranes", "ALTER TABLE quay ADD COLUMN length INTEGER NOT NULL DEFAULT 7"} {
		tx, err := db.Restructure(ctx, engine.Restructuring{Statements: []engine.Statement{{SQL: change}}})
		require.NoError(t, err)
		require.NoError(t, tx.Commit(ctx))
	}
	assert.Equal(t, []string{"quay now has: column length INTEGER NOT NULL default 7", "crane no longer has: index on no"}, altered())

	_, err = MakeTables(ctx, db, append(scripts[:0:0], engine.TableScript{Table: "tide", Statements: []string{"CREATE TABLE tide (n INTEGER)"}},
		scripts[0]), &Run{}, true, nil)
	assert.Error(t, err, "quay is there already")
	s, err := db.Schema(ctx)
	require.NoError(t, err)
	assert.Nil(t, s.Table("tide"), "all or none")
	all, err := List(ctx, db)
	require.NoError(t, err)
	assert.Len(t, all, 1, "and no run of it")
}
