package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEqualRowsGoOneByOne: of rows that nothing tells apart, as many go as there are too many, whatever their types, and
// a trigger sees no others go; undo brings them back, and refuses where what it would remove is gone.
func TestEqualRowsGoOneByOne(t *testing.T) {
	types := map[string]string{"postgres": "f REAL, b BYTEA, c CHAR(4), n NUMERIC, j JSON, e TIMESTAMPTZ",
		"mysql": "f FLOAT, b VARBINARY(9), c CHAR(4), n DECIMAL(30,20), j JSON, e TIMESTAMP(6) NULL"}
	rows := "INSERT INTO note VALUES ('a', 0.1, 'it''s', 'x', 1.50, '{\"a\": 1}', '2026-01-01 00:00:00.25'), " +
		"('a', 0.1, 'it''s', 'x', 1.50, '{\"a\": 1}', '2026-01-01 00:00:00.25'), " +
		"('a', 0.1, 'it''s', 'x', 1.50, '{\"a\": 1}', '2026-01-01 00:00:00.25'), " +
		"('b', 16777216, NULL, '', -0.1, NULL, NULL), ('b', 16777216, NULL, '', -0.1, NULL, NULL), " +
		"('c', NULL, NULL, NULL, NULL, NULL, NULL), ('c', NULL, NULL, NULL, NULL, NULL, NULL), ('d', NULL, NULL, NULL, " +
		"NULL, NULL, NULL);"
	triggers := map[string]string{
		"postgres": "CREATE FUNCTION went() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO gone VALUES (old.text); " +
			"RETURN old; END $$; CREATE TRIGGER went AFTER DELETE ON note FOR EACH ROW EXECUTE FUNCTION went();",
		"mysql": "CREATE TRIGGER went AFTER DELETE ON note FOR EACH ROW INSERT INTO gone VALUES (old.text);",
	}
	for kind, own := range types {
		for _, seen := range []bool{false, true} {
			name := kind
			script := "CREATE TABLE gone (text VARCHAR(9)); CREATE TABLE note (text VARCHAR(9), " + own + ");" + rows
			if seen {
				name, script = kind+", seen by a trigger", script+triggers[kind]
			}
			t.Run(name, func(t *testing.T) {
				w := newWorld(t, servers[kind], script)
				w.write("in.csv", "T\na\nb\nb\nb\nc\n")
				w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {note: {from: in, key: all_columns, "+
					"gone_from_file: {remove: yes, at_most: 9}, columns: {text: T}}}\n")
				before := w.query("SELECT text, f, b, c, n + 1, j, e FROM note ORDER BY text")
				doc, out := w.load("load", "--allow-removal")
				require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
				assert.Equal(t, []string{"note: 5, 1 added, 4 same, 4 removed"}, doc.accounts())
				assert.Equal(t, []string{"a|1", "b|3", "c|1"},
					w.query("SELECT text, count(*) FROM note GROUP BY text ORDER BY text"))
				if seen {
					assert.Equal(t, []string{"a|2", "c|1", "d|1"},
						w.query("SELECT text, count(*) FROM gone GROUP BY text ORDER BY text"))
				}
				refused := w.run("undo", "1", "--db", w.db, "--yes")
				assert.Contains(t, refused.stdout, "1 can't be identified", "a row was added of which only the text was sent")

				w.do("UPDATE note SET text = 'e' WHERE text = 'b'")
				w.write("in.csv", "T\na\ne\ne\n")
				doc, out = w.load("load", "--allow-removal")
				require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
				out = w.run("undo", "2", "--db", w.db, "--yes")
				require.Equal(t, 0, out.status, out.stdout+out.stderr)
				assert.Equal(t, []string{"a|1", "c|1", "e|3"},
					w.query("SELECT text, count(*) FROM note GROUP BY text ORDER BY text"))
				assert.Subset(t, append(before, "e|NULL"), w.query("SELECT text, f, b, c, n + 1, j, e FROM note WHERE text <> 'e' ORDER BY text"),
					"cells of all types are as they were")
			})
		}
	}
}

// TestEqualRowsThatAreGone: what a run added to a table whose rows nothing tells apart is taken back by its values, and
// not where some of it is gone or the table has other columns.
func TestEqualRowsThatAreGone(t *testing.T) {
	for kind := range servers {
		if kind == "sqlite" {
			continue // there, rows have a number
		}
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t, servers[kind], "CREATE TABLE note (text VARCHAR(9), depth INT);")
			w.write("in.csv", "T,P\na,1\na,1\nb,\n")
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {note: {from: in, key: none, "+
				"columns: {text: T, depth: P}}}\n")
			_, out := w.load("load")
			require.Equal(t, 0, out.status, out.stdout+out.stderr)
			w.do("DELETE FROM note WHERE text = 'b'")
			refused := w.run("undo", "1", "--db", w.db, "--yes")
			assert.Equal(t, 1, refused.status)
			assert.Contains(t, refused.stdout, "note text b, depth NULL no longer exists")
			w.do("INSERT INTO note VALUES ('b', NULL), ('a', 1)")
			w.do("ALTER TABLE note ADD COLUMN day DATE")
			assert.Contains(t, w.run("undo", "1", "--db", w.db, "--yes").stdout, "the table note has other columns now, and only")
			w.do("ALTER TABLE note DROP COLUMN day")
			out = w.run("undo", "1", "--db", w.db, "--yes", "--changes", "back.csv")
			require.Equal(t, 0, out.status, out.stdout+out.stderr)
			assert.Equal(t, []string{"a|1"}, w.query("SELECT text, depth FROM note"), "one that the run didn't add")
			assert.Equal(t, "table,what,key,column,before,after,file,line\nnote,removed,\"text a, depth 1\",,,,,\n"+
				"note,removed,\"text a, depth 1\",,,,,\nnote,removed,\"text b, depth NULL\",,,,,\n", w.read("back.csv"))
		})
	}
}
