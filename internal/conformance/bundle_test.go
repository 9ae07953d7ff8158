package conformance

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestABundleLoadsElsewhere: in another folder, a bundle does what its ladle file does, and leaves there what a load
// leaves; a database that it wasn't made for stops it.
func TestABundleLoadsElsewhere(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, fleet)
		w.write("in.csv", "R,N,K,G\nA7,Tern,T,5\nA8,Auk,F,6\nA9,Rail,T,x\n")
		w.write("kinds.csv", "T,Tug\nF,Ferry\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, columns: {K: {recode_file: kinds.csv}}}}\nset_aside_limit: any\n"+
			"tables: {vessel: {from: in, key: reg, columns: {reg: R, name: N, gt: G, kind_id: {from: K, lookup: kind.name, not_found: add}}}}\n")
		temporary := t.TempDir()
		t.Setenv("TMPDIR", temporary)
		first := w.run("try", "f.ladle.yaml", "--db", w.db)
		require.Equal(t, 4, first.status, first.stdout+first.stderr)
		r := w.run("bundle", "f.ladle.yaml", "--db", w.db, "--with-inputs", "-o", "b.zip", "--json")
		require.Equal(t, 0, r.status, r.stderr)
		require.Equal(t, 0, w.run("bundle", "f.ladle.yaml", "--db", w.db, "-o", "small.zip").status)
		require.NoError(t, os.Mkdir(w.path("else"), 0o755))
		for _, name := range []string{"b.zip", "small.zip"} {
			require.NoError(t, os.Rename(w.path(name), w.path("else/"+name)))
		}
		for _, name := range []string{"f.ladle.yaml", "kinds.csv", "in.csv", "in.set-aside.csv"} {
			require.NoError(t, os.Remove(w.path(name)))
		}
		missing := w.run("try", "else/small.zip", "--db", w.db)
		assert.Equal(t, 3, missing.status)
		assert.Contains(t, missing.stderr, "in.csv: there is no such file")
		assert.Equal(t, 4, w.run("try", "else/b.zip", "--db", w.db).status)
		refused := w.run("try", "else/b.zip", "--db", w.db, "--corrected", "x.csv")
		assert.Equal(t, 2, refused.status)
		assert.Contains(t, refused.stderr, "a bundle isn't changed")
		r = w.run("load", "else/b.zip", "--db", w.db, "--yes")
		require.Equal(t, 4, r.status, r.stdout+r.stderr)
		assert.Equal(t, []string{"A7|Tug", "A8|Ferry"}, w.query("SELECT reg, kind.name FROM vessel JOIN kind ON kind.id = kind_id "+
			"WHERE reg > 'A6' ORDER BY reg"))
		assert.FileExists(t, w.path("else/in.set-aside.csv"))
		assert.Contains(t, w.run("runs", "--db", w.db).stdout, "f.ladle.yaml")
		survey := w.run("survey", "else/b.zip")
		assert.Equal(t, 0, survey.status)
		assert.Contains(t, survey.stdout, "else/b.zip/inputs/1/in.csv: ", "files are named by the bundle")
		assert.NotContains(t, survey.stdout, temporary)
		assert.Contains(t, w.run("verify", "else/b.zip", "--db", w.db).stdout, "1 line of in can't be compared")
		left, err := os.ReadDir(temporary)
		require.NoError(t, err)
		assert.Empty(t, left)

		w.do("ALTER TABLE stay DROP COLUMN note")
		w.do("ALTER TABLE vessel DROP COLUMN flag")
		assert.Equal(t, 4, w.run("try", "else/b.zip", "--db", w.db).status, "it needs neither of them")
		other := newWorld(t, on, "CREATE TABLE vessel (id ID, reg VARCHAR(4), name VARCHAR(12) NOT NULL, kind_id INTEGER);")
		stopped := other.run("load", w.path("else/b.zip"), "--db", other.db, "--yes")
		assert.Equal(t, 1, stopped.status)
		for _, says := range []string{"this database is not as the bundle expects it", "there is no table kind; tables.sql in the " +
			"bundle has its definition", "vessel has no column gt", "vessel has no unique key on reg"} {
			assert.Contains(t, stopped.stderr, says)
		}
	})
}
