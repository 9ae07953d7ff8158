package bundle

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/intake"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

const (
	tables = "CREATE TABLE kind (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE); " +
		"CREATE TABLE vessel (id INTEGER PRIMARY KEY, reg VARCHAR(8) UNIQUE, kind_id INTEGER REFERENCES kind (id), note TEXT);"
	rules = "ladle: 1\ninputs:\n  in: {file: \"ves*.csv\", columns: {K: {recode_file: kinds.csv}}}\n  more: {file: /nowhere/more.csv, header: 1}\n" +
		"tables: {vessel: {from: in, key: reg, columns: {reg: R, kind_id: {from: K, lookup: kind.name}}}}\n"
)

// folder is a folder with a ladle file and what belongs to it, and the path of that ladle file.
func folder(t *testing.T) (dir, path string) {
	t.Helper()
	dir = t.TempDir()
	for name, content := range map[string]string{"f.ladle.yaml": strings.Replace(rules, "/nowhere", dir, 1), "kinds.csv": "T,Tug\n",
		"vessels.csv": "R,K\nA1,T\n", "vestiges.csv": "R,K\nA2,T\n", "more.csv": "A\n1\n", "in.corrected.csv": "x\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	return dir, filepath.Join(dir, "f.ladle.yaml")
}

// bundled is the bundle of a folder.
func bundled(t *testing.T, withInputs bool) []byte {
	t.Helper()
	dir, path := folder(t)
	require.NoError(t, os.Remove(filepath.Join(dir, "in.corrected.csv")))
	db, err := sqlite.NewScratch(tables)
	require.NoError(t, err)
	defer db.Close()
	f, err := ladlefile.Read(path)
	require.NoError(t, err)
	in, err := intake.Open(context.Background(), f, db, intake.Options{})
	require.NoError(t, err)
	defer in.Close()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.corrected.csv"), []byte("x\n"), 0o600))
	b, err := Gather(path, in.Plan, "1.0", "sqlite", "CREATE TABLE vessel;\n", withInputs)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, b.Write(&out))
	return out.Bytes()
}

// placed writes an archive to a folder of its own.
func placed(t *testing.T, content []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "b.zip")
	require.NoError(t, os.WriteFile(path, content, 0o600))
	return path
}

func TestABundleHoldsWhatBelongsToTheLadleFile(t *testing.T) {
	path := placed(t, bundled(t, true))
	assert.True(t, Is(path))
	o, err := Open(path)
	require.NoError(t, err)
	var names []string
	for _, e := range o.Files {
		names = append(names, e.Name)
	}
	assert.Equal(t, []string{"corrected/in.corrected.csv", "f.ladle.yaml", "inputs/1/more.csv", "inputs/3/vessels.csv", "inputs/3/vestiges.csv",
		"recode/2/kinds.csv", "tables.sql"}, names)
	assert.Equal(t, []Table{{"vessel", []Column{{"reg", "VARCHAR(8)"}, {"kind_id", "INTEGER"}}, [][]string{{"reg"}}},
		{"kind", []Column{{"name", "VARCHAR(20)"}, {"id", "INTEGER"}}, [][]string{{"name"}}}}, o.Expects)
	assert.Equal(t, "f.ladle.yaml", filepath.Base(o.File.Path), "as the logbook names it")
	found, err := filepath.Glob(o.File.Inputs[0].Paths[0])
	require.NoError(t, err)
	assert.Len(t, found, 2)
	assert.FileExists(t, o.File.Inputs[1].Paths[0])
	assert.FileExists(t, filepath.Join(o.File.Kept, "in.corrected.csv"))
	kept := o.folder
	require.NoError(t, o.Close())
	assert.NoDirExists(t, kept)

	o, err = Open(placed(t, bundled(t, false)))
	require.NoError(t, err)
	defer o.Close()
	assert.Equal(t, filepath.Join(filepath.Dir(filepath.Dir(o.File.Path)), "ves*.csv"), o.File.Inputs[0].Paths[0], "beside the bundle")
}

