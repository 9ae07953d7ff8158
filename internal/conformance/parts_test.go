package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// inParts loads in parts of two lines, in a copy of the folder and the database; what it returns holds that against what
// the load did in one transaction, and takes it back.
func (w *world) inParts(more []string) (compare func(report, result)) {
	w.Helper()
	if slices.Contains(more, "--no-logbook") {
		return func(report, result) {}
	}
	copied := *w
	copied.dir = w.TempDir()
	require.NoError(w, os.CopyFS(copied.dir, os.DirFS(w.dir)))
	most := "2"
	if w.large() {
		most = "5000"
	}
	arguments := slices.Concat([]string{"load", "f.ladle.yaml", "--db", w.db, "--json", "--yes", "--in-parts", most}, more)
	r := copied.run(arguments...)
	var doc report
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &doc), r.stdout+r.stderr)
	if r.status == 2 && strings.Contains(r.stderr, "can't be loaded in parts") {
		return func(report, result) {}
	}
	before := ""
	if doc.Run > 0 {
		before = w.data() // which is not loaded yet
	}
	return func(whole report, is result) {
		w.Helper()
		if is.status != 6 && r.status == 6 { // a check, or a row, that fails behind a part
			assert.Equal(w, 1, is.status, r.stdout+r.stderr)
		} else {
			assert.Equal(w, is.status, r.status, r.stdout+r.stderr)
			assert.Equal(w, whole.tallies(), doc.tallies())
			assert.Equal(w, whole.asides(), doc.asides())
			if is.status != 3 { // else there may be no database
				assert.Equal(w, w.data(), copied.data(), "the parts give the same tables as the load")
			}
		}
		if doc.Run == 0 || slices.Contains(more, "--check-level") {
			return
		}
		verified := copied.run("verify", fmt.Sprint(doc.Run), "--db", w.db)
		assert.Equal(w, 0, verified.status, verified.stdout+verified.stderr)
		undone := copied.run("undo", fmt.Sprint(doc.Run), "--db", w.db, "--yes")
		if assert.Equal(w, 0, undone.status, undone.stdout+undone.stderr) {
			assert.Equal(w, before, copied.data())
		}
	}
}

// large reports whether a file of the folder has many lines.
func (w *world) large() bool {
	files, err := os.ReadDir(w.dir)
	require.NoError(w, err)
	return slices.ContainsFunc(files, func(f os.DirEntry) bool {
		about, err := f.Info()
		return err == nil && f.Name() != w.db && about.Size() > 20_000
	})
}

