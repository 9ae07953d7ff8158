package ladlefile

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// intoBrackets puts an item in front of the closing bracket at a line and column.
func (e *editor) intoBrackets(line, column int, first bool, item string) error {
	end := e.offset(line, column)
	if end >= len(e.text) || !strings.ContainsRune("}]", rune(e.text[end])) {
		return fmt.Errorf("its closing bracket isn't found")
	}
	before := strings.TrimRight(e.text[:end], " \t")
	switch {
	case first || strings.HasSuffix(before, "{") || strings.HasSuffix(before, "["):
	case strings.HasSuffix(before, ","):
		item = " " + item
	default:
		item = ", " + item
	}
	e.text = before + item + e.text[len(before):]
	return nil
}

// replace replaces the value of an entry, which stands on the line of its key.
func (e *editor) replace(at place, value string) error {
	colon := at.key.Start.Position
	start := e.offset(colon.Line, colon.Column) + 1
	for start < len(e.text) && e.text[start] == ' ' {
		start++
	}
	end := valueEnd(e.text, start)
	if end == start {
		return fmt.Errorf("its value stands on other lines")
	}
	e.text = e.text[:start] + value + e.text[end:]
	return nil
}

// valueEnd is where a value ends that begins at start: behind its closing quote or bracket, else before what ends a
// plain text on the line.
func valueEnd(text string, start int) int {
	depth := 0
	for i := start; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\'' || c == '"':
			if i > start && depth == 0 {
				continue // inside of a plain text
			}
			for i++; i < len(text) && text[i] != c; i++ {
				if c == '"' && text[i] == '\\' {
					i++
				}
			}
			if depth == 0 && !(c == '\'' && strings.HasPrefix(text[min(i+1, len(text)):], "'")) {
				return min(i+1, len(text))
			}
		case (c == '[' || c == '{') && (depth > 0 || i == start):
			depth++
		case (c == ']' || c == '}') && depth > 0:
			if depth--; depth == 0 {
				return i + 1
			}
		case depth == 0 && (c == '\n' || c == '\r' || strings.HasPrefix(text[i:], " #")),
			depth == 0 && strings.ContainsRune(",}]", rune(c)) && inBrackets(text, start):
			return len(strings.TrimRight(text[:i], " "))
		}
	}
	return len(text)
}

// inBrackets reports whether a value stands inside of brackets that begin on its line.
func inBrackets(text string, start int) bool {
	line := text[strings.LastIndexByte(text[:start], '\n')+1 : start]
	return strings.Count(line, "{")+strings.Count(line, "[") > strings.Count(line, "}")+strings.Count(line, "]")
}

// lastLine is the last line, from 1, of the entry that begins on a line with an indent; comments and blank lines behind
// it are not its own.
func (e *editor) lastLine(line, indent int) int {
	last := line
	for i, text := range strings.Split(e.text, "\n")[line:] {
		trimmed := strings.TrimSpace(text)
		deep := len(text) - len(strings.TrimLeft(text, " "))
		switch {
		case trimmed == "" || trimmed[0] == '#':
		case deep > indent || deep == indent && strings.HasPrefix(trimmed, "- "):
			last = line + 1 + i
		default:
			return last
		}
	}
	return last
}

// addLines puts lines behind a line, from 1.
func (e *editor) addLines(behind int, lines []string) {
	if !strings.HasSuffix(e.text, "\n") {
		e.text += "\n"
	}
	at := e.offset(behind+1, 1)
	e.text = e.text[:at] + strings.Join(lines, "\n") + "\n" + e.text[at:]
}

// offset is where a line and a column, both from 1, stand in the text; columns count characters.
func (e *editor) offset(line, column int) int {
	at := 0
	for ; line > 1; line-- {
		next := strings.IndexByte(e.text[at:], '\n')
		if next < 0 {
			return len(e.text)
		}
		at += next + 1
	}
	for ; column > 1 && at < len(e.text); column-- {
		_, size := utf8.DecodeRuneInString(e.text[at:])
		at += size
	}
	return at
}
