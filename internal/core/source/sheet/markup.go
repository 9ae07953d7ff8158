package sheet

import (
	"bytes"
	"errors"
	"io"
	"strconv"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// tagReader walks over the tagReader of markup (XML 1.0) that is in memory as a whole.
type tagReader struct {
	b     []byte
	at    int
	text  []byte // what stood before the tag
	name  []byte // without its prefix
	close bool   // it is an end tag
	empty bool   // it is an empty-element tag; known when attr gave false
}

// next goes to the next tag; false at the end. Comments and the like are passed over; the text of a CDATA section is
// given as a tag without a name, with text that needs no unescaping.
func (t *tagReader) next() bool {
	for {
		n := bytes.IndexByte(t.b[t.at:], '<')
		if n < 0 || t.at+n+1 >= len(t.b) {
			t.at = len(t.b)
			return false
		}
		t.text = t.b[t.at : t.at+n]
		t.at += n + 1
		t.close, t.empty = false, false
		switch t.b[t.at] {
		case '/':
			t.close = true
			t.at++
		case '!', '?':
			if bytes.HasPrefix(t.b[t.at:], []byte("![CDATA[")) {
				start := t.at + len("![CDATA[")
				t.skipTo("]]>")
				t.text, t.name = t.b[start:max(start, t.at-len("]]>"))], nil
				t.empty = true
				return true
			}
			if bytes.HasPrefix(t.b[t.at:], []byte("!--")) {
				t.skipTo("-->")
			} else {
				t.skipTo(">")
			}
			continue
		}
		start := t.at
		for at := start; at < len(t.b); at++ {
			c := t.b[at]
			if c > ':' && c != '>' {
				continue
			}
			if c == ':' {
				start = at + 1
			} else if c <= ' ' || c == '>' || c == '/' {
				t.name, t.at = t.b[start:at], at
				return true
			}
		}
		t.at = len(t.b)
		return false
	}
}

func (t *tagReader) skipTo(mark string) {
	n := bytes.Index(t.b[t.at:], []byte(mark))
	if n < 0 {
		t.at = len(t.b)
		return
	}
	t.at += n + len(mark)
}

// attr returns the next attribute of the tag, its name without a prefix; false behind the last one.
func (t *tagReader) attr() (name, value []byte, more bool) {
	if t.name == nil {
		return nil, nil, false
	}
	b, at := t.b, t.at
	for at < len(b) && (b[at] <= ' ' || b[at] == '/') {
		t.empty = t.empty || b[at] == '/'
		at++
	}
	if at >= len(b) || b[at] == '>' {
		t.at = min(at+1, len(b))
		return nil, nil, false
	}
	start := at
	for at < len(b) && b[at] != '=' && b[at] != '>' {
		if b[at] == ':' {
			start = at + 1
		}
		at++
	}
	if at >= len(b) || b[at] == '>' { // no value: this is no markup
		t.at = min(at+1, len(b))
		return nil, nil, false
	}
	name = b[start:at]
	if n := len(name); n > 0 && name[n-1] <= ' ' {
		name = bytes.TrimSpace(name)
	}
	for at++; at < len(b) && b[at] != '"' && b[at] != '\''; at++ {
	}
	if at+1 >= len(b) {
		t.at = len(b)
		return nil, nil, false
	}
	quote := b[at]
	from := at + 1
	for at = from; at < len(b) && b[at] != quote; at++ {
		if at == from+16 { // a long one
			n := bytes.IndexByte(b[at:], quote)
			if n < 0 {
				n = len(b) - at
			}
			at += n
			break
		}
	}
	if at >= len(b) {
		t.at = len(b)
		return nil, nil, false
	}
	t.at = at + 1
	return name, b[from:at], true
}

// end passes over the attributes of the tag.
func (t *tagReader) end() {
	for {
		if _, _, more := t.attr(); !more {
			return
		}
	}
}

// skip passes over the element whose start tag was read, its attributes included.
func (t *tagReader) skip() {
	t.end()
	for depth := 1; depth > 0 && !t.empty || depth > 1; {
		if !t.next() {
			return
		}
		if t.name == nil {
			continue
		}
		if t.close {
			depth--
			t.end()
			t.empty = false
			continue
		}
		t.end()
		if !t.empty {
			depth++
		}
		t.empty = false
	}
}

// streamWindow reads markup as a stream: b[at:] has been read and not been used.
type streamWindow struct {
	r     io.Reader
	b     []byte
	at    int
	ended bool
}

const maxTag = 8 << 20 // bytes of markup that must be held at once

func newWindow(r io.Reader) *streamWindow { return &streamWindow{r: asUTF8(r)} }

// asUTF8 reads markup in UTF-16 (which starts with a mark) as UTF-8.
func asUTF8(r io.Reader) io.Reader {
	head := make([]byte, 2)
	n, _ := io.ReadFull(r, head)
	all := io.MultiReader(bytes.NewReader(head[:n]), r)
	if n == 2 && (head[0] == 0xff && head[1] == 0xfe || head[0] == 0xfe && head[1] == 0xff) {
		return transform.NewReader(all, unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder())
	}
	return all
}

// more reads n more bytes, and gives up when too much would be held.
func (w *streamWindow) more(n int) error {
	if w.ended {
		return io.ErrUnexpectedEOF
	}
	held := len(w.b) - w.at
	if held > maxTag {
		return Oddity{"a single row or tag of its XML is larger than 8 MB", "check that this is the right file"}
	}
	buf := make([]byte, held+n)
	copy(buf, w.b[w.at:])
	got, err := io.ReadFull(w.r, buf[held:])
	w.b, w.at = buf[:held+got], 0
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		w.ended = true
		err = nil
	}
	return err
}

