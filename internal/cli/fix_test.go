package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/setaside"
)

// TestSettingsInWords: people read what a setting does before they read how the ladle file says it.
func TestSettingsInWords(t *testing.T) {
	for _, c := range []struct {
		setting ladlefile.Setting
		says    string
	}{
		{ladlefile.Setting{Key: "recode", Value: []ladlefile.Pair{{Key: "Norwey", Value: "Norway"}}},
			`read "Norwey" as "Norway"`},
		{ladlefile.Setting{At: []string{"a", "recode"}, Value: []ladlefile.Pair{{Key: "x", Value: "y"}}},
			`read "x" as "y"`},
		{ladlefile.Setting{Key: "blank_is", Value: []string{"n/a", "-"}}, `take "n/a" or "-" for blank`},
		{ladlefile.Setting{Key: "number", Value: "1.234,50"}, `numbers are written like "1.234,50"`},
		{ladlefile.Setting{Key: "date", Value: []string{"yyyy-MM-dd", "d.M.yyyy"}},
			`dates are written like "yyyy-MM-dd" or "d.M.yyyy"`},
		{ladlefile.Setting{Key: "round", Value: 2}, "round to 2 digits after the point"},
		{ladlefile.Setting{Key: "shorten_to", Value: int64(8)}, "cut to 8 characters"},
		{ladlefile.Setting{Key: "contradictions", Value: "most"}, "keep, for each column, the value that most of " +
			"them have"},
		{ladlefile.Setting{Key: "not_found", Value: "add"}, "they are new: add them to the lookup table"},
		{ladlefile.Setting{Key: "time_zone", Value: "UTC"}, `set time_zone to "UTC"`},
	} {
		assert.Equal(t, c.says, inWords(c.setting))
	}
}

// TestTheLineToCorrectIsFound: an editor opens the set-aside file at the line of the first problem.
func TestTheLineToCorrectIsFound(t *testing.T) {
	file := []byte("2 lines of in.csv set aside\nline,why,A\n7,x,1\n17,y,2\n")
	assert.Equal(t, 4, lineIn(file, "in.csv:17"))
	assert.Equal(t, 3, lineIn(file, "book.xlsx[Calls]!7"))
	assert.Equal(t, 3, lineIn(file, "in.csv:99"), "the first one where it isn't there")
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "  code --wait ")
	assert.Equal(t, []string{"code", "--wait"}, editor())
	t.Setenv("EDITOR", "")
	assert.Nil(t, editor())
}

// TestGroupsAreTitledByWhatTheyHaveInCommon: a single problem by all of its words.
func TestGroupsAreTitledByWhatTheyHaveInCommon(t *testing.T) {
	g := setaside.Group{Input: "in", Column: "Lift", Says: "is not a number", Count: 2,
		First: []setaside.Example{{Place: "in.csv:2", Cell: "x", Says: `Lift "x" is not a number`}, {Place: "in.csv:3",
			Cell: "y"}}}
	assert.Equal(t, "Lift is not a number", title(g, false))
	assert.Equal(t, "in: Lift is not a number", title(g, true))
	g.Count = 1
	assert.Equal(t, `Lift "x" is not a number`, title(g, false))
	other := g
	other.Why = reason.Why{Kind: reason.NotNumber}
	assert.NotEqual(t, groupKey(g), groupKey(other))
	f := &fixing{put: map[string]bool{}}
	s := ladlefile.Setting{At: []string{"inputs", "in", "columns"}, Under: "Lift", Key: "number", Value: "1"}
	g.Advice = &setaside.Advice{Settings: []ladlefile.Setting{s}}
	assert.False(t, f.perhapsSolved(g))
	s.Value = "2"
	f.put[placeOf(s)] = true
	assert.True(t, f.perhapsSolved(g), "with another value")
	f.forget(g)
	assert.False(t, f.perhapsSolved(g))
}
