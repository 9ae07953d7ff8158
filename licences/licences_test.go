package licences_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/licences"
	"ladle/licences/modules"
)

// TestAllModulesAreNamedWithTheirVersions: go generate ./licences puts it right.
func TestAllModulesAreNamedWithTheirVersions(t *testing.T) {
	linked, err := modules.Linked()
	require.NoError(t, err)
	var want, got []string
	for _, m := range linked {
		want = append(want, m.String())
	}
	for _, part := range strings.Split(licences.Text, strings.Repeat("=", 80)+"\n")[2:] {
		name, text, _ := strings.Cut(part, "\n")
		got = append(got, name)
		assert.Greater(t, len(text), 500, "the licence of %s", name)
	}
	assert.Equal(t, want, got)
}
