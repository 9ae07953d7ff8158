package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
	"ladle/internal/core/judge"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

func TestStatus(t *testing.T) {
	cases := []struct {
		name    string
		err     error
		stopped bool
		want    int
	}{
		{"all is well", nil, false, 0},
		{"a command that has said everything", exit(4), false, 4},
		{"data that is refused", fault.New(fault.Refused, "x", ""), false, 1},
		{"a wrong command line", fault.New(fault.Wrong, "x", "y"), false, 2},
		{"any other error", errors.New("x"), false, 3},
		{"a commit without an answer", fault.New(fault.Unknown, "x", ""), true, 5},
		{"an interrupted commit", fault.Because(fault.Unknown, context.Canceled, fault.Problem{What: "x"}), true, 5},
		{"an interrupt between parts", fault.Because(fault.Partly, context.Canceled, fault.Problem{What: "x"}), true, 6},
		{"an interrupt", context.Canceled, true, 130},
		{"an interrupt that a server reports as a lost connection", fault.New(fault.Failed, "x", ""), true, 130},
		{"an interrupt behind a mistake", fault.New(fault.Wrong, "x", ""), true, 2},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, status("load", c.err, false, c.stopped)) })
	}
}

func TestNumbersForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567"} {
		assert.Equal(t, want, term.Count(n))
	}
	assert.Equal(t, "1 line", plural(1, "line"))
	assert.Equal(t, "2,000 lines", plural(2000, "line"))
	for seconds, want := range map[float64]string{0.0004: "0 ms", 0.0336: "34 ms", 1.26: "1.3 s"} {
		assert.Equal(t, want, duration(seconds))
	}
}

func TestASurveyFitsTheScreen(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a file with a long name.csv")
	var header, row []string
	for i := range 30 {
		header = append(header, fmt.Sprintf("Column with a long name %d", i))
		row = append(row, strings.Repeat("wide ", i))
	}
	content := strings.Join(header, ";") + "\n" + strings.Repeat(strings.Join(row, ";")+"\n"+strings.Repeat("12;", 29)+
		"x\n", 3)
	require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	tables, err := survey.Open([]string{path}, source.ReadOptions{})
	require.NoError(t, err)
	defer survey.Close(tables)
	s, err := survey.Run(context.Background(), tables, nil)
	require.NoError(t, err)
	for _, width := range []int{80, 120} {
		for _, inDepth := range []bool{false, true} {
			var out bytes.Buffer
			showSurvey(term.NewPlain(&out, width), s, inDepth)
			for line := range strings.Lines(out.String()) {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), width, line)
			}
			assert.Contains(t, out.String(), "Column with a lo")
		}
	}
}

// TestNamesThatLookAlikeAreAskedAboutOneByOne, but not for ever.
func TestNamesThatLookAlikeAreAskedAboutOneByOne(t *testing.T) {
	for _, rest := range []bool{true, false} {
		var questions []string
		ask := askSimilar(func(_ context.Context, question, _ string) (string, error) {
			questions = append(questions, question)
			return map[bool]string{true: "y", false: "n"}[len(questions)%2 == 0 || len(questions) > mostSimilar && rest],
				nil
		})
		for i := range 40 {
			yes, err := ask(context.Background(), judge.SimilarQuestion{Lines: 1, LikeLines: 2,
				Similar: judge.Similar{Table: "agent", Name: fmt.Sprintf("Tern\x1b %d", i), Like: "Terns", IsNew: i == 3}})
			require.NoError(t, err)
			want := i%2 == 1
			if i >= mostSimilar {
				want = rest
			}
			assert.Equal(t, want, yes, i)
		}
		assert.Len(t, questions, mostSimilar+1)
		assert.Equal(t, `"Tern\x1b 0" (1 line) would be a new name in agent, but looks like "Terns", which is in the table.`+
			"\nAdd it?",
			questions[0])
		assert.Contains(t, questions[3], "which is new too (2 lines)")
		assert.Contains(t, questions[mostSimilar], "There are more such names")
	}
	for letters, want := range map[string][]bool{"y a": {true, true, true, true}, "? n all": {false, true, true, true},
		" y q": {false, true}} {
		t.Run(letters, func(t *testing.T) {
			given := strings.Split(letters, " ")
			ask := askSimilar(func(context.Context, string, string) (string, error) {
				first := given[0]
				given = given[1:]
				return first, nil
			})
			var got []bool
			for range 4 {
				yes, err := ask(context.Background(), judge.SimilarQuestion{})
				if err != nil {
					require.ErrorIs(t, err, judge.ErrStopped)
					break
				}
				got = append(got, yes)
			}
			assert.Equal(t, want, got)
		})
	}
}
