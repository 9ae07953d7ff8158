package charset

import (
	"bytes"
	"cmp"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
)

// Reading is one way to read a text.
type Reading struct {
	Name     string
	Encoding encoding.Encoding
	Language string  // in which its words are likeliest
	Score    float64 // the logarithm of how likely they are
	letters  int     // the characters that this is of, and the ends of tokens
	odd      int     // tokens that look odd
	alien    int     // tokens with a letter that the language doesn't have
	many     bool    // the language has more characters than an alphabet
	rare     bool    // the encoding is hardly met
	alike    []named // other encodings that read the text in the same way
}

// Evidence that is looked at: all encodings are tried with the first tokens, and the likeliest with the others too.
const (
	firstTokens = 60
	mostTokens  = 250
	likeliest   = 6
)

// Judge reads a text in all encodings that are known, and returns those ways that read it differently, the likeliest
// first; sure says that no other than the first is likely.
func Judge(text []byte) (all []Reading, sure bool) { return learned().judge(text) }

func (s *spoken) judge(text []byte) (all []Reading, sure bool) {
	tokens := foreignTokens(text)
	all = s.readAll(tokens[:min(len(tokens), firstTokens)], encodings())
	if len(tokens) > firstTokens {
		var again []named
		for _, r := range all[:min(len(all), likeliest)] {
			again = append(append(again, named{r.Name, r.Encoding, r.rare}), r.alike...)
		}
		others := all[min(len(all), likeliest):]
		all = append(s.readAll(tokens, again), others...)
	}
	return all, s.isSure(all, len(tokens))
}

// encodings are all that a text could be in.
func encodings() []named { return slices.Concat([]named{{UTF8, encoding.Nop, false}}, known, tables) }

// readAll reads tokens in encodings, and returns the readings that differ, the likeliest first.
func (s *spoken) readAll(tokens [][]byte, in []named) (all []Reading) {
	raw := bytes.Join(tokens, []byte{'\n'})
	seen := map[string]int{}
	for _, k := range in {
		read, err := k.set.NewDecoder().Bytes(raw)
		if k.set == encoding.Nop {
			read = []byte(string([]rune(string(raw)))) // each byte that isn't valid becomes U+FFFD
		}
		if err != nil {
			continue
		}
		if at, ok := seen[string(read)]; ok {
			all[at].alike = append(all[at].alike, k)
			continue
		}
		seen[string(read)] = len(all)
		r := s.read(strings.Split(string(read), "\n"))
		r.Name, r.Encoding, r.rare = k.name, k.set, k.rare
		if r.rare {
			r.Score -= rarity
		}
		all = append(all, r)
	}
	slices.SortStableFunc(all, func(a, b Reading) int { return cmp.Compare(b.Score, a.Score) })
	return all
}

// What a reading must have to be sure. The bounds are wide: texts in encodings and languages that aren't known must
// not come near.
const (
	margin    = 16.0 // between its score and that of the next one
	minimum   = 5    // tokens
	fits      = -4.0 // its score for each character, in a language of letters
	fitsSigns = -7.0 // in a language of characters
	rarity    = 10   // what speaks against an encoding that is hardly met
	mostOdd   = 0.05 // the share of tokens that look odd
	alienFits = -3.6
	mostAlien = 0.12 // the share of tokens with a letter that its language doesn't have
)

func (s *spoken) isSure(all []Reading, tokens int) bool {
	best := all[0]
	fit := fits
	if best.many != isMany(best.Name) {
		return false // letters of an alphabet that are read two by two, or the other way round
	}
	if best.many {
		fit = fitsSigns
	}
	n := float64(tokens)
	return tokens >= minimum && (len(all) == 1 || best.Score-all[1].Score >= margin) &&
		best.Score/float64(best.letters) >= fit && float64(best.odd) <= mostOdd*n && float64(best.alien) <= mostAlien*n
}

// foreignTokens are the different runs of bytes in text, between blanks, commas and the like, that hold bytes outside
// of ASCII. No encoding has these separators inside of a character.
func foreignTokens(text []byte) [][]byte {
	var all [][]byte
	seen := map[string]bool{}
	for token := range bytes.FieldsFuncSeq(text, func(c rune) bool {
		return c < 0x30 || c > '9' && c < '@'
	}) {
		if seen[string(token)] || !slices.ContainsFunc(token, func(b byte) bool { return b >= 0x80 }) {
			continue
		}
		seen[string(token)] = true
		if all = append(all, token); len(all) == mostTokens {
			break
		}
	}
	return all
}

