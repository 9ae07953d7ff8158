package draft

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// TestWhatIsSaidOfAFileIsWritten: the keys by which a file was read as a person said.
func TestWhatIsSaidOfAFileIsWritten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "in.txt")
	require.NoError(t, os.WriteFile(path,
		[]byte("# x\nno   vessel  gt\nA1   Tern     7\nA22  Otter   12\nTotal        19\n"), 0o600))
	asked := source.ReadOptions{Widths: "5 8 2", Comment: "#", Footer: 1}
	tables, err := survey.Open([]string{path}, asked)
	require.NoError(t, err)
	defer survey.Close(tables)
	seen, err := survey.Run(context.Background(), tables, nil)
	require.NoError(t, err)
	d, err := Make(context.Background(), []File{{Path: "in.txt", Survey: seen.Inputs[0], Asked: asked}},
		&schema.Schema{}, nil)
	require.NoError(t, err)
	for _, says := range []string{"    comment: '#'\n", "    widths: [5, 8, 2]\n", "    footer_lines: 1\n"} {
		assert.Contains(t, d.Text, says)
	}
	assert.NotContains(t, d.Text, "delimiter:")
	f, err := ladlefile.Decode("f.ladle.yaml", []byte(d.Text+"\n  t: {from: in, columns: {a: b}}\n"))
	require.NoError(t, err)
	assert.Equal(t, "5, 8, 2", f.Inputs[0].Asked.Widths)
}

// TestWhatAFileSeemsToBeIsWritten: how a file is read, and what is in doubt about it, stands in the ladle file.
func TestWhatAFileSeemsToBeIsWritten(t *testing.T) {
	for _, c := range []struct {
		name, file, content string
		says, not           []string
	}{
		{"a total at the end", "in.csv", "Code;Depth\nN1;5\nN2;6\nTotal;11\n", []string{"    header: 1\n",
			"    delimiter: ';'\n",
			`    footer_lines: 1  # ? line 4, "Total", seems to sum up the others`}, nil},
		{"a total that isn't at the end", "in.csv", "Code,Depth\nN1,5\nTotal,5\nN2,6\n", nil, []string{"footer_lines"}},
		{"another table", "in.csv", "Code,Depth\nN1,5\nN2,6\nN3,7\n\nAgent,Phone\nMole House,555\n", []string{
			`    # footer_lines: 2  # ? line 6, "Agent", seems to be the header of another table`}, nil},
		{"groups", "in.csv", "Code,Depth\nN1,5\nN2,6\n\nS3,7\nS4,7\n", nil, []string{"footer_lines"}},
		{"months", "in.csv", "Code,Jan,Feb,Mar\nN1,5,6,7\n",
			[]string{"    # columns_to_rows: {columns: {from: Jan, to: Mar}, " +
				"heading: Period, value: Value}  # ? these columns look like values of one"}, nil},
		{"lists", "in.csv", "Code,Cargo\nN1,Wheat; Salt\nN2,Coal; Salt\nN3,Fish; Coal\n",
			[]string{"    # parts_to_rows: {column: Cargo, at: ';'}  # ? its cells look like lists"}, nil},
		{"JSON", "in.json", `[{"code":"N1"},{"code":"N2"}]`, []string{"    file: in.json\n"}, []string{"header:",
			"delimiter:", "encoding:"}},
		{"an encoding that isn't certain", "in.csv", "Code,Name\nN1,H\xe4fler\n",
			[]string{`    # encoding: windows-1252  # ? not certain; it could be`},
			[]string{"\n    encoding:"}},
		{"one that is", "in.csv",
			"Code,Name\nN1,M\xfcller\nN2,Gro\xdfe " +
				"Stra\xdfe\nN3,B\xe4cker\nN4,K\xf6nig\nN5,J\xfcrgen\nN6,Br\xfccke\nN7,\xd6l\nN8,Geb\xe4ude\nN9,Pr\xfcfung\nN10,L\xf6schen\n",
			[]string{"    encoding: windows-1252\n"}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), c.file)
			require.NoError(t, os.WriteFile(path, []byte(c.content), 0o600))
			tables, err := survey.Open([]string{path}, source.ReadOptions{})
			require.NoError(t, err)
			defer survey.Close(tables)
			seen, err := survey.Run(context.Background(), tables, nil)
			require.NoError(t, err)
			d, err := Make(context.Background(), []File{{Path: c.file, Survey: seen.Inputs[0]}}, &schema.Schema{}, nil)
			require.NoError(t, err)
			for _, says := range c.says {
				assert.Contains(t, d.Text, says)
			}
			for _, not := range c.not {
				assert.NotContains(t, d.Text, not)
			}
			_, err = ladlefile.Decode("f.ladle.yaml", []byte(d.Text+"\n  t: {from: in, columns: {a: b}}\n"))
			assert.NoError(t, err, d.Text)
		})
	}
}
