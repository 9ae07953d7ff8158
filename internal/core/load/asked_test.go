package load_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/changes"
	"ladle/internal/core/judge"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
)

const craft = `
	CREATE TABLE kind (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
	CREATE TABLE craft (id INTEGER PRIMARY KEY, reg TEXT NOT NULL UNIQUE, kind_id INTEGER REFERENCES kind (id), gt DECIMAL(6,1), towed_by INTEGER REFERENCES craft (id));
	INSERT INTO kind (name) VALUES ('Ferry'), ('Coaster');
	INSERT INTO craft (reg, kind_id, gt) VALUES ('A1', 1, 10), ('A2', 2, 20), ('A3', 2, 30);
`

const craftLadle = `ladle: 1
inputs: {in: {file: in.csv}}
set_aside_limit: any
tables:
  craft:
    from: in
    key: reg
    already_there: update
    gone_from_file: {remove: yes, at_most: 1}
    columns:
      reg: R
      kind_id: {from: K, lookup: kind.name, not_found: add}
      gt: G
      towed_by: {from: T, lookup: craft.reg}
`

// rowsOf writes the first rows of a step as a person reads them.
func rowsOf(r *report.Report, step int) (rows []string) {
	first := r.Steps[step].First
	if first == nil {
		return nil
	}
	rows = append(rows, strings.Join(first.Columns, "|"))
	for _, row := range first.Rows {
		cells := make([]string, len(row))
		for i, c := range row {
			cells[i] = "NULL"
			if c != nil {
				cells[i] = *c
			}
		}
		rows = append(rows, strings.Join(cells, "|"))
	}
	return rows
}

// TestAPersonIsShownAllBeforeAnythingIsWritten: the first rows, what is gone, and names that look like others, one by
// one.
func TestAPersonIsShownAllBeforeAnythingIsWritten(t *testing.T) {
	const file = "R,K,G,T\nA1,Ferry,11,B1\nB1,Feryr,5,A1\nB2,Coasters,6,B1\nA2,Coaster,20,\n"
	for _, accept := range []bool{true, false} {
		t.Run(fmt.Sprint("near names are accepted: ", accept), func(t *testing.T) {
			s := newStage(t, craft, craftLadle, file)
			var asked []judge.SimilarQuestion
			shown := 0
			got, err := s.load(load.Options{
				AskSimilar: func(_ context.Context, p judge.SimilarQuestion) (bool, error) {
					asked = append(asked, p)
					return accept, nil
				},
				Ask: func(_ context.Context, r *report.Report, _ changes.Walk) (bool, error) {
					shown++
					assert.Equal(t, report.Asking, r.Outcome)
					assert.Equal(t, []string{"A3"}, r.Steps[0].Gone)
					assert.Equal(t, int64(1), r.Steps[0].Removed)
					if accept {
						assert.Equal(t, []string{"id|reg|kind_id|gt", "1|A1|1 (Ferry)|10.0 → 11.0",
							"new|B1|new (Feryr)|5.0", "new|B2|new (Coasters)|6.0"}, rowsOf(r, 0))
						assert.Equal(t, []string{"id|towed_by", "1|NULL → new (B1)", "new|NULL → 1 (A1)",
							"new|NULL → new (B1)"}, rowsOf(r, 1))
						assert.Len(t, r.Lookups[0].Similar, 2)
					}
					return true, nil
				},
			})
			require.NoError(t, err)
			assert.Equal(t, report.Loaded, got.Outcome, got.Why)
			assert.Equal(t, 1, shown)
			assert.Equal(t, []judge.SimilarQuestion{
				{Similar: judge.Similar{Table: "kind", Name: "Coasters", Like: "Coaster"}, Lines: 1},
				{Similar: judge.Similar{Table: "kind", Name: "Feryr", Like: "Ferry"}, Lines: 1}}, asked,
				"each is asked once")
			want := []string{"A1|Ferry|11|B1", "A2|Coaster|20|", "B1|Feryr|5|A1", "B2|Coasters|6|B1"}
			if !accept {
				want = []string{"A1|Ferry|10|", "A2|Coaster|20|"} // the line of A1 needs B1, which is set aside
			}
			assert.Equal(t, want, s.rows("SELECT c.reg, k.name, c.gt, coalesce(t.reg, '') FROM craft c JOIN kind k "+
				"ON k.id = c.kind_id LEFT JOIN craft t ON t.id = c.towed_by ORDER BY 1"))
		})
	}
}

