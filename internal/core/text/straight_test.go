package text

import (
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStraightPatterns(t *testing.T) {
	for pattern, straight := range map[string]bool{
		`^(\d+)-(\d+)$`: true, `^(\w+), (?P<first>\w+)$`: true, `\d`: true, `[^0-9]+`: true, `^PM-(\d{6})$`: true, `(?i)gt`: true,
		`^a?b*c{2,3}$`: true, `^$`: true, `x+`: true, ` +$`: true, `^0+`: true, `^((\d+)\.(\d+))$`: true,
		`^(\d+)(\d)$`: false, `a*`: false, `a|bc`: false, `\bx`: false, `x+?`: false, `(ab)+`: false, `^.*,`: false, `a?a`: false,
		`$x`: false, `(?m)^x`: false, `(a)(b)(c)(d)(e)(f)(g)(h)(i)(j)`: false, `(`: false, `(x$)`: false,
	} {
		s := StraightOf(pattern)
		assert.Equal(t, straight, s != nil, pattern)
		if s == nil {
			continue
		}
		for _, text := range []string{"", "0555-0117", "Heron, Grey", "a1b2", "PM-000101", "GT gt", "abbcc", "ccc", "  x  ", "007", "12.5", "-"} {
			sameMatches(t, s, pattern, text)
		}
	}
}

// sameMatches holds all matches in a text of ASCII against those of package regexp.
func sameMatches(t *testing.T, s *Straight, pattern, text string) {
	re := regexp.MustCompile(pattern)
	var all [][]int
	for from := 0; from <= len(text); {
		var g Groups
		found := s.Match([]byte(text), from, &g)
		if !found {
			break
		}
		all = append(all, slices.Clone(g[:2*re.NumSubexp()+2]))
		if from = g[1]; g[1] == g[0] {
			break
		}
	}
	require.Equal(t, re.FindAllStringSubmatchIndex(text, -1), all, "%q in %q", pattern, text)
}

func FuzzStraight(f *testing.F) {
	f.Add(`^(\d+)-(\d+)$`, "0555-0117")
	f.Add(`[a-c]{2,3}x?(y)`, "abcxy aby")
	f.Add(`(?i)k+\s`, "Kk k ")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		s := StraightOf(pattern)
		if s == nil || !Plain([]byte(text)) {
			return
		}
		sameMatches(t, s, pattern, text)
	})
}
