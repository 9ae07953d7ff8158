package sheet

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
)

// odsSheet reads one sheet in the content of a workbook (ODF 1.3 part 3, 9.1).
type odsSheet struct {
	from   *boundedReader
	window *streamWindow
	prefix string // of the names of elements of tables, with its colon
	info   Info
	known  SheetNotes
	column int // the columns that were described so far
	ended  bool
	whole  bool            // the end of the content was seen
	single bool            // there should be no other sheet
	hidden map[string]bool // styles of sheets that are hidden
	ranges [][2]string     // names and their addresses
}

// manyRepeated is the number of cells that a repeated row may stand for; more than that no person has filled.
const manyRepeated = 1 << 25

func (s *odsSheet) block(first int) (raw []byte, next int, err error) {
	if !s.ended {
		raw, s.ended, err = s.window.rows(s.prefix, "table-row", "table")
	}
	if len(raw) == 0 && err == nil {
		return nil, 0, s.tail()
	}
	if first == 1 {
		s.columns(raw)
	}
	return raw, first + s.count(raw), err
}

// count counts the rows in b, repeated ones as often as they come.
func (s *odsSheet) count(b []byte) int {
	n := 0
	mark := []byte("<" + s.prefix + "table-row")
	for at := bytes.Index(b, mark); at >= 0; {
		rest := b[at+len(mark):]
		if len(rest) > 0 && (rest[0] == ' ' || rest[0] == '>' || rest[0] == '/' || rest[0] < ' ') {
			t := &tagReader{b: b[at:]}
			t.next()
			repeated := 1
			if rest[0] != '>' {
				repeated = s.repeated(t, "number-rows-repeated")
			}
			n += repeated
		}
		next := bytes.Index(rest, mark)
		if next < 0 {
			break
		}
		at += len(mark) + next
	}
	return n
}

func (s *odsSheet) repeated(t *tagReader, attr string) int {
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		if string(name) == attr {
			if n := digits(value); n > 0 {
				return min(n, 2*maxRows)
			}
		}
	}
	return 1
}

// columns notes hidden columns, which are described before the rows.
func (s *odsSheet) columns(b []byte) {
	for t := (&tagReader{b: b}); t.next(); {
		if string(t.name) == "table-row" {
			return
		}
		if string(t.name) != "table-column" || t.close {
			continue
		}
		n, hidden := 1, false
		for name, value, more := t.attr(); more; name, value, more = t.attr() {
			switch string(name) {
			case "number-columns-repeated":
				n = max(1, digits(value))
			case "visibility":
				hidden = string(value) != "visible"
			}
		}
		if hidden && s.column < maxColumns {
			s.known.HiddenColumns = append(s.known.HiddenColumns, Span{s.column + 1, min(s.column+n, maxColumns)})
		}
		s.column = min(s.column+n, maxColumns)
	}
}

// tail reads on to the end of the part, and sees that it is whole.
func (s *odsSheet) tail() error {
	end, more := []byte("spreadsheet>"), []byte("<"+s.prefix+"table ")
	for {
		if s.single && indexFrom(s.window.b, s.window.at, more) >= 0 {
			return Oddity{"it claims to have only one sheet, but has more",
				"set sheet: to the name of one, or open the workbook and save it anew"}
		}
		s.whole = s.whole || indexFrom(s.window.b, s.window.at, end) >= 0
		s.window.at = max(s.window.at, len(s.window.b)-len(end))
		if s.window.ended {
			break
		}
		if err := s.window.more(blockSize); err != nil {
			return truncated(err)
		}
	}
	if !s.whole {
		return errTruncated
	}
	return nil
}

func (s *odsSheet) about() SheetNotes { return s.known }
func (s *odsSheet) progress() float64 { return s.from.share() }
func (s *odsSheet) Close() error      { return s.from.Close() }

