package term

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"github.com/jedib0t/go-pretty/v6/text"
)

// screen shows into a buffer at a width.
func screen(width int) (*Screen, *bytes.Buffer) {
	var out bytes.Buffer
	s := NewScreen(&out)
	s.width = width
	return s, &out
}

func TestSafe(t *testing.T) {
	for in, want := range map[string]string{
		"plain ⚓":                 "plain ⚓",
		"\x1b[31mred":             `\u001b[31mred`,
		"bell\a, return\r, tab\t": `bell\u0007, return\u000d, tab\u0009`,
		"two\nlines":              "two\nlines",
		"\u202edrawkcab":          `\u202edrawkcab`,
		"\u009b2J":                `\u009b2J`,
	} {
		assert.Equal(t, want, Safe(in))
	}
}

func TestNothingIsWiderThanTheScreen(t *testing.T) {
	long := strings.Repeat("words of a sentence ", 12)
	for _, width := range []int{40, 80, 120} {
		s, out := screen(width)
		s.Item(Dot, "%s", long)
		s.Item(Good, "%s", long)
		s.Note("%s", long)
		s.Strong(true, "%s", long)
		s.Table(Table{Header: []string{"id", "a longer name", "another one",
			"a column whose name has many words and is longer than that"}, Rows: [][]string{{"1", "2", "3", "4"}}})
		for line := range strings.Lines(out.String()) {
			assert.LessOrEqual(t, text.StringWidth(strings.TrimRight(line, "\n")), width, "%q", line)
		}
		assert.NotContains(t, out.String(), "\x1b", "a buffer has no colours")
		assert.Equal(t, 12*4, strings.Count(strings.Join(strings.Fields(out.String()), " "), "words of a sentence"),
			"nothing may be lost")
	}
}

func TestColumnsTakeSeveralLinesBeforeOthersAreLeftOut(t *testing.T) {
	table := Table{Header: []string{"n", "one", "two"}, Numbers: []int{0}, Wrap: []int{1, 2},
		Rows: [][]string{{"1", "short", "a long one that has many words"}}}
	for width, want := range map[int]string{
		60: "  n  one    two\n" + strings.Repeat("─", 42) + "\n  1  short  a long one that has many words\n",
		32: "  n  one    two\n" + strings.Repeat("─", 31) + "\n  1  short  a long one that has\n" +
			"            many words\n",
		20: "  n  one\n" + strings.Repeat("─", 10) + "\n  1  short\n  (not shown: two)\n",
	} {
		s, out := screen(width)
		s.Table(table)
		assert.Equal(t, want, out.String(), "%d", width)
	}
}

func TestATableNamesTheColumnsThatDontFit(t *testing.T) {
	s, out := screen(40)
	s.Table(Table{Header: []string{"name", "n", "much too wide for this screen"}, Numbers: []int{1},
		Rows: [][]string{{"Grey Heron", "7", "x"}, {"Tern\x1b", "12", "y\nz"}}})
	assert.Equal(t, "  name         n\n"+strings.Repeat("─", 16)+
		"\n  Grey Heron   7\n  Tern\\u001b  12\n  (not shown: much too wide for this\n  screen)\n", out.String())
}

// TestProgress: a line that changes on a terminal, else a line every so often, with the rate and the time that is left.
func TestProgress(t *testing.T) {
	for terminal, want := range map[bool]string{
		true:  "\rwriting calls: 25 %, 250 rows, 250 rows/s, 3s left                     ",
		false: "writing calls: 50 %, 500 rows, 38 rows/s, 13s left\nreading \\u001b[31m: 10 %, 1.5 MB\n",
	} {
		var out strings.Builder
		now := time.Unix(0, 0)
		p := &Progress{out: &out, terminal: terminal, now: func() time.Time { return now }, shown: now}
		p.Show("writing calls", 0, 1000, "rows")
		now = now.Add(100 * time.Millisecond)
		p.Show("writing calls", 10, 1000, "rows")
		now = now.Add(900 * time.Millisecond)
		p.Show("writing calls", 250, 1000, "rows")
		if terminal {
			assert.Equal(t, strings.TrimRight(want, " "), out.String())
			p.Clear()
			assert.True(t, strings.HasSuffix(out.String(), "\r"), "the line is taken away")
			continue
		}
		now = now.Add(12 * time.Second)
		p.Show("writing calls", 500, 1000, "rows")
		now = now.Add(12 * time.Second)
		p.Show("reading \x1b[31m", 1_500_000, 15_000_000, "bytes")
		assert.Equal(t, want, out.String())
	}
}

// TestProgressInOtherManners: an object a line, at most one a second but for the last; and nothing at all.
func TestProgressInOtherManners(t *testing.T) {
	for manner, want := range map[Manner]string{
		None: "",
		JSON: `{"what":"writing calls","done":10,"of":1000,"unit":"rows"}
{"says":"attempt 1: \\u001b[31m is locked; trying again"}
{"what":"writing calls","done":500,"of":1000,"unit":"rows"}
{"what":"writing calls","done":1000,"of":1000,"unit":"rows"}
{"says":"writing calls: no progress for 30s; waiting for the database or the file"}
`,
	} {
		var out strings.Builder
		now := time.Unix(0, 0)
		p := &Progress{manner: manner, out: &out, terminal: true, now: func() time.Time { return now }, shown: now}
		p.Show("writing calls", 0, 1000, "rows")
		now = now.Add(time.Second)
		p.Show("writing calls", 10, 1000, "rows")
		p.Say("attempt %d: %s is locked; trying again", 1, "\x1b[31m")
		now = now.Add(900 * time.Millisecond)
		p.Show("writing calls", 250, 1000, "rows")
		now = now.Add(100 * time.Millisecond)
		p.Show("writing calls", 500, 1000, "rows")
		p.Show("writing calls", 1000, 1000, "rows")
		p.watch(now.Add(29 * time.Second))
		p.watch(now.Add(30 * time.Second))
		p.Clear()
		assert.Equal(t, want, out.String(), manner)
	}
}
