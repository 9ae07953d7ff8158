package source

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ladle/internal/core/fault"
	"ladle/internal/core/source/charset"
)

// UnclearEncoding is the error of a text that isn't UTF-8 and could be in several encodings.
type UnclearEncoding struct {
	Path  string
	Input string // of a ladle file; "" for a file by itself
	Could []EncodingReading
}

// EncodingReading is how lines of a text read in an encoding. The lines are the same for all encodings that are
// compared, and show where they differ.
type EncodingReading struct {
	Encoding string        `json:"encoding"`
	Lines    []EncodedLine `json:"lines"`
}

// EncodedLine is a line as an encoding reads it, or the part of it around its first character outside of ASCII.
type EncodedLine struct {
	Line int64  `json:"line"`
	Text string `json:"text"`
}

// Error says what the text could be.
func (u *UnclearEncoding) Error() string {
	if u.Could == nil {
		return "the text isn't UTF-8, and all its bytes make sense in no encoding that is looked for"
	}
	return "the text isn't UTF-8, and its encoding isn't certain; it could be " + Readings(u.Could)
}

// Readings are the ways to read lines, in words.
func Readings(all []EncodingReading) string {
	words := make([]string, len(all))
	for i, r := range all {
		lines := make([]string, len(r.Lines))
		for k, l := range r.Lines {
			lines[k] = fmt.Sprintf("%q", l.Text)
		}
		words[i] = fmt.Sprintf("%s (%s)", r.Encoding, strings.Join(lines, ", "))
	}
	if n := len(words) - 1; n > 0 {
		return strings.Join(words[:n], ", ") + " or " + words[n]
	}
	return strings.Join(words, "")
}

// OfInput names the input of a ladle file in an error of a text whose encoding is unclear.
func OfInput(err error, name string) error {
	var u *UnclearEncoding
	if errors.As(err, &u) {
		u.Input = name
	}
	return err
}

// fault is the error as people read it.
func (u *UnclearEncoding) fault() error {
	line := 0
	if len(u.Could) > 0 {
		line = int(u.Could[0].Lines[0].Line)
	}
	return fault.Because(fault.Refused, u, fault.Problem{File: u.Path, Line: line, What: u.Error(),
		Do: "set encoding: to the right one"})
}

const (
	candidates = 3   // encodings that are shown
	compared   = 200 // lines in which they are compared
	shownText  = 48  // characters of a line
)

// newUnclear compares the likeliest readings of text, and finds the lines in which they differ, counted from 0.
func newUnclear(text []byte, readings []charset.Reading) *UnclearEncoding {
	line := int64(0)
	var numbers []int64
	var lines [][]byte
	for l := range bytes.SplitSeq(text, []byte{'\n'}) {
		if asciiPrefix(l) < len(l) && len(lines) < compared {
			lines, numbers = append(lines, bytes.TrimSuffix(l, []byte{'\r'})), append(numbers, line)
		}
		line++
	}
	var names []string
	var read [][]string // of each encoding each line
	for _, r := range readings {
		all := readLines(lines, r)
		if all == nil || slices.ContainsFunc(read, func(o []string) bool { return slices.Equal(o, all) }) {
			continue
		}
		if names, read = append(names, r.Name), append(read, all); len(read) == candidates {
			break
		}
	}
	u := &UnclearEncoding{}
	shown := telling(read)
	for i, name := range names {
		r := EncodingReading{Encoding: name}
		for _, at := range shown {
			r.Lines = append(r.Lines, EncodedLine{numbers[at], around(read[i][at])})
		}
		u.Could = append(u.Could, r)
	}
	return u
}

// under counts the lines from another one on.
func (u *UnclearEncoding) under(first int64) {
	for _, r := range u.Could {
		for i := range r.Lines {
			r.Lines[i].Line += first
		}
	}
}

// readLines reads lines in an encoding; nil when not all of their bytes make sense in it.
func readLines(lines [][]byte, r charset.Reading) (all []string) {
	for _, line := range lines {
		read, err := r.Encoding.NewDecoder().Bytes(line)
		if err != nil || !utf8.Valid(read) || bytes.ContainsFunc(read, func(c rune) bool {
			return c == utf8.RuneError || c >= utf8.RuneSelf && unicode.IsControl(c)
		}) {
			return nil
		}
		all = append(all, string(read))
	}
	return all
}

// telling are the lines, in order, by which each two ways of reading are told apart.
func telling(read [][]string) []int {
	shown := []int{}
	for i := range read {
		for k := range i {
			if slices.ContainsFunc(shown, func(at int) bool { return read[i][at] != read[k][at] }) {
				continue
			}
			for at := range read[i] {
				if read[i][at] != read[k][at] {
					shown = append(shown, at)
					break
				}
			}
		}
	}
	if len(shown) == 0 {
		return []int{0}
	}
	slices.Sort(shown)
	return shown
}

// around is the part of a line around its first character that isn't ASCII.
func around(line string) string {
	runes := []rune(line)
	if len(runes) <= shownText {
		return line
	}
	at := max(0, strings.IndexFunc(line, func(c rune) bool { return c >= utf8.RuneSelf }))
	from := min(max(0, utf8.RuneCountInString(line[:at])-shownText/3), len(runes)-shownText)
	shown := string(runes[from : from+shownText])
	if from > 0 {
		shown = "…" + shown
	}
	if from+shownText < len(runes) {
		shown += "…"
	}
	return shown
}
