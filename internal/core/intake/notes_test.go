package intake

import (
	"context"
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
		asked         source.ReadOptions
		notes         []string
	}{
		{"nothing in a file of RFC 4180", "a,b\n1,2\n", source.ReadOptions{}, nil},
		{"nothing in UTF-8", "a,b\né,2\n", source.ReadOptions{}, nil},
		{"another encoding",
			"a,b\nM\xe9duse,Gen\xe8ve\nB\xe9b\xe9,\xe9t\xe9\nao\xfbt,for\xeat\nCh\xe2teau,Lumi\xe8re\n" +
				"d\xe9cembre,fran\xe7ais\n", source.ReadOptions{Header: source.HeaderLines{First: 1, Last: 1}},
			[]string{"in.csv was read as windows-1252, a guess; set encoding: in the ladle file to be certain"}},
		{"not when it is said", "a,b\nM\xe9duse,2\n", source.ReadOptions{Encoding: "windows-1252"}, nil},
		{"a header that isn't sure", "Berth,Quay\nN1,North\nN2,North\n", source.ReadOptions{},
			[]string{"in.csv: the line of the header is a guess (1); set header: in the ladle file to be certain"}},
		{"lines that hold nothing", "a,b\n1,2\n,\n\n3,4\n", source.ReadOptions{},
			[]string{"in.csv: 2 lines that hold nothing were skipped"}},
		{"quotes that are no quotes", "a,b\nx,3\" pipe\ny,4\" pipe\nz,5\" pipe\n",
			source.ReadOptions{Header: source.HeaderLines{First: 1, Last: 1}},
			[]string{"in.csv: quotes are read as part of the values, a guess; set quote: none in the ladle file to " +
				"be certain, or the quote that encloses values"}},
		{"and that are said", "a,b\nx,3\" pipe\ny,4\" pipe\nz,5\" pipe\n",
			source.ReadOptions{Quote: "none", Header: source.HeaderLines{First: 1, Last: 1}}, nil},
		{"a delimiter that isn't sure", "a;b\n1,5;2,5\n3,5;4,5\n", source.ReadOptions{},
			[]string{`in.csv: the delimiter is a guess (";"); set delimiter: in the ladle file to be certain`}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in.csv")
			require.NoError(t, os.WriteFile(path, []byte(c.content), 0o600))
			table, err := source.Open([]string{path}, c.asked)
			require.NoError(t, err)
			defer table.Close()
			read := source.Each(context.Background(), table, func(c *source.Chunk) int {
				for r := (source.Record{}); c.Next(&r); { // blank lines are counted on the way
				}
				return 0
			}, func(*source.Chunk, int) error { return nil })
			require.NoError(t, read)
			assert.Equal(t, c.notes, readingNotes(table, false))
		})
	}
}

func TestWhatIsHiddenIsTold(t *testing.T) {
	m := &source.Format{HiddenRows: 2, HiddenColumns: []string{"C", "D"}, Merged: 3}
	assert.Equal(t, []string{"x: 2 of its rows are hidden; they are read like the others",
		"x: hidden columns, which can be used like the others: C, D",
		"x: blocks of merged cells, of which only the first cell holds a value: 3"}, hidden("x", m))
	assert.Empty(t, hidden("x", &source.Format{}))
}
