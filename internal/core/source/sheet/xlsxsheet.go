package sheet

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
)

// xlsxSheet reads the part of one sheet (ECMA-376 part 1, 18.3).
type xlsxSheet struct {
	book   *xlsx
	from   *boundedReader
	window *streamWindow
	prefix string // of the names of elements, with its colon
	known  SheetNotes
	ended  bool
}

const shownMerges = 1000 // areas of merged cells that are kept

// begin goes to the first row.
func (s *xlsxSheet) begin() error {
	for {
		t, err := s.window.tag()
		if err == io.EOF {
			return errTruncated
		}
		if err != nil {
			return err
		}
		if t.close {
			continue
		}
		switch string(t.name) {
		case "col":
			s.column(t)
		case "sheetData":
			s.prefix = prefixOf(t.b)
			t.end()
			s.ended = t.empty
			return nil
		}
	}
}

// column notes hidden columns.
func (s *xlsxSheet) column(t *tagReader) {
	var span Span
	hidden := false
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		switch string(name) {
		case "min":
			span.First, _ = strconv.Atoi(string(value))
		case "max":
			span.Last, _ = strconv.Atoi(string(value))
		case "hidden":
			hidden = isTrue(value)
		}
	}
	if hidden && span.First > 0 && span.Last <= maxColumns {
		s.known.HiddenColumns = append(s.known.HiddenColumns, span)
	}
}

// isTrue reads an xsd:boolean.
func isTrue(value []byte) bool { return string(value) == "1" || string(value) == "true" }

func (s *xlsxSheet) block(first int) (raw []byte, next int, err error) {
	if !s.ended {
		raw, s.ended, err = s.window.rows(s.prefix, "row", "sheetData")
	}
	if len(raw) == 0 && err == nil {
		return nil, 0, s.tail()
	}
	return raw, s.after(raw, first), err
}

// after is the number of the row behind those in b, of which the first is number first unless it says another.
func (s *xlsxSheet) after(b []byte, first int) int {
	if at := bytes.LastIndex(b, []byte("<"+s.prefix+"row ")); at >= 0 {
		t := &tagReader{b: b[at:]}
		t.next()
		if n := rowNumber(t); n > 0 {
			return n + 1
		}
	}
	t := &tagReader{b: b}
	for t.next() {
		if string(t.name) == "row" && !t.close {
			if n := rowNumber(t); n > 0 {
				first = n
			}
			first++
		}
	}
	return first
}

func rowNumber(t *tagReader) int {
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		if string(name) == "r" {
			n, _ := strconv.Atoi(string(value))
			return n
		}
	}
	return 0
}

// tail reads what stands behind the rows, and sees that the part is whole.
func (s *xlsxSheet) tail() error {
	whole := false
	for {
		t, err := s.window.tag()
		if err == io.EOF {
			if !whole {
				return errTruncated
			}
			return nil
		}
		if err != nil {
			return err
		}
		switch string(t.name) {
		case "mergeCell":
			for name, value, more := t.attr(); more; name, value, more = t.attr() {
				if area, ok := ParseArea(string(value)); string(name) == "ref" && ok {
					s.known.MergedCount++
					if len(s.known.Merged) < shownMerges {
						s.known.Merged = append(s.known.Merged, area)
					}
				}
			}
		case "worksheet":
			whole = whole || t.close
		}
	}
}

func (s *xlsxSheet) about() SheetNotes { return s.known }
func (s *xlsxSheet) progress() float64 { return s.from.share() }
func (s *xlsxSheet) Close() error      { return s.from.Close() }

// read reads the next row of b.
func (s *xlsxSheet) read(b *Block, r *Row) (bool, error) {
	t := &tagReader{b: b.Raw, at: b.at}
	for t.next() {
		if string(t.name) != "row" || t.close {
			continue
		}
		r.Number = b.first
		for name, value, more := t.attr(); more; name, value, more = t.attr() {
			switch string(name) {
			case "r":
				if n, err := strconv.Atoi(string(value)); err == nil && n > 0 {
					r.Number = n
				}
			case "hidden":
				r.Hidden = isTrue(value)
			}
		}
		if r.Number > maxRows {
			return false, Oddity{fmt.Sprintf("it has a row %d, and a sheet has at most %d", r.Number, maxRows),
				"check where it comes from"}
		}
		b.first = r.Number + 1
		var err error
		if !t.empty {
			err = s.cells(t, r)
		}
		b.at = t.at
		return true, err
	}
	b.at = t.at
	return false, nil
}

// xlsxCell is a cell as its markup has it.
type xlsxCell struct {
	column  int
	kind    []byte // the attribute t
	style   int
	value   []byte
	given   bool // it has a v
	formula bool
	inline  []byte
}

// cells reads the cells of a row up to its end tag.
func (s *xlsxSheet) cells(t *tagReader, r *Row) error {
	column := 0
	for t.next() {
		switch string(t.name) {
		case "row":
			if t.close {
				t.end()
				return nil
			}
		case "c":
			if t.close {
				break
			}
			c := xlsxCell{column: column + 1}
			if err := s.cell(t, &c, r); err != nil {
				return err
			}
			column = c.column
			continue
		}
		t.end()
	}
	return nil
}