// tag goes to the next tag and returns it whole, in a walk that holds nothing but it; io.EOF at the end.
func (w *streamWindow) tag() (*tagReader, error) {
	for {
		rest := w.b[w.at:]
		start := bytes.IndexByte(rest, '<')
		if start < 0 {
			w.at = len(w.b)
		} else if end := tagEnd(rest[start:]); end > 0 {
			t := &tagReader{b: rest[start : start+end]}
			w.at += start + end
			if bytes.HasPrefix(t.b, []byte("<!DOCTYPE")) {
				return nil, Oddity{"its XML declares a document type, which no workbook does",
					"check where it comes from"}
			}
			if t.next() && t.name != nil {
				return t, nil
			}
			continue
		}
		if w.ended {
			return nil, io.EOF
		}
		if err := w.more(blockSize); err != nil {
			return nil, err
		}
	}
}

// tagEnd is the length of the tag, comment or section with which b starts; 0 when it is not whole.
func tagEnd(b []byte) int {
	for _, section := range [][2]string{{"<!--", "-->"}, {"<![CDATA[", "]]>"}} {
		if bytes.HasPrefix(b, []byte(section[0])) {
			if n := bytes.Index(b, []byte(section[1])); n >= 0 {
				return n + len(section[1])
			}
			return 0
		}
	}
	if len(b) < len("<![CDATA[") && bytes.HasPrefix(b, []byte("<!")) {
		return 0
	}
	var quote byte
	for i, c := range b {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '>':
			return i + 1
		}
	}
	return 0
}

// rows returns the next block of whole elements named row; ended tells that behind them the end tag of their parent
// follows. The names have the prefix.
func (w *streamWindow) rows(prefix, row, parent string) (raw []byte, ended bool, err error) {
	last := []byte("</" + prefix + parent)
	for {
		rest := w.b[w.at:]
		if at := indexTag(rest, last); at >= 0 || len(rest) >= blockSize {
			stop, ended := cutRows(rest, at, prefix, row, parent)
			w.at += stop
			if stop > 0 || ended {
				return withoutSections(rest[:stop:stop]), ended, nil
			}
		}
		if err := w.more(blockSize); err != nil {
			return nil, false, truncated(err)
		}
	}
}

// indexTag is where a tag that starts with mark stands in b, and its name ends there; or -1.
func indexTag(b, mark []byte) int {
	for from := 0; ; {
		at := indexFrom(b, from, mark)
		if at < 0 || at+len(mark) >= len(b) {
			return -1
		}
		if c := b[at+len(mark)]; c == '>' || c <= ' ' {
			return at
		}
		from = at + len(mark)
	}
}

