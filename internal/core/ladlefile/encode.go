package ladlefile

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// Scalar writes a text so that it is read as it is, in quotes where it needs them; outside of brackets and braces.
func Scalar(text string) string {
	special := text == "" || strings.TrimSpace(text) != text || strings.ContainsAny(text, "\n\t\"'`") ||
		strings.Contains(text, ": ") || strings.Contains(text, " #") ||
		strings.HasSuffix(text, ":") || strings.ContainsAny(text[:1], "-?:,[]{}#&*!|>%@=~<") ||
		slices.Contains([]string{"null", "Null", "NULL", "none"}, text)
	if special || strings.ContainsFunc(text, hidden) {
		return Quoted(text)
	}
	return text
}

// Pair is a key and its value.
type Pair struct{ Key, Value string }

// Flow writes a value so that it is read as it is, inside of brackets or braces too: a string, a whole number, a list
// of strings as [a, b], or pairs as {a: b}.
func Flow(value any) string {
	switch v := value.(type) {
	case string:
		if strings.ContainsAny(v, ",[]{}:#") {
			return Quoted(v)
		}
		return Scalar(v)
	case []string:
		all := make([]string, len(v))
		for i, s := range v {
			all[i] = Flow(s)
		}
		return "[" + strings.Join(all, ", ") + "]"
	case []Pair:
		all := make([]string, len(v))
		for i, p := range v {
			all[i] = Flow(p.Key) + ": " + Flow(p.Value)
		}
		return "{" + strings.Join(all, ", ") + "}"
	}
	return fmt.Sprint(value)
}

// Setting is a key of a ladle file that is to get a value.
type Setting struct {
	At    []string // the keys under which it stands, from the outermost: inputs, register, columns
	Under string   // a key below them that is yet to be made, for example that of a column without a rule; or ""
	Key   string
	Value any // a string, a whole number, []string, []Pair or Lines

	Comment string // to stand behind it where it gets a line of its own; "" for none
	Rename  string // in place of a value: the new name of the key
	Add     bool   // a list that is there gets the values, and is not replaced
}

// Lines are an entry or more of a mapping as lines of a ladle file, with their comments, the outermost key at their
// start.
type Lines []string

// Where names the place of the setting: "inputs: register: columns:".
func (s Setting) Where() string {
	all := make([]string, len(s.At))
	for i, key := range s.At {
		all[i] = Scalar(key) + ":"
	}
	return strings.Join(all, " ")
}

// YAML returns what is to be put there: a line, or, without a Key, more of the list or pairs that stand there.
func (s Setting) YAML() string {
	if lines, ok := s.Value.(Lines); ok {
		return strings.Join(lines, "\n")
	}
	if s.Rename != "" {
		return Scalar(s.Rename) + ":"
	}
	if s.Key == "" {
		more := Flow(s.Value)
		return more[1 : len(more)-1]
	}
	if s.Under == "" {
		return Scalar(s.Key) + ": " + Flow(s.Value)
	}
	return fmt.Sprintf("%s: {%s: %s}", Scalar(s.Under), Scalar(s.Key), Flow(s.Value))
}

// MarshalJSON writes the setting with its line; pairs become an object.
func (s Setting) MarshalJSON() ([]byte, error) {
	value := s.Value
	if pairs, ok := value.([]Pair); ok {
		all := map[string]string{}
		for _, p := range pairs {
			all[p.Key] = p.Value
		}
		value = all
	}
	at := s.At
	if s.Under != "" {
		at = append(slices.Clone(at), s.Under)
	}
	return json.Marshal(struct {
		At    []string `json:"at"`
		Key   string   `json:"key"`
		Value any      `json:"value"`
		YAML  string   `json:"yaml"`
	}{at, s.Key, value, s.YAML()})
}

// Quoted writes a text in single quotes, or, where it has characters that don't show, in double ones
// (yaml.org/spec/1.2.2, §7.3).
func Quoted(text string) string {
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

// hidden reports whether a character doesn't show, or ends a line.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r)
}

// OneLine writes a text as a comment can hold it.
func OneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if hidden(r) {
			return ' '
		}
		return r
	}, text)
}
