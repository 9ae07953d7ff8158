package sqlite

import (
	"strings"
	"unicode"

	"ladle/internal/core/schema"
)

// checksOf finds the CHECK constraints in the statement that made a table, which no pragma lists: the word CHECK
// outside of quotes and comments, and what stands in brackets behind it (sqlite.org/lang_createtable.html, §3.7).
func checksOf(sql string) []schema.Check {
	var all []schema.Check
	words := &tokens{text: sql}
	name, named := "", false
	for t := words.next(); t != ""; t = words.next() {
		switch {
		case strings.EqualFold(t, "CONSTRAINT"):
			name, named = unquoted(words.next()), true
			continue
		case strings.EqualFold(t, "CHECK"):
			start := words.at
			if words.next() == "(" && words.close() {
				condition := strings.TrimSpace(sql[start:words.at])
				all = append(all, schema.Check{Name: name, Says: "CHECK " + condition, Condition: condition})
			}
		}
		if !named || t != "(" {
			name, named = "", false
		}
	}
	return all
}

// tokens reads a statement word by word.
type tokens struct {
	text string
	at   int
}

// next returns the next word, quoted name or text, or single character; "" at the end.
func (t *tokens) next() string {
	t.skip()
	if t.at >= len(t.text) {
		return ""
	}
	start, first := t.at, t.text[t.at]
	if end, quoted := map[byte]byte{'\'': '\'', '"': '"', '`': '`', '[': ']'}[first]; quoted {
		for t.at++; t.at < len(t.text); t.at++ {
			if t.text[t.at] != end {
				continue
			}
			if t.at++; end == ']' || t.at >= len(t.text) || t.text[t.at] != end { // doubled, it stands for itself
				break
			}
		}
		return t.text[start:t.at]
	}
	for t.at < len(t.text) && isWord(t.text[t.at]) {
		t.at++
	}
	if t.at == start {
		t.at++
	}
	return t.text[start:t.at]
}

func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= 0x80 || unicode.IsLetter(rune(c)) || unicode.IsDigit(rune(c))
}

// skip passes over blanks and comments.
func (t *tokens) skip() {
	for t.at < len(t.text) {
		rest, end := t.text[t.at:], ""
		switch {
		case rest[0] <= ' ':
			t.at++
			continue
		case strings.HasPrefix(rest, "--"):
			end = "\n"
		case strings.HasPrefix(rest, "/*"):
			end = "*/"
		default:
			return
		}
		if i := strings.Index(rest[2:], end); i >= 0 {
			t.at += 2 + i + len(end)
		} else {
			t.at = len(t.text)
		}
	}
}

// close goes behind the bracket that closes the one that was read last; false when there is none.
func (t *tokens) close() bool {
	for open := 1; open > 0; {
		switch t.next() {
		case "(":
			open++
		case ")":
			open--
		case "":
			return false
		}
	}
	return true
}

// unquoted takes the quotes off a name.
func unquoted(name string) string {
	if len(name) < 2 || isWord(name[0]) {
		return name
	}
	last := name[len(name)-1:]
	return strings.ReplaceAll(name[1:len(name)-1], last+last, last)
}
