package source

import (
	"bytes"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

const (
	formatText = "text"
	chunkSize  = 256 << 10 // bytes that are read and cleaned in one go
	maxRecord  = 16 << 20  // bytes of the longest record
	footerRoom = 64 << 10  // bytes in which the lines of a footer must stand
	fewTitles  = 3         // lines above the header that are told
)

// text is a table in text.
type text struct {
	*content
	asked   ReadOptions
	format  Format
	dialect Dialect
	odd     *odd
	rowsOf  func(raw []byte, o Origin) rows // of a text that isn't lines of fields
	header  Header

	stream io.ReadCloser
	from   *decoder
	mark   int64 // bytes of the byte-order mark
	seed   maphash.Seed
	rest   []byte      // read, but not given out yet
	buf    []byte      // the memory in which rest stands
	free   chan []byte // memory for chunks
	offset int64       // where rest starts in the text
	line   int64       // the line on which rest starts
	ended  bool
	ends   lineEndings
	second *streamReader
}

// lineEndings counts the lineEndings of lines by their form.
type lineEndings struct{ lf, crlf, cr int }

// count counts the ends of lines in b; a carriage return at its end is one.
func (e *lineEndings) count(b []byte) int64 {
	lf, crlf, cr := bytes.Count(b, []byte{'\n'}), 0, 0
	for at := bytes.IndexByte(b, '\r'); at >= 0; {
		if at+1 < len(b) && b[at+1] == '\n' {
			crlf++
		} else {
			cr++
		}
		next := bytes.IndexByte(b[at+1:], '\r')
		if next < 0 {
			break
		}
		at += 1 + next
	}
	e.lf, e.crlf, e.cr = e.lf+lf-crlf, e.crlf+crlf, e.cr+cr
	return int64(lf + cr)
}

func (e lineEndings) String() string {
	var all []string
	for _, x := range []struct {
		n    int
		name string
	}{{e.crlf, "CRLF"}, {e.lf, "LF"}, {e.cr, "CR"}} {
		if x.n > 0 {
			all = append(all, x.name)
		}
	}
	return strings.Join(all, " and ")
}

// openText opens what holds text, and finds how it is to be read.
func openText(c *content, asked ReadOptions) (Table, error) {
	t := &text{content: c, asked: asked, odd: oddOf(asked), seed: maphash.MakeSeed(), line: 1, free: make(chan []byte, 32)}
	t.format = Format{File: File{Path: c.path}, Compression: c.packed, Format: formatText}
	if asked.Sheet != "" || asked.Range != "" {
		return nil, refused(t.format.File, 0, "this is text, not a workbook, so it has no sheet or range",
			"give a workbook, or leave out the sheet and the range")
	}
	opened := Table(t)
	err := t.open()
	switch {
	case err != nil:
	case seemsJSON(t.rest):
		opened, err = t.beginJSON()
	case asked.Member != "":
		err = t.refuse(0, "this is not JSON, so it has no member", "give a JSON file, or leave out the member")
	default:
		err = t.begin()
		t.cutFooter()
	}
	if err != nil {
		t.closeStreams()
		return nil, err
	}
	return opened, nil
}

// open starts to read the text.
func (t *text) open() (err error) {
	if t.stream, err = t.start(); err != nil {
		return unreadable(t.path, err)
	}
	if t.plain {
		var head [3]byte
		if n, _ := t.disk.ReadAt(head[:], 0); string(head[:n]) == "\xef\xbb\xbf" {
			t.mark = 3
		}
	}
	var bare io.Reader = t.stream
	if !t.plain {
		if bare, err = t.unpacked(); err != nil {
			return err
		}
	}
	if t.from, err = decode(bare, t.asked.Encoding); err != nil {
		return unreadable(t.path, err)
	}
	return t.fill()
}

// clear reports that the encoding of the text is certain, or may be guessed.
func (t *text) clear() error {
	u := t.from.unclear
	if u == nil {
		return nil
	}
	if u.Path == "" {
		u.Path = t.path
		u.under(t.line + countLines(t.rest[:t.from.handed-t.offset]))
	}
	if t.asked.Guess {
		return nil
	}
	return u.fault()
}

// unpacked reads what was packed, unless that is no text by its first bytes.
func (t *text) unpacked() (io.Reader, error) {
	head := make([]byte, 512)
	n, err := io.ReadFull(t.stream, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, unreadable(t.path, err)
	}
	head = head[:n]
	what, do := foreign(head)
	if bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte{0x1f, 0x8b}) {
		what, do = "this is a workbook or an archive inside a compressed file", "unpack it first"
	}
	if what != "" {
		return nil, t.refuse(0, what, do)
	}
	return io.MultiReader(bytes.NewReader(head), t.stream), nil
}

