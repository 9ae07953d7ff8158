package propose

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnswersSettleDoubts: the guess and the other answer lead to the tables that they name, and leave no doubt.
func TestAnswersSettleDoubts(t *testing.T) {
	csv := func(header string, line func(i int) string) string {
		text := header + "\n"
		for i := range 200 {
			text += line(i) + "\n"
		}
		return text
	}
	berths := csv("Berth", func(i int) string { return fmt.Sprintf("B%d", i%20+i/20*100) })
	cases := []struct {
		name, why     string
		files         []string
		first, second string // of the statements
		gone          string // what the second answer hasn't
	}{
		{name: "a cell of another type", why: "is not a whole number", files: []string{"a.csv",
			csv("No,Depth", func(i int) string { return fmt.Sprintf("%d,%s", i, []string{"7", "deep"}[i/199]) })},
			first: "depth INTEGER NOT NULL", second: "depth VARCHAR(6) NOT NULL"},
		{name: "a word for blank", why: `"n/a" seems to mean blank`, files: []string{"a.csv",
			csv("No,Note", func(i int) string { return fmt.Sprintf("%d,%s", i, []string{"n/a", "wet", "dry"}[i%3]) })},
			first: "note VARCHAR(5)\n", second: "note VARCHAR(5) NOT NULL"},
		{name: "a blank column", why: "blank in every line", files: []string{"a.csv",
			csv("No,Spare,X", func(i int) string { return fmt.Sprintf("%d,,x", i) })},
			first: "spare VARCHAR(255)", second: "x BOOLEAN NOT NULL", gone: "spare"},
		{name: "a key that repeats", why: "1 line repeats the key of an earlier one", files: []string{"a.csv",
			csv("Reg,X", func(i int) string { return fmt.Sprintf("PM-%d,quay", min(i, 198)) })},
			first: "UNIQUE (reg)", second: "reg VARCHAR(9) NOT NULL", gone: "UNIQUE"},
		{name: "a value that no row has", why: `but not "B999"`, files: []string{"berths.csv", berths, "calls.csv",
			csv("No,At", func(i int) string { return fmt.Sprintf("%d,%s", i, []string{fmt.Sprint("B", i%15), "B999"}[i/199]) })},
			first: "at VARCHAR(6) NOT NULL", second: "FOREIGN KEY (berths_id) REFERENCES berths (id)"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s := surveyed(t, c.files...)
			p, err := Make(s, Options{Flat: true})
			require.NoError(t, err)
			require.Len(t, p.Questions, 1, strings.Join(p.Doubts, "\n"))
			q := p.Questions[0]
			assert.Contains(t, q.Why, c.why)
			for n, want := range []string{c.first, c.second} {
				settled, err := Make(s, Options{Flat: true, Answers: Answers{}.With(q, n)})
				require.NoError(t, err)
				assert.Empty(t, settled.Questions)
				assert.Empty(t, settled.Doubts)
				assert.Contains(t, strings.Join(lines(settled.SQL(Postgres)), "\n"), strings.TrimSuffix(want, "\n"))
				if n == 1 && c.gone != "" {
					assert.NotContains(t, settled.SQL(Postgres), c.gone)
				}
			}
			other := Answers{}.With(q, 1).With(q, 0)
			again, err := Make(s, Options{Flat: true, Answers: other})
			require.NoError(t, err)
			assert.Contains(t, strings.Join(lines(again.SQL(Postgres)), "\n"), strings.TrimSuffix(c.first, "\n"), "the last answer counts")
		})
	}
}
