package notation

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// Pattern is a way of writing dates, times or both: a date format pattern of Unicode (LDML, UTS 35 part 4).
type Pattern struct {
	text   string
	fields []field
	dated  bool
	timed  bool
	pivot  int64     // the first year that two digits can mean
	months *calendar // of another language than English

	plain plainReader // nil where the fields must always be looked at
}

// plainReader reads most cells that have a date and no zone: days since 1970-01-01 and microseconds since midnight; not ok where the
// fields of the pattern must be looked at.
type plainReader interface {
	scan(cell []byte) (days, micros int64, ok bool)
}

// field is a part of a pattern: a letter as often as width says, or a literal.
type field struct {
	letter  byte // 0 for a literal
	width   int
	open    bool // more digits than width may stand there
	literal []byte
}

// NoPivot stands for the first year that two digits can mean, where it isn't said.
const NoPivot = -1

// NewPattern makes a pattern; pivot is the first year that yy can mean, or NoPivot. Its error is a fault.InvalidValue.
func NewPattern(text string, pivot int) (*Pattern, error) { return NewPatternIn("en", text, pivot) }

// NewPatternIn makes a pattern whose months are those of a language, by its code of BCP 47.
func NewPatternIn(language, text string, pivot int) (*Pattern, error) {
	months, err := calendarOf(language)
	if err != nil {
		return nil, err
	}
	p := &Pattern{text: text, pivot: int64(pivot), months: months}
	for rest := text; rest != ""; {
		var err error
		if rest, err = p.part(rest); err != nil {
			return nil, err
		}
	}
	if months != nil {
		if strings.Contains(text, "E") {
			return nil, odd(text, "the names of days are read in English only", "leave E out")
		}
		p.text += " in " + months.language
	}
	return p, p.judge()
}

func odd(text, why, do string) error {
	return fault.InvalidValue{What: fmt.Sprintf("can't be %q: %s", text, why), Do: do}
}

// part reads the first field of rest.
func (p *Pattern) part(rest string) (string, error) {
	c := rest[0]
	switch {
	case c == '\'':
		return p.quoted(rest[1:])
	case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
		n := 1
		for n < len(rest) && rest[n] == c {
			n++
		}
		f := field{letter: c, width: n}
		if allowed, known := letters[c]; !known || n > allowed {
			return "", odd(p.text, fmt.Sprintf("%s is not a field of dates that ladle reads", rest[:n]),
				"use y M d E H h m s S a X x Z; write words in quotes: 'o''clock'")
		}
		p.fields = append(p.fields, f)
		return rest[n:], nil
	}
	_, size := utf8.DecodeRuneInString(rest)
	p.literal(rest[:size])
	return rest[size:], nil
}

// letters are the fields, and how often each may stand.
var letters = map[byte]int{'y': 4, 'M': 4, 'd': 2, 'E': 4, 'H': 2, 'h': 2, 'm': 2, 's': 2, 'S': 9, 'a': 1, 'X': 3,
	'x': 3, 'Z': 5}

func (p *Pattern) literal(text string) {
	if n := len(p.fields); n > 0 && p.fields[n-1].letter == 0 {
		p.fields[n-1].literal = append(p.fields[n-1].literal, text...)
		return
	}
	p.fields = append(p.fields, field{literal: []byte(text)})
}

// quoted reads a text in quotes; two quotes are one.
func (p *Pattern) quoted(rest string) (string, error) {
	if after, two := strings.CutPrefix(rest, "'"); two {
		p.literal("'")
		return after, nil
	}
	for {
		at := strings.IndexByte(rest, '\'')
		if at < 0 {
			return "", odd(p.text, "a quote is not closed", "")
		}
		p.literal(rest[:at])
		if !strings.HasPrefix(rest[at+1:], "'") {
			return rest[at+1:], nil
		}
		p.literal("'")
		rest = rest[at+2:]
	}
}