// read says how likely words are, in the language in which they are likeliest.
func (s *spoken) read(tokens []string) Reading {
	const others = 0.15 // the share of words of other languages
	totals := make([]float64, len(s.models))
	costs := make([]float64, len(s.models))
	likely := make([]float64, len(tokens)) // each token for each character, in the language that fits it best
	r := Reading{}
	for at, t := range tokens {
		shape, words := shapeOf(t), wordsIn(t)
		most := math.Inf(-1)
		for i, m := range s.models {
			costs[i] = cost(m, words)
			most = max(most, costs[i])
		}
		mixed := 0.0
		for _, c := range costs {
			mixed += math.Exp(c - most)
		}
		mixed /= float64(len(costs))
		for i, c := range costs {
			totals[i] += shape + most + math.Log((1-others)*math.Exp(c-most)+others*mixed)
		}
		likely[at] = most / float64(utf8.RuneCountInString(t)+1)
		r.letters += utf8.RuneCountInString(t) + 1
		if shape < oddToken {
			r.odd++
		}
	}
	at := 0
	for i, t := range totals {
		if t > totals[at] {
			at = i
		}
	}
	r.Language, r.Score = s.names[at], totals[at]
	if l, ok := s.models[at].(*letters); ok {
		for i, t := range tokens {
			if likely[i] < alienFits && l.alien(t) {
				r.alien++
			}
		}
	}
	_, r.many = s.models[at].(*characters)
	return r
}

// cost is how likely words are in a language; see wordsIn.
func cost(m model, words []rune) (sum float64) {
	var before rune
	for _, c := range words {
		sum += m.letter(before, c)
		before = c
	}
	return sum
}

// wordsIn are the words of a token in lower case, each followed by 0.
func wordsIn(token string) []rune {
	all := make([]rune, 0, len(token)+1)
	for _, c := range token {
		switch {
		case inWord(c):
			all = append(all, unicode.ToLower(c))
		case len(all) > 0 && all[len(all)-1] != 0:
			all = append(all, 0)
		}
	}
	if len(all) > 0 && all[len(all)-1] != 0 {
		all = append(all, 0)
	}
	return all
}

// Signs are the characters that are no letters and are met in tables: those that open, those that close, and others.
const (
	opening = "«„“‘¿¡£€§№（「"
	closing = "»”’…°ºª²³™®）」。、"
	signs   = "–—·•×±½¼¾©µ\u00a0・／－ー々：〜"
)

// What a token costs besides its letters.
const (
	sign     = -7  // that is usual
	misplace = -8  // beside a letter where it isn't usual
	oddSign  = -15 // a sign that is not usual
	turn     = -7  // from lower to upper case
	capitals = -2  // a word in upper case
	capital  = -1
	small    = -0.5
	mixture  = -6 // a letter of ASCII beside a character of East Asia

	ideographs = 0x2e80 // where the characters of East Asia begin

	oddToken = -9 // less than this
)

// shapeOf is how likely the signs in a token are, and its upper and lower case.
func shapeOf(token string) (sum float64) {
	chars := []rune(token)
	for i, c := range chars {
		behind := i > 0 && inWord(chars[i-1])
		before := i+1 < len(chars) && inWord(chars[i+1])
		switch {
		case c < utf8.RuneSelf || inWord(c):
		case c == utf8.RuneError, unicode.IsControl(c), unicode.Is(unicode.Co, c):
			sum += unread
			continue
		case strings.ContainsRune(opening, c):
			sum += sign
			if behind {
				sum += misplace
			}
		case strings.ContainsRune(closing, c):
			sum += sign
			if before && c != '’' {
				sum += misplace
			}
			if behind && c == '…' {
				sum += misplace / 2
			}
		case strings.ContainsRune(signs, c):
			sum += sign
			if (behind || before) && c != '·' && c != '–' && c < 0x3000 {
				sum += misplace
			}
		default:
			sum += oddSign
		}
	}
	for word := range strings.FieldsFuncSeq(token, func(c rune) bool { return !inWord(c) }) {
		sum += shapeOfWord([]rune(word))
	}
	return sum
}

// shapeOfWord is how likely its upper and lower case is.
func shapeOfWord(word []rune) (sum float64) {
	upper, lower, turns := 0, 0, 0
	for i, c := range word {
		if i > 0 && (c < utf8.RuneSelf) != (word[i-1] < utf8.RuneSelf) && max(c, word[i-1]) >= ideographs {
			sum += mixture
		}
		switch {
		case unicode.IsUpper(c):
			upper++
			if i > 0 && unicode.IsLower(word[i-1]) {
				turns++
			}
		case unicode.IsLower(c):
			lower++
			if i > 1 && unicode.IsUpper(word[i-1]) {
				turns++
			}
		}
	}
	switch {
	case upper == 0 && lower == 0:
		return sum
	case lower == 0 && upper > 1:
		return sum + capitals
	case upper == 0:
		return sum + small
	case unicode.IsUpper(word[0]) && upper == 1:
		return sum + capital
	}
	return sum + float64(turns)*turn
}
