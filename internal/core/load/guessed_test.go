package load

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
)

func TestWhatWasGuessedIsTold(t *testing.T) {
	cases := []struct {
		name, content string
		asked         source.Asked
		notes         []string
		err           string
	}{
		{"nothing in a file of RFC 4180", "a,b\n1,2\n", source.Asked{}, nil, ""},
		{"nothing in UTF-8", "a,b\né,2\n", source.Asked{}, nil, ""},
		{"another encoding", "a,b\nM\xe9duse,2\n", source.Asked{}, []string{"in.csv was read as windows-1252, as it looks; encoding: in the ladle file makes that certain"}, ""},
		{"not when it is said", "a,b\nM\xe9duse,2\n", source.Asked{Encoding: "windows-1252"}, nil, ""},
		{"an encoding that isn't clear", "a,b\nT\x9d\x8fx,2\n", source.Asked{}, nil, "it isn't clear in which encoding this text is"},
		{"a header that isn't sure", "Berth,Quay\nN1,North\nN2,North\n", source.Asked{},
			[]string{"in.csv: the line of the header is not sure (1 was taken); header: in the ladle file makes it certain"}, ""},
		{"a delimiter that isn't sure", "a;b\n1,5;2,5\n3,5;4,5\n", source.Asked{},
			[]string{`in.csv: the delimiter is not sure (";" was taken); delimiter: in the ladle file makes it certain`}, ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in.csv")
			require.NoError(t, os.WriteFile(path, []byte(c.content), 0o600))
			table, err := source.Open([]string{path}, c.asked)
			require.NoError(t, err)
			defer table.Close()
			for err == nil {
				_, err = table.Next()
			}
			notes, err := guessed(table)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.notes, notes)
		})
	}
}

func TestWhatIsHiddenIsTold(t *testing.T) {
	m := &source.Manner{HiddenRows: 2, HiddenColumns: []string{"C", "D"}, Merged: 3}
	assert.Equal(t, []string{"x: 2 of its rows are hidden; they are read too", "x: hidden columns, which can be used: C, D",
		"x: blocks of merged cells, of which only the first cell holds a value: 3"}, hidden("x", m))
	assert.Empty(t, hidden("x", &source.Manner{}))
}