// TestAnAnswerThatFailsChangesNothing, and neither does a no.
func TestAnAnswerThatFailsChangesNothing(t *testing.T) {
	gone := errors.New("the terminal is gone")
	for name, o := range map[string]load.Options{
		"a question about a name": {AskSimilar: func(context.Context, judge.SimilarQuestion) (bool, error) {
			return false,
				gone
		}, Ask: func(context.Context, *report.Report, changes.Walk) (bool, error) { return true, nil }},
		"the question": {Ask: func(context.Context, *report.Report, changes.Walk) (bool, error) { return false, gone }},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStage(t, craft, craftLadle, "R,K,G,T\nA1,Feryr,11,\nA2,Ferry,1,\nA3,Ferry,1,\n")
			_, err := s.load(o)
			assert.ErrorIs(t, err, gone)
			assert.Equal(t, []string{"2|3|60"}, s.rows("SELECT (SELECT count(*) FROM kind), count(*), sum(gt) FROM "+
				"craft"))
		})
	}
}

// TestFirstReadsOnlySoManyRows, also where rows must be read twice, and whatever the order of set-aside lines.
func TestFirstReadsOnlySoManyRows(t *testing.T) {
	var file strings.Builder
	file.WriteString("R,K,G,T\n")
	for i := range 100_000 {
		gt := fmt.Sprint(i % 7)
		if i%3 == 0 {
			gt = "heavy"
		}
		fmt.Fprintf(&file, "C%d,%s,%s,\n", i, []string{"Ferry", ""}[i%2], gt)
	}
	ladle := strings.Replace(craftLadle, "{in: {file: in.csv}}",
		"{in: {file: in.csv, columns: {K: {if_blank: {as_in_lines_with_same: G}}}}}", 1)
	ladle = strings.Replace(ladle, "    gone_from_file: {remove: yes, at_most: 1}\n", "", 1)
	s := newStage(t, craft, ladle, file.String())
	for _, n := range []int64{1, 4, 50_000, 99_999, 100_000, 200_000} {
		got, err := s.load(load.Options{Try: true, First: n})
		require.NoError(t, err)
		want := min(n, 100_000)
		assert.Equal(t, want, got.Steps[0].Tally.Read)
		assert.Equal(t, (want+2)/3, got.LinesSetAside(), "%d", n)
		assert.Equal(t, report.Tried, got.Outcome)
	}
}

// TestChangesAreHeldAgainstAllThatIsThere follows many random updates, with few keys in memory and with all.
func TestChangesAreHeldAgainstAllThatIsThere(t *testing.T) {
	const n = 12_000
	var script, file strings.Builder
	script.WriteString("CREATE TABLE mark (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, a INTEGER, b TEXT, c " +
		"DECIMAL(6,1));\n")
	file.WriteString("Code,A,B,C\n")
	want := map[string]bool{}
	var added, updated, unchanged int64
	for i := range n {
		there, a, b := i%4 != 0, i%5, fmt.Sprint("b", i%3)
		if there {
			fmt.Fprintf(&script, "INSERT INTO mark (code, a, b, c) VALUES ('m%d', %d, 'b%d', 1);\n", i, i%6, i%2)
		}
		cellB := b
		if i%7 == 0 {
			cellB = ""
		}
		fmt.Fprintf(&file, "m%d,%d,%s,1.0\n", (i*7919)%n, ((i*7919)%n)%5,
			map[bool]string{true: "", false: fmt.Sprint("b", ((i*7919)%n)%3)}[((i*7919)%n)%7 == 0])
		switch {
		case !there:
			added++
			if cellB == "" {
				b = ""
			}
		case a == i%6 && (cellB == "" || b == fmt.Sprint("b", i%2)):
			unchanged++
		default:
			updated++
		}
		if there && cellB == "" {
			b = fmt.Sprint("b", i%2)
		}
		want[fmt.Sprintf("m%d|%d|%s|1", i, a, b)] = true
	}
	const ladle = "ladle: 1\ninputs: {in: {file: in.csv}}\n" +
		"tables: {mark: {from: in, key: code, already_there: update, columns: {code: Code, a: A, b: B, c: C}}}\n"
	for _, resident := range []int64{0, 500} {
		s := newStage(t, script.String(), ladle, file.String())
		got, err := s.load(load.Options{ResidentKeys: resident})
		require.NoError(t, err)
		assert.Equal(t, judge.Tally{Read: n, Added: added, Updated: updated, Unchanged: unchanged}, got.Steps[0].Tally)
		rows := map[string]bool{}
		for _, row := range s.rows("SELECT code, a, b, c FROM mark") {
			rows[row] = true
		}
		assert.Equal(t, want, rows)
	}
}
