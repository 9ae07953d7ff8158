package load_test

import (
	"context"
	"fmt"
	"maps"
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
	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
	"ladle/internal/seeded"
)

// stage is a folder with a database, a file and a ladle file.
type stage struct {
	*testing.T
	dir  string
	conn *zombie.Conn
}

func newStage(t *testing.T, script, ladle, file string) *stage {
	s := &stage{T: t, dir: t.TempDir()}
	var err error
	s.conn, err = zombie.OpenConn(s.path("db"), zombie.OpenReadWrite, zombie.OpenCreate)
	require.NoError(t, err)
	t.Cleanup(func() { s.conn.Close() })
	s.exec(script)
	s.write("in.csv", file)
	s.write("f.ladle.yaml", ladle)
	return s
}

func (s *stage) path(name string) string { return filepath.Join(s.dir, name) }

func (s *stage) write(name, content string) {
	require.NoError(s, os.WriteFile(s.path(name), []byte(content), 0o600))
}

func (s *stage) exec(script string) { require.NoError(s, sqlitex.ExecuteScript(s.conn, script, nil)) }

func (s *stage) rows(query string) (rows []string) {
	err := sqlitex.ExecuteTransient(s.conn, query, &sqlitex.ExecOptions{ResultFunc: func(r *zombie.Stmt) error {
		cells := make([]string, r.ColumnCount())
		for i := range cells {
			cells[i] = r.ColumnText(i)
		}
		rows = append(rows, strings.Join(cells, "|"))
		return nil
	}})
	require.NoError(s, err)
	return rows
}

func (s *stage) load(o load.Options) (*report.Report, error) {
	file, err := ladlefile.Read(s.path("f.ladle.yaml"))
	require.NoError(s, err)
	db, err := sqlite.Open(s.path("db"), engine.UsualWaits)
	require.NoError(s, err)
	defer db.Close()
	return load.Run(context.Background(), file, db, o)
}

// TestWhatBecomesOfLinesOfOneKey holds every policy for lines of one key against its plain meaning.
func TestWhatBecomesOfLinesOfOneKey(t *testing.T) {
	const script = "CREATE TABLE berth (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT); INSERT INTO berth " +
		"(code, name) VALUES ('B0', 'old'), ('B1', 'n0'), ('B2', NULL)"
	there := map[string]string{"B0": "old", "B1": "n0", "B2": ""}
	for round := range seeded.Rounds(8) {
		for _, contradictions := range []string{"set_aside", "first", "last"} {
			for _, policy := range []string{"keep", "set_aside", "update", "fill_blanks"} {
				t.Run(fmt.Sprintf("round %d, contradictions: %s, already_there: %s", round, contradictions, policy),
					func(t *testing.T) {
						r := seeded.Rand(t)
						var file strings.Builder
						names := map[string][]string{}
						file.WriteString("Code,Name\n")
						for range 40 {
							code, name := fmt.Sprintf("B%d", r.IntN(12)), fmt.Sprintf("n%d", r.IntN(2))
							fmt.Fprintf(&file, "%s,%s\n", code, name)
							names[code] = append(names[code], name)
						}
						want, rows := plainPolicy(names, there, contradictions, policy)
						s := newStage(t, script, fmt.Sprintf("ladle: 1\ninputs: {in: {file: in.csv}}\n"+
							"set_aside_limit: any\n"+
							"tables: {berth: {from: in, key: code, contradictions: %s, already_there: %s, columns: "+
							"{code: Code, name: Name}}}\n", contradictions, policy), file.String())
						got, err := s.load(load.Options{ResidentKeys: int64(round % 2 * 4)})
						require.NoError(t, err)
						assert.Equal(t, want, got.Steps[0].Tally)
						assert.Equal(t, rows, s.rows("SELECT code, coalesce(name, '') FROM berth ORDER BY code || '|'"))
						assert.Len(t, got.Steps[0].Differences, int(min(want.Differs, 20)))
						assert.Len(t, got.Steps[0].Overruled, int(min(want.Overruled, 20)))
					})
			}
		}
	}
}