// judge reports whether the fields make a date, a time or both.
func (p *Pattern) judge() error {
	count := map[byte]int{}
	for _, f := range p.fields {
		count[f.letter]++
		if f.letter == 'y' && f.width == 2 && p.pivot == NoPivot {
			return odd(p.text, "two digits don't say which century",
				"set two_digit_years_from: to the first year that they can mean, for example 1940")
		}
		if count[f.letter] > 1 && f.letter != 0 {
			return odd(p.text, fmt.Sprintf("it has %c twice", f.letter), "")
		}
	}
	p.dated, p.timed = count['y']+count['M']+count['d'] > 0, count['H']+count['h'] > 0
	switch {
	case !p.dated && !p.timed:
		return odd(p.text, "it has neither a date nor a time",
			"write for example dd/MM/yyyy, or HH:mm; capital M is the month, small m the minute")
	case p.dated && count['y']*count['M']*count['d'] == 0:
		return odd(p.text, "a date needs y, M and d", "")
	case count['m'] > 0 && !p.timed, count['s'] > 0 && count['m'] == 0, count['S'] > 0 && count['s'] == 0:
		return odd(p.text, "a part of its time is missing", "write for example HH:mm or HH:mm:ss; capital M is the "+
			"month, small "+
			"m the minute")
	case count['h'] > 0 && count['a'] == 0, count['a'] > 0 && count['h'] == 0:
		return odd(p.text, "h and a (morning or afternoon) go together", "write H for hours from 0 to 23")
	case count['H']*count['h'] > 0:
		return odd(p.text, "it has two fields for the hour", "")
	case count['X']+count['x']+count['Z'] > 1 || count['X']+count['x']+count['Z'] > 0 && !(p.dated && p.timed):
		return odd(p.text, "a zone needs one date and one time", "")
	}
	p.open()
	return nil
}

// open marks the fields behind which no digit follows, so that they may have more digits than they ask for: one as d,
// two as H of a time that may pass 24:00.
func (p *Pattern) open() {
	for i := range p.fields {
		f := &p.fields[i]
		last := i == len(p.fields)-1
		f.open = last || p.fields[i+1].letter == 0 || p.fields[i+1].letter == 'a'
	}
	if l := p.fixed(); l != nil {
		p.plain = l
	} else if all := p.inSteps(); all != nil {
		p.plain = all
	}
}

func (p *Pattern) String() string { return p.text }

// parsedDate is a date on its way.
type parsedDate struct {
	year, month, day, weekday     int64
	hour, minute, second, micro   int64
	afternoon, half, zoned, wrong bool
	offset                        int64
}

// outcome is what came of reading a cell by a pattern.
type outcome int

const (
	another outcome = iota // the cell is not written so
	nowhere                // it is, but there is no such day or time
	read
)

// scan reads a cell by the pattern.
func (p *Pattern) scan(cell []byte) (value.Moment, outcome) {
	if p.plain != nil {
		if days, micros, ok := p.plain.scan(cell); ok {
			return value.Moment{Days: days, Micros: micros, Dated: true, Timed: p.timed}, read
		}
	}
	return p.scanFields(cell)
}

// scanFields reads a cell field by field.
func (p *Pattern) scanFields(cell []byte) (value.Moment, outcome) {
	var r parsedDate
	for i := range p.fields {
		f := &p.fields[i]
		rest, ok := p.take(f, cell, &r)
		if !ok {
			return value.Moment{}, another
		}
		cell = rest
	}
	if len(cell) > 0 {
		return value.Moment{}, another
	}
	return p.moment(&r)
}