// begin finds dialect and header, and goes behind the header.
func (t *text) begin() error {
	if len(t.rest) == 0 {
		return t.refuse(0, "the file is empty", "it needs at least a header line")
	}
	if text := bytes.TrimRight(t.rest, "\x00"); len(text) < len(t.rest) && bytes.IndexByte(text, 0) < 0 {
		return t.refuse(0, "the file ends in NUL bytes, as after a copy that broke off", "it is incomplete: get it again")
	}
	if n := bytes.Count(t.rest, []byte{0}); n > len(t.rest)/100 {
		return t.refuse(0, "this is not text: it is full of NUL bytes", "check that this is the right file")
	}
	sample := t.rest
	for !t.ended && lastEnd(sample) == 0 && len(t.rest) <= maxRecord {
		if err := t.more(len(t.rest)); err != nil {
			return err
		}
		sample = t.rest
	}
	if !t.ended {
		sample = sample[:lastEnd(sample)]
	}
	if len(sample) == 0 {
		return t.tooLong(-1)
	}
	t.dialect, t.format.Delimiter = judgeDialect(sample, t.asked)
	if t.format.Delimiter.Value == "none" {
		t.format.Fixed = seemsFixed(sample)
	}
	t.format.Escaped = t.asked.Escape == "" && t.dialect.seemsEscaped(sample)
	t.format.Quote, t.format.QuoteGuessed = "none", t.asked.Quote == "" && t.dialect.Quote != '"'
	if t.dialect.Quote != 0 {
		t.format.Quote = string(t.dialect.Quote)
	}
	if asked := t.asked.Header; asked.First > 0 {
		return t.headerAt(sample, asked)
	}
	rows, starts, ends := t.sample(sample, sampled)
	if len(rows) == 0 {
		return t.refuse(0, "the file holds only empty lines", "")
	}
	found := headerGuess{-1, -1, 1}
	if !t.asked.Header.None {
		found = judgeHeader(rows)
	}
	t.format.Header = found.guess(rows, t.asked.Header)
	if found.first < 0 {
		first := 0
		width := usual(rows, func(r row) int { return len(r.cells) })
		for !t.asked.Header.None && first < len(rows)-1 && len(rows[first].cells) < width {
			first++
		}
		t.pass(starts[first])
		return t.named(nil, width, rows[:first])
	}
	t.pass(ends[found.last])
	return t.named(rows[found.first:found.last+1], 0, rows[:found.first])
}

// headerAt reads the header on the lines that were asked for.
func (t *text) headerAt(sample []byte, asked HeaderLines) error {
	above := sample
	for n := 1; n < asked.First; n++ {
		end := bytes.IndexAny(sample, "\r\n")
		if end < 0 {
			return t.refuse(0, fmt.Sprintf("the header should be on line %d, but the file has only %d", asked.First, n),
				"correct header: in the ladle file")
		}
		if bytes.HasPrefix(sample[end:], []byte("\r\n")) {
			end++
		}
		sample = sample[end+1:]
	}
	above = above[:len(above)-len(sample)]
	titles, _, _ := t.sample(above, mostTitles)
	t.pass(len(above))
	count := asked.Last - asked.First + 1
	rows, _, behind := t.sample(sample, count)
	if len(rows) < count {
		return t.refuse(t.line, "there is no header on this line", "correct header: in the ladle file")
	}
	t.pass(behind[count-1])
	t.format.Header = headerGuess{0, count - 1, 1}.guess(rows, asked)
	return t.named(rows, 0, titles)
}