// plainPolicy returns the tally for the names that the lines of each code have, and the rows after the load.
func plainPolicy(names map[string][]string, there map[string]string, contradictions, policy string) (tally judge.Tally,
	rows []string) {
	after := maps.Clone(there)
	for code, all := range names {
		n := int64(len(all))
		tally.Read += n
		old, exists := there[code]
		clash := len(slices.Compact(slices.Sorted(slices.Values(all)))) > 1
		if clash && contradictions == "set_aside" {
			tally.SetAside += n
			continue
		}
		if exists && policy == "set_aside" {
			for _, name := range all {
				if name == old {
					tally.Same++
				} else {
					tally.SetAside++
				}
			}
			continue
		}
		taken := all[0]
		if contradictions == "last" {
			taken = all[n-1]
		}
		for _, name := range all {
			if name == taken {
				tally.Repeated++
			} else {
				tally.Overruled++
			}
		}
		tally.Repeated-- // the one that is taken
		switch writes := policy == "update" || policy == "fill_blanks"; {
		case !exists:
			tally.Added++
			after[code] = taken
		case taken == old && writes:
			tally.Unchanged++
		case taken == old:
			tally.Same++
		case policy == "update", policy == "fill_blanks" && old == "":
			tally.Updated++
			after[code] = taken
		default:
			tally.Differs++
		}
	}
	for code, name := range after {
		rows = append(rows, code+"|"+name)
	}
	slices.Sort(rows)
	return tally, rows
}

// TestFindsInsideOfFinds resolves rows by a key that has to be found itself, with few keys in memory and with all.
func TestFindsInsideOfFinds(t *testing.T) {
	const script = `
		CREATE TABLE vessel (id INTEGER PRIMARY KEY, reg TEXT NOT NULL UNIQUE);
		CREATE TABLE call (id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, UNIQUE (vessel_id, day));
		CREATE TABLE cargo (call_id INTEGER REFERENCES call (id), goods TEXT, PRIMARY KEY (call_id, goods)) WITHOUT ROWID;`
	const ladle = `ladle: 1
inputs: {in: {file: in.csv}}
tables:
  cargo:
    from: in
    columns:
      goods: Goods
      call_id: {lookup: {table: call, by: {vessel_id: {from: Reg, lookup: vessel.reg}, day: Other}}}
  call: {from: in, columns: {vessel_id: {from: Reg, lookup: vessel.reg, not_found: add}, day: Day}}
set_aside_limit: any
`
	for round := range seeded.Rounds(6) {
		for _, residentKeys := range []int64{0, 2, 7} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, residentKeys), func(t *testing.T) {
				r := seeded.Rand(t)
				var file strings.Builder
				file.WriteString("Reg,Day,Other,Goods\n")
				type line struct{ reg, day, other, goods string }
				var all []line
				calls, cargo := map[string]bool{}, map[string]bool{}
				for range 60 {
					l := line{fmt.Sprintf("R%d", r.IntN(9)), fmt.Sprintf("2026-01-0%d", r.IntN(6)+1),
						fmt.Sprintf("2026-01-0%d", r.IntN(7)+1), fmt.Sprintf("g%d", r.IntN(3))}
					all = append(all, l)
					fmt.Fprintf(&file, "%s,%s,%s,%s\n", l.reg, l.day, l.other, l.goods)
					calls[l.reg+"|"+l.day] = true
				}
				lost := int64(0)
				for _, l := range all {
					if calls[l.reg+"|"+l.other] {
						cargo[l.reg+"|"+l.other+"|"+l.goods] = true
					} else {
						lost++
					}
				}
				s := newStage(t, script, ladle, file.String())
				got, err := s.load(load.Options{ResidentKeys: residentKeys})
				require.NoError(t, err)
				require.Equal(t, report.Loaded, got.Outcome, got.Why)
				assert.Equal(t, [4]int64{int64(len(cargo)), 0, 60 - lost - int64(len(cargo)), lost},
					numbers(got.Steps[1].Tally))
				assert.Equal(t, sortedKeys(calls), s.rows("SELECT reg, day FROM call JOIN vessel v ON v.id = "+
					"vessel_id ORDER BY 1, 2"))
				assert.Equal(t, sortedKeys(cargo), s.rows("SELECT reg, day, goods FROM cargo JOIN call c ON c.id = "+
					"call_id JOIN vessel v ON v.id = vessel_id ORDER BY 1, 2, 3"))
			})
		}
	}
}

