package draft

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// scalar writes a text of a ladle file, in quotes where it needs them.
func scalar(text string) string {
	special := text == "" || strings.TrimSpace(text) != text || strings.ContainsAny(text, "\n\t\"'`") || strings.Contains(text, ": ") || strings.Contains(text, " #") ||
		strings.HasSuffix(text, ":") || strings.ContainsAny(text[:1], "-?:,[]{}#&*!|>%@=~<") || slices.Contains([]string{"null", "Null", "NULL", "none"}, text)
	if special || strings.ContainsFunc(text, hidden) {
		return quoted(text)
	}
	return text
}

// inFlow writes a text inside of brackets or braces.
func inFlow(text string) string {
	if strings.ContainsAny(text, ",[]{}:#") {
		return quoted(text)
	}
	return scalar(text)
}

// quoted writes a text in single quotes, or, where it has characters that don't show, in double ones (yaml.org/spec/1.2.2,
// §7.3).
func quoted(text string) string {
	if !strings.ContainsFunc(text, hidden) {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case hidden(r) && r > 0xffff:
			fmt.Fprintf(&b, "\\U%08x", r)
		case hidden(r):
			fmt.Fprintf(&b, "\\u%04x", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// hidden tells the characters that don't show, or end a line.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r)
}

func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if hidden(r) {
			return ' '
		}
		return r
	}, text)
}
