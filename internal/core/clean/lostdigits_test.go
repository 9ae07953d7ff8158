package clean

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/value"
)

func TestNumbersThatLostDigits(t *testing.T) {
	for _, text := range []string{"4.47912E+11", "1E+15", "-7.5E+10", "4,47912E+11"} {
		assert.True(t, HasLostDigits([]byte(text)), text)
	}
	for _, text := range []string{"", "E+11", "44.7E+11", "4.4x912E+11", "4.47912e+11", "4.47912E-11", "4.47912E+1",
		"PIPE+11", "4.47912E+111"} {
		assert.False(t, HasLostDigits([]byte(text)), text)
	}
	table := opened(t, "No,Container\n1,MSKU 1\n2,4.47912E+11\n3,5.1E+11\n")
	rows, err := Read(context.Background(), table, plainly(t, table), []Column{{0, value.Type{Kind: value.Float}}, {1,
		value.Type{}}}, t.TempDir(), nil)
	require.NoError(t, err)
	defer rows.Close()
	assert.Equal(t, []LostDigits{{1, "4.47912E+11"}}, rows.LostDigits)
}
