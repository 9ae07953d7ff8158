package logbook

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine/sqlite"
)

func TestALogbookTellsOfCommittedRunsOnly(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "db")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	db, err := sqlite.Open(path)
	require.NoError(t, err)
	defer db.Close()
	has := func(token string) bool {
		there, err := Has(ctx, db, token)
		require.NoError(t, err)
		return there
	}
	assert.False(t, has("x"), "without a logbook there is no run")
	kept, lost := NewToken(), NewToken()
	assert.NotEqual(t, kept, lost)
	for i, token := range []string{kept, lost} {
		tx, err := db.Begin(ctx, nil, Tables(), false)
		require.NoError(t, err)
		id, err := Write(ctx, tx, &Run{Token: token, LadleFile: "f", Started: time.Now(), Steps: []Step{
			{Name: "a", Table: "log", Input: "in", InputSum: "sum-" + token, Read: 3, Added: 2},
			{Name: "b", Table: "berth", Input: "in", InputSum: "other"}}})
		require.NoError(t, err)
		assert.Equal(t, int64(i+1), id)
		if token == kept {
			require.NoError(t, tx.Commit(ctx))
		}
		require.NoError(t, tx.Rollback())
	}
	assert.True(t, has(kept))
	assert.False(t, has(lost))
	for want, of := range map[bool][2]string{true: {"log", "sum-" + kept}, false: {"log", "other"}} {
		loaded, err := Loaded(ctx, db, of[0], of[1])
		require.NoError(t, err)
		assert.Equal(t, want, loaded)
	}
}

func TestARunIsNotWrittenTwice(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "db")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	db, err := sqlite.Open(path)
	require.NoError(t, err)
	defer db.Close()
	tx, err := db.Begin(ctx, nil, Tables(), false)
	require.NoError(t, err)
	r := &Run{Token: "same", Started: time.Now()}
	_, err = Write(ctx, tx, r)
	require.NoError(t, err)
	_, err = Write(ctx, tx, r)
	assert.ErrorContains(t, err, "ladle_run does not take a row: UNIQUE constraint failed")
}
