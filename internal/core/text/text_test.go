package text

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

// all are the functions of one text.
var all = map[string]func(to, cell []byte) []byte{"trim": Trim, "squeeze": Squeeze, "upper": Upper, "lower": Lower,
	"title":  Title,
	"digits": Digits, "letters": Letters, "nfc": Composed, "ascii": ASCII,
	"without": Without("-.é"),
	"padded":  func(to, cell []byte) []byte { return Padded(to, cell, 6, '·') },
	"short":   func(_, cell []byte) []byte { return Shortened(cell, 4) }}

func TestTexts(t *testing.T) {
	for name, cells := range map[string]map[string]string{
		"trim": {" a b ": "a b", "\u00a0\u200ba\ufeff": "a", "\t\r\na\n": "a", "  ": "", "a": "a", "é": "é", "": "",
			"\x01a": "\x01a"},
		"squeeze": {" a  b ": "a b", "a\u00a0b": "a b", "a\u200bb": "ab", "a\t\nb": "a b", "a b": "a b",
			"a \u200b b": "a b", "\xff  x": "\xff x"},
		"upper": {"pm-0101": "PM-0101", "é": "É", "ß": "ß", "A1": "A1", "straße 1": "STRAßE 1", "\xffa": "\xffA"},
		"lower": {"PM-0101": "pm-0101", "É": "é", "a1": "a1"},
		"title": {"GREY heron": "Grey Heron", "o'brien-SMITH": "O'brien-Smith", "2nd BERTH": "2nd Berth",
			"élan ÉLAN": "Élan Élan", "ǆ": "ǅ"},
		"digits":  {"(0555) 01-17": "05550117", "abc": "", "12": "12", "٣4": "4"},
		"letters": {"PM-0101 é": "PMé", "12": "", "ab": "ab"},
		"nfc":     {"e\u0301": "é", "é": "é", "a": "a"},
		"ascii": {"Ærøskøbing": "AEroskobing", "Łódź": "Lodz", "naïve – “x”…": `naive - "x"...`, "a": "a", "½": "½",
			"漢": "漢"},
		"without": {"a-b.c": "abc", "é1": "1", "abc": "abc"},
		"padded":  {"17": "····17", "1234567": "1234567", "é": "·····é"},
		"short":   {"Ärmel": "Ärme", "abcd": "abcd", "": ""},
	} {
		for cell, want := range cells {
			assert.Equal(t, want, string(all[name](nil, []byte(cell))), "%s of %q", name, cell)
		}
	}
}

// slowly is what some cleanings do with ASCII, in the simplest way.
var slowly = map[string]func(string) string{
	"upper": strings.ToUpper, "lower": strings.ToLower,
	"squeeze": func(cell string) string { return strings.Join(strings.Fields(cell), " ") },
	"digits": func(cell string) string {
		return strings.Map(func(r rune) rune {
			if r < '0' || r > '9' {
				return -1
			}
			return r
		}, cell)
	},
	"without": strings.NewReplacer("-", "", ".", "").Replace,
}

// FuzzTexts: nothing changes the cell itself, whatever buf is given the result is the same, valid text stays valid, and
// doing it twice is doing it once.
func FuzzTexts(f *testing.F) {
	for _, seed := range []string{" a  b ", "É\u0301", "(0555) 01-17", "\u200b\u00a0x", "\xff\xfe",
		"o'BRIEN d’or ﬁ ß ǆ İ"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, cell string) {
		for name, do := range all {
			given := []byte(cell)
			once := string(do(nil, given))
			if Plain(given) && slowly[name] != nil {
				assert.Equal(t, slowly[name](cell), once, "%s of %q", name, cell)
			}
			assert.Equal(t, cell, string(given), "%s changed its cell %q", name, cell)
			assert.Equal(t, once, string(do([]byte(strings.Repeat("#", 40)), given)), "%s of %q", name, cell)
			if utf8.ValidString(cell) {
				assert.True(t, utf8.ValidString(once), "%s of %q", name, cell)
				assert.Equal(t, once, string(do(nil, []byte(once))), "%s of %q twice", name, cell)
			}
		}
	})
}
