package conformance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestVerifyAgreesOnlyWithWhatItCompared: a line that can't be compared is no agreement, unless a run of the logbook
// has set it aside.
func TestVerifyAgreesOnlyWithWhatItCompared(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quotedFor(on, fleet))
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {vessel: {from: in, key: reg, "+
			"columns: {reg: R, name: N, kind_id: {from: K, lookup: kind.name}}}}\nset_aside_limit: any\n")
		w.write("in.csv", "R,N,K\nB1,Rail,Sloop\nB2,Gull,Yawl\n")
		none := w.run("verify", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 1, none.status)
		assert.Contains(t, none.stdout, "2 lines could not be compared")
		assert.Contains(t, none.stdout, "Not all lines could be compared; those that could are in the database")

		w.write("in.csv", "R,N,K\nB1,Rail,Tug\nB2,Gull,Yawl\nB3,Tern,Ferry\n")
		require.Equal(t, 4, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes").status)
		loaded := w.run("verify", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 0, loaded.status, loaded.stdout+loaded.stderr)
		assert.Contains(t, loaded.stdout, "1 line of in can't be compared: run 1 has set it aside")
		assert.Equal(t, 0, w.run("verify", "f.ladle.yaml", "--db", w.db, "--json").status)

		w.query("UPDATE kind SET name = 'Pilot' WHERE name = 'Ferry'")
		changed := w.run("verify", "f.ladle.yaml", "--db", w.db)
		assert.Equal(t, 1, changed.status, changed.stdout)
		assert.Contains(t, changed.stdout, "1 line could not be compared")
		assert.Contains(t, changed.stdout, `in.csv:4: K "Ferry" is not in kind.name`)

		w.query("UPDATE kind SET name = 'Ferry' WHERE name = 'Pilot'")
		require.Equal(t, 0, w.run("undo", "1", "--db", w.db, "--yes").status)
		assert.Equal(t, 1, w.run("verify", "f.ladle.yaml", "--db", w.db).status,
			"a run that was taken back excepts nothing")
	})
}

// TestVerifyOfACircleWithAMissingRow: what would be a new row has no id that a server could be asked for.
func TestVerifyOfACircleWithAMissingRow(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE crew (id ID, no VARCHAR(4) NOT NULL UNIQUE, rank INTEGER, boss INTEGER "+
			"REFERENCES crew (id));")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {crew: {from: in, key: "+
			"no, columns: {no: N, rank: R, boss: {from: B, lookup: crew.no}}}}\n")
		w.write("in.csv", "N,R,B\nA,1,\nB,2,A\n")
		require.Equal(t, 0, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes").status)
		w.write("in.csv", "N,R,B\nA,1,\nB,2,D\nD,3,A\n")
		out := w.run("verify", "f.ladle.yaml", "--db", w.db, "--changes", "all.csv")
		assert.Equal(t, 1, out.status, out.stderr)
		assert.Equal(t, "table,what,key,column,before,after,file,line\ncrew,missing,no D,,,,in.csv,4\n"+
			"crew,differs,id 2,boss,1,new (D),in.csv,3\n", w.read("all.csv"))
		assert.Contains(t, out.stdout, "line 4: no D")
		assert.Contains(t, out.stdout, "boss is new (D) in the file and")
		assert.Regexp(t, `crew\.boss +in +2 +1 +0 +1 `, out.stdout, "of the second step, only rows that are there")
	})
}

// TestRunsSayWhatTheyDid: in the list, and by their numbers where a later one has changed a row.
func TestRunsSayWhatTheyDid(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE crew (id ID, no VARCHAR(4) NOT NULL UNIQUE, rank INTEGER);")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {crew: {from: in, key: "+
			"no, already_there: update, gone_from_file: {remove: yes, at_most: 5}, columns: {no: N, rank: R}}}\n")
		for _, file := range []string{"N,R\nA,1\nB,2\nC,3\n", "N,R\nA,1\nB,9\nC,3\n", "N,R\nA,1\nB,9\n"} {
			w.write("in.csv", file)
			require.Equal(t, 0, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--allow-removal").status)
		}
		list := w.run("runs", "--db", w.db)
		assert.Regexp(t, `(?s)3 .+ 0 +0 +1 +\d.* loaded.*2 .+ 0 +1 +0 +\d.* loaded.*1 .+ 3 +0 +0 +\d.* loaded`,
			list.stdout)
		w.write("first.csv", "N,R\nA,1\nB,2\nC,3\n")
		first := []string{"verify", "f.ladle.yaml", "--db", w.db, "--input", "in=first.csv"}
		assert.Equal(t, 1, w.run(first...).status)
		then := w.run(append(first, "--after", "1")...)
		assert.Equal(t, 0, then.status, then.stdout)
		assert.Contains(t, then.stdout, "1 line of in differs: run 2 has changed the row since")
		assert.Contains(t, then.stdout, "1 line of in is missing: run 3 has removed the row since")
		assert.Equal(t, 1, w.run(append(first, "--after", "2", "--json")...).status)
		undone := w.run("undo", "1", "--db", w.db, "--yes")
		assert.Equal(t, 1, undone.status)
		assert.Regexp(t, `id 2 has been changed since, by run 2\n`, undone.stdout)
		assert.Regexp(t, `id 3 no longer exists, by run 3\n`, undone.stdout)
		assert.Contains(t, w.run("verify", "1", "--db", w.db).stdout, "by run 2")
		require.Equal(t, 0, w.run("runs", "--db", w.db, "--json").status)
	})
}

