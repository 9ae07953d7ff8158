package source

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"unicode/utf8"
)

// Dialect is how fields stand in a line of text. Fields are parted by Delimiter; a field that starts with Quote goes
// to the next single one, and two of them inside stand for one (RFC 4180). Lines end with CRLF, LF or CR.
type Dialect struct {
	Delimiter byte
	Quote     byte // 0 for none
}

// lines reads records from text.
type lines struct {
	Dialect
	raw    []byte
	at     int                 // where the next record starts
	line   int64               // the line on which it does
	width  int                 // the number of columns
	doubts func([]byte) string // why bytes can't be trusted, or ""; nil when that is known not to be

	block   int    // where the block of 64 bytes starts whose marks are in mask
	mask    uint64 // marks not looked at yet
	returns bool   // there are carriage returns
}

// What can be wrong with a quote.
const (
	strayQuote = "a quote stands inside a field that doesn't start with one"
	textBehind = "text follows the closing quote of a field"
)

func newLines(raw []byte, d Dialect, line int64, width int) *lines {
	return &lines{Dialect: d, raw: raw, line: line, width: width, block: -64, returns: bytes.IndexByte(raw, '\r') >= 0}
}

func (l *lines) next(c *Chunk, r *Record) bool {
	if l.at == 0 {
		l.returns = bytes.IndexByte(l.raw, '\r') >= 0
		if l.doubts != nil && l.doubts(l.raw) == "" {
			l.doubts = nil
		}
	}
	for l.at < len(l.raw) {
		start := l.at
		r.Fields, r.Problem, r.room = r.Fields[:0], "", r.room[:0]
		r.Position = l.line
		end, _ := l.read(r)
		r.Raw = l.raw[start:end]
		if l.width != 1 && len(r.Raw) == len(r.Fields)-1 { // nothing but delimiters
			c.Counts.Blank++
			continue
		}
		l.judge(r)
		return true
	}
	return false
}

// judge finds what is wrong with the record as a whole. Blank fields behind the last column are none.
func (l *lines) judge(r *Record) {
	if l.doubts != nil && r.Problem == "" {
		r.Problem = l.doubts(r.Raw)
	}
	for len(r.Fields) > l.width && len(r.Fields[len(r.Fields)-1]) == 0 {
		r.Fields = r.Fields[:len(r.Fields)-1]
	}
}

// read reads the record that starts at l.at and gives its end, without the end of the line. open is where the quote
// stands that is never closed, or -1.
func (l *lines) read(r *Record) (end, open int) {
	field := l.at
	for {
		at := l.mark()
		if at < 0 {
			if field <= len(l.raw) {
				r.Fields = append(r.Fields, l.raw[field:])
			}
			l.at = len(l.raw)
			return len(l.raw), -1
		}
		switch l.raw[at] {
		case l.Delimiter:
			r.Fields = append(r.Fields, l.raw[field:at])
			field = at + 1
		case '\n', '\r':
			r.Fields = append(r.Fields, l.raw[field:at])
			l.endLine(at)
			return at, -1
		default:
			if at != field {
				r.Problem = strayQuote
				continue
			}
			content, after := l.quoted(at, r)
			if after < 0 {
				l.at = len(l.raw)
				return len(l.raw), at
			}
			l.skip(after)
			if !l.closes(after) {
				r.Problem = textBehind
				after = l.restOfField(after)
			}
			r.Fields = append(r.Fields, content)
			if after >= len(l.raw) {
				l.at = len(l.raw)
				return len(l.raw), -1
			}
			if l.raw[after] != l.Delimiter {
				l.endLine(after)
				l.skip(l.at)
				return after, -1
			}
			l.skip(after + 1)
			field = after + 1
		}
	}
}

// closes tells whether a field can end at raw[at].
func (l *lines) closes(at int) bool {
	return at == len(l.raw) || l.raw[at] == l.Delimiter || l.raw[at] == '\n' || l.raw[at] == '\r'
}

// restOfField is where the field ends that goes on at raw[at] behind its closing quote.
func (l *lines) restOfField(at int) int {
	for !l.closes(at) {
		at++
	}
	l.skip(at)
	return at
}

// endLine ends the record at raw[at], the first character of the end of its line.
func (l *lines) endLine(at int) {
	l.at = at + 1
	if l.raw[at] == '\r' && l.at < len(l.raw) && l.raw[l.at] == '\n' {
		l.at++
		l.skip(l.at)
	}
	l.line++
}

// quoted reads the field whose opening quote is raw[at], and gives the position behind the closing one; -1 when
// there is none.
func (l *lines) quoted(at int, r *Record) (field []byte, after int) {
	from, doubled := at+1, false
	at = from
	for {
		n := bytes.IndexByte(l.raw[at:], l.Quote)
		if n < 0 {
			return nil, -1
		}
		at += n + 1
		if at >= len(l.raw) || l.raw[at] != l.Quote {
			break
		}
		doubled = true
		at++
	}
	field = l.raw[from : at-1]
	l.line += countLines(field)
	if doubled {
		field = r.undouble(field, l.Quote)
	}
	return field, at
}

