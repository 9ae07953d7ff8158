package source

import "bytes"

// Origin is where a chunk stands in its file.
type Origin struct {
	Offset int64
	Length int
	Line   int64 // the line on which it starts, from 1
	sum    uint64
}

// Chunk is a run of whole records.
type Chunk struct {
	Raw    []byte
	Line   int64 // the line on which the next record starts
	Origin Origin
	at     int
	single bool // the file has one column, so that an empty line is a record
}

// Record is one record of a file. Its memory is the chunk's, and good until the next record is read into it.
type Record struct {
	Line    int64    // the line on which it starts
	Raw     []byte   // as it stands in the file, without the end of the line
	Fields  [][]byte // with quotes taken off
	Problem string   // why the fields can't be trusted, or ""

	open        bool // a quote is never closed
	quoteLine   int64
	quoteColumn int
	room        []byte // for fields with doubled quotes
}

// Next reads the next record of the chunk into r; false when there is none.
func (c *Chunk) Next(r *Record) bool {
	for c.at < len(c.Raw) {
		start := c.at
		r.Line = c.Line
		c.at = split(c.Raw, start, r)
		c.Line += int64(bytes.Count(c.Raw[start:c.at], []byte{'\n'}))
		r.Raw = trimEnd(c.Raw[start:c.at])
		if len(r.Raw) > 0 || c.single {
			return true
		}
	}
	return false
}

// trimEnd takes the end of the line off a record.
func trimEnd(raw []byte) []byte {
	raw = bytes.TrimSuffix(raw, []byte{'\n'})
	return bytes.TrimSuffix(raw, []byte{'\r'})
}

// split reads the record that starts at raw[at] and gives the offset behind it. Quotes count only at the start of
// a field. Where a field breaks the rules, the record gets a problem and is read on to the end of its line.
func split(raw []byte, at int, r *Record) int {
	r.Fields, r.Problem, r.open, r.room = r.Fields[:0], "", false, r.room[:0]
	start := at
	for {
		var field []byte
		if at < len(raw) && raw[at] == '"' {
			field, at = quoted(raw, start, at, r)
		} else {
			field, at = bare(raw, at, r)
		}
		r.Fields = append(r.Fields, field)
		if at >= len(raw) || raw[at] == '\n' {
			return min(at+1, len(raw))
		}
		at++ // the comma
	}
}

// bare reads an unquoted field and gives the offset of the comma or line end behind it.
func bare(raw []byte, at int, r *Record) ([]byte, int) {
	start := at
	for ; at < len(raw) && raw[at] != ',' && raw[at] != '\n'; at++ {
		if raw[at] == '"' {
			r.Problem = "a quote stands inside a field that doesn't start with one"
		}
	}
	field := raw[start:at]
	if at == len(raw) || raw[at] == '\n' {
		field = bytes.TrimSuffix(field, []byte{'\r'})
	}
	return field, at
}

// quoted reads a field that starts with a quote at raw[at], in the record that starts at raw[start].
func quoted(raw []byte, start, at int, r *Record) ([]byte, int) {
	opening := at
	at++
	from, doubled := at, false
	for {
		n := bytes.IndexByte(raw[at:], '"')
		if n < 0 {
			r.open = true
			before := raw[start:opening]
			r.quoteLine = r.Line + int64(bytes.Count(before, []byte{'\n'}))
			r.quoteColumn = opening - start - bytes.LastIndexByte(before, '\n')
			return raw[from:], len(raw)
		}
		at += n + 1
		if at >= len(raw) || raw[at] != '"' {
			break
		}
		doubled = true
		at++
	}
	field := raw[from : at-1]
	if doubled {
		field = r.undouble(field)
	}
	if rest := raw[at:min(at+2, len(raw))]; len(rest) > 0 && rest[0] != ',' && rest[0] != '\n' && string(rest) != "\r\n" {
		r.Problem = "text follows the closing quote of a field"
	}
	for at < len(raw) && raw[at] != ',' && raw[at] != '\n' {
		at++
	}
	return field, at
}

// undouble copies field with each doubled quote made one.
func (r *Record) undouble(field []byte) []byte {
	start := len(r.room)
	for {
		n := bytes.IndexByte(field, '"')
		if n < 0 {
			r.room = append(r.room, field...)
			return r.room[start:len(r.room):len(r.room)]
		}
		r.room = append(r.room, field[:n+1]...)
		field = field[n+2:]
	}
}

// wholeRecords gives the length of the longest run of whole records at the start of raw. With ended, raw is the
// end of the file, so its last record needs no line end; then a quote that never closes gives the record with it.
func wholeRecords(raw []byte, ended bool) (int, *Record) {
	if bytes.IndexByte(raw, '"') < 0 {
		if ended {
			return len(raw), nil
		}
		return bytes.LastIndexByte(raw, '\n') + 1, nil
	}
	var r Record
	at := 0
	for at < len(raw) {
		next := split(raw, at, &r)
		if r.open && ended {
			r.quoteLine = int64(bytes.Count(raw[:at], []byte{'\n'})) + r.quoteLine
			return 0, &r
		}
		if !ended && (r.open || raw[next-1] != '\n') {
			return at, nil
		}
		at = next
	}
	return at, nil
}