// TestUndoWithoutAnIndex: rows that nothing refers to go fast although the database would have to look through all that
// could, which is said before; no index is left behind.
func TestUndoWithoutAnIndex(t *testing.T) {
	w := newWorld(t, postgresSchema{}, "CREATE TABLE berth (id ID, code VARCHAR(9) NOT NULL UNIQUE); "+
		"CREATE TABLE stay (id ID, berth_id INTEGER REFERENCES berth (id)); INSERT INTO berth (code) VALUES ('B0');")
	w.query("INSERT INTO stay (berth_id) SELECT 1 FROM generate_series(1, 60000)")
	w.query("ANALYZE stay")
	var file strings.Builder
	file.WriteString("Code\n")
	for i := range 3000 {
		fmt.Fprintf(&file, "C%d\n", i)
	}
	w.write("in.csv", file.String())
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {berth: {from: in, key: "+
		"code, columns: {code: Code}}}\n")
	require.Equal(t, 0, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes").status)
	indexes := "SELECT count(*) FROM pg_index WHERE indrelid = 'stay'::regclass"
	before := w.query(indexes)
	out := w.run("undo", "1", "--db", w.db, "--yes")
	require.Equal(t, 0, out.status, out.stdout+out.stderr)
	assert.Contains(t, unwrap(out.stderr), "stay has no index on berth_id: without one, its 60,000 rows are read "+
		"for each of the 3,000 rows of berth that go")
	assert.Equal(t, before, w.query(indexes))
	assert.Equal(t, []string{"1"}, w.query("SELECT count(*) FROM berth"))
}

// TestForeignKeysOfAnotherType: SQLite compares a text with the number that it refers to, and so do an undo and a removal
// that ask which rows refer to those that go.
func TestForeignKeysOfAnotherType(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "CREATE TABLE quay (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE); CREATE TABLE berth "+
		"(quay_id TEXT REFERENCES quay (id), no INTEGER, PRIMARY KEY (quay_id, no)) WITHOUT ROWID;")
	names := "Name\n"
	for i := range 12 {
		names += fmt.Sprintf("Quay %d\n", i+1)
	}
	w.write("q.csv", names)
	w.write("b.csv", "Quay,No.\n12,1\n3,2\n")
	w.write("q.ladle.yaml", "ladle: 1\ninputs: {q: {file: q.csv}}\ntables: {quay: {from: q, key: name, gone_from_file: {remove: "+
		"yes, at_most: 100%}, columns: {name: Name}}}\n")
	w.write("b.ladle.yaml", "ladle: 1\ninputs: {b: {file: b.csv}}\ntables: {berth: {from: b, key: [quay_id, no], columns: {quay_id: "+
		"Quay, no: No.}}}\n")
	for _, file := range []string{"q.ladle.yaml", "b.ladle.yaml"} {
		out := w.run("load", file, "--db", w.db, "--yes")
		require.Equal(t, 0, out.status, out.stdout+out.stderr)
	}
	out := w.run("undo", "1", "--db", w.db, "--yes")
	assert.Equal(t, 1, out.status, out.stdout+out.stderr)
	assert.Contains(t, out.stdout, "refers to a row of quay: quay_id 12")
	w.write("q.csv", "Name\nQuay 3\n")
	out = w.run("load", "q.ladle.yaml", "--db", w.db, "--yes")
	assert.Equal(t, 1, out.status, out.stdout+out.stderr)
	assert.Contains(t, unwrap(out.stdout+out.stderr), "a row of berth refers to the row of quay with id 12")
	out = w.run("undo", "2", "--db", w.db, "--yes", "--changes", "back.csv")
	require.Equal(t, 0, out.status, out.stdout+out.stderr)
	assert.Contains(t, w.read("back.csv"), "berth,removed")
	out = w.run("undo", "1", "--db", w.db, "--yes")
	require.Equal(t, 0, out.status, out.stdout+out.stderr)
	assert.Equal(t, []string{"0"}, w.query("SELECT count(*) FROM quay"))
}
