package source

import (
	"bytes"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/transform"

	"ladle/internal/core/source/charset"
)

const (
	utf8Name  = charset.UTF8
	lookedAt  = 64 << 10 // bytes from the first one that isn't ASCII by which an encoding is judged
	byteOrder = "\ufeff"
	escape    = 0x1b
)

// decoder reads bytes in any encoding as UTF-8. Unless the encoding is said, it is found: by a byte-order mark, by
// the NULs of UTF-16, or by what stands from the first byte on that isn't ASCII, however late that comes.
type decoder struct {
	from    io.Reader
	is      Setting // while it is empty, all was ASCII
	unclear *UnclearEncoding
	handed  int64  // the bytes that were ASCII
	begun   []byte // the last line of these so far
	escaped bool   // an escape stood there that switches to nothing
	tail    []byte
	err     error // of from, behind tail
}

// decode reads from with the encoding of that name, or with the one that is found when name is "".
func decode(from io.Reader, name string) (*decoder, error) {
	d := &decoder{from: from}
	if name != "" {
		e, err := charset.Named(name)
		if err != nil {
			return nil, err
		}
		d.use(Setting{Value: name, Confidence: 1, Given: true}, e)
		return d, nil
	}
	head := make([]byte, 4096)
	n, err := io.ReadFull(from, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	d.from = io.MultiReader(bytes.NewReader(head[:n]), from)
	if name, sure := wide(head[:n]); name != "" {
		e, err := charset.Named(name)
		if err != nil {
			return nil, err
		}
		d.use(Setting{Value: name, Confidence: sure}, e)
	}
	return d, nil
}

// wide tells the encodings that show at the start of a file: those with a mark, and those of two bytes a character.
func wide(head []byte) (name string, sure float64) {
	switch {
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		return utf8Name, 1
	case bytes.HasPrefix(head, []byte{0xff, 0xfe, 0, 0}):
		return "UTF-32LE", 1
	case bytes.HasPrefix(head, []byte{0, 0, 0xfe, 0xff}):
		return "UTF-32BE", 1
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return "UTF-16LE", 1
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return "UTF-16BE", 1
	}
	var nul [2]int
	for i, b := range head {
		if b == 0 {
			nul[i%2]++
		}
	}
	const many = 4 // in text of a Latin script nearly each second byte is NUL
	switch n := len(head); {
	case nul[1] > n/many && nul[0]*20 < nul[1]:
		return "UTF-16LE", certainly
	case nul[0] > n/many && nul[1]*20 < nul[0]:
		return "UTF-16BE", certainly
	}
	return "", 0
}

// use reads on with an encoding.
func (d *decoder) use(is Setting, e encoding.Encoding) {
	d.is = is
	if e == encoding.Nop {
		d.from = withoutMark(d.from)
		return
	}
	d.from = withoutMark(transform.NewReader(d.from, e.NewDecoder()))
}

// foreign reports whether what is read differs from the bytes of the file.
func (d *decoder) foreign() bool { return d.is.Value != "" && !strings.EqualFold(d.is.Value, utf8Name) }

// Read returns the text.
func (d *decoder) Read(b []byte) (int, error) {
	if d.is.Value != "" {
		return d.from.Read(b)
	}
	if len(d.tail) > 0 {
		d.judge()
		return d.from.Read(b)
	}
	n, err := d.from.Read(b)
	ascii := asciiPrefix(b[:n])
	if at := bytes.IndexByte(b[:ascii], escape); at >= 0 && !d.escaped {
		ascii = at
	}
	d.passed(b[:ascii])
	if ascii == n {
		return n, err
	}
	d.tail, d.err = bytes.Clone(b[ascii:n]), err
	if ascii > 0 {
		return ascii, nil
	}
	d.judge()
	return d.from.Read(b)
}

// passed notes ASCII that is handed out.
func (d *decoder) passed(b []byte) {
	d.handed += int64(len(b))
	if end := lastEnd(b); end > 0 {
		d.begun, b = d.begun[:0], b[end:]
	}
	d.begun = append(d.begun, b...)
	d.begun = d.begun[max(0, len(d.begun)-longestBegun):]
}

// longestBegun is how many bytes before the first one that isn't ASCII are looked at, at most.
const longestBegun = 1 << 10

// asciiPrefix is the length of the part of b before the first byte that isn't ASCII.
func asciiPrefix(b []byte) int {
	rest := b
	for len(rest) >= 64 {
		x := (*[64]byte)(rest)
		if (eight(x[0:8])|eight(x[8:16])|eight(x[16:24])|eight(x[24:32])|
			eight(x[32:40])|eight(x[40:48])|eight(x[48:56])|eight(x[56:64]))&highs != 0 {
			break
		}
		rest = rest[64:]
	}
	for len(rest) >= 8 && eight(rest)&highs == 0 {
		rest = rest[8:]
	}
	for len(rest) > 0 && rest[0] < utf8.RuneSelf {
		rest = rest[1:]
	}
	return len(b) - len(rest)
}

// judge finds the encoding by what starts with tail.
func (d *decoder) judge() {
	if d.err == nil {
		more := make([]byte, lookedAt)
		n, err := io.ReadFull(d.from, more)
		d.tail = append(d.tail, more[:n]...)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			d.err = err
		}
	}
	rest := []io.Reader{bytes.NewReader(d.tail)}
	if d.err != nil {
		rest = append(rest, failingReader{d.err})
	}
	d.from = io.MultiReader(append(rest, d.from)...)
	switch {
	case d.tail[0] == escape && !switches(d.tail):
		d.escaped, d.tail, d.err = true, nil, nil
	case d.tail[0] == escape:
		d.use(Setting{Value: "ISO-2022-JP", Confidence: certainly}, japanese.ISO2022JP)
	default:
		d.find(len(d.tail) > lookedAt)
	}
}