// read reads the next row of b. A row that is repeated and holds something comes again; empty ones are passed over.
func (s *odsSheet) read(b *Block, r *Row) (bool, error) {
	t := &tagReader{b: b.Raw, at: b.at}
	for t.next() {
		if string(t.name) != "table-row" || t.close {
			continue
		}
		r.Number, r.Hidden = b.first, false
		repeated := 1
		for name, value, more := t.attr(); more; name, value, more = t.attr() {
			switch string(name) {
			case "number-rows-repeated":
				repeated = max(1, digits(value))
			case "visibility":
				r.Hidden = string(value) != "visible"
			}
		}
		var err error
		if !t.empty {
			err = s.cells(t, r)
		}
		b.at = t.at
		if len(r.Cells) == 0 {
			b.first = r.Number + min(repeated, 2*maxRows)
			return true, err
		}
		if r.Number+repeated-1 > maxRows {
			return false, Oddity{fmt.Sprintf("it has a row %d, and a sheet has at most %d", r.Number+repeated-1,
				maxRows), "check where it comes from"}
		}
		if repeated > 1 && repeated*len(r.Cells) > manyRepeated {
			return false, Oddity{fmt.Sprintf("its row %d is repeated %d times", r.Number, repeated),
				"delete the rows that are not needed, and save it again"}
		}
		b.first, b.again = r.Number+1, repeated-1
		return true, err
	}
	b.at = t.at
	return false, nil
}

// cells reads the cells of a row up to its end tag.
func (s *odsSheet) cells(t *tagReader, r *Row) error {
	column := 1
	for t.next() {
		switch string(t.name) {
		case "table-row":
			if t.close {
				t.end()
				return nil
			}
		case "table-cell", "covered-table-cell":
			if t.close {
				break
			}
			n, err := s.cell(t, r, column)
			if err != nil {
				return err
			}
			column += n
			continue
		}
		t.end()
	}
	return nil
}

// odsCell is a cell as its markup has it.
type odsCell struct {
	kind, value, text []byte
	repeated          int
	formula, failed   bool
}

// cell reads a cell and adds it to the row as often as it is repeated.
func (s *odsSheet) cell(t *tagReader, r *Row, column int) (int, error) {
	c := odsCell{repeated: 1}
	spanned, down := false, false
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		switch string(name) {
		case "number-columns-repeated":
			c.repeated = max(1, digits(value))
		case "number-columns-spanned", "number-rows-spanned":
			spanned = spanned || string(value) != "1"
			down = down || string(name) == "number-rows-spanned" && string(value) != "1"
		case "formula":
			c.formula = true
		case "value-type":
			if string(value) == "error" { // an extension; the standard type stands beside it
				c.failed = true
			} else if !c.failed || c.kind == nil {
				c.kind = value
			}
		case "value", "date-value", "time-value", "boolean-value", "string-value":
			c.value = value
		}
	}
	if spanned {
		r.Merged++
	}
	if down {
		r.Down = append(r.Down, column)
	}
	if !t.empty {
		c.text = s.text(t, r)
	}
	kept, ok := s.keep(&c, r)
	if c.formula {
		r.Formulas += min(c.repeated, maxColumns)
	}
	if !ok {
		return min(c.repeated, maxColumns), nil
	}
	if column+c.repeated-1 > maxColumns {
		return 0, Oddity{fmt.Sprintf("its row %d has more than %d cells", r.Number, maxColumns),
			"check where it comes from"}
	}
	if err := r.holds(len(kept.Text) * c.repeated); err != nil {
		return 0, err
	}
	for i := range c.repeated {
		kept.Column = column + i
		r.Cells = append(r.Cells, kept)
	}
	return c.repeated, nil
}

// text reads the paragraphs of a cell up to its end tag, without annotations and shapes (ODF 1.3 part 3, 6.1).
func (s *odsSheet) text(t *tagReader, r *Row) []byte {
	start, paragraphs, depth := len(r.buf), 0, 0
	for t.next() {
		if depth > 0 {
			r.buf = collapse(r.buf, start, t.text)
		}
		switch string(t.name) {
		case "table-cell", "covered-table-cell":
			if t.close {
				t.end()
				return r.buf[start:len(r.buf):len(r.buf)]
			}
		case "p", "h":
			closing := t.close
			t.end()
			if closing {
				depth--
				continue
			}
			if paragraphs++; paragraphs > 1 {
				r.buf = append(r.buf, '\n')
			}
			if !t.empty {
				depth++
			}
			continue
		case "s":
			if !t.close {
				r.buf = append(r.buf, strings.Repeat(" ", min(s.repeated(t, "c"), 1<<15))...)
				if t.empty {
					continue
				}
			}
		case "tab":
			if !t.close {
				r.buf = append(r.buf, '\t')
			}
		case "line-break":
			if !t.close {
				r.buf = append(r.buf, '\n')
			}
		case "annotation", "ruby-text", "frame", "custom-shape", "image", "object", "g":
			if !t.close {
				t.skip()
				continue
			}
		}
		t.end()
	}
	return r.buf[start:len(r.buf):len(r.buf)]
}

