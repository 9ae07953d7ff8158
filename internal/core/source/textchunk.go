package source

import (
	"bytes"
	"errors"
	"hash/maphash"
	"io"
	"unicode/utf8"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
)

// pass goes on by n bytes.
func (t *text) pass(n int) {
	t.line += t.ends.count(t.rest[:n])
	t.rest = t.rest[n:]
	t.offset += int64(n)
}

// fill reads on until rest holds a chunk, or the text ends.
func (t *text) fill() error {
	need := chunkSize
	if t.asked.Footer > 0 {
		need += footerRoom
	}
	if t.ended || len(t.rest) >= need {
		return nil
	}
	return t.more(need)
}

// more appends n bytes of the text to rest.
func (t *text) more(n int) error {
	held := len(t.rest)
	buf := t.memory(held + n)
	copy(buf, t.rest)
	t.buf = buf
	got, err := io.ReadFull(t.from, buf[held:])
	t.rest = buf[:held+got]
	if unclear := t.clear(); unclear != nil {
		return unclear
	}
	if err == io.EOF || err == io.ErrUnexpectedEOF && t.whole() {
		t.ended = true
		t.cutEndMark()
		t.cutFooter()
		return nil
	}
	if err != nil {
		return unreadable(t.path, err)
	}
	return nil
}

// cutEndMark takes the mark off with which DOS ended files.
func (t *text) cutEndMark() {
	const mark = 0x1a
	if n := len(t.rest); n > 0 && t.rest[n-1] == mark {
		t.rest, t.format.EndMark = t.rest[:n-1], true
	}
}

// memory returns n bytes, those of a released chunk where that is enough.
func (t *text) memory(n int) []byte {
	select {
	case buf := <-t.free:
		if cap(buf) >= n {
			return buf[:n]
		}
	default:
	}
	return make([]byte, n, n+n/8)
}

// whole tells, when the text ended, that it did not end too early.
func (t *text) whole() bool {
	_, err := t.from.Read(make([]byte, 1))
	return err == io.EOF
}

// cutFooter takes the lines of the footer off, once the text ended and its header is known.
func (t *text) cutFooter() {
	if t.asked.Footer == 0 || len(t.header.Names) == 0 || !t.ended {
		return
	}
	_, starts, _ := t.sample(t.rest, len(t.rest))
	if len(starts) > 0 {
		t.rest = t.rest[:starts[max(0, len(starts)-t.asked.Footer)]]
	}
}

// Next returns the next chunk; io.EOF at the end of the text.
func (t *text) Next() (*Chunk, error) {
	if err := t.fill(); err != nil {
		return nil, err
	}
	for {
		if len(t.rest) == 0 {
			return nil, io.EOF
		}
		raw, ended := t.rest, t.ended
		if !ended && t.asked.Footer > 0 {
			raw = raw[:max(0, len(raw)-footerRoom)]
		}
		first := t.dialect.firstQuote(raw)
		end, open := wholeRecords(raw, t.dialect, t.odd, first, ended)
		if open >= 0 && ended {
			return nil, t.unclosed(end, open)
		}
		if end > 0 {
			return t.cut(end, first >= 0 && first < end), nil
		}
		if len(t.rest) > maxRecord {
			return nil, t.tooLong(open)
		}
		if err := t.more(max(chunkSize, len(t.rest))); err != nil {
			return nil, err
		}
	}
}

func (t *text) unclosed(start, open int) error {
	before := t.rest[:open]
	line := t.line + countLines(before)
	column := utf8.RuneCount(before[lastEnd(before):]) + 1
	return fault.At(fault.Refused, fault.Problem{File: t.path, Line: int(line), Column: column,
		What: "the quote that opens here is never closed, so the rest of the file could not be split into columns",
		Do:   "close it, or double it if it is part of the text; or set quote: none if quotes are part of the data"})
}

func (t *text) tooLong(open int) error {
	do := "check that this is the right file, and its delimiter: and quote:"
	if open >= 0 {
		do = "possibly a quote in it is never closed"
	}
	return t.refuse(t.line, "the record that starts here is longer than 16 MB", do)
}

// cut returns the next end bytes as a chunk.
func (t *text) cut(end int, quotes bool) *Chunk {
	raw := t.rest[:end:end]
	o := Origin{Offset: t.offset, Length: end, Line: t.line, Done: t.read.Load()}
	if t.ended && end == len(t.rest) {
		o.Done = t.Size()
	}
	before := t.ends.cr
	t.pass(end)
	c := t.chunk(raw, o)
	if len(t.rest) < chunkSize { // it is copied before more is read
		c.buf, c.free = t.buf, t.free
	}
	l, ok := c.rows.(*lines)
	if !ok {
		return c
	}
	l.returns = t.ends.cr > before
	l.quotes = quotes
	if t.from.is.Value == "" { // all was ASCII so far
		l.doubts = nil
	}
	return c
}

func (t *text) chunk(raw []byte, o Origin) *Chunk {
	if t.rowsOf != nil {
		return &Chunk{Raw: raw, Origin: o, rows: t.rowsOf(raw, o), seed: t.seed}
	}
	l := &lines{Dialect: t.dialect, raw: raw, line: o.Line, width: len(t.header.Names), doubts: notUTF8,
		quotes: t.dialect.Quote != 0, returns: true, odd: t.odd}
	if t.from.foreign() {
		l.doubts = t.notDecoded
	}
	return &Chunk{Raw: raw, Origin: o, rows: l, seed: t.seed}
}

// notDecoded returns why a record that was in another encoding can't be trusted.
func (t *text) notDecoded(raw []byte) *reason.Cause {
	if bytes.Contains(raw, []byte(string(utf8.RuneError))) {
		return reason.Fault(reason.NotCharset, t.from.is.Value)
	}
	return nil
}

// Again reads the chunk with origin o a second time. It is an error when the file has changed since.
func (t *text) Again(o Origin) (*Chunk, error) {
	raw := make([]byte, o.Length)
	if t.plain && !t.from.foreign() {
		if _, err := t.disk.ReadAt(raw, o.Offset+t.mark); err != nil && err != io.EOF {
			return nil, unreadable(t.path, err)
		}
	} else if err := t.readOn(raw, o.Offset); err != nil {
		return nil, err
	}
	if maphash.Bytes(t.seed, raw) != o.sum {
		return nil, changed(t.path)
	}
	c := t.chunk(raw, o)
	if l, ok := c.rows.(*lines); ok {
		var ends lineEndings
		ends.count(raw)
		l.returns, l.quotes = ends.cr > 0, t.dialect.firstQuote(raw) >= 0
	}
	return c, nil
}

// readOn fills raw from offset at of a text that can only be read forward.
func (t *text) readOn(raw []byte, at int64) error {
	if t.second == nil || t.second.at > at {
		if t.second != nil {
			t.second.stream.Close()
		}
		stream, err := t.start()
		if err != nil {
			return unreadable(t.path, err)
		}
		name := t.from.is.Value
		if name == "" {
			name = utf8Name
		}
		from, err := decode(stream, name)
		if err != nil {
			return errors.Join(err, stream.Close())
		}
		t.second = &streamReader{stream: stream, from: from}
	}
	if _, err := io.CopyN(io.Discard, t.second.from, at-t.second.at); err != nil && err != io.EOF {
		return unreadable(t.path, err)
	}
	n, err := io.ReadFull(t.second.from, raw)
	t.second.at = at + int64(n)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return unreadable(t.path, err)
	}
	return nil
}