// undouble copies field with each doubled quote made one.
func (r *Record) undouble(field []byte, quote byte) []byte {
	start := len(r.room)
	for {
		n := bytes.IndexByte(field, quote)
		if n < 0 {
			r.room = append(r.room, field...)
			return r.room[start:len(r.room):len(r.room)]
		}
		r.room = append(r.room, field[:n+1]...)
		field = field[n+2:]
	}
}

// countLines counts the ends of lines in b.
func countLines(b []byte) int64 {
	n := bytes.Count(b, []byte{'\n'})
	if bytes.IndexByte(b, '\r') >= 0 {
		n += bytes.Count(b, []byte{'\r'}) - bytes.Count(b, []byte("\r\n"))
	}
	return int64(n)
}

// mark gives the position of the next delimiter, end of line or quote; -1 when there is none.
func (l *lines) mark() int {
	for l.mask == 0 {
		l.block += 64
		if l.block >= len(l.raw) {
			return -1
		}
		l.mask = l.marks()
	}
	at := l.block + bits.TrailingZeros64(l.mask)
	l.mask &= l.mask - 1
	return at
}

// skip passes over all marks before raw[at].
func (l *lines) skip(at int) {
	if at-l.block >= 64 {
		l.block = at &^ 63
		l.mask = 0
		if l.block >= len(l.raw) {
			return
		}
		l.mask = l.marks()
	}
	l.mask = l.mask >> (at - l.block) << (at - l.block)
}

// marks has a bit for each delimiter, end of line and quote in the block of 64 bytes at l.block.
func (l *lines) marks() (mask uint64) {
	block := l.raw[l.block:]
	var short [64]byte
	if len(block) < 64 {
		n := copy(short[:], block)
		block = short[:]
		defer func() { mask &= 1<<n - 1 }()
	}
	delimiter, quote := spread(l.Delimiter), spread('\n')
	if l.Quote != 0 {
		quote = spread(l.Quote)
	}
	for i := 0; i < 64; i += 8 {
		word := binary.LittleEndian.Uint64(block[i : i+8])
		found := zeroes(word^delimiter) | zeroes(word^quote) | zeroes(word^newline)
		if l.returns {
			found |= zeroes(word ^ carriage)
		}
		mask |= found >> 7 * gather >> 56 << i
	}
	return mask
}

const (
	lows     = 0x0101010101010101
	highs    = 0x8080808080808080
	gather   = 0x0102040810204080 // brings the lowest bits of eight bytes together in the highest byte
	newline  = '\n' * lows
	carriage = '\r' * lows
)

func spread(b byte) uint64 { return uint64(b) * lows }

// zeroes has the high bit of each byte of word that is zero.
func zeroes(word uint64) uint64 { return ^((word&^highs + ^uint64(highs)) | word | ^uint64(highs)) }

// wholeRecords gives the length of the longest run of whole records at the start of raw. With ended, raw is the
// end of the file, so its last record needs no line end. open is where a quote stands that nothing in raw closes,
// or -1.
func wholeRecords(raw []byte, d Dialect, ended bool) (length, open int) {
	first := -1
	if d.Quote != 0 {
		first = bytes.IndexByte(raw, d.Quote)
	}
	if first < 0 {
		if ended {
			return len(raw), -1
		}
		return lastEnd(raw), -1
	}
	var r Record
	at := lastEnd(raw[:first+1]) // no quote stands before it
	l := newLines(raw, d, 0, 0)
	l.at = at
	l.skip(at)
	for at < len(raw) {
		r.Fields, r.room = r.Fields[:0], r.room[:0]
		end, open := l.read(&r)
		if open >= 0 || !ended && (end == len(raw) || l.at == len(raw) && raw[end] == '\r') {
			return at, open
		}
		at = l.at
	}
	return at, -1
}

// lastEnd is the position behind the last end of a line in raw. A carriage return at the end of raw is not yet one:
// a line feed could follow.
func lastEnd(raw []byte) int {
	raw = bytes.TrimSuffix(raw, []byte{'\r'})
	end := bytes.LastIndexByte(raw, '\n')
	if end < 0 {
		end = bytes.LastIndexByte(raw, '\r')
	} else if later := bytes.LastIndexByte(raw[end:], '\r'); later >= 0 {
		end += later
	}
	return end + 1
}

// notUTF8 tells why a record of a file in UTF-8 can't be trusted.
func notUTF8(raw []byte) string {
	if utf8.Valid(raw) {
		return ""
	}
	return "it is not valid UTF-8"
}