// take reads one field off the start of cell.
func (p *Pattern) take(f *field, cell []byte, r *parsedDate) (rest []byte, ok bool) {
	switch f.letter {
	case 0:
		return takeLiteral(cell, f.literal)
	case 'y':
		return p.takeYear(f, cell, r)
	case 'M':
		if f.width > 2 && p.months != nil {
			return p.months.take(cell, f.width == 4, &r.month)
		}
		if f.width > 2 {
			return takeName(cell, Months[:], f.width == 4, &r.month)
		}
		return takeNumber(f, cell, 2, &r.month)
	case 'd':
		return takeNumber(f, cell, 2, &r.day)
	case 'E':
		return takeName(cell, weekdayNames[:], f.width == 4, &r.weekday)
	case 'H', 'h':
		most := 2
		if !p.dated && f.letter == 'H' {
			most = 5
		}
		return takeNumber(f, cell, most, &r.hour)
	case 'm':
		return takeNumber(f, cell, 2, &r.minute)
	case 's':
		return takeNumber(f, cell, 2, &r.second)
	case 'S':
		return takeFraction(f, cell, r)
	case 'a':
		return takeHalf(cell, r)
	}
	return takeZone(f, cell, r)
}

// takeLiteral reads what stands in the pattern; a blank in it stands for any one blank.
func takeLiteral(cell, literal []byte) ([]byte, bool) {
	if rest, ok := bytes.CutPrefix(cell, literal); ok {
		return rest, true
	}
	for len(literal) > 0 && len(cell) > 0 {
		c, n := utf8.DecodeRune(literal)
		d, m := utf8.DecodeRune(cell)
		if c != d && !(c == ' ' && (d == '\u00a0' || d == '\u202f')) {
			return nil, false
		}
		literal, cell = literal[n:], cell[m:]
	}
	return cell, len(literal) == 0
}

// takeNumber reads the digits of a field: as many as it is wide, or up to most where it is one wide or open to more.
func takeNumber(f *field, cell []byte, most int, to *int64) ([]byte, bool) {
	most = f.digits(most)
	n := 0
	for n < len(cell) && n < most && cell[n] >= '0' && cell[n] <= '9' {
		*to = *to*10 + int64(cell[n]-'0')
		n++
	}
	return cell[n:], n >= f.width
}

// digits is how many digits the field may have, of which the part of a date has most at most.
func (f *field) digits(most int) int {
	if !f.open || f.width > 1 && most == f.width {
		return f.width
	}
	return most
}

func (p *Pattern) takeYear(f *field, cell []byte, r *parsedDate) ([]byte, bool) {
	most := 4
	if f.width == 2 {
		most = 2
	}
	rest, ok := takeNumber(f, cell, most, &r.year)
	if f.width == 2 {
		r.year += p.pivot - p.pivot%100
		if r.year < p.pivot {
			r.year += 100
		}
	}
	return rest, ok
}

// Months are the English names of the months, in small letters.
var Months = [12]string{"january", "february", "march", "april", "may", "june", "july", "august", "september",
	"october", "november", "december"}

var weekdayNames = [...]string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}

// takeName reads an English name, in full or by its first three letters, and returns its number from 1.
func takeName(cell []byte, names []string, full bool, to *int64) ([]byte, bool) {
	n := 0
	for n < len(cell) && isLetter(cell[n]) {
		n++
	}
	if n == 0 {
		return nil, false
	}
	for i, name := range names {
		if name[0] != cell[0]|0x20 {
			continue
		}
		if !full {
			if n == 4 && name == "september" && bytes.EqualFold(cell[:n], []byte("sept")) {
				n--
				cell = cell[1:]
				*to = int64(i + 1)
				return cell[n:], true
			}
			name = name[:3]
		}
		if n == len(name) && bytes.EqualFold(cell[:n], []byte(name)) {
			*to = int64(i + 1)
			return cell[n:], true
		}
	}
	return nil, false
}

// takeFraction reads digits of a second; more than microseconds only when they are zero.
func takeFraction(f *field, cell []byte, r *parsedDate) ([]byte, bool) {
	for i := range f.width {
		if i >= len(cell) || cell[i] < '0' || cell[i] > '9' {
			return nil, false
		}
		if i < 6 {
			r.micro = r.micro*10 + int64(cell[i]-'0')
		} else if cell[i] != '0' {
			r.wrong = true
		}
	}
	for i := f.width; i < 6; i++ {
		r.micro *= 10
	}
	return cell[f.width:], true
}

