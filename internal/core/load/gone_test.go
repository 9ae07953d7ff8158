package load_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/judge"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
	"ladle/internal/seeded"
)

// TestRowsThatAreGone holds removals against their plain meaning, with few keys in memory and with all.
func TestRowsThatAreGone(t *testing.T) {
	for round := range seeded.Rounds(10) {
		for _, resident := range []int64{0, 4} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, resident), func(t *testing.T) {
				r := seeded.Rand(t)
				script := "CREATE TABLE berth (id INTEGER PRIMARY KEY, code TEXT COLLATE NOCASE UNIQUE, quay TEXT, " +
					"note TEXT);\n" +
					"CREATE TABLE stay (berth_id INTEGER REFERENCES berth (id));\n"
				type row struct {
					code, quay string
					pointed    bool
				}
				var there []row
				for i := range 40 {
					b := row{fmt.Sprint("b", i), []string{"N", "S"}[r.IntN(2)], round%3 == 0 && r.IntN(20) == 0}
					there = append(there, b)
					script += fmt.Sprintf("INSERT INTO berth (id, code, quay) VALUES (%d, '%s', '%s');\n", i+1, b.code,
						b.quay)
					if b.pointed {
						script += fmt.Sprintf("INSERT INTO stay VALUES (%d);\n", i+1)
					}
				}
				script += "INSERT INTO berth (quay) VALUES ('N');" // without a key it is none of the file's
				file, stays := "Code,Note\n", map[string]bool{}
				for range 30 + r.IntN(60) {
					code := fmt.Sprint("b", r.IntN(50))
					stays[code] = true
					if r.IntN(2) == 0 {
						code = strings.ToUpper(code)
					}
					// some lines contradict each other
					file += fmt.Sprintf("%s,%s\n", code, []string{"", "x"}[r.IntN(2)])
				}
				gone, scope, pointed := 0, 0, false
				var left []string
				for _, b := range there {
					if b.quay == "N" {
						scope++
					}
					if b.quay == "N" && !stays[b.code] {
						gone++
						pointed = pointed || b.pointed
						continue
					}
					left = append(left, b.code)
				}
				most := []int{gone, gone + 3, gone - 1}[round%3]
				s := newStage(t, script, fmt.Sprintf("ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\n"+
					"tables:\n  berth:\n    from: in\n    key: code\n"+
					"    not_there: leave_out\n"+
					"    gone_from_file: {remove: yes, at_most: %d, where_sql: quay = 'N'}\n"+
					"    columns: {code: Code, note: Note}\n", max(most, 0)), file)
				got, err := s.load(load.Options{Removal: true, ResidentKeys: resident})
				require.NoError(t, err)
				assert.Equal(t, int64(gone), got.Steps[0].Removed)
				switch {
				case pointed:
					assert.Contains(t, got.Why.Words(), "a row of stay refers to the row of berth")
				case most < gone:
					assert.Contains(t, got.Why.Words(), fmt.Sprintf("%d of %d rows of berth ", gone, scope+1))
				default:
					assert.Equal(t, report.Loaded, got.Outcome, got.Why)
					assert.Equal(t, left, s.rows("SELECT code FROM berth WHERE code IS NOT NULL ORDER BY id"))
					return
				}
				assert.Equal(t, report.Refused, got.Outcome)
				assert.Equal(t, []string{"41"}, s.rows("SELECT count(*) FROM berth"))
			})
		}
	}
}

// TestRowsThatArePaired holds key: all_columns against its plain meaning: of equal lines and rows, as many as there are
// of the fewer are left as they are.
func TestRowsThatArePaired(t *testing.T) {
	for round := range seeded.Rounds(10) {
		for _, resident := range []int64{0, 4} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, resident), func(t *testing.T) {
				r := seeded.Rand(t)
				script := "CREATE TABLE entry (at DATE, text TEXT COLLATE NOCASE, kind TEXT);\n"
				rows, lines, others := map[string]int{}, map[string]int{}, map[string]int{}
				some := func() (at, text string) {
					return []string{"", "2026-03-01", "2026-03-02"}[r.IntN(3)], []string{"", "fog", "Fog", "gale"}[r.IntN(4)]
				}
				null := func(s string) string { return strings.ReplaceAll("'"+s+"'", "''", "NULL") }
				for range 40 {
					at, text := some()
					kind := []string{"log", "note"}[r.IntN(2)]
					script += fmt.Sprintf("INSERT INTO entry VALUES (%s, %s, '%s');\n", null(at), null(text), kind)
					if kind == "log" {
						rows[at+"|"+text]++
					} else {
						others[at+"|"+text]++
					}
				}
				file, want := "At,Text\n", judge.Tally{}
				for range r.IntN(60) {
					at, text := some()
					file += at + "," + text + "\n"
					if key := at + "|" + text; key != "|" { // else it is no line
						want.Read++
						lines[key]++
					}
				}
				gone, after := int64(0), maps.Clone(others)
				for key, n := range rows {
					gone += int64(max(0, n-lines[key]))
				}
				for key, n := range lines {
					same := min(n, rows[key]+others[key])
					want.Same += int64(same)
					want.Added += int64(n - same)
					after[key] += min(n, rows[key]) + n - same
				}
				s := newStage(t, script, "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  entry:\n    from: in\n"+
					"    key: all_columns\n    gone_from_file: {remove: yes, at_most: 99, where_sql: kind = 'log'}\n"+
					"    columns: {at: At, text: Text}\n", file)
				got, err := s.load(load.Options{Removal: true, ResidentKeys: resident})
				require.NoError(t, err)
				assert.Equal(t, report.Loaded, got.Outcome, got.Why)
				assert.Equal(t, want, got.Steps[0].Tally)
				assert.Equal(t, gone, got.Steps[0].Removed)
				is := map[string]int{}
				for _, row := range s.rows("SELECT coalesce(at, '') || '|' || coalesce(text, '') FROM entry") {
					is[row]++
				}
				assert.Equal(t, after, is)
			})
		}
	}
}