// cell reads a cell and what it holds.
func (s *xlsxSheet) cell(t *tagReader, c *xlsxCell, r *Row) error {
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		if len(name) != 1 {
			continue
		}
		switch name[0] {
		case 'r':
			column, _, ok := reference(value)
			if !ok || column == 0 {
				return Oddity{fmt.Sprintf("its row %d has a cell %q, and there is no such address", r.Number, value),
					"check where it comes from"}
			}
			c.column = column
		case 's':
			c.style = digits(value)
		case 't':
			c.kind = value
		}
	}
	if c.column > maxColumns {
		return Oddity{fmt.Sprintf("its row %d has more than %d cells", r.Number, maxColumns),
			"check where it comes from"}
	}
	if !t.empty {
		s.content(t, c, r)
	}
	if c.formula {
		r.Formulas++
	}
	return s.keep(c, r)
}

func digits(b []byte) int {
	n := 0
	for _, c := range b {
		if c < '0' || c > '9' || n > 1<<30 {
			return -1
		}
		n = n*10 + int(c-'0')
	}
	return n
}

// content reads the elements in a cell up to its end tag.
func (s *xlsxSheet) content(t *tagReader, c *xlsxCell, r *Row) {
	for t.next() {
		switch string(t.name) {
		case "v":
			if t.close {
				c.value, c.given = t.text, true
			}
		case "f":
			c.formula = true
		case "is":
			if !t.close {
				t.end()
				start := len(r.buf)
				if !t.empty {
					r.buf = unescapeHex(richText(r.buf, t, "is"), start)
				}
				c.inline = r.buf[start:len(r.buf):len(r.buf)]
				t.empty = false
				continue
			}
		case "c":
			if t.close {
				t.end()
				return
			}
		}
		t.end()
		t.empty = false
	}
}

// keep adds the cell to the row, unless it holds nothing.
func (s *xlsxSheet) keep(c *xlsxCell, r *Row) error {
	kept := Cell{Column: c.column}
	switch string(c.kind) {
	case "s":
		n := digits(bytes.TrimSpace(c.value))
		if !c.given || n < 0 || n >= len(s.book.strings.offsets) {
			kept.Kind, kept.Fault = Faulty, noText
			break
		}
		text, err := s.book.strings.get(n)
		if err != nil {
			return err
		}
		kept.Kind, kept.Text = Text, text
	case "str":
		kept.Kind, kept.Text = Text, r.unescaped(c.value, true)
	case "inlineStr":
		kept.Kind, kept.Text = Text, c.inline
	case "b":
		kept.Kind, kept.Text = Truth, truth(isTrue(bytes.TrimSpace(c.value)))
	case "e":
		kept.Kind, kept.Text, kept.Fault = Faulty, r.unescaped(c.value, false), errorCell
	case "d":
		kept.Kind, kept.Text = Moment, r.put(isoMoment(string(c.value), s.shown(c.style)))
	default:
		s.number(c, r, &kept)
	}
	// a program that doesn't compute writes an empty value; only a text can be an empty result
	if noValue := !c.given || string(c.kind) != "str"; c.formula && noValue && len(bytes.TrimSpace(c.value)) == 0 &&
		kept.Kind != Faulty {
		kept.Kind, kept.Text, kept.Fault = Faulty, nil, noResult
	}
	if kept.Kind == Faulty || len(kept.Text) > 0 {
		r.Cells = append(r.Cells, kept)
	}
	return r.holds(len(kept.Text))
}

func (s *xlsxSheet) shown(style int) display {
	if style >= 0 && style < len(s.book.styles) {
		return s.book.styles[style]
	}
	return asNumber
}

func (s *xlsxSheet) number(c *xlsxCell, r *Row, kept *Cell) {
	if len(bytes.TrimSpace(c.value)) == 0 {
		return
	}
	as := s.shown(c.style)
	if as == asNumber {
		text, ok := number(c.value)
		kept.Kind, kept.Text = Number, text
		if !ok {
			kept.Kind, kept.Text, kept.Fault = Faulty, r.unescaped(c.value, false), noNumber
		}
		return
	}
	text, why := moment(c.value, as, isTrue([]byte(s.book.workbook.Properties.Date1904)))
	kept.Kind, kept.Text, kept.Fault = Moment, r.put(text), why
	if why != nil {
		kept.Kind, kept.Text = Faulty, c.value
	}
}

func truth(yes bool) []byte {
	if yes {
		return []byte("true")
	}
	return []byte("false")
}

// unescaped returns text without references, copied only where it has some.
func (r *Row) unescaped(text []byte, hex bool) []byte {
	if plain(text) && !(hex && bytes.Contains(text, []byte("_x"))) {
		return text
	}
	start := len(r.buf)
	r.buf = unescape(r.buf, text)
	if hex {
		r.buf = unescapeHex(r.buf, start)
	}
	return r.buf[start:len(r.buf):len(r.buf)]
}

// isoMoment returns a moment of ISO 8601 as this package writes it.
func isoMoment(text string, as display) string {
	date, clock, both := cutT(text)
	clock = trimZone(clock)
	if as == asDate && (clock == "" || clock == "00:00:00" || clock == "00:00") {
		return date
	}
	if !both {
		return text
	}
	return date + " " + clock
}

func cutT(text string) (date, clock string, both bool) {
	for i, c := range text {
		if c == 'T' {
			return text[:i], text[i+1:], true
		}
	}
	return text, "", false
}

// trimZone takes zeros off fractions of seconds, and a Z.
func trimZone(clock string) string {
	b := bytes.TrimSuffix([]byte(clock), []byte("Z"))
	if bytes.IndexByte(b, '.') >= 0 {
		b = bytes.TrimRight(bytes.TrimRight(b, "0"), ".")
	}
	return string(b)
}
