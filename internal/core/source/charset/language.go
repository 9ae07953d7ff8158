package charset

import (
	"math"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// alphabetic are languages of letters: which follows which is learned.
const alphabetic = "de fr es pt it nl sv da nb fi is ca pl cs sk hu hr sl sr-Latn ro lt lv et tr sq ru uk bg sr mk be " +
	"el he ar fa th vi"

// Costs, as natural logarithms of probabilities.
const (
	strange = -13 // a letter that the language doesn't have
	unread  = -20 // bytes that are no character of the encoding, and control characters
)

// model says how likely a character is in a language behind another one.
type model interface {
	// letter returns the logarithm of the probability of c behind before, both in lower case; before is 0 at the
	// start of a word, and c at its end.
	letter(before, c rune) float64
}

// letters is the model of a language with an alphabet.
type letters struct {
	low   [0x700]uint16   // from 1; 0 is the border of a word
	index map[rune]uint16 // of letters beyond
	costs []float64       // of each pair
	all   []rune
	size  int
	uses  map[rune]bool // the letters that are met more than once or twice
}

func (l *letters) letter(before, c rune) float64 {
	at := 0
	if c != 0 {
		if at = l.at(c); at == 0 {
			return strange
		}
	}
	if before != 0 {
		if from := l.at(before); from > 0 {
			return l.costs[from*l.size+at]
		}
	}
	return l.costs[at]
}

// alien reports whether a token has a letter that the language doesn't use.
func (l *letters) alien(token string) bool {
	return strings.ContainsFunc(token, func(c rune) bool { return c >= 0x80 && inWord(c) && !l.uses[unicode.ToLower(c)] })
}

func (l *letters) at(c rune) int {
	if c >= 0 && int(c) < len(l.low) {
		return int(l.low[c])
	}
	return int(l.index[c])
}

func (l *letters) add(c rune) {
	if l.at(c) != 0 {
		return
	}
	if int(c) < len(l.low) {
		l.low[c] = uint16(l.size)
	} else {
		l.index[c] = uint16(l.size)
	}
	l.all = append(l.all, c)
	l.size++
}

// learnLetters makes the model of words.
func learnLetters(words []string) *letters {
	const few = 3
	l := &letters{index: map[rune]uint16{}, size: 1, all: []rune{0}}
	for _, w := range words {
		for _, c := range w {
			l.add(c)
		}
	}
	pairs, singles := make([]float64, l.size*l.size), make([]float64, l.size)
	from := make([]float64, l.size)
	all := 0.0
	for _, w := range words {
		before := 0
		for _, c := range w + "\x00" {
			at := l.at(c)
			pairs[before*l.size+at]++
			singles[at]++
			from[before]++
			all++
			before = at
		}
	}
	l.uses = map[rune]bool{}
	for at, c := range l.all {
		l.uses[c] = singles[at] > few
	}
	l.costs = make([]float64, l.size*l.size)
	const thrift = 3 // how many pairs it takes to believe them rather than the letters
	for a := range l.size {
		for b := range l.size {
			alone := (singles[b] + 0.3) / (all + 0.3*float64(l.size))
			l.costs[a*l.size+b] = math.Log((pairs[a*l.size+b] + thrift*alone) / (from[a] + thrift))
		}
	}
	return l
}

// characters is the model of a language whose characters are too many for pairs of them.
type characters struct {
	costs map[rune]float64
	rare  func(c rune) float64
}

func (m *characters) letter(_, c rune) float64 {
	switch {
	case c == 0:
		return -0.7
	case c < 0x80:
		return -7
	}
	if cost, ok := m.costs[c]; ok {
		return cost
	}
	return m.rare(c)
}

// learnCharacters makes a model of words, of the characters that are frequent in all texts of the language, and of the
// set of characters in which the usual ones stand first.
func learnCharacters(words []string, frequent string, set encoding.Encoding,
	usual func(lead, trail byte) bool) *characters {
	counts, all := map[rune]float64{}, 0.0
	for _, w := range words {
		for _, c := range w {
			counts[c]++
			all++
		}
	}
	often := map[rune]bool{}
	for _, c := range frequent {
		often[c] = true
	}
	m := &characters{costs: map[rune]float64{}}
	for c, n := range counts {
		m.costs[c] = 0.35 * n / all
	}
	for c := range often {
		m.costs[c] += 0.5 / float64(len(often))
	}
	for c, p := range m.costs {
		m.costs[c] = math.Log(p)
	}
	encoder := set.NewEncoder()
	m.rare = func(c rune) float64 {
		if !unicode.IsLetter(c) {
			return strange
		}
		b, err := encoder.Bytes([]byte(string(c)))
		switch {
		case err != nil || len(b) != 2:
			return unread
		case usual(b[0], b[1]):
			return -10
		}
		return -14
	}
	return m
}

// spoken are the languages that are known, by their names.
type spoken struct {
	names  []string
	models []model
}

var learned = sync.OnceValue(func() *spoken { return learn(func(string) bool { return true }) })

// learn learns all languages, from the words that are wanted.
func learn(wanted func(word string) bool) *spoken {
	all := &spoken{}
	add := func(name string, m model) { all.names, all.models = append(all.names, name), append(all.models, m) }
	for name := range strings.FieldsSeq(alphabetic) {
		add(name, learnLetters(wordsOf(name, wanted)))
	}
	gb := func(lead, trail byte) bool { return lead >= 0xb0 && lead <= 0xd7 && trail >= 0xa1 }
	jis := func(lead, _ byte) bool { return lead >= 0xb0 && lead <= 0xcf || lead == 0xa4 || lead == 0xa5 }
	hangul := func(lead, trail byte) bool { return lead >= 0xb0 && lead <= 0xc8 && trail >= 0xa1 }
	big5 := func(lead, _ byte) bool { return lead >= 0xa4 && lead <= 0xc6 }
	add("ja", learnCharacters(wordsOf("ja", wanted), kana+kanji, japanese.EUCJP, jis))
	add("ko", learnCharacters(wordsOf("ko", wanted), syllables, korean.EUCKR, hangul))
	add("zh-Hans", learnCharacters(wordsOf("zh-Hans", wanted), hanzi, simplifiedchinese.GBK, gb))
	add("zh-Hant", learnCharacters(wordsOf("zh-Hant", wanted), hanziTraditional, traditionalchinese.Big5, big5))
	return all
}

// wordsOf are the words in the names of regions and languages, in lower case, as often as they occur.
func wordsOf(name string, wanted func(string) bool) []string {
	var words []string
	take := func(text string) {
		for w := range strings.FieldsFuncSeq(text, func(c rune) bool { return !inWord(c) }) {
			if wanted(w) {
				words = append(words, strings.ToLower(w))
			}
		}
	}
	take(common[name])
	tag := language.MustParse(name)
	regions, languages := display.Regions(tag), display.Languages(tag)
	for _, code := range codes() {
		if r, err := language.ParseRegion(code); err == nil {
			take(regions.Name(r))
		}
		if b, err := language.ParseBase(code); err == nil {
			take(languages.Name(b))
		}
	}
	return words
}

// codes are codes of two letters, among them all of ISO 3166-1 and ISO 639-1.
func codes() []string {
	var all []string
	for a := 'a'; a <= 'z'; a++ {
		for b := 'a'; b <= 'z'; b++ {
			all = append(all, string([]rune{a, b}))
		}
	}
	return all
}

// inWord reports whether c is part of a word.
func inWord(c rune) bool {
	switch c {
	case 'ª', 'º', 'µ': // signs, as they are used
		return false
	}
	return unicode.IsLetter(c) || unicode.IsMark(c)
}
