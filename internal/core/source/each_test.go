package source

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEachKeepsTheOrder(t *testing.T) {
	var content strings.Builder
	content.WriteString("No.,Text\n")
	const rows = 100_000
	for i := range rows {
		fmt.Fprintf(&content, "%d,\"x, %d\"\n", i, i%7)
	}
	table, err := open(t, content.String(), ReadOptions{})
	require.NoError(t, err)
	work := func(c *Chunk) (numbers []string) {
		var r Record
		for c.Next(&r) {
			numbers = append(numbers, string(r.Fields[0]))
		}
		return numbers
	}
	n, done := 0, int64(0)
	require.NoError(t, Each(context.Background(), table, work, func(c *Chunk, numbers []string) error {
		for _, number := range numbers {
			if number != fmt.Sprint(n) {
				return fmt.Errorf("row %d holds %s", n, number)
			}
			n++
		}
		assert.GreaterOrEqual(t, c.Origin.Done, done)
		done = c.Origin.Done
		return nil
	}))
	assert.Equal(t, rows, n)
	assert.Equal(t, table.Size(), done)
}

func TestEachEndsWithTheFirstError(t *testing.T) {
	broken := errors.New("enough")
	cases := []struct {
		name    string
		content string
		keep    func(stop context.CancelFunc) error
		want    string
	}{
		{"of keep", strings.Repeat("1,2\n", 500_000), func(context.CancelFunc) error { return broken }, "enough"},
		{"of the context", strings.Repeat("1,2\n", 500_000), func(stop context.CancelFunc) error { stop(); return nil },
			"context canceled"},
		{"of the file", strings.Repeat("1,2\n", 500_000) + "\"open", func(context.CancelFunc) error { return nil },
			"never closed"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := open(t, c.content, ReadOptions{Delimiter: ",", Header: HeaderLines{None: true}})
			require.NoError(t, err)
			ctx, stop := context.WithCancel(context.Background())
			defer stop()
			err = Each(ctx, table, func(*Chunk) int { return 0 }, func(*Chunk, int) error { return c.keep(stop) })
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// TestWhatIsMetIsCounted: what chunks have besides records is brought into what is said of the file.
func TestWhatIsMetIsCounted(t *testing.T) {
	table, err := open(t, "a,b\n1,2\n\n,\n3,4\n,,\n", ReadOptions{})
	require.NoError(t, err)
	_, err = eachRecord(table)
	require.NoError(t, err)
	assert.Equal(t, int64(3), table.Formats()[0].Blank)
	assert.Equal(t, "LF", table.Formats()[0].LineEndings)

	table, err = opened(t, Open, ReadOptions{}, xlsx(t,
		rowsOf(`<row r="2" hidden="1"><c r="A2"><f>1</f><v>1</v></c></row><row r="5"><c r="A5"><v>2</v></c></row>`),
		nil))
	require.NoError(t, err)
	_, err = eachRecord(table)
	require.NoError(t, err)
	m := table.Formats()[0]
	assert.Equal(t, []int64{1, 1, 2}, []int64{m.HiddenRows, m.Formulas, m.Blank})
}

// TestAFolderByAnotherName: messages and formats name files by their alias, wherever they really stand.
func TestAFolderByAnotherName(t *testing.T) {
	path := parts(t, "post.zip", map[string]string{"calls-1.csv": "a,b\n1,2\n"})
	folder := filepath.Dir(path)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "empty.csv"), nil, 0o600))
	known := ReadOptions{Alias: Alias{Folder: folder, Name: "season.zip"}}
	table, err := opened(t, Open, known, path+"/calls-*.csv")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join("season.zip", "post.zip/calls-1.csv"), table.Formats()[0].Path)
	for name, why := range map[string]string{"empty.csv": "the file is empty", "none.csv": "there is no such file",
		"none-*.csv": "no file matches this name", "[.csv": "a [ has no ]", "post.zip/x.csv": `no file named "x.csv"`} {
		_, err := Open([]string{filepath.Join(folder, name)}, known)
		require.ErrorContains(t, err, why)
		assert.Contains(t, err.Error(), "season.zip")
		assert.NotContains(t, err.Error(), folder)
	}
	_, err = Open([]string{folder + "er.csv"}, known)
	assert.ErrorContains(t, err, folder+"er.csv: ", "a file beside the folder keeps its name")
}

func TestArchives(t *testing.T) {
	path := parts(t, "post.zip", map[string]string{"b/calls-2.csv": "a,b\n3,4\n", "calls-1.csv": "a,b\n1,2\n",
		"__MACOSX/._x": "x", ".hidden": "x", "notes.txt": "c\nz\n"})
	all, err := All(path, ReadOptions{})
	require.NoError(t, err)
	var files []string
	for _, table := range all {
		files = append(files, strings.TrimPrefix(table.Formats()[0].Path, filepath.Dir(path)+"/"))
		require.NoError(t, table.Close())
	}
	assert.Equal(t, []string{"post.zip/b/calls-2.csv", "post.zip/calls-1.csv", "post.zip/notes.txt"}, files)

	table, err := opened(t, Open, ReadOptions{}, path+"/calls-*.csv")
	require.NoError(t, err)
	got, err := records(table)
	require.NoError(t, err)
	assert.Equal(t, []string{"2: 1|2"}, got)
	_, err = Open([]string{path}, ReadOptions{})
	assert.ErrorContains(t, err, "notes.txt:1: this file has other columns than")
	_, err = Open([]string{path + "/none.csv"}, ReadOptions{})
	assert.ErrorContains(t, err, `the archive holds no file named "none.csv"`)
	_, err = Open([]string{parts(t, "empty.zip", nil)}, ReadOptions{})
	assert.ErrorContains(t, err, "the archive holds no file")
	_, err = Open([]string{t.TempDir()}, ReadOptions{})
	assert.ErrorContains(t, err, "this is a folder")

	pipe := filepath.Join(t.TempDir(), "pipe")
	r, w, err := os.Pipe()
	require.NoError(t, err)
	require.NoError(t, os.Symlink(fmt.Sprintf("/dev/fd/%d", r.Fd()), pipe))
	go func() {
		fmt.Fprint(w, "a,b\n1,2\n")
		w.Close()
	}()
	table, err = opened(t, Open, ReadOptions{}, pipe)
	require.NoError(t, err, "what can be read only once is kept")
	got, err = records(table)
	require.NoError(t, err)
	assert.Equal(t, []string{"2: 1|2"}, got)
	require.NoError(t, r.Close())
}
