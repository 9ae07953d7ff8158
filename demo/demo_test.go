package demo

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheSameNumbersGiveTheSameHarbour(t *testing.T) {
	read := func(h Harbour) string {
		folder := t.TempDir()
		require.NoError(t, h.Generate(folder))
		content, err := os.ReadFile(filepath.Join(folder, FlatFile))
		require.NoError(t, err)
		return string(content)
	}
	whole := read(NewHarbour(0, 3000, 1))
	assert.Equal(t, whole, read(NewHarbour(0, 3000, 1)))
	assert.NotEqual(t, whole, read(NewHarbour(0, 3000, 2)))

	t.Run("and a file that follows on goes on where the first ended", func(t *testing.T) {
		start, end := NewHarbour(0, 3000, 1), NewHarbour(2000, 1000, 1)
		start.Calls = 2000
		first, second := read(start), read(end)
		_, below, _ := strings.Cut(second, "\r\n")
		assert.Equal(t, whole, first+below)
	})
	t.Run("every line has what its header says, and no call occurs twice", func(t *testing.T) {
		lines, err := csv.NewReader(strings.NewReader(whole)).ReadAll()
		require.NoError(t, err)
		seen := map[string]bool{}
		for _, l := range lines {
			seen[l[0]+l[8]] = true
		}
		assert.Len(t, seen, 3001)
	})
	t.Run("a messy one is wrong in about as many lines as it says", func(t *testing.T) {
		h := NewHarbour(0, 3000, 1)
		h.Messy = 0.1
		messy := read(h)
		assert.InDelta(t, 300, strings.Count(messy, "Q9")+strings.Count(messy, " EUR"), 75)
	})
}

func TestChangesAreNoticed(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "new")
	changed, err := Changed(folder)
	require.NoError(t, err)
	assert.Empty(t, changed, "there is nothing yet")
	require.NoError(t, Unpack(folder, nil))
	require.NoError(t, Seal(folder))
	changed, err = Changed(folder)
	require.NoError(t, err)
	assert.Empty(t, changed)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "cargo.csv"), []byte("mine"), 0o600))
	changed, err = Changed(folder)
	require.NoError(t, err)
	assert.Equal(t, []string{"cargo.csv"}, changed)
	require.NoError(t, Unpack(folder, map[string]bool{"cargo.csv": true}))
	content, err := os.ReadFile(filepath.Join(folder, "cargo.csv"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(content))
}