// TestParts stops a load in parts behind some of them, in each of the ways in which one can end, and has it go on, or
// takes it back.
func TestParts(t *testing.T) {
	const script = "CREATE TABLE kind (id ID, name VARCHAR(20) NOT NULL UNIQUE); CREATE TABLE vessel (id ID, reg_no VARCHAR(9) " +
		"NOT NULL UNIQUE, kind_id INTEGER NOT NULL REFERENCES kind (id), tender_of INTEGER REFERENCES vessel (id), tons AMOUNT); " +
		"CREATE TABLE visit (vessel_id INTEGER NOT NULL REFERENCES vessel (id), berth VARCHAR(9), day DATE); " +
		"CREATE TABLE closed (berth VARCHAR(9)); INSERT INTO kind (name) VALUES ('tug');"
	const ladle = `ladle: 1
inputs:
  register: {file: register.csv}
  log: {file: log.csv}
checks: [{claim: no visit to a closed berth, no_rows: select berth from visit where berth in (select berth from closed)}]
set_aside_limit: any
tables:
  vessel:
    from: register
    key: reg_no
    columns: {reg_no: Reg, kind_id: {from: Kind, lookup: kind.name, not_found: add}, tender_of: {from: Tender, lookup: vessel.reg_no}, tons: Tons}
  visit:
    from: log
    key: none
    columns: {vessel_id: {from: Reg, lookup: vessel.reg_no}, berth: Berth, day: Day}
`
	everywhere(t, func(t *testing.T, on server) {
		const all = "SELECT reg_no, k.name, v.tons, (SELECT count(*) FROM vessel o WHERE o.tender_of = v.id), (SELECT count(*) FROM " +
			"visit WHERE vessel_id = v.id) FROM vessel v JOIN kind k ON k.id = kind_id ORDER BY reg_no"
		begin := func(t *testing.T) *world {
			w := newWorld(t, on, script)
			w.write("f.ladle.yaml", ladle)
			w.write("register.csv", "Reg,Kind,Tender,Tons\nA,tug,C,1\nB,barge,,2\nB,barge,,3\nC,barge,A,3\nD,yacht,A,x\nE,yacht,,5\n")
			w.write("log.csv", "Reg,Berth,Day\nA,N1,2026-03-01\nA,N1,2026-03-01\nD,N1,2026-03-02\nC,N2,2026-03-03\nE,N3,2026-03-04\nE,N2,2026-03-05\n")
			return w
		}
		whole := begin(t)
		require.Equal(t, 4, whole.run("load", "f.ladle.yaml", "--db", whole.db, "--yes").status)
		want := whole.query(all)
		load := func(w *world, status int, more ...string) string {
			w.Helper()
			r := w.run(append([]string{"load", "f.ladle.yaml", "--db", w.db, "--yes"}, more...)...)
			require.Equal(w, status, r.status, r.stdout+r.stderr)
			return strings.Join(strings.Fields(r.stdout+r.stderr), " ")
		}

		w := begin(t)
		before := w.query(all)
		load(w, 2, "--in-parts", "0")
		assert.Contains(t, load(w, 2, "--in-parts", "2", "--no-logbook"), "a load in parts needs the logbook")
		assert.Contains(t, load(w, 2, "--go-on", "1"), "there is no run 1")
		w.query("INSERT INTO closed (berth) VALUES ('N3') RETURNING 1")
		said := load(w, 6, "--in-parts", "2")
		assert.Contains(t, said, "NOT ALL LOADED: 5 parts of run 1 are in the tables")
		assert.Contains(t, said, "--go-on 1")
		assert.Contains(t, said, "no visit to a closed berth")
		assert.Contains(t, said, "a check failed, so the part was rolled back")
		assert.Contains(t, strings.Join(strings.Fields(w.run("runs", "--db", w.db).stdout), " "), "unfinished: 5 parts")
		assert.Contains(t, w.read("register.set-aside.csv"), "NOT ALL LOADED")
		assert.Contains(t, load(w, 1), "parts of log.csv were loaded into visit by run 1, which isn't finished")
		assert.Contains(t, load(w, 6, "--go-on", "1"), "NOT ALL LOADED: 6 parts of run 1")
		w.write("g.ladle.yaml", ladle+"# changed\n")
		r := w.run("load", "g.ladle.yaml", "--db", w.db, "--yes", "--go-on", "1")
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, "run 1 was begun with another ladle file")
		log := w.read("log.csv")
		w.write("log.csv", log+"E,N2,2026-03-06\n")
		assert.Contains(t, load(w, 2, "--go-on", "1"), "run 1 was begun with other lines of log: log.csv was changed since")
		w.write("log.csv", log)
		w.query("DELETE FROM closed RETURNING 1")
		two := make(chan result, 2) // of two that go on at once, one does
		for range cap(two) {
			go func() { two <- w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--go-on", "1") }()
		}
		does, leaves := <-two, <-two
		if leaves.status == 4 {
			does, leaves = leaves, does
		}
		require.Equal(t, 4, does.status, does.stdout+does.stderr)
		assert.Contains(t, strings.Join(strings.Fields(does.stdout), " "), "Loaded as run 1, in 7 parts: 10 rows added, 2 updated, 4 "+
			"lines set aside")
		assert.Contains(t, []int{2, 3}, leaves.status, leaves.stdout+leaves.stderr)
		assert.Regexp(t, "another session goes on with run 1|run 1 is finished", leaves.stderr)
		assert.NotContains(t, leaves.stderr, "the others are not")
		assert.Equal(t, want, w.query(all))
		assert.Contains(t, w.read("register.set-aside.csv"), "the others are loaded")
		assert.Contains(t, load(w, 2, "--go-on", "1"), "run 1 is finished")
		require.Equal(t, 0, w.run("verify", "1", "--db", w.db).status)
		r = w.run("undo", "1", "--db", w.db, "--yes")
		require.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Equal(t, before, w.query(all))
		assert.Contains(t, load(w, 2, "--go-on", "1"), "run 1 was taken back by run 2")
		w.query("INSERT INTO closed (berth) VALUES ('N2') RETURNING 1") // what is in can be taken back too
		load(w, 6, "--in-parts", "2")
		require.Equal(t, 0, w.run("undo", "3", "--db", w.db, "--yes").status)
		assert.Equal(t, before, w.query(all))
	})
}

// TestChaosParts kills loads in parts at random moments: what is committed is what the logbook says, and going on brings
// what one transaction would have brought.
func TestChaosParts(t *testing.T) {
	eachKind(t, func(t *testing.T, kind string) {
		c := newChaos(t, kind, map[string]int64{"sqlite": 8000}[kind]+1500)
		for range rounds(3) {
			more, in := []string{"--in-parts", "300"}, 0
			for status := -1; status != 4; {
				x := c.command("")
				x.Args = append(x.Args, more...)
				var said bytes.Buffer
				x.Stdout, x.Stderr = &said, &said
				require.NoError(t, x.Start())
				stop := time.AfterFunc(time.Duration((0.2+3*c.random.Float64())*float64(c.whole)), func() {
					_ = x.Process.Signal(
						[]os.Signal{os.Kill, os.Interrupt}[c.random.IntN(2)])
				})
				_ = x.Wait()
				stop.Stop()
				status = x.ProcessState.ExitCode()
				require.Contains(t, []int{-1, 4, 6, 130}, status, said.String())
				parts, number := c.parts()
				c.seen[fmt.Sprintf("status %d, parts in: %t", status, parts > 0)]++
				if status == 130 { // also where it was to go on, and did not yet
					assert.Equal(t, in, parts, "it says that nothing was changed: %s", said.String())
				}
				if in = parts; parts > 0 {
					r := c.w.run("verify", number, "--db", c.w.db)
					require.Equal(t, 0, r.status, "what is in is what the logbook says: %s%s", r.stdout, r.stderr)
					more = []string{"--go-on", number}
				} else {
					require.Equal(t, c.before, c.content())
				}
			}
			require.Equal(t, c.after, c.content())
			c.fresh()
		}
		t.Log(c.seen)
	})
}

