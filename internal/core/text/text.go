// Package text changes the characters of texts. Each function gives its result as a part of cell where that says it
// already, else in the memory of to, so that none is needed for most cells.
package text

import (
	"bytes"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// isBlank returns what separates words or can't be seen: White_Space of Unicode, and those without a width.
func isBlank(r rune) bool { return unicode.IsSpace(r) || isNothing(r) }

// isNothing tells the blanks without a width: zero-width space, word joiner, byte order mark.
func isNothing(r rune) bool { return r == '\u200b' || r == '\u2060' || r == '\ufeff' }

// Trim takes blanks off both ends; no-break and zero-width ones too.
func Trim(_, cell []byte) []byte {
	for len(cell) > 0 && cell[0] <= ' ' && isBlank(rune(cell[0])) {
		cell = cell[1:]
	}
	for len(cell) > 0 && cell[len(cell)-1] <= ' ' && isBlank(rune(cell[len(cell)-1])) {
		cell = cell[:len(cell)-1]
	}
	if len(cell) > 0 && (cell[0] >= utf8.RuneSelf || cell[len(cell)-1] >= utf8.RuneSelf) {
		return bytes.TrimFunc(cell, isBlank)
	}
	return cell
}

// Squeeze trims, and makes one blank of each run of blanks between words.
func Squeeze(to, cell []byte) []byte {
	cell = Trim(nil, cell)
	if Plain(cell) {
		if isSqueezed(cell) {
			return cell
		}
		to = append(to[:0], cell...)
		return to[:squeeze(to, to)]
	}
	to = to[:0]
	blank := false
	for len(cell) > 0 {
		r, size := utf8.DecodeRune(cell)
		switch {
		case isNothing(r):
		case unicode.IsSpace(r):
			blank = true
		default:
			if blank {
				to, blank = append(to, ' '), false
			}
			to = append(to, cell[:size]...)
		}
		cell = cell[size:]
	}
	return to
}

// Upper makes capitals of small letters.
func Upper(to, cell []byte) []byte { return mapped(to, cell, 'a', 'z', unicode.ToUpper) }

// Lower makes small letters of capitals.
func Lower(to, cell []byte) []byte { return mapped(to, cell, 'A', 'Z', unicode.ToLower) }

// mapped changes the letters from first to last, and those beyond ASCII, by change, which turns their bit 5.
func mapped(to, cell []byte, first, last byte, change func(rune) rune) []byte {
	if !Plain(cell) {
		return eachRune(to, cell, change)
	}
	if to = append(to[:0], cell...); !turn(to, first, last) {
		return cell
	}
	return to
}

// eachRune changes every character; one that change gives as negative falls away. Bytes that are no UTF-8 stay.
func eachRune(to, cell []byte, change func(rune) rune) []byte {
	to = to[:0]
	for len(cell) > 0 {
		r, size := utf8.DecodeRune(cell)
		if r == utf8.RuneError && size == 1 {
			to = append(to, cell[0])
		} else if r = change(r); r >= 0 {
			to = utf8.AppendRune(to, r)
		}
		cell = cell[size:]
	}
	return to
}

// Title begins each word with a capital and goes on with small letters. A word begins behind anything but a letter,
// digit or apostrophe.
func Title(to, cell []byte) []byte {
	if Plain(cell) {
		return titled(append(to[:0], cell...))
	}
	inside := false
	return eachRune(to, cell, func(r rune) rune {
		was := inside
		inside = unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.Is(unicode.Mn, r) || inside &&
			(r == '\'' || r == '’')
		if was {
			return unicode.ToLower(r)
		}
		return unicode.ToTitle(r)
	})
}

// titled is Title of ASCII, in place.
func titled(cell []byte) []byte {
	inside := false
	for i, c := range cell {
		letter := c|0x20 >= 'a' && c|0x20 <= 'z'
		switch {
		case letter && inside:
			cell[i] = c | 0x20
		case letter:
			cell[i] = c &^ 0x20
		}
		inside = letter || c >= '0' && c <= '9' || inside && c == '\''
	}
	return cell
}

// Digits keeps nothing but the digits 0 to 9.
func Digits(to, cell []byte) []byte { return picked(to, cell, &digitSet, 1) }

// Letters keeps nothing but letters.
func Letters(to, cell []byte) []byte {
	if Plain(cell) {
		return picked(to, cell, &letterSet, 1)
	}
	return kept(to, cell, unicode.IsLetter)
}

// Without is what leaves out the characters of a text.
func Without(characters string) func(to, cell []byte) []byte {
	left := setOf(characters)
	return func(to, cell []byte) []byte {
		switch {
		case Plain(cell):
			return picked(to, cell, &left, 0)
		case !bytes.ContainsAny(cell, characters):
			return cell
		}
		return kept(to, cell, func(r rune) bool { return !runeIn(characters, r) })
	}
}

func runeIn(set string, r rune) bool {
	for _, s := range set {
		if s == r {
			return true
		}
	}
	return false
}

func kept(to, cell []byte, keep func(rune) bool) []byte {
	return eachRune(to, cell, func(r rune) rune {
		if keep(r) {
			return r
		}
		return -1
	})
}

// Composed is the cell in Unicode normalization form C (UAX 15).
func Composed(to, cell []byte) []byte {
	if Plain(cell) || norm.NFC.IsNormal(cell) {
		return cell
	}
	return norm.NFC.Append(to[:0], cell...)
}

// folded are the letters that don't fall apart into an ASCII letter and an accent.
var folded = map[rune]string{'ß': "ss", 'ẞ': "SS", 'æ': "ae", 'Æ': "AE", 'œ': "oe", 'Œ': "OE", 'ø': "o", 'Ø': "O",
	'đ': "d",
	'Đ': "D", 'ð': "d", 'Ð': "D", 'þ': "th", 'Þ': "Th", 'ł': "l", 'Ł': "L", 'ħ': "h", 'Ħ': "H", 'ı': "i", 'ŋ': "n",
	'Ŋ': "N",
	'‘': "'", '’': "'", '‚': "'", '“': `"`, '”': `"`, '„': `"`, '–': "-", '—': "-", '‐': "-", '‑': "-", '−': "-",
	'…':      "...",
	'\u00a0': " ", '\u202f': " ", '\u2009': " "}

// ASCII takes accents off letters and writes ligatures, quotes and dashes in ASCII. What has no such form stays.
func ASCII(to, cell []byte) []byte {
	if Plain(cell) {
		return cell
	}
	to = to[:0]
	var buf [64]byte
	for rest := norm.NFD.Append(buf[:0], cell...); len(rest) > 0; {
		r, size := utf8.DecodeRune(rest)
		if s, ok := folded[r]; ok {
			to = append(to, s...)
		} else if !unicode.Is(unicode.Mn, r) {
			to = append(to, rest[:size]...)
		}
		rest = rest[size:]
	}
	return to
}

// Padded puts fill before the cell until it has width characters.
func Padded(to, cell []byte, width int, fill rune) []byte {
	missing := width - utf8.RuneCount(cell)
	if missing <= 0 {
		return cell
	}
	to = to[:0]
	for range missing {
		to = utf8.AppendRune(to, fill)
	}
	return append(to, cell...)
}

// Shortened is the cell up to its character with number most.
func Shortened(cell []byte, most int) []byte {
	if len(cell) <= most {
		return cell
	}
	at := 0
	for range most {
		if at >= len(cell) {
			return cell
		}
		_, size := utf8.DecodeRune(cell[at:])
		at += size
	}
	return cell[:at]
}
