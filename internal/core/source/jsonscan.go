package source

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/reason"
)

// deepest is how many objects and arrays may stand in each other.
const deepest = 64

// errCut says that a JSON text ends before what is read.
var errCut = errors.New("it ends too early")

func unreadableJSON(err error) *reason.Cause {
	return reason.Fault(reason.Unreadable, "the line is not a JSON object: "+err.Error())
}

// jsonScanner reads JSON (RFC 8259) from the start of a text on.
type jsonScanner struct {
	raw []byte
	at  int
}

func (s *jsonScanner) wrong(what string) error {
	if s.at >= len(s.raw) {
		return errCut
	}
	return errors.New(what)
}

// peek returns the next byte; 0 at the end.
func (s *jsonScanner) peek() byte {
	if s.at < len(s.raw) {
		return s.raw[s.at]
	}
	return 0
}

func (s *jsonScanner) blanks() {
	if s.at < len(s.raw) && s.raw[s.at] > ' ' {
		return
	}
	for s.at < len(s.raw) && (s.raw[s.at] == ' ' || s.raw[s.at] == '\n' || s.raw[s.at] == '\t' || s.raw[s.at] == '\r') {
		s.at++
	}
}

// inline passes over blanks in a line.
func (s *jsonScanner) inline() {
	for s.at < len(s.raw) && (s.raw[s.at] == ' ' || s.raw[s.at] == '\t') {
		s.at++
	}
}

// between passes over what stands between objects.
func (s *jsonScanner) between() {
	for s.at < len(s.raw) {
		switch s.raw[s.at] {
		case ' ', '\n', '\t', '\r', ',':
			s.at++
		default:
			return
		}
	}
}

// nextLine goes to the start of the next line.
func (s *jsonScanner) nextLine() {
	end := bytes.IndexByte(s.raw[s.at:], '\n')
	if end < 0 {
		s.at = len(s.raw)
		return
	}
	s.at += end + 1
}

// skipObject goes behind the object at raw[at]; false when it isn't whole. It looks at nothing but brackets and texts.
func (s *jsonScanner) skipObject() bool {
	depth := 0
	for at := s.at; at < len(s.raw); at++ {
		switch s.raw[at] {
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				s.at = at + 1
				return true
			}
		case '"':
			for at = plainText(s.raw, at+1); at < len(s.raw) && s.raw[at] != '"'; at = plainText(s.raw, at+1) {
				if s.raw[at] == '\\' {
					at++
				}
			}
		}
	}
	return false
}

// text reads the text at raw[at], whose quote stands there.
func (s *jsonScanner) text(r *Record) ([]byte, error) {
	start := s.at + 1
	at := plainText(s.raw, start)
	switch {
	case at == len(s.raw):
		s.at = at
		return nil, errCut
	case s.raw[at] == '"':
		s.at = at + 1
		return s.raw[start:at:at], nil
	case s.raw[at] == '\\':
		return s.escaped(r, start, at)
	}
	s.at = at
	return nil, s.wrong("a control character stands in a text")
}

// plainText returns where the first quote, backslash or control character stands in raw, from at on.
func plainText(raw []byte, at int) int {
	const quotes, backslashes, blanks = '"' * lows, '\\' * lows, ' ' * lows
	for ; at+8 <= len(raw); at += 8 {
		word := binary.LittleEndian.Uint64(raw[at:])
		controls := (word - blanks) &^ word // the lowest of its high bits that is set is right
		if found := (^(unlike(word^quotes) & unlike(word^backslashes)) | controls) & highs; found != 0 {
			return at + bits.TrailingZeros64(found)/8
		}
	}
	for ; at < len(raw); at++ {
		if c := raw[at]; c == '"' || c == '\\' || c < ' ' {
			break
		}
	}
	return at
}

// escaped reads a text with escapes, the first of which is raw[at].
func (s *jsonScanner) escaped(r *Record, start, at int) ([]byte, error) {
	from := len(r.buf)
	r.buf = append(r.buf, s.raw[start:at]...)
	for at < len(s.raw) {
		c := s.raw[at]
		switch {
		case c == '"':
			s.at = at + 1
			return r.buf[from:len(r.buf):len(r.buf)], nil
		case c < ' ':
			s.at = at
			return nil, s.wrong("a control character stands in a text")
		case c != '\\':
			r.buf = append(r.buf, c)
			at++
			continue
		case at+1 == len(s.raw):
			s.at = len(s.raw)
			return nil, errCut
		}
		at++
		if i := bytes.IndexByte([]byte(`"\/bfnrt`), s.raw[at]); i >= 0 {
			r.buf = append(r.buf, "\"\\/\b\f\n\r\t"[i])
			at++
			continue
		}
		char, n := s.unicode(at)
		if n == 0 {
			s.at = at
			return nil, s.wrong("an escape in a text means nothing")
		}
		r.buf = utf8.AppendRune(r.buf, char)
		at += n
	}
	s.at = len(s.raw)
	return nil, errCut
}

// unicode reads u and four digits at raw[at], two of them for a surrogate pair, and returns how long that is; 0 when it
// is no character.
func (s *jsonScanner) unicode(at int) (char rune, n int) {
	first, ok := s.hex(at)
	if !ok {
		return 0, 0
	}
	if !utf16.IsSurrogate(first) {
		return first, 5
	}
	if at+5 < len(s.raw) && s.raw[at+5] == '\\' {
		if second, ok := s.hex(at + 6); ok {
			if char = utf16.DecodeRune(first, second); char != utf8.RuneError {
				return char, 11
			}
		}
	}
	return 0, 0
}

