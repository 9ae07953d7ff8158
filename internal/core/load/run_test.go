package load_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	zombie "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/changes"
	"ladle/internal/core/engine"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
	"ladle/internal/seeded"
)

const tables = `
	CREATE TABLE kind (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
	CREATE TABLE vessel (id INTEGER PRIMARY KEY, reg TEXT NOT NULL UNIQUE, name TEXT NOT NULL, kind_id INTEGER NOT NULL REFERENCES kind (id));
	CREATE TABLE call (id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, dues DECIMAL(6,2),
		UNIQUE (vessel_id, day));
	INSERT INTO kind (name) VALUES ('Tug'), ('Ferry');
	INSERT INTO vessel (reg, name, kind_id) VALUES ('R0', 'n0', 1), ('R1', 'n1', 2), ('R2', 'n2', 2);
	INSERT INTO call (vessel_id, day, dues) VALUES (1, '2026-01-01', 1), (2, '2026-01-02', 2);
`

const ladle = `ladle: 1
inputs: {in: {file: in.csv}}
tables:
  vessel: {from: in, key: reg, columns: {reg: Reg, name: Name, kind_id: {from: Kind, lookup: kind.name, not_found: add}}}
  call: {from: in, columns: {vessel_id: {from: Reg, lookup: vessel.reg}, day: Day, dues: Dues}}
set_aside_limit: any
`

// line is a line of the file, as texts.
type line struct{ reg, name, kind, day, dues string }

// lines makes lines that repeat, contradict and break rules, all of it often.
func lines(r *rand.Rand, n int) []line {
	all := make([]line, n)
	for i := range all {
		v := r.IntN(n/4 + 2)
		l := line{reg: fmt.Sprintf("R%d", v), name: fmt.Sprintf("n%d", v),
			day:  fmt.Sprintf("2026-01-%02d", r.IntN(9)+1),
			kind: []string{"Tug", "ferry", "Barge", "BARGE", "Yawl"}[v%5], dues: fmt.Sprint(v % 3)}
		switch r.IntN(12) {
		case 0:
			l.name = "other"
		case 1:
			l.kind = ""
		case 2:
			l.reg = ""
		case 3:
			l.dues = "1.999"
		case 4:
			l.day = "soon"
		case 5:
			l.dues = fmt.Sprint(v%3, ".00")
		}
		l.dues = strings.ReplaceAll(l.dues, " ", "")
		all[i] = l
	}
	return all
}

// expected is what a load of lines must come to, found in the plainest way.
type expected struct {
	vessels, calls [4]int64 // added, kept, repeated, set aside
	kinds          []string // new ones, by their first spelling
	rows           []string // of all calls
}

// judgePlainly finds what is expected of lines, one rule after the other, without regard for time or memory.
func judgePlainly(all []line) expected {
	var e expected
	there := map[string]string{"R0": "Tug", "R1": "Ferry", "R2": "Ferry"}
	known := map[string]string{"tug": "Tug", "ferry": "Ferry"}
	content := map[string][]string{}
	for _, l := range all {
		if l.reg != "" && l.kind != "" {
			content[l.reg] = append(content[l.reg], l.name+"|"+strings.ToLower(l.kind))
		}
	}
	seen := map[string]bool{}
	for _, l := range all {
		_, old := there[l.reg]
		switch {
		case l.reg == "" || l.kind == "" || len(slices.Compact(slices.Sorted(slices.Values(content[l.reg])))) > 1:
			e.vessels[3]++
		case seen[l.reg]:
			e.vessels[2]++
		case old:
			e.vessels[1]++
			seen[l.reg] = true
		default:
			e.vessels[0]++
			seen[l.reg] = true
			there[l.reg] = l.kind
			if _, is := known[strings.ToLower(l.kind)]; !is {
				e.kinds = append(e.kinds, l.kind)
				known[strings.ToLower(l.kind)] = l.kind
			}
		}
	}
	e.judgeCalls(all, there)
	return e
}

