package source

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/seeded"
)

// someJSON is a random value, at most so deep, with blanks in odd places.
func someJSON(rng *rand.Rand, deep int) string {
	blank := []string{"", "", " ", "\n", "\t "}[rng.IntN(5)]
	kinds := 7
	if deep == 0 {
		kinds = 5
	}
	switch rng.IntN(kinds) {
	case 0:
		return blank + []string{"null", "true", "false"}[rng.IntN(3)]
	case 1, 2:
		return blank + []string{"0", "-0", "7", "-12.50", "1e3", "1E-2", "123456789012345678901234567890",
			"0.1"}[rng.IntN(8)] + blank
	case 3, 4:
		return blank + []string{`""`, `"a"`, `"\"\\\/\b\f\n\r\t"`, `"\u00e9\ud83d\ude00"`, `"é{}[],:"`, `"` +
			strings.Repeat("x", 40) + `"`}[rng.IntN(6)]
	case 5:
		var all []string
		for range rng.IntN(4) {
			all = append(all, someJSON(rng, deep-1))
		}
		return blank + "[" + strings.Join(all, ",") + blank + "]"
	}
	var all []string
	for i := range rng.IntN(4) {
		all = append(all, fmt.Sprintf("%s\"k%d\"%s:%s", blank, i, blank, someJSON(rng, deep-1)))
	}
	return blank + "{" + strings.Join(all, ",") + blank + "}"
}

// TestJSONValuesAreThoseOfALibrary: what is JSON to a library is JSON here, and what isn't isn't.
func TestJSONValuesAreThoseOfALibrary(t *testing.T) {
	rng := seeded.Rand(t)
	for range seeded.Rounds(20_000) {
		text := []byte(someJSON(rng, 4))
		if rng.IntN(2) == 0 { // broken somewhere, perhaps
			at := rng.IntN(len(text))
			text = append(text[:at:at], append([]byte{`{}[],:"\ x0e-`[rng.IntN(13)]}, text[at+rng.IntN(2):]...)...)
		}
		s := &jsonScanner{raw: text}
		err := s.value(0)
		s.blanks()
		ours := err == nil && s.at == len(text)
		theirs := json.Valid(text)
		if (bytes.Contains(text, []byte(`\u`)) || err != nil && strings.Contains(err.Error(), "too large")) &&
			theirs != ours {
			continue // half of a pair of surrogates is no character here, and numbers have an end
		}
		require.Equal(t, theirs, ours, "%q %v", text, err)
		if !theirs {
			continue
		}
		whole := &jsonScanner{raw: text}
		if whole.blanks(); whole.peek() == '{' || whole.peek() == '[' {
			require.True(t, whole.skipObject())
			require.Equal(t, len(bytes.TrimRight(text, " \t\n\r")), whole.at, "%q", text)
		}
	}
}

func TestJSONLists(t *testing.T) {
	rng := seeded.Rand(t)
	for range seeded.Rounds(2_000) {
		text := []byte("[" + someJSON(rng, 2) + "," + someJSON(rng, 1) + "]")
		list, ok := JSONList(text)
		require.True(t, ok, "%q", text)
		var want []json.RawMessage
		require.NoError(t, json.Unmarshal(text, &want))
		require.Len(t, list, len(want))
		for i, w := range want {
			var value string
			switch {
			case string(w) == "null":
				require.Empty(t, list[i])
			case json.Unmarshal(w, &value) == nil:
				require.Equal(t, value, string(list[i]))
			case w[0] == '[' || w[0] == '{' || w[0] == 't' || w[0] == 'f':
				require.Equal(t, string(w), string(list[i]))
			default:
				var ours, theirs json.Number
				require.NoError(t, json.Unmarshal(w, &theirs))
				require.NoError(t, json.Unmarshal(list[i], &ours))
				x, _ := ours.Float64()
				y, _ := theirs.Float64()
				require.InDelta(t, y, x, 1e-9*max(1, y))
			}
		}
	}
	for _, text := range []string{"", "x", "[", "[1", "[1 2]", "[,]", `["a]`} {
		_, ok := JSONList([]byte(text))
		assert.False(t, ok, text)
	}
}

func TestWhatLooksLikeJSON(t *testing.T) {
	for text, want := range map[string]bool{`{"a":1}`: true, " [\n{": true, "{}": true, "[]": true, `{"a b" : `: true,
		"{a},b\n": false, "[1]": false, "[x],y\n": false, `{"a",b`: false, "{": false, "": false, `"a","b"`: false,
		"a,b\n": false} {
		assert.Equal(t, want, seemsJSON([]byte(text)), text)
	}
}