// changed is an archive with other contents for one of its files, or with one more.
func changedArchive(t *testing.T, archive []byte, name, from, to string) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	require.NoError(t, err)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		if f.Name == name {
			content = []byte(strings.ReplaceAll(string(content), from, to))
		}
		if to == "" && f.Name == name {
			continue
		}
		e, err := w.Create(f.Name)
		require.NoError(t, err)
		_, err = e.Write(content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestBundlesThatCantBeTrusted(t *testing.T) {
	whole := bundled(t, true)
	for _, c := range []struct{ name, file, from, to, why string }{
		{"a file that was changed", "recode/2/kinds.csv", "Tug", "Barge", "its file recode/2/kinds.csv was changed"},
		{"a file that is gone", "recode/2/kinds.csv", "", "", "its file recode/2/kinds.csv can't be read"},
		{"a manifest that is none", ManifestName, "{", "[", "its bundle.json can't be read"},
		{"a later format", ManifestName, `"ladle_bundle": 1`, `"ladle_bundle": 2`, "it is of format 2, from a later version of ladle (1.0)"},
		{"a file outside", ManifestName, "recode/2/kinds.csv", "../kinds.csv", `it has a file called "../kinds.csv"`},
		{"a ladle file outside", ManifestName, `"ladle_file": "f.ladle.yaml"`, `"ladle_file": "/etc/passwd"`, "its ladle file is called"},
		{"no manifest", ManifestName, "", "", "it is no bundle: it has no bundle.json"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Open(placed(t, changedArchive(t, whole, c.file, c.from, c.to)))
			assert.ErrorContains(t, err, c.why)
		})
	}
	path := placed(t, []byte("R,K\n"))
	assert.False(t, Is(path))
	_, err := Open(path)
	assert.ErrorContains(t, err, "it is no bundle")
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "ladle-bundle-*", "f.ladle.yaml"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left on disk")
}

func TestTheSameContentGivesTheSameBytes(t *testing.T) {
	dir, path := folder(t)
	var all [2]bytes.Buffer
	for i := range all {
		b := &Bundle{Manifest{Ladle: "f.ladle.yaml", Expects: []Table{}}, map[string]func() (io.ReadCloser, error){}}
		names := []string{"vessels.csv", "kinds.csv"}
		if i == 1 {
			names[0], names[1] = names[1], names[0]
			old := earliest.AddDate(20, 0, 0)
			require.NoError(t, os.Chtimes(filepath.Join(dir, "kinds.csv"), old, old))
		}
		for _, name := range names {
			b.put(Input, "inputs/"+name, name, file(filepath.Join(dir, name)))
		}
		require.NoError(t, b.Write(&all[i]))
	}
	assert.Equal(t, all[0].Bytes(), all[1].Bytes())
	_ = path
}

func TestWhatABundleExpects(t *testing.T) {
	text := value.Type{Kind: value.Text}
	column := func(name, declared string) schema.Column {
		return schema.Column{Name: name, Declared: declared, Type: text}
	}
	m := Manifest{Dialect: "postgres", Expects: []Table{{"vessel", []Column{{"reg", "varchar(8)"}, {"gt", "numeric(8,1)"}}, [][]string{{"reg"}}}}}
	of := func(key []string, columns ...schema.Column) *schema.Schema {
		return &schema.Schema{Tables: []*schema.Table{{Name: "vessel", Columns: columns, Keys: []schema.Key{{Columns: key}}}}}
	}
	for _, c := range []struct {
		name         string
		is           *schema.Schema
		dialect      string
		stops, notes []string
	}{
		{"just that", of([]string{"reg"}, column("reg", "varchar(8)"), column("gt", "numeric(8,1)")), "postgres", nil, nil},
		{"more room", of([]string{"reg"}, column("reg", "text"), column("gt", "numeric(9,1)")), "postgres", nil,
			[]string{"vessel.reg is text, and was varchar(8) when the bundle was made",
				"vessel.gt is numeric(9,1), and was numeric(8,1) when the bundle was made"}},
		{"less room", of([]string{"reg"}, column("reg", "varchar(7)"), column("gt", "numeric(8,1)")), "postgres",
			[]string{"vessel.reg is varchar(7), which takes less than varchar(8) did"}, nil},
		{"another dialect", of([]string{"reg"}, column("reg", "VARCHAR(8)"), column("gt", "decimal(8,1)")), "mysql", nil, nil},
		{"no key, no column", of([]string{"gt"}, column("gt", "numeric(8,1)")), "postgres",
			[]string{"vessel has no column reg", "vessel has no unique key on reg"}, nil},
		{"no table", &schema.Schema{}, "postgres", []string{"there is no table vessel; tables.sql in the bundle has its definition"}, nil},
	} {
		stops, notes := m.Compare(c.is, c.dialect)
		assert.Equal(t, c.stops, stops, c.name)
		assert.Equal(t, c.notes, notes, c.name)
	}
}