func takeHalf(cell []byte, r *parsedDate) ([]byte, bool) {
	if len(cell) < 2 || cell[1]|0x20 != 'm' {
		return nil, false
	}
	r.half, r.afternoon = true, cell[0]|0x20 == 'p'
	return cell[2:], r.afternoon || cell[0]|0x20 == 'a'
}

// takeZone reads an offset from UTC, or Z where the field takes it (X, ZZZZZ).
func takeZone(f *field, cell []byte, r *parsedDate) ([]byte, bool) {
	r.zoned = true
	if (f.letter == 'X' || f.letter == 'Z' && f.width == 5) && len(cell) > 0 && cell[0] == 'Z' {
		return cell[1:], true
	}
	n := 0
	for n < len(cell) && (cell[n] >= '0' && cell[n] <= '9' || n == 0 || cell[n] == ':') {
		n++
	}
	offset, ok := value.ScanOffset(cell[:n])
	r.offset = offset
	return cell[n:], ok
}

// moment puts what was read together.
func (p *Pattern) moment(r *parsedDate) (value.Moment, outcome) {
	m := value.Moment{Dated: p.dated, Timed: p.timed, Zoned: r.zoned, Offset: r.offset}
	if p.dated {
		days, ok := value.Days(r.year, r.month, r.day)
		if !ok || r.weekday > 0 && (days%7+10)%7+1 != r.weekday {
			return m, nowhere
		}
		m.Days = days
	}
	if r.half {
		if r.hour < 1 || r.hour > 12 {
			return m, nowhere
		}
		r.hour %= 12
		if r.afternoon {
			r.hour += 12
		}
	}
	if r.minute > 59 || r.second > 59 || p.dated && r.hour > 23 || r.wrong {
		return m, nowhere
	}
	m.Micros = value.Clock(r.hour, r.minute, r.second) + r.micro
	return m, read
}

// Dates are patterns that are tried in order.
type Dates struct {
	patterns []*Pattern
	said     string
	refusal  error
}

var errNowhere error = reason.New(reason.NoSuchMoment)

// NewDates makes one notation of patterns.
func NewDates(patterns ...*Pattern) *Dates {
	names := make([]string, len(patterns))
	for i, p := range patterns {
		names[i] = p.text
	}
	return &Dates{patterns, strings.Join(names, " or "), reason.Because(reason.Why{Kind: reason.NotDateLike,
		List: reason.List(names...)})}
}

// Scan reads a cell by the first pattern that fits it. The error is a reason.Cause.
func (d *Dates) Scan(cell []byte) (value.Moment, error) {
	why := d.refusal
	for _, p := range d.patterns {
		m, v := p.scan(cell)
		switch v {
		case read:
			return m, nil
		case nowhere:
			why = errNowhere
		}
	}
	return value.Moment{}, why
}

// ScanPlain reads a cell by the first pattern, as days since 1970-01-01 and microseconds since midnight; not ok where Scan must
// look, no date stands in the cell, or a zone does.
func (d *Dates) ScanPlain(cell []byte) (days, micros int64, ok bool) {
	if len(d.patterns) == 0 {
		return 0, 0, false
	}
	p := d.patterns[0]
	if p.plain != nil {
		if days, micros, ok = p.plain.scan(cell); ok {
			return days, micros, true
		}
	}
	m, v := p.scanFields(cell)
	return m.Days, m.Micros, v == read && m.Dated && !m.Zoned
}

// Timed reports whether what ScanPlain reads has a time.
func (d *Dates) Timed() bool { return len(d.patterns) > 0 && d.patterns[0].timed }

func (d *Dates) String() string { return d.said }
