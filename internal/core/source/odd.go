package source

import (
	"bytes"
	"strconv"
	"strings"
	"unicode/utf8"
)

// odd is what a text is said to have that RFC 4180 doesn't.
type odd struct {
	delimiter []byte // of several characters; nil for one
	escape    byte   // before a character that has no meaning of its own; 0 for none
	comment   []byte // what lines start with that are no records
	widths    []int  // of columns, in characters, that stand one behind the other without a delimiter
	short     bool   // missing cells at the end of a line are blank
}

// oddOf is what is said of a text; nil when it is nothing.
func oddOf(asked ReadOptions) *odd {
	o := &odd{short: asked.ShortLines, widths: widthsOf(asked.Widths)}
	if len(asked.Delimiter) > 1 {
		o.delimiter = []byte(asked.Delimiter)
	}
	if asked.Escape != "" {
		o.escape = asked.Escape[0]
	}
	if asked.Comment != "" {
		o.comment = []byte(asked.Comment)
	}
	if !o.slow() && o.comment == nil && !o.short {
		return nil
	}
	return o
}

// widthsOf reads widths like "8, 20, 10"; nil when it is not that.
func widthsOf(text string) (all []int) {
	const most = 10_000
	for word := range strings.FieldsFuncSeq(text, func(c rune) bool { return c == ',' || c == ' ' }) {
		n, err := strconv.Atoi(word)
		if err != nil || n < 1 || n > most {
			return nil
		}
		all = append(all, n)
	}
	return all
}

// slow reports whether records are read one character after the other.
func (o *odd) slow() bool {
	return o != nil && (o.delimiter != nil || o.escape != 0 || o.widths != nil)
}

// isUsual reports whether whole lines are those of RFC 4180, but for cells that may be missing.
func (o *odd) isUsual() bool { return o == nil || !o.slow() && o.comment == nil }

// isEmpty reports whether no field holds anything.
func isEmpty(fields [][]byte) bool {
	for _, f := range fields {
		if len(f) > 0 {
			return false
		}
	}
	return true
}

// skipComments passes over lines that are comments.
func (l *lines) skipComments() {
	if l.odd == nil || l.odd.comment == nil {
		return
	}
	for l.at < len(l.raw) && bytes.HasPrefix(l.raw[l.at:], l.odd.comment) {
		end := bytes.IndexAny(l.raw[l.at:], "\r\n")
		if end < 0 {
			l.at = len(l.raw)
		} else {
			l.endLine(l.at + end)
		}
		l.comments++
	}
	l.skip(l.at)
}

// readOdd is read for a text that is slow.
func (l *lines) readOdd(r *Record) (end, open int) {
	if l.odd.widths != nil {
		return l.readFixed(r), -1
	}
	for {
		after, open := l.oddField(r)
		switch {
		case open >= 0:
			l.at = len(l.raw)
			return len(l.raw), open
		case after >= len(l.raw):
			l.at = len(l.raw)
			return len(l.raw), -1
		case l.raw[after] == '\n' || l.raw[after] == '\r':
			l.endLine(after)
			return after, -1
		}
		l.at = after + max(1, len(l.odd.delimiter))
	}
}

// oddField reads the field at l.at, and returns where it ends; open is where the quote stands that is never closed, or
// -1.
func (l *lines) oddField(r *Record) (after, open int) {
	raw, from := l.raw, len(r.buf)
	quoted := l.Quote != 0 && l.at < len(raw) && raw[l.at] == l.Quote
	at := l.at
	if quoted {
		at++
	}
	for at < len(raw) {
		c := raw[at]
		switch {
		case l.odd.escape != 0 && c == l.odd.escape && at+1 < len(raw):
			l.unescaped = true
			at = l.escapedAt(r, at+1)
			continue
		case quoted && c == l.Quote && at+1 < len(raw) && raw[at+1] == l.Quote:
			at++
		case quoted && c == l.Quote:
			for at++; at < len(raw) && (raw[at] == ' ' || raw[at] == '\t') && !l.fieldEnds(at); at++ {
			}
			if at < len(raw) && !l.fieldEnds(at) {
				r.Problem = textBehind
				for at < len(raw) && !l.fieldEnds(at) {
					at++
				}
			}
			r.Fields = append(r.Fields, r.buf[from:len(r.buf):len(r.buf)])
			return at, -1
		case !quoted && l.fieldEnds(at):
			r.Fields = append(r.Fields, r.buf[from:len(r.buf):len(r.buf)])
			return at, -1
		}
		if c == '\n' || c == '\r' && (at+1 == len(raw) || raw[at+1] != '\n') {
			l.line++
		}
		r.buf = append(r.buf, raw[at])
		at++
	}
	if quoted {
		return at, l.at
	}
	r.Fields = append(r.Fields, r.buf[from:len(r.buf):len(r.buf)])
	return at, -1
}

