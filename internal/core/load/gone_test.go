package load_test

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
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
					return []string{"", "2026-03-01", "2026-03-02"}[r.IntN(3)], []string{"", "fog", "Fog",
						"gale"}[r.IntN(4)]
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

// TestRowsThatAreMarked holds marks against their plain meaning, with few keys in memory and with all.
func TestRowsThatAreMarked(t *testing.T) {
	for round := range seeded.Rounds(10) {
		for _, resident := range []int64{0, 4} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, resident), func(t *testing.T) {
				r := seeded.Rand(t)
				script := "CREATE TABLE berth (id INTEGER PRIMARY KEY, code TEXT COLLATE NOCASE UNIQUE, quay TEXT, " +
					"state TEXT, day " +
					"DATE, note TEXT);\n"
				type row struct{ code, quay, state, day string }
				var there []row
				for i := range 40 {
					b := row{fmt.Sprint("b", i), []string{"N", "S"}[r.IntN(2)], []string{"open", "shut"}[r.IntN(2)],
						[]string{"NULL", "'2026-01-01'"}[r.IntN(2)]}
					there = append(there, b)
					script += fmt.Sprintf("INSERT INTO berth (id, code, quay, state, day) VALUES (%d, '%s', '%s', "+
						"'%s', %s);\n",
						i+1, b.code, b.quay, b.state, b.day)
				}
				file, stays := "Code,Note\n", map[string]bool{}
				for range 20 + r.IntN(40) {
					code := fmt.Sprint("b", r.IntN(50))
					if !stays[code] {
						file += strings.ToUpper(code) + ",x\n"
					}
					stays[code] = true
				}
				var want []string
				marked, back := int64(0), int64(0)
				for _, b := range there {
					is := b.state == "shut" && b.day != "NULL"
					switch {
					case b.quay != "N":
					case !stays[b.code] && !is:
						marked++
						b.state, b.day = "shut", "'now'"
					case stays[b.code] && is:
						back++
						b.state, b.day = "open", "NULL"
					}
					note := ""
					if stays[b.code] {
						note = "x"
					}
					want = append(want, fmt.Sprintf("%s|%s|%s|%s", b.code, b.state, strings.Trim(b.day, "'"), note))
				}
				s := newStage(t, script, "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  berth:\n    from: in\n "+
					"   key: code\n"+
					"    not_there: leave_out\n    already_there: update\n    gone_from_file:\n      mark: {state: "+
					"shut, day: "+
					"{formula: today()}}\n      mark_back: {state: open, day: null}\n      at_most: 100%\n      "+
					"where_sql: quay = "+
					"'N'\n    columns: {code: Code, note: Note}\n", file)
				got, err := s.load(load.Options{ResidentKeys: resident})
				require.NoError(t, err)
				assert.Equal(t, report.Loaded, got.Outcome, got.Why)
				assert.Equal(t, [3]int64{0, marked, back}, [3]int64{got.Steps[0].Removed, got.Steps[0].Marked.Rows,
					got.Steps[0].MarkedBack.Rows})
				is := s.rows("SELECT code, state, CASE WHEN day IS NULL THEN 'NULL' WHEN day > '2026-02-01' THEN " +
					"'now' ELSE day END, " +
					"coalesce(note, '') FROM berth ORDER BY id")
				assert.Equal(t, want, is)
				again, err := s.load(load.Options{ResidentKeys: resident})
				require.NoError(t, err)
				assert.Zero(t, again.Steps[0].Marked.Rows+again.Steps[0].MarkedBack.Rows+again.Steps[0].Tally.Updated)
			})
		}
	}
}