// sample reads at most n records that hold something, with the offsets before and behind each.
func (t *text) sample(raw []byte, n int) (rows []row, starts, ends []int) {
	l := newLines(raw, t.dialect, t.line, 0)
	l.odd = t.odd
	var r Record
	for len(rows) < n && l.at < len(raw) {
		if l.skipComments(); l.at == len(raw) {
			break
		}
		start, line := l.at, l.line
		r.Fields, r.Problem, r.buf = r.Fields[:0], nil, r.buf[:0]
		_, open := l.read(&r)
		if open >= 0 { // perhaps a title with a single quote: it ends with its line
			title := firstLine(raw[start:])
			r.Fields = append(r.Fields[:0], title)
			l = newLines(raw, t.dialect, line+1, 0)
			l.odd = t.odd
			l.at = min(start+len(title)+1, len(raw))
			l.skip(l.at)
		}
		cells := make([]string, len(r.Fields))
		for i, f := range r.Fields {
			cells[i] = string(bytes.TrimSpace(f))
		}
		if strings.Join(cells, "") == "" {
			continue
		}
		rows, starts, ends = append(rows, row{line: line, cells: cells}), append(starts, start), append(ends, l.at)
	}
	return rows, starts, ends
}

func firstLine(raw []byte) []byte {
	if end := bytes.IndexAny(raw, "\r\n"); end >= 0 {
		return raw[:end]
	}
	return raw
}

// named takes the names of the columns from rows.
func (t *text) named(rows []row, width int, above []row) error {
	for _, r := range rows {
		width = max(width, len(r.cells))
		for _, cell := range r.cells {
			if !utf8.ValidString(cell) {
				return t.refuse(r.line, "the header is not valid UTF-8",
					"set encoding: for this input")
			}
		}
		t.header.Line = r.line
	}
	if width > mostFields || len(rows) > 0 && len(rows[0].cells) == mostFields {
		return t.refuse(t.header.Line, fmt.Sprintf("the header has more than %d columns", mostFields-1),
			"check that this is the right file, and its delimiter:")
	}
	t.header.Names = names(rows, t.withoutEnd(rows, width), numbered)
	for _, r := range above {
		t.format.SkippedLines++
		if len(t.format.SkippedTexts) < fewTitles {
			t.format.SkippedTexts = append(t.format.SkippedTexts,
				strings.Join(strings.Fields(strings.Join(r.cells, " ")), " "))
		}
	}
	return nil
}

// withoutEnd is the width of a header without blank names at its end, over lines that have no cells there.
func (t *text) withoutEnd(header []row, width int) int {
	const enough = 20
	below, _, _ := t.sample(t.rest, enough)
	if len(header) == 0 || len(below) == 0 {
		return width
	}
	usually := usual(below, func(r row) int { return len(r.cells) })
	for width > usually && !slices.ContainsFunc(header, func(r row) bool { return !r.blank(width - 1) }) {
		width--
	}
	return width
}

func (t *text) refuse(line int64, what, do string) error {
	return refused(t.format.File, line, what, do)
}

// Header has the names of the columns.
func (t *text) Header() Header { return t.header }

// Files is the file of the text.
func (t *text) Files() []File { return []File{t.format.File} }

// Formats returns how the text is read.
func (t *text) Formats() []Format {
	f := t.format
	f.Encoding = t.from.is
	if f.Encoding.Value == "" {
		f.Encoding = Setting{Value: "ASCII", Confidence: 1}
	}
	if t.from.unclear != nil {
		f.Could = append([]EncodingReading{}, t.from.unclear.Could...)
	}
	f.LineEndings = t.ends.String()
	return []Format{f}
}

func (t *text) count(c *Chunk) { t.format.count(c) }

// Size is the bytes of the file.
func (t *text) Size() int64 { return t.info.Size() }

// Sum is the SHA-256 of the file.
func (t *text) Sum() (string, error) { return t.sum() }

// streamReader reads a text that can only be read from its start.
type streamReader struct {
	stream io.ReadCloser
	from   io.Reader
	at     int64
}

func (t *text) closeStreams() {
	if t.stream != nil {
		t.stream.Close()
	}
	if t.second != nil {
		t.second.stream.Close()
	}
}

// Close closes the text. Its file is closed with the last text or sheet in it.
func (t *text) Close() error {
	t.closeStreams()
	return t.release()
}