func (s *jsonScanner) hex(at int) (rune, bool) {
	if at+5 > len(s.raw) || s.raw[at] != 'u' {
		return 0, false
	}
	n, err := strconv.ParseUint(string(s.raw[at+1:at+5]), 16, 32)
	return rune(n), err == nil
}

// number reads the number at raw[at].
func (s *jsonScanner) number() (text []byte, exponent bool, err error) {
	start := s.at
	digits := func() bool {
		from := s.at
		for s.at < len(s.raw) && s.raw[s.at] >= '0' && s.raw[s.at] <= '9' {
			s.at++
		}
		return s.at > from
	}
	if s.peek() == '-' {
		s.at++
	}
	if s.peek() == '0' {
		s.at++
	} else if !digits() {
		return nil, false, s.wrong("a value is expected")
	}
	if s.peek() == '.' {
		if s.at++; !digits() {
			return nil, false, s.wrong("digits are expected behind the point")
		}
	}
	if c := s.peek(); c == 'e' || c == 'E' {
		exponent = true
		if s.at++; s.peek() == '+' || s.peek() == '-' {
			s.at++
		}
		if !digits() {
			return nil, false, s.wrong("digits are expected in the exponent")
		}
	}
	return s.raw[start:s.at:s.at], exponent, nil
}

var jsonWords = []struct {
	word, text string
	kind       Stored
}{{"null", "", StoredBlank}, {"true", "true", StoredTruth}, {"false", "false", StoredTruth}}

// scalar reads the value at raw[at] that is no object. An array stays as it is written, without the blanks around it.
func (s *jsonScanner) scalar(r *Record) ([]byte, Stored, error) {
	switch c := s.peek(); c {
	case '"':
		text, err := s.text(r)
		if len(text) == 0 {
			return nil, StoredBlank, err
		}
		return text, StoredText, err
	case '[':
		start := s.at
		if err := s.value(0); err != nil {
			return nil, 0, err
		}
		return s.raw[start:s.at:s.at], StoredText, nil
	case 'n', 't', 'f':
		for _, w := range jsonWords {
			if bytes.HasPrefix(s.raw[s.at:], []byte(w.word)) {
				s.at += len(w.word)
				return []byte(w.text), w.kind, nil
			}
		}
		return nil, 0, s.wrong("a value is expected")
	}
	text, exponent, err := s.number()
	if err == nil && exponent {
		text, err = plainNumber(text)
	}
	return text, StoredNumber, err
}

// plainNumber writes a number with an exponent without it.
func plainNumber(text []byte) ([]byte, error) {
	const most = 400 // digits
	d, _, err := apd.NewFromString(string(text))
	if err != nil || d.Exponent > most || d.Exponent < -most {
		return nil, fmt.Errorf("the number %s is too large or too small", text)
	}
	return []byte(d.Text('f')), nil
}

// JSONList returns the elements of a list, written as JSON: texts without quotes, others as they are written, null as
// nothing; not ok when it is no list.
func JSONList(list []byte) (all [][]byte, ok bool) {
	s := &jsonScanner{raw: list}
	if s.blanks(); s.peek() != '[' {
		return nil, false
	}
	s.at++
	for first := true; ; first = false {
		if s.blanks(); first && s.peek() == ']' {
			return nil, true
		}
		start := s.at
		var text []byte
		var err error
		if s.peek() == '{' {
			err = s.value(1)
			text = list[start:s.at]
		} else {
			text, _, err = s.scalar(&Record{})
		}
		if err != nil {
			return nil, false
		}
		all = append(all, text)
		s.blanks()
		c := s.peek()
		if s.at++; c == ']' {
			return all, true
		} else if c != ',' {
			return nil, false
		}
	}
}

// value passes over the value at raw[at], of any kind.
func (s *jsonScanner) value(depth int) error {
	if depth > deepest {
		return errors.New("it is nested too deeply")
	}
	s.blanks()
	open := s.peek()
	if open != '{' && open != '[' {
		_, _, err := s.scalar(&Record{})
		return err
	}
	closing := open + 2 // } and ] stand two behind { and [
	s.at++
	for first := true; ; first = false {
		s.blanks()
		if first && s.peek() == closing {
			break
		}
		if open == '{' {
			if s.peek() != '"' {
				return s.wrong("the name of a member is expected")
			}
			if _, err := s.text(&Record{}); err != nil {
				return err
			}
			if s.blanks(); s.peek() != ':' {
				return s.wrong("a colon is expected")
			}
			s.at++
		}
		if err := s.value(depth + 1); err != nil {
			return err
		}
		s.blanks()
		if c := s.peek(); c == closing {
			break
		} else if c != ',' {
			return s.wrong("a comma or the end is expected")
		}
		s.at++
	}
	s.at++
	return nil
}

// arrays tells of each member of the object at raw[at], and of objects in it, that holds an array of objects: its name,
// and where its first element could be.
func (s *jsonScanner) arrays(prefix string, found func(name string, at int)) {
	s.blanks()
	if s.peek() != '{' {
		return
	}
	s.at++
	for {
		s.blanks()
		if s.peek() != '"' {
			return
		}
		key, err := s.text(&Record{})
		if err != nil {
			return
		}
		name := prefix + string(key)
		if s.blanks(); s.peek() != ':' {
			return
		}
		s.at++
		s.blanks()
		start := s.at
		if s.peek() == '[' {
			s.at++
			if s.blanks(); s.peek() == '{' {
				found(name, start+1)
			}
			s.at = start
		}
		if s.peek() == '{' {
			s.arrays(name+".", found)
		} else if s.value(0) != nil {
			return
		}
		s.blanks()
		if s.peek() != ',' {
			s.at++
			return
		}
		s.at++
	}
}
