package source

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/japanese"
	encodingunicode "golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"
	"golang.org/x/text/transform"
)

const (
	utf8Name     = "UTF-8"
	lookedAt     = 64 << 10 // bytes from the first one that isn't ASCII by which an encoding is judged
	byteOrder    = "\ufeff"
	sureEncoding = 0.99
)

// decoder reads bytes in any encoding as UTF-8. Unless the encoding is said, it is found: by a byte-order mark, by
// the NULs of UTF-16, or by what stands from the first byte on that isn't ASCII, however late that comes.
type decoder struct {
	from io.Reader
	is   Setting // while it is empty, all was ASCII
	tail []byte
	err  error // of from, behind tail
}

// decode reads from with the encoding of that name, or with the one that is found when name is "".
func decode(from io.Reader, name string) (*decoder, error) {
	d := &decoder{from: from}
	if name != "" {
		e, err := named(name)
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
		e, err := named(name)
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
		return "UTF-16LE", 0.9
	case nul[0] > n/many && nul[1]*20 < nul[0]:
		return "UTF-16BE", 0.9
	}
	return "", 0
}

// named is the encoding with a name of the IANA registry.
func named(name string) (encoding.Encoding, error) {
	switch strings.ToUpper(name) {
	case utf8Name, "UTF8":
		return encoding.Nop, nil
	case "UTF-16LE":
		return encodingunicode.UTF16(encodingunicode.LittleEndian, encodingunicode.IgnoreBOM), nil
	case "UTF-16BE":
		return encodingunicode.UTF16(encodingunicode.BigEndian, encodingunicode.IgnoreBOM), nil
	case "UTF-16":
		return encodingunicode.UTF16(encodingunicode.LittleEndian, encodingunicode.UseBOM), nil
	case "UTF-32LE":
		return utf32.UTF32(utf32.LittleEndian, utf32.IgnoreBOM), nil
	case "UTF-32BE":
		return utf32.UTF32(utf32.BigEndian, utf32.IgnoreBOM), nil
	}
	e, err := ianaindex.IANA.Encoding(name)
	if err != nil || e == nil {
		return nil, fmt.Errorf("there is no encoding %q", name)
	}
	return e, nil
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

// asciiPrefix is the length of the part of b before the first byte that isn't ASCII.
func asciiPrefix(b []byte) int {
	i := 0
	for ; i+32 <= len(b); i += 32 {
		block, word := (*[32]byte)(b[i:]), binary.LittleEndian.Uint64
		if (word(block[:])|word(block[8:])|word(block[16:])|word(block[24:]))&highs != 0 {
			break
		}
	}
	for ; i+8 <= len(b) && binary.LittleEndian.Uint64(b[i:])&highs == 0; i += 8 {
	}
	for ; i < len(b) && b[i] < utf8.RuneSelf; i++ {
	}
	return i
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
	is, e := judgeEncoding(d.tail)
	d.use(is, e)
}

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

// alphabet is an encoding of one byte a character, with the characters outside of ASCII that are met in its languages.
type alphabet struct {
	name   string
	set    encoding.Encoding
	often  string // letters in lower case that are frequent
	rarely string // others, and marks
	runs   bool   // its letters stand beside each other
}

const (
	quotation = "–—‘’“”„…€£§°«»"

	western   = "éäöüèàçßåøæñóíáúãêôâîœ" + quotation
	westerns  = "õûïëùìòÿýžš½²³·ºª´®©±µ"
	central   = "ąęłśżćńóźáíéěščřžýůúőűöü" + quotation
	centrals  = "ďťňŕĺľôäëâîăşţđç˝´"
	cyrillic  = "оеаинтсрвлкмдпуя"
	cyrillics = "бгжзйфхцчшщъыьэюёіїєґ№" + quotation
	greek     = "αοιετσνηυρπκμλςίό"
	greeks    = "βγδζθξφχψωάέήύώϊϋ" + quotation
	turkish   = "çğıöşüâîû" + quotation
	baltic    = "ąčęėįšųūžāēģīķļņ" + quotation
	baltics   = "õäöü"
	hebrew    = "אבגדהוזחטיכלמנפצקרשתםן"
	hebrews   = "ךסעףץ₪"
	arabic    = "ابتثجحخدرسعفقكلمنهويةش"
	arabics   = "ذزصضطظغىءآأؤإئ،؛؟"
)

// alphabets stand in the order in which they are preferred where they read a text alike.
var alphabets = []alphabet{
	{"windows-1252", charmap.Windows1252, western, westerns, false},
	{"ISO-8859-15", charmap.ISO8859_15, western, westerns, false},
	{"windows-1250", charmap.Windows1250, central, centrals, false},
	{"ISO-8859-2", charmap.ISO8859_2, central, centrals, false},
	{"windows-1254", charmap.Windows1254, turkish, "", false},
	{"windows-1257", charmap.Windows1257, baltic, baltics, false},
	{"windows-1251", charmap.Windows1251, cyrillic, cyrillics, true},
	{"ISO-8859-5", charmap.ISO8859_5, cyrillic, cyrillics, true},
	{"KOI8-R", charmap.KOI8R, cyrillic, cyrillics, true},
	{"windows-1253", charmap.Windows1253, greek, greeks, true},
	{"ISO-8859-7", charmap.ISO8859_7, greek, greeks, true},
	{"windows-1255", charmap.Windows1255, hebrew, hebrews, true},
	{"windows-1256", charmap.Windows1256, arabic, arabics, true},
}

// judgeEncoding finds the encoding of a text that starts with a byte that isn't ASCII.
func judgeEncoding(text []byte) (Setting, encoding.Encoding) {
	good, bad := sequences(text)
	if good > 0 && 2*bad <= good {
		return Setting{Value: utf8Name, Confidence: 1 - float64(bad)/float64(good+bad)}, encoding.Nop
	}
	if share, n := shiftJIS(text); share > 0.6 {
		const enough = 6 // characters
		few := min(1, float64(n)/enough)
		return Setting{Value: "Shift_JIS", Confidence: share * few * few}, japanese.ShiftJIS
	}
	type reading struct {
		alphabet
		score float64
		text  string
	}
	var all []reading
	for i, a := range alphabets {
		read, err := a.set.NewDecoder().Bytes(text)
		if err != nil || slices.ContainsFunc(all, func(r reading) bool { return r.text == string(read) }) {
			continue
		}
		score := a.score(string(read))
		if i == 0 {
			score += commonest
		}
		all = append(all, reading{a, score, string(read)})
	}
	slices.SortStableFunc(all, func(a, b reading) int { return cmp.Compare(b.score, a.score) })
	best, sure := all[0], sureEncoding
	if len(all) > 1 {
		sure = min(sure, best.score-all[1].score)
	}
	return Setting{Value: best.name, Confidence: math.Round(100*max(0.01, min(sure, best.score))) / 100}, best.set
}

// commonest is what speaks for the first of alphabets besides its letters.
const commonest = 0.1

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

// shiftJIS is the share of characters that start with a byte that is usual in Japanese text and rare in others, among
// all that aren't ASCII; 0 when text isn't valid (JIS X 0208, appendix 1).
func shiftJIS(text []byte) (share float64, all int) {
	usual := 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c < 0x80:
			continue
		case c >= 0xa1 && c <= 0xdf: // half-width katakana
			all++
		case c >= 0x81 && c <= 0x9f || c >= 0xe0 && c <= 0xfc:
			if i+1 == len(text) {
				break
			}
			if next := text[i+1]; next < 0x40 || next == 0x7f || next > 0xfc {
				return 0, 0
			}
			all++
			if c <= 0x84 || c >= 0x88 && c <= 0x9f {
				usual++
			}
			i++
		default:
			return 0, 0
		}
	}
	return float64(usual) / float64(max(all, 1)), all
}

// score is how usual the characters outside of ASCII are in text, from -1 to 1.
func (a alphabet) score(text string) float64 {
	sum, all := 0.0, 0
	var before rune
	for _, c := range text {
		if c >= utf8.RuneSelf {
			all++
			switch {
			case c == utf8.RuneError, unicode.IsControl(c):
				sum--
			case strings.ContainsRune(a.often, unicode.ToLower(c)):
				sum++
			case strings.ContainsRune(a.rarely, unicode.ToLower(c)):
				sum += 0.6
			case !unicode.IsLetter(c):
				sum += 0.2
			}
			switch {
			case unicode.IsUpper(c) && unicode.IsLower(before):
				sum--
			case a.runs && unicode.IsUpper(c) && unicode.IsUpper(before):
				sum -= 0.4
			}
			beside := before >= utf8.RuneSelf && unicode.IsLetter(before) && unicode.IsLetter(c)
			if beside != a.runs && (beside || unicode.IsLetter(before) && before < utf8.RuneSelf) {
				sum -= 0.5
			}
		}
		before = c
	}
	return sum / float64(max(all, 1))
}
