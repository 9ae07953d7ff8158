package source

import (
	"bytes"
	"unicode/utf8"

	"ladle/internal/core/reason"
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
	at     int                        // where the next record starts
	line   int64                      // the line on which it does
	width  int                        // the number of columns
	doubts func([]byte) *reason.Cause // why bytes can't be trusted, or nil; nil when that is known not to be

	places
	bounds []uint32 // of the last block
	quotes bool     // there may be quotes

	odd       *odd  // what the text is said to have besides; nil for most
	comments  int64 // lines that are comments, since the last record
	loose     bool  // blanks stood beside the quotes of the record
	unescaped bool  // the fields of the record aren't what stands there
	returns   bool  // there may be carriage returns without a line feed behind them
}

// What can be wrong with a record.
var (
	strayQuote = &reason.Cause{Why: reason.Why{Kind: reason.StrayQuote}}
	textBehind = &reason.Cause{Why: reason.Why{Kind: reason.AfterQuote}}
	notUnicode = reason.Fault(reason.NotCharset, "UTF-8")
)

func newLines(raw []byte, d Dialect, line int64, width int) *lines {
	return &lines{Dialect: d, raw: raw, line: line, width: width, quotes: d.Quote != 0,
		returns: bytes.IndexByte(raw, '\r') >= 0}
}

func (l *lines) next(c *Chunk, r *Record) bool {
	l.trust()
	for l.at < len(l.raw) {
		if l.odd != nil {
			l.skipComments()
			c.Counts.Comments += l.comments
			if l.comments = 0; l.at == len(l.raw) {
				return false
			}
		}
		start := l.at
		r.Position = l.line
		end, _ := l.read(r)
		r.Raw = l.raw[start:end]
		if l.width != 1 && l.isBlank(r) {
			c.Counts.Blank++
			r.Fields, r.beyond = r.Fields[:0], 0
			continue
		}
		if l.doubts != nil || len(r.Fields) != l.width {
			l.judge(r)
			if l.odd != nil && l.odd.short && len(r.Fields) < l.width && r.Problem == nil {
				c.Counts.Short++
				l.complete(r)
			}
		}
		if l.loose {
			l.loose = false
			c.Counts.Loose++
		}
		if l.unescaped {
			l.unescaped, r.Raw = false, nil
		}
		return true
	}
	return false
}

// trust looks, before the first record, whether there are doubts about the text at all.
func (l *lines) trust() {
	if l.at == 0 && l.doubts != nil && l.doubts(l.raw) == nil {
		l.doubts = nil
	}
}

// judge finds what is wrong with the record as a whole. Blank fields behind the last column are none.
func (l *lines) judge(r *Record) {
	if l.doubts != nil && r.Problem == nil {
		r.Problem = l.doubts(r.Raw)
	}
	for r.beyond == 0 && len(r.Fields) > l.width && len(r.Fields[len(r.Fields)-1]) == 0 {
		r.Fields = r.Fields[:len(r.Fields)-1]
	}
}

// isBlank reports whether a record holds nothing but delimiters.
func (l *lines) isBlank(r *Record) bool {
	if l.odd.slow() {
		return isEmpty(r.Fields)
	}
	return len(r.Raw) == len(r.Fields)+int(r.beyond)-1
}

// mostFields is how many fields of a line are kept; others are counted.
const mostFields = 1 << 16

// complete adds the blank cells that a short line doesn't have.
func (l *lines) complete(r *Record) {
	for len(r.Fields) < l.width {
		r.Fields = append(r.Fields, nil)
	}
	r.Raw = nil
}

// read reads the record that starts at l.at and returns its end, without the end of the line. open is where the quote
// stands that is never closed, or -1.
func (l *lines) read(r *Record) (end, open int) {
	if l.odd.slow() {
		return l.readOdd(r)
	}
	raw, fields, all, next := l.raw, r.Fields, l.all, l.passed // at hand, since this is what reading costs
	field := l.at
	for {
		if next == len(all) {
			if l.passed = next; !l.more() {
				r.Fields, l.at = append(fields, raw[field:]), len(raw)
				return len(raw), -1
			}
			all, next = l.all, l.passed
		}
		at := int(all[next])
		next++
		c := raw[at]
		if c == l.Delimiter {
			if len(fields) < mostFields {
				fields = append(fields, raw[field:at])
			} else {
				r.beyond++
			}
			field = at + 1
			continue
		}
		if c == '\n' {
			end = at
			if end > field && raw[end-1] == '\r' {
				end--
			}
			r.Fields, l.passed, l.at = append(fields, raw[field:end]), next, at+1
			l.line++
			return end, -1
		}
		r.Fields, l.passed = fields, next
		after, open := l.special(r, field, at)
		if open >= 0 || after < 0 {
			return -after - 1, open
		}
		fields, all, next = r.Fields, l.all, l.passed
		field = after
	}
}

