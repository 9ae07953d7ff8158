package prepare

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/ladlefile"
)

// TestSomeColumnsArePrepared: in the order and under the names that are asked for, without tables in the ladle file.
func TestSomeColumnsArePrepared(t *testing.T) {
	for _, c := range []struct {
		name    string
		columns []string
		renames []Rename
		want    string // the header and the first line
		err     string
	}{
		{"all", nil, nil, "Code,Depth,Quay,Place|N1,9.5,North,North N1", ""},
		{"some, in another order", []string{"place", "CODE"}, nil, "Place,Code|North N1,N1", ""},
		{"under other names", []string{"Code", "Depth"}, []Rename{{"depth", "depth_m"}}, "Code,depth_m|N1,9.5", ""},
		{"all, one under another name", nil, []Rename{{"Quay", "Dock"}}, "Code,Depth,Dock,Place|N1,9.5,North,North N1",
			""},
		{"names that change places", nil, []Rename{{"Code", "x"}, {"Quay", "Code"}, {"x", "Quay"}}, "",
			`no column "x" to write`},
		{"one twice", []string{"Code", "code"}, nil, "", `two columns would be called "Code"`},
		{"a name that is there", nil, []Rename{{"Code", "Quay"}}, "", `two columns would be called "Quay"`},
		{"one that isn't there", []string{"Code", "Dpeth"}, nil, "",
			`there is no column "Dpeth" to write; did you mean "Depth"?`},
		{"none that is there", []string{"x"}, nil, "", "the input in has none of the columns that are to be written"},
		{"a rename of what isn't written", []string{"Code"}, []Rename{{"Quay", "Dock"}}, "Code|N1", ""},
	} {
		for _, format := range []Format{CSV, XLSX} {
			t.Run(c.name+" as "+string(format), func(t *testing.T) {
				dir := t.TempDir()
				require.NoError(t, os.WriteFile(filepath.Join(dir, "in.csv"),
					[]byte("Code,Depth,Quay\nN1,\"9,5\",North\nN2,8,North\n"), 0o600))
				path := filepath.Join(dir, "f.ladle.yaml")
				require.NoError(t, os.WriteFile(path, []byte("ladle: 1\ninputs:\n  in:\n    file: in.csv\n    "+
					"columns: {Depth: {number: '1234,5'}}\n"+
					"    new_columns: {Place: {join: [Quay, Code], between: ' '}}\n"), 0o600))
				f, err := ladlefile.Read(path)
				require.NoError(t, err)
				out := filepath.Join(dir, "out")
				_, err = Run(context.Background(), f, nil, Options{Folder: out, Format: format, Columns: c.columns,
					Renames: c.renames})
				if c.err != "" {
					require.ErrorContains(t, err, c.err)
					entries, _ := os.ReadDir(out)
					assert.Empty(t, entries, "nothing is written")
					return
				}
				require.NoError(t, err)
				if format == CSV {
					content, err := os.ReadFile(filepath.Join(out, "in.csv"))
					require.NoError(t, err)
					assert.Equal(t, strings.Split(c.want, "|"), strings.Split(string(content), "\r\n")[:2])
				}
			})
		}
	}
}
