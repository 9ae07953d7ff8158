package conformance

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// TestNewestRows: by their numbers, and as many as are asked for.
func TestNewestRows(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE mark (no INTEGER PRIMARY KEY, n VARCHAR(9)) PLAIN;")
		w.write("in.csv", "No,N\n8,a\n9,b\n10,c\n11,d\n100,e\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {mark: {from: in, key: no, columns: "+
			"{no: No, n: N}}}\n")
		doc, _ := w.load("load", "--newest", "4")
		require.Len(t, doc.Newest, 1)
		var numbers []string
		for _, row := range doc.Newest[0].Rows {
			numbers = append(numbers, *row[0])
		}
		assert.Equal(t, []string{"100", "11", "10", "9"}, numbers)
	})
}

// TestChanges: a file has what becomes of each row, and only when it is what a load does or did.
func TestChanges(t *testing.T) {
	const ladle = "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  vessel:\n    from: in\n    key: reg\n    " +
		"gone_from_file: {remove: yes, at_most: 9}\n    columns: {reg: R, name: {from: N, on_update: update}, " +
		"kind_id: {from: K, lookup: kind.name, not_found: add}, gt: G}\n"
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, fleet)
		before := w.query("SELECT reg, name FROM vessel ORDER BY reg")
		require.NotEmpty(t, before)
		first := strings.SplitN(before[0], "|", 2)
		w.write("in.csv", "R,N,K,G\n"+first[0]+",=Other,Tug,9.5\nA9,Rail,Barge,3\n")
		w.write("f.ladle.yaml", ladle)
		refused := w.run("try", "f.ladle.yaml", "--db", w.db, "--changes", "refused.csv")
		assert.Equal(t, 1, refused.status, refused.stderr)
		assert.NoFileExists(t, w.path("refused.csv"))
		tried := w.run("try", "f.ladle.yaml", "--db", w.db, "--changes", "tried.csv", "--allow-removal")
		require.Equal(t, 0, tried.status, tried.stdout+tried.stderr)
		text := w.read("tried.csv")
		for _, line := range []string{"table,what,key,column,before,after,file,line\n", "kind,added,Barge,,,Barge,,\n",
			"vessel,changed,reg " + first[0] + ",name," + first[1] + ",'=Other,in.csv,2\n",
			"vessel,\"differs, kept\",reg " + first[0] + ",gt,", "vessel,added,reg A9,name,,Rail,in.csv,3\n",
			"vessel,added,reg A9,kind_id,,new (Barge),in.csv,3\n"} {
			assert.Contains(t, text, line)
		}
		assert.Equal(t, len(before)-1, strings.Count(text, "vessel,removed,"), text)
		loaded := w.run("load", "f.ladle.yaml", "--db", w.db, "--changes", "loaded.xlsx", "--allow-removal", "--yes")
		require.Equal(t, 0, loaded.status, loaded.stderr)
		book, err := excelize.OpenFile(w.path("loaded.xlsx"))
		require.NoError(t, err)
		defer book.Close()
		rows, err := book.GetRows("changes")
		require.NoError(t, err)
		assert.Len(t, rows, strings.Count(text, "\n"))
		again := w.run("try", "f.ladle.yaml", "--db", w.db, "--changes", "tried.csv")
		assert.Equal(t, 2, again.status)
		assert.Contains(t, again.stderr, "tried.csv: the file exists")

		undone := w.run("undo", "1", "--db", w.db, "--yes", "--changes", "undone.csv")
		require.Equal(t, 0, undone.status, undone.stdout+undone.stderr)
		text = w.read("undone.csv")
		for _, line := range []string{"kind,removed,name Barge,", "vessel,removed,reg A9,",
			"vessel,changed,reg " + first[0] + ",name,'=Other," + first[1] + ",", "vessel,added,reg "} {
			assert.Contains(t, text, "\n"+line)
		}
		page := w.run("try", "f.ladle.yaml", "--db", w.db, "--changes", "tried.html", "--allow-removal")
		require.Equal(t, 0, page.status, page.stderr)
		assert.Contains(t, w.read("tried.html"), "<td>differs, kept</td>")
	})
}