// escapedAt takes what stands behind an escape, and returns what is behind that.
func (l *lines) escapedAt(r *Record, at int) int {
	c := l.raw[at]
	switch {
	case c == 'n':
		r.buf = append(r.buf, '\n')
	case c == 'r':
		r.buf = append(r.buf, '\r')
	case c == 't':
		r.buf = append(r.buf, '\t')
	case c == l.odd.escape || c == l.Quote && c != 0 || c == l.Delimiter:
		r.buf = append(r.buf, c)
	case c == '\n' || c == '\r':
		r.buf = append(r.buf, c)
		if c == '\r' && at+1 < len(l.raw) && l.raw[at+1] == '\n' {
			at++
			r.buf = append(r.buf, '\n')
		}
		l.line++
	default: // it means nothing, as in \N
		r.buf = append(r.buf, l.odd.escape, c)
	}
	return at + 1
}

// fieldEnds reports whether a field that isn't in quotes ends at raw[at].
func (l *lines) fieldEnds(at int) bool {
	c := l.raw[at]
	if c == '\n' || c == '\r' {
		return true
	}
	if l.odd.delimiter != nil {
		return bytes.HasPrefix(l.raw[at:], l.odd.delimiter)
	}
	return c == l.Delimiter
}

// readFixed reads a line whose fields have fixed widths, without the blanks around them. Text behind the last one is a
// field too many.
func (l *lines) readFixed(r *Record) (end int) {
	end = len(l.raw)
	if n := bytes.IndexAny(l.raw[l.at:], "\r\n"); n >= 0 {
		end = l.at + n
	}
	rest := l.raw[l.at:end]
	for _, width := range l.odd.widths {
		at := 0
		for n := 0; n < width && at < len(rest); n++ {
			_, size := utf8.DecodeRune(rest[at:])
			at += size
		}
		r.Fields = append(r.Fields, bytes.Trim(rest[:at:at], " \t"))
		rest = rest[at:]
	}
	if rest = bytes.Trim(rest, " \t"); len(rest) > 0 {
		r.Fields = append(r.Fields, rest)
	}
	if end == len(l.raw) {
		l.at = end
		return end
	}
	l.endLine(end)
	return end
}

// seemsFixed returns the widths of columns that stand one behind the other without a delimiter, as the rows of a text
// seem to have them; nil when they don't. All rows have blanks in the same places.
func seemsFixed(text []byte) []int {
	const enough, most = 3, 200
	var rows [][]rune
	longest := 0
	for line := range bytes.SplitSeq(text, []byte{'\n'}) {
		line = bytes.TrimRight(line, "\r")
		if len(bytes.TrimSpace(line)) == 0 || !utf8.Valid(line) {
			continue
		}
		if rows = append(rows, []rune(string(line))); len(rows) == most {
			break
		}
		longest = max(longest, len(rows[len(rows)-1]))
	}
	if len(rows) < enough {
		return nil
	}
	blank := func(row []rune, at int) bool { return at >= len(row) || row[at] == ' ' }
	gap := func(at int) bool {
		for _, row := range rows {
			if !blank(row, at) {
				return false
			}
		}
		return true
	}
	var widths []int
	from, padded := 0, 0
	for at := 1; at < longest; at++ {
		if !gap(at-1) || gap(at) {
			continue
		}
		widths, from = append(widths, at-from), at
		for _, row := range rows {
			if at > 1 && blank(row, at-2) && at-2 < len(row) {
				padded++ // cells are filled up with blanks
				break
			}
		}
	}
	if len(widths) == 0 || padded < len(widths) {
		return nil
	}
	return append(widths, longest-from)
}

// seemsEscaped reports whether the quotes of a text are whole only if a backslash before one makes it a character.
func (d Dialect) seemsEscaped(text []byte) bool {
	if d.Quote == 0 {
		d.Quote = '"'
	}
	if !bytes.Contains(text, []byte{'\\', d.Quote}) {
		return false
	}
	_, broken := d.score(text, nil)
	_, escaped := d.score(text, &odd{escape: '\\'})
	return escaped < broken
}
