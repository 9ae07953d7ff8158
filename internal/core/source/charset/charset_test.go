package charset

import (
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding"

	"ladle/internal/seeded"
)

// written are the encodings in which texts of languages are met.
var written = map[string]string{
	"de": "windows-1252 IBM850 IBM437 macintosh ISO-8859-1", "fr": "windows-1252 IBM850 macintosh ISO-8859-15",
	"es": "windows-1252 IBM850 macintosh", "pt": "windows-1252 IBM850", "it": "windows-1252 IBM850 macintosh",
	"nl": "windows-1252", "sv": "windows-1252 IBM850 IBM437 macintosh", "da": "windows-1252 IBM850",
	"nb": "windows-1252 IBM850", "fi": "windows-1252 IBM850", "is": "windows-1252", "ca": "windows-1252",
	"pl": "windows-1250 ISO-8859-2 IBM852", "cs": "windows-1250 ISO-8859-2 IBM852", "sk": "windows-1250 ISO-8859-2",
	"hu": "windows-1250 ISO-8859-2 IBM852", "hr": "windows-1250 IBM852", "sl": "windows-1250 ISO-8859-2",
	"ro": "windows-1250", "lt": "windows-1257", "lv": "windows-1257", "et": "windows-1257",
	"tr": "windows-1254 ISO-8859-9 IBM857", "ru": "windows-1251 KOI8-R ISO-8859-5 IBM866", "uk": "windows-1251 KOI8-U",
	"bg": "windows-1251 IBM866", "el": "windows-1253 ISO-8859-7 IBM737", "he": "windows-1255 ISO-8859-8",
	"ar": "windows-1256 ISO-8859-6", "th": "windows-874", "ja": "Shift_JIS EUC-JP", "ko": "EUC-KR",
	"zh-Hans": "GB18030", "zh-Hant": "Big5",
}

// heldOut reports whether a word is kept for the test: one in four.
func heldOut(word string) bool {
	h := fnv.New32a()
	h.Write([]byte(strings.ToLower(word)))
	return h.Sum32()%4 == 0
}

// TestNoTextIsReadWrongly: texts of words that the models haven't learned, with few of them and with more, in the
// encodings of their languages. None may be taken for another encoding; most of those with 30 words are told.
func TestNoTextIsReadWrongly(t *testing.T) {
	s := learn(func(word string) bool { return !heldOut(word) })
	rng, reps := seeded.Rand(t), seeded.Rounds(16)
	texts, long, told, first := 0, 0, 0, 0
	for _, language := range s.names {
		words := wordsOf(language, heldOut)
		for name := range strings.FieldsSeq(written[language]) {
			e, err := Named(name)
			require.NoError(t, err)
			can := writable(e, words)
			require.Greater(t, len(can), 10, "words of %s in %s", language, name)
			for _, n := range []int{1, 3, 30} {
				for range reps {
					text, raw := table(rng, e, can, n)
					all, sure := s.judge(raw)
					got, err := all[0].Encoding.NewDecoder().Bytes(raw)
					require.NoError(t, err)
					texts++
					if sure {
						require.Equal(t, text, string(got), "%s in %s was read as %s", language, name, all[0].Name)
					}
					if n == 30 {
						long++
						told += count(sure)
						first += count(text == string(got))
					}
				}
			}
		}
	}
	t.Logf("%d texts; of %d with 30 words %d are told, and %d read right by the likeliest", texts, long, told, first)
	assert.GreaterOrEqual(t, float64(told), 0.8*float64(long))
	assert.GreaterOrEqual(t, float64(first), 0.98*float64(long))
}

func count(is bool) int {
	if is {
		return 1
	}
	return 0
}

// writable are the words that an encoding has, and not as ASCII, with a capital letter where there are any.
func writable(e encoding.Encoding, words []string) (can []string) {
	for _, w := range words {
		w = strings.ToUpper(string([]rune(w)[:1])) + string([]rune(w)[1:])
		if raw, err := e.NewEncoder().String(w); err == nil && raw != w {
			can = append(can, w)
		}
	}
	return can
}

// table is a text with n of the words, and its bytes.
func table(rng *rand.Rand, e encoding.Encoding, words []string, n int) (text string, raw []byte) {
	var b strings.Builder
	b.WriteString("id,name,quay\n")
	for i := range n {
		fmt.Fprintf(&b, "%d,%s,North\n", i, words[rng.IntN(len(words))])
	}
	raw, err := e.NewEncoder().Bytes([]byte(b.String()))
	if err != nil {
		panic(err)
	}
	return b.String(), raw
}

// TestTextsInUnknownEncodingsAreNotTold: a table of letters that nobody writes, and text that is none.
func TestTextsInUnknownEncodingsAreNotTold(t *testing.T) {
	for name, text := range map[string]string{
		"letters in no order": "\xc1\x9f\xaa\xf3 \xb1\xd7\x8e\xee \xfd\x81\xc4\xa9 \x90\xe7\xbb\x9c " +
			"\xab\xf0\x83\xdd \xca\x9d\xb6\xf8",
		"signs inside of words": "Pf\xaemilov\x97 P\xaebor \x96koda K\xaei\xeek \x91\xaeed \x9a\xaeice Za\xaeez\x84",
	} {
		_, sure := Judge([]byte(text))
		assert.False(t, sure, name)
	}
}

func TestNames(t *testing.T) {
	for _, name := range []string{"UTF-8", "utf8", "windows-1252", "IBM850", "cp852", "cp857", "IBM866", "macintosh",
		"latin1",
		"windows-31j", "gb2312", "Big5", "EUC-KR", "x-mac-ce", "UTF-16"} {
		_, err := Named(name)
		assert.NoError(t, err, name)
	}
	for _, name := range []string{"martian", "", "cp99999"} {
		_, err := Named(name)
		assert.Error(t, err, name)
	}
}

// TestTables: each character of a table is read as it is written, however little room there is.
func TestTables(t *testing.T) {
	for _, k := range tables {
		set := k.set.(*tableOf)
		var all []byte
		for b := 0x80; b <= 0xff; b++ {
			if set.runes[b-0x80] != '\ufffd' {
				all = append(all, byte(b), 'x')
			}
		}
		read, err := k.set.NewDecoder().Bytes(all)
		require.NoError(t, err)
		back, err := k.set.NewEncoder().Bytes(read)
		require.NoError(t, err)
		assert.Equal(t, all, back, k.name)
		_, err = k.set.NewEncoder().String("船")
		assert.Error(t, err)
	}
}

func FuzzJudge(f *testing.F) {
	f.Add([]byte("1,H\xe4fler\n"))
	f.Add([]byte("\x82\xa0\x82\xa2"))
	f.Fuzz(func(t *testing.T, text []byte) {
		all, _ := Judge(text)
		if len(all) == 0 {
			t.Fatal("no reading")
		}
	})
}