// collapse appends text with runs of white space that has a line end or tab in it made one blank, none at the start.
// Runs of blanks stay, although ODF 1.3 part 3, 6.1.2 makes them one too: an office suite that is much in use writes
// the blanks of cells as they are, and those that write text:s for them have no such runs.
func collapse(to []byte, start int, text []byte) []byte {
	from := len(to)
	to = unescape(to, text)
	if !bytes.ContainsAny(to[from:], "\t\n\r") {
		return to
	}
	words := bytes.Fields(to[from:])
	joined := bytes.Join(words, []byte(" "))
	if from > start && len(joined) > 0 && isSpace(to[from]) {
		joined = append([]byte(" "), joined...)
	}
	if len(joined) > 0 && isSpace(to[len(to)-1]) {
		joined = append(joined, ' ')
	}
	return append(to[:from], joined...)
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

// failures are the texts that formulas show for errors.
var failures = []string{"#N/A", "#DIV/0!", "#VALUE!", "#REF!", "#NAME?", "#NUM!", "#NULL!"}

// keep returns what the cell holds; false when that is nothing.
func (s *odsSheet) keep(c *odsCell, r *Row) (Cell, bool) {
	if c.failed || c.formula && isFailure(string(c.text)) {
		return Cell{Kind: Faulty, Text: c.text, Fault: errorCell}, true
	}
	switch string(c.kind) {
	case "float", "percentage", "currency":
		if text, ok := number(c.value); ok {
			return Cell{Kind: Number, Text: text}, true
		}
		return Cell{Kind: Faulty, Text: c.value, Fault: noNumber}, true
	case "date":
		return Cell{Kind: Moment, Text: r.put(isoMoment(string(c.value), asDate))}, len(c.value) > 0
	case "time":
		text, ok := isoDuration(string(c.value))
		if !ok {
			return Cell{Kind: Faulty, Text: c.value, Fault: noTime}, true
		}
		return Cell{Kind: Moment, Text: r.put(text)}, true
	case "boolean":
		return Cell{Kind: Truth, Text: truth(isTrue(c.value))}, true
	case "":
		if c.formula {
			return Cell{Kind: Faulty, Fault: noResult}, true
		}
	}
	text := c.text
	if c.value != nil {
		text = r.unescaped(c.value, false)
	}
	return Cell{Kind: Text, Text: text}, len(text) > 0
}

func isFailure(text string) bool {
	for _, f := range failures {
		if text == f {
			return true
		}
	}
	return strings.HasPrefix(text, "Err:")
}

// isoDuration reads a duration like PT26H30M00S (XML Schema part 2, 3.2.6) as 26:30:00.
func isoDuration(text string) (string, bool) {
	rest, negative := strings.CutPrefix(text, "-")
	rest, ok := strings.CutPrefix(rest, "P")
	if !ok {
		return "", false
	}
	days, rest, _ := strings.Cut(rest, "T")
	millis := 0.0
	for _, part := range []struct {
		text  string
		units string
		each  []float64
	}{{days, "D", []float64{dayMillis}}, {rest, "HMS", []float64{3600000, 60000, 1000}}} {
		for i, unit := range part.units {
			number, after, found := strings.Cut(part.text, string(unit))
			if !found {
				continue
			}
			n, err := strconv.ParseFloat(strings.Replace(number, ",", ".", 1), 64)
			if err != nil {
				return "", false
			}
			millis += n * part.each[i]
			part.text = after
		}
		if part.text != "" {
			return "", false
		}
	}
	if negative {
		millis = -millis
	}
	return duration(millis / dayMillis), true
}
