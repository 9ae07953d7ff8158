package condition

import (
	"errors"
	"strings"
)

// word is a piece of a condition in SQL.
type word struct {
	kind wordKind
	text string // a name or text without its quotes
}

type wordKind uint8

const (
	name   wordKind = iota // bare: a column, a function, a type or a word of SQL
	quoted                 // a name in quotes
	literal
	number
	sign
)

// is reports whether w is a word of SQL, or a sign.
func (w word) is(text string) bool {
	return (w.kind == name || w.kind == sign) && strings.EqualFold(w.text, text)
}

// errOdd is the error of what is not read here: it says nothing about the condition itself.
var errOdd = errors.New("the condition is not read")

// closing are the quotes of names, with those that end them.
var closing = map[byte]byte{'"': '"', '`': '`', '[': ']'}

// signs are those of more than one character.
var signs = []string{"::", "<=", ">=", "<>", "!=", "==", "||", "->"}

// split takes a condition apart.
func split(text string) (words []word, err error) {
	for at := 0; at < len(text); {
		c := text[at]
		array := len(words) > 0 && (words[len(words)-1].is("ARRAY") || strings.HasPrefix(text[at:], "[]"))
		switch end := closing[c]; {
		case c == ' ' || c == '\n' || c == '\t' || c == '\r':
			at++
		case c == '\'':
			w, length, err := enclosed(text[at:], '\'')
			if err != nil || strings.Contains(w, `\`) { // which means different things to different databases
				return nil, errOdd
			}
			if n := len(words) - 1; n >= 0 && words[n].kind == name && words[n].text[0] == '_' {
				words = words[:n] // the character set of a text, such as _utf8mb4
			}
			words, at = append(words, word{literal, w}), at+length
		case end != 0 && !(c == '[' && array):
			w, length, err := enclosed(text[at:], end)
			if err != nil {
				return nil, err
			}
			words, at = append(words, word{quoted, w}), at+length
		default:
			w := plain(text[at:])
			words, at = append(words, w), at+len(w.text)
		}
	}
	return words, nil
}

// enclosed reads a text or name in quotes, in which the closing one is doubled, and returns its length with them.
func enclosed(text string, end byte) (content string, length int, err error) {
	var b strings.Builder
	for at := 1; at < len(text); at++ {
		if text[at] == end {
			if at+1 == len(text) || text[at+1] != end || end == ']' {
				return b.String(), at + 1, nil
			}
			at++
		}
		b.WriteByte(text[at])
	}
	return "", 0, errOdd
}

// plain reads a name, a number or a sign.
func plain(text string) word {
	n := 0
	for n < len(text) && (isLetter(text[n]) || n > 0 && text[n] == '$' || isDigit(text[n]) ||
		text[n] == '.' && isDigit(text[0])) {
		n++
	}
	switch {
	case n > 0 && isDigit(text[0]):
		return word{number, text[:n]}
	case n > 0:
		return word{name, text[:n]}
	}
	for _, s := range signs {
		if strings.HasPrefix(text, s) {
			return word{sign, s}
		}
	}
	return word{sign, text[:1]}
}

func isLetter(c byte) bool { return c == '_' || c >= 0x80 || c|0x20 >= 'a' && c|0x20 <= 'z' }
func isDigit(c byte) bool  { return c >= '0' && c <= '9' }