func (e *expected) judgeCalls(all []line, there map[string]string) {
	good := func(l line) bool {
		_, is := there[l.reg]
		return is && l.day != "soon" && l.dues != "1.999"
	}
	dues := map[string][]string{}
	amount := func(l line) string { return strings.TrimSuffix(l.dues, ".00") }
	for _, l := range all {
		if good(l) {
			dues[l.reg+l.day] = append(dues[l.reg+l.day], amount(l))
		}
	}
	old := map[string]bool{"R02026-01-01": true, "R12026-01-02": true}
	e.rows = []string{"R0|2026-01-01|1", "R1|2026-01-02|2"}
	seen := map[string]bool{}
	for _, l := range all {
		key := l.reg + l.day
		switch {
		case !good(l) || len(slices.Compact(slices.Sorted(slices.Values(dues[key])))) > 1:
			e.calls[3]++
		case seen[key]:
			e.calls[2]++
		case old[key]:
			e.calls[1]++
			seen[key] = true
		default:
			e.calls[0]++
			seen[key] = true
			e.rows = append(e.rows, l.reg+"|"+l.day+"|"+amount(l))
		}
	}
	slices.Sort(e.rows)
}

// TestLoadsComeToWhatPlainRulesSay holds loads of random lines, with keys in memory and in parts on disk, against
// judgePlainly.
func TestLoadsComeToWhatPlainRulesSay(t *testing.T) {
	for round := range seeded.Rounds(12) {
		for _, residentKeys := range []int64{0, 3} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, residentKeys), func(t *testing.T) {
				r := seeded.Rand(t)
				all := lines(r, 8+r.IntN(120))
				want := judgePlainly(all)
				got, calls := loadLines(t, all, load.Options{ResidentKeys: residentKeys})
				assert.Equal(t, want.vessels, numbers(got.Steps[0].Tally), "vessels")
				assert.Equal(t, want.calls, numbers(got.Steps[1].Tally), "calls")
				var kinds []string
				for _, l := range got.Lookups {
					kinds = append(kinds, l.Names...)
				}
				assert.ElementsMatch(t, want.kinds, kinds)
				assert.Equal(t, want.rows, calls)
			})
		}
	}
}

func numbers(t judge.Tally) [4]int64 {
	return [4]int64{t.Added, t.Same + t.Differs + t.Updated + t.Unchanged, t.Repeated + t.Overruled, t.SetAside}
}

// loadLines loads lines into fresh tables and returns the got and the calls.
func loadLines(t *testing.T, all []line, o load.Options) (*report.Report, []string) {
	dir := t.TempDir()
	var b strings.Builder
	b.WriteString("Reg,Name,Kind,Day,Dues\n")
	for _, l := range all {
		fmt.Fprintf(&b, "%s,%s,%s,%s,%s\n", l.reg, l.name, l.kind, l.day, l.dues)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.csv"), []byte(b.String()), 0o600))
	path := filepath.Join(dir, "db")
	conn, err := zombie.OpenConn(path, zombie.OpenReadWrite, zombie.OpenCreate)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, sqlitex.ExecuteScript(conn, tables, nil))
	file, err := ladlefile.Decode(filepath.Join(dir, "f.ladle.yaml"), []byte(ladle))
	require.NoError(t, err)
	db, err := sqlite.Open(path, engine.UsualWaits)
	require.NoError(t, err)
	defer db.Close()
	got, err := load.Run(context.Background(), file, db, o)
	require.NoError(t, err)
	require.Equal(t, report.Loaded, got.Outcome, got.Why)
	var calls []string
	err = sqlitex.ExecuteTransient(conn, "SELECT reg || '|' || day || '|' || dues FROM call JOIN vessel v ON v.id = "+
		"vessel_id ORDER BY 1",
		&sqlitex.ExecOptions{ResultFunc: func(s *zombie.Stmt) error {
			calls = append(calls,
				s.ColumnText(0))
			return nil
		}})
	require.NoError(t, err)
	slices.Sort(calls)
	return got, calls
}

func TestAskShowsWhatWillBeDone(t *testing.T) {
	all := []line{{"R7", "n7", "Yawl", "2026-01-03", "2"}, {"R7", "n7", "Yawl", "2026-01-04", "x"}}
	var shown report.Report
	got, _ := loadLines(t, all, load.Options{Ask: func(_ context.Context, r *report.Report, _ changes.Walk) (bool,
		error) {
		shown = *r
		return true, nil
	}})
	assert.Equal(t, report.Asking, shown.Outcome)
	assert.Equal(t, numbers(got.Steps[1].Tally), numbers(shown.Steps[1].Tally))
	assert.Equal(t, []string{"Yawl"}, shown.Lookups[0].Names)
}
