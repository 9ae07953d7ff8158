package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestVerifyAgreesOnlyWithWhatItCompared: a line that can't be compared is no agreement, unless a run of the logbook has
// set it aside.
func TestVerifyAgreesOnlyWithWhatItCompared(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quotedFor(on, fleet))
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {vessel: {from: in, key: reg, columns: "+
			"{reg: R, name: N, kind_id: {from: K, lookup: kind.name}}}}\nset_aside_limit: any\n")
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
		assert.Equal(t, 1, w.run("verify", "f.ladle.yaml", "--db", w.db).status, "a run that was taken back excepts nothing")
	})
}

// TestVerifyOfACircleWithAMissingRow: what would be a new row has no id that a server could be asked for.
func TestVerifyOfACircleWithAMissingRow(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE crew (id ID, no VARCHAR(4) NOT NULL UNIQUE, rank INTEGER, boss INTEGER "+
			"REFERENCES crew (id));")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {crew: {from: in, key: no, "+
			"columns: {no: N, rank: R, boss: {from: B, lookup: crew.no}}}}\n")
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
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {crew: {from: in, key: no, "+
			"already_there: update, gone_from_file: {remove: yes, at_most: 5}, columns: {no: N, rank: R}}}\n")
		for _, file := range []string{"N,R\nA,1\nB,2\nC,3\n", "N,R\nA,1\nB,9\nC,3\n", "N,R\nA,1\nB,9\n"} {
			w.write("in.csv", file)
			require.Equal(t, 0, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--allow-removal").status)
		}
		list := w.run("runs", "--db", w.db)
		assert.Regexp(t, `(?s)3 .+ 0 +0 +1 +\d.* loaded.*2 .+ 0 +1 +0 +\d.* loaded.*1 .+ 3 +0 +0 +\d.* loaded`, list.stdout)
		undone := w.run("undo", "1", "--db", w.db, "--yes")
		assert.Equal(t, 1, undone.status)
		assert.Regexp(t, `id 2 has been changed since, by run 2\n`, undone.stdout)
		assert.Regexp(t, `id 3 no longer exists, by run 3\n`, undone.stdout)
		assert.Contains(t, w.run("verify", "1", "--db", w.db).stdout, "by run 2")
		require.Equal(t, 0, w.run("runs", "--db", w.db, "--json").status)
	})
}