// TestRowsInOrder holds in_order_of: against a sort in memory: numbers by size, texts alphabetically, blanks last, and
// lines that are equal in all of these in the order of the file. Children find their rows.
func TestRowsInOrder(t *testing.T) {
	for round := range seeded.Rounds(6) {
		for _, resident := range []int64{0, 4} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, resident), func(t *testing.T) {
				r := seeded.Rand(t)
				type craft struct {
					reg, name string
					built     int // 0 for a blank
				}
				var all []craft
				file := "R,N,B\n"
				for i := range 50 + r.IntN(400) {
					c := craft{fmt.Sprint("R", i), []string{"auk", "Auk", "tern", "skua"}[r.IntN(4)], r.IntN(30) * 7}
					built := ""
					if c.built > 0 {
						built = fmt.Sprint(c.built)
					}
					all = append(all, c)
					file += fmt.Sprintf("%s,%s,%s\n", c.reg, c.name, built)
				}
				s := newStage(t, "CREATE TABLE craft (id INTEGER PRIMARY KEY AUTOINCREMENT, reg TEXT NOT NULL "+
					"UNIQUE, name TEXT, built "+
					"INTEGER); CREATE TABLE stay (craft_id INTEGER NOT NULL REFERENCES craft (id), reg TEXT UNIQUE);",
					"ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  craft: {from: in, key: reg, in_order_of: "+
						"[built, name], "+
						"columns: {reg: R, name: N, built: B}}\n  stay: {from: in, key: reg, columns: {reg: R, "+
						"craft_id: {from: R, "+
						"lookup: craft.reg}}}\n", file)
				got, err := s.load(load.Options{ResidentKeys: resident})
				require.NoError(t, err)
				assert.Equal(t, report.Loaded, got.Outcome, got.Why)
				alphabet := []string{"auk", "Auk", "skua", "tern"}
				slices.SortStableFunc(all, func(a, b craft) int {
					if a.built != b.built && a.built*b.built == 0 {
						return cmp.Compare(b.built, a.built) // a blank is last
					}
					return cmp.Or(cmp.Compare(a.built, b.built), cmp.Compare(slices.Index(alphabet, a.name),
						slices.Index(alphabet, b.name)))
				})
				var want []string
				for i, c := range all {
					want = append(want, fmt.Sprintf("%d|%s|%s", i+1, c.reg, c.reg))
				}
				assert.Equal(t, want, s.rows("SELECT id, craft.reg, stay.reg FROM craft JOIN stay ON craft_id = id "+
					"ORDER BY id"))
			})
		}
	}
}

// TestManyRowsInOrder: more rows than are put into order at a time, of which most lines are no new rows.
func TestManyRowsInOrder(t *testing.T) {
	const lines, there = 80_000, 3 // every third line is there
	r := seeded.Rand(t)
	var file strings.Builder
	file.WriteString("R,B\n")
	script := "CREATE TABLE craft (id INTEGER PRIMARY KEY AUTOINCREMENT, reg TEXT NOT NULL UNIQUE, built " +
		"INTEGER);\nINSERT INTO " +
		"craft (reg, built) WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT " +
		"'R' || (i * %d), 0 " +
		"FROM n;"
	for i := range lines {
		fmt.Fprintf(&file, "R%d,%d\n", i, r.IntN(1_000_000))
	}
	s := newStage(t, fmt.Sprintf(script, (lines-1)/there, there), "ladle: 1\ninputs: {in: {file: "+
		"in.csv}}\ntables:\n  craft: {from: "+
		"in, key: reg, in_order_of: built, columns: {reg: R, built: B}}\n", file.String())
	got, err := s.load(load.Options{})
	require.NoError(t, err)
	assert.Equal(t, report.Loaded, got.Outcome, got.Why)
	old := int64((lines-1)/there + 1)
	assert.Equal(t, lines-old, got.Steps[0].Tally.Added)
	assert.Equal(t, []string{fmt.Sprint(lines, "|", lines)}, s.rows("SELECT count(*), max(id) FROM craft"))
	assert.Equal(t, []string{"0"}, s.rows(fmt.Sprintf("SELECT count(*) FROM craft a JOIN craft b ON b.id = a.id + 1 "+
		"WHERE a.id > %d "+
		"AND a.built > b.built", old)), "each row is not before the one with the number below")
}