// parts is the number of parts that are committed of the first run, and the number of that, once no session of a killed program
// is at work. The database may have counted a run of which no part was committed.
func (c *chaos) parts() (n int, run string) {
	c.Helper()
	for last := -1; last != n; time.Sleep(50 * time.Millisecond) {
		r := c.w.run("runs", "--db", c.w.db, "--json")
		require.Equal(c, 0, r.status, r.stderr)
		var doc struct {
			Entries []struct {
				Run   int
				Parts struct{ Number int }
			}
		}
		require.NoError(c, json.Unmarshal([]byte(r.stdout), &doc))
		if last = n; len(doc.Entries) > 0 {
			first := doc.Entries[len(doc.Entries)-1]
			n, run = first.Parts.Number, strconv.Itoa(first.Run)
		}
	}
	return n, run
}

// TestPartsWithRowsThatOnlyTheDatabaseRejects: a row that a part brings is rejected, so what is left is judged anew, with
// what refers to that row.
func TestPartsWithRowsThatOnlyTheDatabaseRejects(t *testing.T) {
	const script = "CREATE TABLE mark (id ID, n VARCHAR(9) NOT NULL UNIQUE, v VARCHAR(9) UNIQUE, next_id INTEGER REFERENCES mark (id)); " +
		"CREATE TABLE sighting (mark_id INTEGER NOT NULL REFERENCES mark (id), day DATE NOT NULL); " +
		"INSERT INTO mark (n, v) VALUES ('first', 'taken');"
	const ladle = "ladle: 1\ninputs: {in: {file: in.csv, header: 1}, seen: {file: seen.csv}}\nset_aside_limit: %s\ntables:\n" +
		"  mark: {from: in, key: n, columns: {n: N, v: V, next_id: {from: Next, lookup: mark.n}}}\n" +
		"  sighting: {from: seen, key: none, columns: {mark_id: {from: Mark, lookup: mark.n}, day: Day}}\n"
	everywhere(t, func(t *testing.T, on server) {
		const all = "SELECT m.n, m.v, o.n, (SELECT count(*) FROM sighting WHERE mark_id = m.id) FROM mark m LEFT JOIN mark o ON o.id = " +
			"m.next_id ORDER BY m.n"
		begin := func(limit string) *world {
			w := newWorld(t, on, script)
			w.write("in.csv", "N,V,Next\na,1,g\nb,taken,\nc,3,a\nd,4,\ne,1,\nf,6,c\ng,7,first\n")
			w.write("seen.csv", "Mark,Day\na,2026-03-01\nb,2026-03-01\nb,2026-03-02\ng,2026-03-03\ne,2026-03-03\nd,2026-03-03\n")
			w.write("f.ladle.yaml", fmt.Sprintf(ladle, limit))
			return w
		}
		load := func(w *world, more ...string) (doc report, r result) {
			r = w.run(append([]string{"load", "f.ladle.yaml", "--db", w.db, "--yes", "--json"}, more...)...)
			require.NoError(t, json.Unmarshal([]byte(r.stdout), &doc), r.stdout+r.stderr)
			return doc, r
		}
		one, several := begin("any"), begin("any")
		whole, r := load(one)
		require.Equal(t, 4, r.status, r.stdout)
		parts, r := load(several, "--in-parts", "2")
		require.Equal(t, 4, r.status, r.stdout)
		assert.Equal(t, whole.tallies(), parts.tallies())
		assert.Equal(t, whole.asides(), parts.asides())
		assert.Equal(t, one.query(all), several.query(all))
		r = several.run("undo", fmt.Sprint(parts.Run), "--db", several.db, "--yes")
		assert.Equal(t, 0, r.status, r.stdout+r.stderr)
		assert.Equal(t, begin("any").query(all), several.query(all))

		strict := begin("3") // what was loaded before the limit is passed stays, and the others can be loaded once it isn't
		stopped, r := load(strict, "--in-parts", "2")
		assert.Equal(t, 6, r.status, r.stdout)
		assert.Equal(t, "unfinished", stopped.Outcome)
		assert.Contains(t, string(stopped.Why), "set_aside_limit is 3")
		assert.NotEqual(t, one.query(all), strict.query(all))
	})
}