// switches reports whether a text starts with an escape sequence of ISO-2022-JP (RFC 1468).
func switches(text []byte) bool {
	for _, s := range []string{"\x1b$B", "\x1b$@", "\x1b(J"} {
		if bytes.HasPrefix(text, []byte(s)) {
			return true
		}
	}
	return false
}

// find finds the encoding by tail, which starts with a byte that isn't ASCII; more of the file follows when cut.
func (d *decoder) find(cut bool) {
	text := d.tail
	if end := bytes.LastIndexByte(text, '\n'); cut && end > 0 {
		text = text[:end]
	}
	good, bad := sequences(text)
	const share = 3 // of bytes that aren't valid UTF-8 to sequences that are, where both stand in one file
	if good > fewSequences && bad <= share*good {
		d.use(Setting{Value: utf8Name, Confidence: 1 - float64(bad)/float64(good+bad)}, encoding.Nop)
		return
	}
	text = slices.Concat(d.begun, text)
	readings, sure := charset.Judge(text)
	if good > 0 && seemsUTF8(readings, good, bad == 0) {
		d.use(Setting{Value: utf8Name, Confidence: 1 - float64(bad)/float64(good+bad)}, encoding.Nop)
		return
	}
	is := Setting{Value: readings[0].Name, Confidence: certainly}
	if !sure || readings[0].Name == utf8Name {
		is.Confidence = unsure
		d.unclear = newUnclear(text, readings)
	}
	d.use(is, readings[0].Encoding)
}

// fewSequences is a number of characters that could be valid UTF-8 by chance, although they are in another encoding.
const fewSequences = 12

// seemsUTF8 reports whether a text with few characters outside of ASCII is UTF-8: when it is valid, unless there are
// several and another reading is much likelier; when it isn't, only if it is likelier by far than any other.
func seemsUTF8(readings []charset.Reading, characters int, valid bool) bool {
	const far, farther = 8, 14 // between the logarithms of two likelihoods
	best := 0
	if readings[0].Name == utf8Name {
		best = 1
	}
	at := slices.IndexFunc(readings, func(r charset.Reading) bool { return r.Name == utf8Name })
	lead := readings[at].Score - readings[best].Score
	if valid {
		return characters == 1 || lead > -farther
	}
	return lead > far
}

// Confidences of what was found.
const (
	certainly = 0.99
	unsure    = 0.5
)

// failingReader returns an error.
type failingReader struct{ err error }

func (f failingReader) Read([]byte) (int, error) { return 0, f.err }

// withoutMark reads r without the byte-order mark at its start.
func withoutMark(r io.Reader) io.Reader {
	return &markSkipper{r: r}
}

type markSkipper struct {
	r       io.Reader
	started bool
}

func (u *markSkipper) Read(b []byte) (int, error) {
	if u.started {
		return u.r.Read(b)
	}
	u.started = true
	head := make([]byte, len(byteOrder))
	n, err := io.ReadFull(u.r, head)
	head = bytes.TrimPrefix(head[:n], []byte(byteOrder))
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil // it comes again
	}
	rest := io.Reader(bytes.NewReader(head))
	if err != nil {
		rest = io.MultiReader(rest, failingReader{err})
	}
	u.r = io.MultiReader(rest, u.r)
	return u.r.Read(b)
}

// sequences counts the characters of several bytes in text that are valid UTF-8, and the bytes that are not. What
// the end of text cuts counts as neither.
func sequences(text []byte) (good, bad int) {
	for len(text) > 0 {
		c, n := utf8.DecodeRune(text)
		switch {
		case c != utf8.RuneError || n > 1:
			if n > 1 {
				good++
			}
		case utf8.FullRune(text):
			bad++
		}
		text = text[n:]
	}
	return good, bad
}