// cutRows returns the length of the whole rows at the start of b, and whether they are the last; last is where the end
// tag of their parent seems to stand, or -1. Where there are comments or CDATA sections, or only empty rows, it walks
// over the tags.
func cutRows(b []byte, last int, prefix, row, parent string) (stop int, ended bool) {
	if !hasSections(b) {
		if last >= 0 {
			return last, true
		}
		mark := "</" + prefix + row + ">"
		if stop = bytes.LastIndex(b, []byte(mark)); stop >= 0 {
			return stop + len(mark), false
		}
	}
	stop = 0
	for t := (&tagReader{b: b}); t.next(); {
		if string(t.name) == parent && t.close {
			return stop, true
		}
		if string(t.name) != row {
			continue
		}
		closing := t.close
		t.end()
		if (closing || t.empty) && b[t.at-1] == '>' {
			stop = t.at
		}
	}
	return stop, false
}

func indexFrom(b []byte, from int, mark []byte) int {
	n := bytes.Index(b[from:], mark)
	if n < 0 {
		return -1
	}
	return from + n
}

// truncated says that the markup ended too early.
func truncated(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return errTruncated
	}
	return err
}

// hasSections reports whether there are comments, CDATA sections or the like in b.
func hasSections(b []byte) bool {
	for at := 0; ; at++ {
		n := bytes.IndexByte(b[at:], '!')
		if n < 0 {
			return false
		}
		if at += n; at > 0 && b[at-1] == '<' {
			return true
		}
	}
}

// unescape appends text with its character references resolved and its line ends made LF (XML 1.0, 2.11, 4.1).
func unescape(to, text []byte) []byte {
	for {
		n := bytes.IndexByte(text, '&')
		before := text
		if n >= 0 {
			before = text[:n]
		}
		if r := bytes.IndexByte(before, '\r'); r >= 0 {
			n = r
		}
		if n < 0 {
			return append(to, text...)
		}
		to = append(to, text[:n]...)
		text = text[n:]
		if text[0] == '\r' {
			to = append(to, '\n')
			text = bytes.TrimPrefix(text[1:], []byte{'\n'})
			continue
		}
		end := bytes.IndexByte(text, ';')
		c, ok := rune(0), false
		if end > 0 {
			c, ok = entity(text[1:end])
		}
		if !ok {
			to, text = append(to, '&'), text[1:]
			continue
		}
		to, text = utf8.AppendRune(to, c), text[end+1:]
	}
}

func entity(name []byte) (rune, bool) {
	switch string(name) {
	case "amp":
		return '&', true
	case "lt":
		return '<', true
	case "gt":
		return '>', true
	case "quot":
		return '"', true
	case "apos":
		return '\'', true
	}
	if len(name) < 2 || name[0] != '#' {
		return 0, false
	}
	digits, base := string(name[1:]), 10
	if digits[0] == 'x' {
		digits, base = digits[1:], 16
	}
	n, err := strconv.ParseUint(digits, base, 32)
	return rune(n), err == nil && n <= utf8.MaxRune
}

// plain reports whether text stands for itself.
func plain(text []byte) bool {
	return bytes.IndexByte(text, '&') < 0 && bytes.IndexByte(text, '\r') < 0
}

// unescapeHex resolves _xHHHH_ (ECMA-376 part 1, 22.9.2.19, ST_Xstring) in b[from:] in place.
func unescapeHex(b []byte, from int) []byte {
	text := b[from:]
	if !bytes.Contains(text, []byte("_x")) {
		return b
	}
	out := b[:from]
	for i := 0; i < len(text); i++ {
		if i+7 <= len(text) && text[i] == '_' && text[i+1] == 'x' && text[i+6] == '_' {
			if n, err := strconv.ParseUint(string(text[i+2:i+6]), 16, 16); err == nil {
				out = utf8.AppendRune(out, rune(n)) // never longer than what it stands for
				i += 6
				continue
			}
		}
		out = append(out, text[i])
	}
	return out
}
