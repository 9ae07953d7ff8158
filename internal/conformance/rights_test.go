package conformance

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// granted is the part of the document of rights that tests look at.
type granted struct {
	Missing int
	Rights  []struct {
		On, Grant string
		For       []string
		Has       bool
	}
	Make []string `json:"logbook_tables"`
}

// someone is a user with a password on a server, who may do nothing yet, and the URL by which he connects.
func (w *world) someone(kind string) (name, db string) {
	w.Helper()
	name = fmt.Sprintf("ladle_mate_%d", os.Getpid())
	u, err := url.Parse(w.db)
	require.NoError(w, err)
	u.User = url.UserPassword(name, "hunter2")
	drop := []string{"DROP USER IF EXISTS '" + name + "'@'%'"}
	made := []string{"CREATE USER '" + name + "'@'%' IDENTIFIED BY 'hunter2'"}
	if kind == "postgres" {
		drop = []string{"DO $$ BEGIN IF EXISTS (SELECT FROM pg_roles WHERE rolname = '" + name + "') THEN EXECUTE 'DROP OWNED BY " +
			name + "'; EXECUTE 'DROP ROLE " + name + "'; END IF; END $$"}
		made = []string{"CREATE ROLE " + name + " LOGIN PASSWORD 'hunter2'"}
	}
	for _, s := range append(drop, made...) {
		w.do(s)
	}
	w.Cleanup(func() {
		for _, s := range drop {
			w.do(s)
		}
	})
	if kind == "mysql" {
		return name + "@%", u.String()
	}
	return name, u.String()
}

// TestRightsAreJustThoseThatAreNeeded: who is given what rights lists can try, load, verify and undo, and loses one of
// these with each right that is left out.
func TestRightsAreJustThoseThatAreNeeded(t *testing.T) {
	for _, kind := range []string{"postgres", "mysql"} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t, servers[kind], fleet)
			w.write("in.csv", "R,N,K\nA1,Heron,Tug\nA2,Gannet,Barge\nA4,Rail,Ferry\n")
			w.write("stays.csv", "V,D\nA4,2026-02-01\nA2,2026-02-02\n")
			w.write("f.ladle.yaml", fleetLadle)
			user, db := w.someone(kind)
			r := w.run("rights", "f.ladle.yaml", "--db", w.db, "--user", "nobody_here")
			assert.Equal(t, 2, r.status)
			assert.Regexp(t, `there is no (user "nobody_here"|account nobody_here@% that this user can see)`, r.stderr)
			list := func() (g granted) {
				r := w.run("rights", "f.ladle.yaml", "--db", w.db, "--user", user, "--json")
				require.NoError(t, json.Unmarshal([]byte(r.stdout), &g), r.stdout+r.stderr)
				return g
			}
			all := list()
			assert.Equal(t, len(all.Rights), all.Missing)
			require.Len(t, all.Make, 5)
			for _, s := range all.Make {
				w.do(s)
			}
			text := w.run("rights", "f.ladle.yaml", "--db", w.db, "--user", user)
			assert.Equal(t, 1, text.status)
			for _, right := range all.Rights {
				w.do(right.Grant)
			}
			assert.Contains(t, text.stdout, "GRANT SELECT, INSERT")
			assert.Zero(t, list().Missing)
			assert.Contains(t, w.run("rights", "f.ladle.yaml", "--db", db).stdout, "has all privileges for a try, a load and an undo")

			before, run := w.data(), 0
			// works does all of it, and tells what failed; what was loaded is undone in any case.
			works := func(label string) string {
				failed := ""
				if r := w.run("try", "f.ladle.yaml", "--db", db, "--allow-removal"); r.status != 0 || strings.Contains(r.stdout, "only what can be judged by reading") {
					failed = "try " + r.stdout + r.stderr
				}
				r := w.run("load", "f.ladle.yaml", "--db", db, "--yes", "--allow-removal")
				if r.status != 0 {
					return "load " + r.stderr
				}
				run++
				if r := w.run("verify", "f.ladle.yaml", "--db", db); r.status != 0 {
					failed = "verify " + r.stdout + r.stderr
				}
				r = w.run("undo", fmt.Sprint(run), "--db", db, "--yes")
				if r.status != 0 {
					failed = "undo " + r.stdout + r.stderr
					r = w.run("undo", fmt.Sprint(run), "--db", w.db, "--yes")
				}
				require.Equal(t, 0, r.status, label+r.stdout+r.stderr)
				run++
				assert.Equal(t, before, w.data(), label)
				return failed
			}
			require.Empty(t, works("with all rights"))
			for _, right := range all.Rights {
				revoke := strings.Replace(strings.Replace(right.Grant, "GRANT ", "REVOKE ", 1), " TO ", " FROM ", 1)
				w.do(revoke)
				assert.NotEmpty(t, works(right.Grant), "all works without "+right.Grant)
				assert.Equal(t, 1, list().Missing, right.Grant)
				w.do(right.Grant)
			}
		})
	}
	w := newWorld(t, sqliteFile{}, fleet)
	w.write("in.csv", "N\nBarge\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {kind: {from: in, columns: {name: N}}}\n")
	r := w.run("rights", "f.ladle.yaml", "--db", w.db)
	assert.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, r.stdout, "SQLite knows no users")
}