func sortedKeys(set map[string]bool) []string {
	keys := make([]string, 0, len(set))
	for k := range set {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

const berths = "CREATE TABLE berth (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT)"

const berthLadle = "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\n" +
	"tables: {berth: {from: in, key: code, columns: {code: Code, name: Name}}}\n"

func TestWhatChangesWhileAPersonThinks(t *testing.T) {
	cases := []struct {
		name   string
		meddle func(s *stage)
		check  func(t *testing.T, s *stage, got *report.Report, err error)
	}{
		{"nothing", func(*stage) {}, func(t *testing.T, s *stage, got *report.Report, err error) {
			require.NoError(t, err)
			assert.Equal(t, report.Loaded, got.Outcome)
			assert.Equal(t, []string{"N1", "N2"}, s.rows("SELECT code FROM berth ORDER BY code"))
		}},
		{"somebody adds one of the rows: that is not what was agreed to",
			func(s *stage) { s.exec("INSERT INTO berth (code) VALUES ('N1')") },
			func(t *testing.T, s *stage, got *report.Report, err error) {
				require.NoError(t, err)
				assert.Equal(t, report.Refused, got.Outcome)
				assert.Contains(t, got.Why.Words(), "the tables changed after you confirmed")
				assert.Equal(t, []string{"N1"}, s.rows("SELECT code FROM berth"))
			}},
		{"somebody adds another row: that changes nothing of it",
			func(s *stage) { s.exec("INSERT INTO berth (code) VALUES ('S9')") },
			func(t *testing.T, s *stage, got *report.Report, err error) {
				require.NoError(t, err)
				assert.Equal(t, report.Loaded, got.Outcome)
				assert.Equal(t, []string{"N1", "N2", "S9"}, s.rows("SELECT code FROM berth ORDER BY code"))
			}},
		{"the file changes, and lines of it are to be set aside",
			func(s *stage) { s.write("in.csv", "Code,Name\nN1,a\nN2,b\n,d\n") },
			func(t *testing.T, s *stage, _ *report.Report, err error) {
				assert.ErrorContains(t, err, "the file was changed while it was being read")
				assert.Equal(t, fault.Failed, fault.ClassOf(err))
				assert.Empty(t, s.rows("SELECT code FROM berth"))
			}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s := newStage(t, berths, berthLadle, "Code,Name\nN1,a\nN2,b\n,c\n")
			got, err := s.load(load.Options{Ask: func(context.Context, *report.Report, changes.Walk) (bool, error) {
				c.meddle(s)
				return true, nil
			}})
			c.check(t, s, got, err)
		})
	}
}

func TestALoadThatIsStoppedLeavesNothing(t *testing.T) {
	s := newStage(t, berths, berthLadle, "Code,Name\nN1,a\n,b\n")
	got, err := s.load(load.Options{Ask: func(_ context.Context, r *report.Report, _ changes.Walk) (bool, error) {
		require.Len(t, r.SetAside, 1, "the question comes with the reasons")
		assert.Equal(t, []string{"Code is blank, but is part of the key (code)"}, r.SetAside[0].Reasons)
		return false, nil
	}})
	require.NoError(t, err)
	assert.Equal(t, report.Declined, got.Outcome)
	_, err = s.load(load.Options{Ask: func(context.Context, *report.Report, changes.Walk) (bool, error) {
		return false,
			context.Canceled
	}})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Empty(t, s.rows("SELECT code FROM berth"))
	assert.Empty(t, s.rows("SELECT name FROM sqlite_schema WHERE name LIKE 'ladle%'"))
	entries, err := os.ReadDir(s.dir)
	require.NoError(t, err)
	assert.Len(t, entries, 4, "the database, the file, the ladle file and what was set aside")
}

func TestProgressIsTold(t *testing.T) {
	s := newStage(t, berths, berthLadle, "Code,Name\nN1,a\nN2,b\n")
	last := map[string]load.Progress{}
	_, err := s.load(load.Options{Progress: func(p load.Progress) { last[p.Phase] = p }})
	require.NoError(t, err)
	assert.Equal(t, load.Progress{Phase: "writing", What: "berth", Done: 2, Of: 2, Unit: "rows"}, last["writing"])
	assert.Equal(t, load.Progress{Phase: "proving", What: "berth", Done: 2, Of: 2, Unit: "rows"}, last["proving"])
	assert.Equal(t, load.Progress{Phase: "reading", What: "in", Done: 20, Of: 20, Unit: "bytes"}, last["reading"])
}
