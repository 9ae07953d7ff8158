package notation

import (
	"bytes"
	"unicode"
	"unicode/utf8"
)

// plainDigits writes digits of other scripts, and full-width ones, as those of ASCII, and the separators that go with
// them; text without any comes back as it is. Digits of a script follow each other in Unicode, from zero on.
func plainDigits(text []byte) []byte {
	foreign := func(c rune) bool { return c >= utf8.RuneSelf && (unicode.IsDigit(c) || separators[c] != 0) }
	if !bytes.ContainsFunc(text, foreign) {
		return text
	}
	plain := make([]byte, 0, len(text))
	for len(text) > 0 {
		c, n := utf8.DecodeRune(text)
		switch {
		case c >= utf8.RuneSelf && unicode.IsDigit(c):
			plain = append(plain, '0'+digit(c))
		case separators[c] != 0:
			plain = append(plain, separators[c])
		default:
			plain = append(plain, text[:n]...)
		}
		text = text[n:]
	}
	return plain
}

// separators are those of Arabic, and full-width ones.
var separators = map[rune]byte{'٫': '.', '٬': ',', '．': '.', '，': ',', '－': '-', '＋': '+', '％': '%'}

// digit is the value of a digit: what it is from the start of its run of ten.
func digit(c rune) byte {
	if c >= 0x1d7ce && c <= 0x1d7ff { // mathematical digits, five runs beside each other
		return byte((c - 0x1d7ce) % 10)
	}
	n := byte(0)
	for unicode.IsDigit(c-1) && n < 9 {
		c--
		n++
	}
	return n
}