// special goes on at raw[at], which is a quote or a carriage return, in the field that starts at raw[field]. It gives
// the start of the next field; or, where the record ends, the end as -1-end.
func (l *lines) special(r *Record, field, at int) (after, open int) {
	switch {
	case l.raw[at] == '\r':
		r.Fields = append(r.Fields, l.raw[field:at])
		l.endLine(at)
		return -1 - at, -1
	case at != field && len(bytes.Trim(l.raw[field:at], " \t")) > 0:
		r.Problem = strayQuote
		return field, -1
	}
	l.loose = l.loose || at != field
	content, after := l.quoted(at, r)
	if after < 0 {
		l.at = len(l.raw)
		return -1 - len(l.raw), at
	}
	if blanks := l.blanks(after); blanks > 0 && l.closes(after+blanks) {
		l.loose = true
		after += blanks
	}
	l.skip(after)
	if !l.closes(after) {
		r.Problem = textBehind
		after = l.restOfField(after)
	}
	r.Fields = append(r.Fields, content)
	switch {
	case after >= len(l.raw):
		l.at = len(l.raw)
		return -1 - len(l.raw), -1
	case l.raw[after] != l.Delimiter:
		l.endLine(after)
		l.skip(l.at)
		return -1 - after, -1
	}
	l.skip(after + 1)
	return after + 1, -1
}

// blanks counts the blanks at raw[at].
func (l *lines) blanks(at int) (n int) {
	for at+n < len(l.raw) && (l.raw[at+n] == ' ' || l.raw[at+n] == '\t' && l.Delimiter != '\t') {
		n++
	}
	return n
}

// closes reports whether a field can end at raw[at].
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

// quoted reads the field whose opening quote is raw[at], and returns the position behind the closing one; -1 when
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
	start := len(r.buf)
	for {
		n := bytes.IndexByte(field, quote)
		if n < 0 {
			r.buf = append(r.buf, field...)
			return r.buf[start:len(r.buf):len(r.buf)]
		}
		r.buf = append(r.buf, field[:n+1]...)
		field = field[n+2:]
	}
}

// countLines counts the ends of lines in b.
func countLines(b []byte) int64 {
	var e lineEndings
	return e.count(b)
}

// firstQuote is where the first quote stands in raw, or -1.
func (d Dialect) firstQuote(raw []byte) int {
	if d.Quote == 0 {
		return -1
	}
	return bytes.IndexByte(raw, d.Quote)
}

// wholeRecords returns the length of the longest run of whole records at the start of raw. With ended, raw is the
// end of the file, so its last record needs no line end. first is where the first quote stands, or -1; open is where a
// quote stands that nothing in raw closes, or -1.
func wholeRecords(raw []byte, d Dialect, o *odd, first int, ended bool) (length, open int) {
	if o.slow() {
		first = 0
	}
	if first < 0 {
		if ended {
			return len(raw), -1
		}
		return lastEnd(raw), -1
	}
	if !ended && o.isUsual() {
		if length, ok := wholeQuoted(raw, d, first); ok {
			return length, -1
		}
	}
	var r Record
	at := lastEnd(raw[:first+1]) // no quote stands before it
	if o.slow() {
		at = 0
	}
	l := newLines(raw, d, 0, 0)
	l.odd = o
	l.at = at
	l.skip(at)
	for at < len(raw) {
		if l.skipComments(); l.at == len(raw) {
			if ended {
				return len(raw), -1
			}
			return at, -1
		}
		r.Fields, r.buf = r.Fields[:0], r.buf[:0]
		end, open := l.read(&r)
		if open >= 0 || !ended && (end == len(raw) || l.at == len(raw) && raw[end] == '\r') {
			return at, open
		}
		at = l.at
	}
	return at, -1
}

// wholeQuoted is wholeRecords where all quotes stand just around fields: it goes from one quote to the next. Not ok where one
// doesn't. The last record is not whole: more of the file follows.
func wholeQuoted(raw []byte, d Dialect, first int) (length int, ok bool) {
	from, to := 0, first+1 // the last part without quotes in which a line ends, with the quote behind it
	for opens := first; ; {
		if opens > 0 && raw[opens-1] != d.Delimiter && raw[opens-1] != '\n' && raw[opens-1] != '\r' {
			return 0, false
		}
		closes := closing(raw, d.Quote, opens)
		if closes < 0 {
			break
		}
		behind := raw[closes+1:]
		between := bytes.IndexByte(behind, d.Quote)
		if between < 0 {
			between = len(behind) - 1
		}
		if part := behind[:between+1]; bytes.IndexByte(part, '\n') >= 0 || bytes.IndexByte(part, '\r') >= 0 {
			from, to = closes+1, closes+1+len(part)
		}
		if opens = closes + 1 + between; raw[opens] != d.Quote {
			break
		}
	}
	if length = lastEnd(raw[from:to]); length > 0 {
		length += from
	}
	return length, true
}

// closing is where the quote stands that closes the one at raw[opens], with more behind it; -1 for none.
func closing(raw []byte, quote byte, opens int) int {
	for at := opens + 1; ; at += 2 {
		n := bytes.IndexByte(raw[at:], quote)
		if at += n; n < 0 || at+1 == len(raw) {
			return -1
		}
		if raw[at+1] != quote {
			return at
		}
	}
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
func notUTF8(raw []byte) *reason.Cause {
	if at := asciiPrefix(raw); at == len(raw) || utf8.Valid(raw[at:]) {
		return nil
	}
	return notUnicode
}
