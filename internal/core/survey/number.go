package survey

import (
	"bytes"
	"math"
)

// decimal is a number by its digits.
type decimal struct {
	negative        bool
	whole, fraction []byte
}

// writing is how a number is written, besides its digits.
type writing struct {
	group     byte // the first of the mark between thousands; 0 for none
	before    string
	behind    string
	bracketed bool  // a negative one stands in brackets
	trailing  bool  // its minus stands behind
	as        forms // fitDot or fitComma, or both
}

// number reads text as a number, with a point and with a comma.
func (r *cellForm) number(text []byte, of class) {
	body, negative := text, false
	if of&^(classDigit|classDash|classPoint) == 0 {
		if body[0] == '-' {
			body, negative = body[1:], true
		}
		if r.simple(body, negative) {
			return
		}
		body, negative = text, false
	}
	if body[0] == '(' && len(body) > 2 && body[len(body)-1] == ')' {
		body, negative, r.writing.bracketed = body[1:len(body)-1], true, true
	}
	body = r.affixes(body)
	switch {
	case len(body) > 1 && (body[0] == '-' || body[0] == '+'):
		negative = negative || body[0] == '-'
		body = body[1:]
		if rest := r.affixes(body); len(rest) > 0 {
			body = rest
		}
	case len(body) > 2 && bytes.HasPrefix(body, []byte("\u2212")):
		negative, body = true, body[3:]
	case len(body) > 1 && body[len(body)-1] == '-':
		negative, r.writing.trailing, body = true, true, body[:len(body)-1]
	}
	if len(body) == 0 || body[0] < '0' && body[0] != '.' && body[0] != ',' || body[0] > '9' {
		return
	}
	dot, group, ok := separated(body, '.', ',')
	if ok {
		r.fits |= fitDot
		r.dot = dot
		r.dot.negative = negative
	}
	comma, otherGroup, otherOK := separated(body, ',', '.')
	if otherOK {
		r.fits |= fitComma
		r.comma = comma
		r.comma.negative = negative
	}
	r.writing.group = group
	if !ok {
		r.writing.group = otherGroup
	}
	if ok && otherOK && dot.compare(comma) != 0 {
		r.fits |= fitSwap
	}
	if ok || otherOK {
		r.zeros = len(body) > 1 && body[0] == '0' && body[1] >= '0' && body[1] <= '9'
		if r.zeros && r.writing == (writing{}) {
			r.fits &^= fitDot | fitComma // a number would lose the zero
		}
	}
}

// simple reads digits, perhaps with one point among them that can't part thousands; false for anything else.
func (r *cellForm) simple(body []byte, negative bool) bool {
	point := -1
	for i, c := range body {
		if c >= '0' && c <= '9' {
			continue
		}
		if c != '.' || point >= 0 {
			return false
		}
		point = i
	}
	switch {
	case len(body) == 0:
		return false
	case point < 0:
		r.plain(body, negative)
		return true
	case point == 0 || point == len(body)-1 || len(body)-point == 4 && point <= 3 && body[0] != '0' || body[0] == '0' &&
		point > 1:
		return false
	}
	r.fits |= fitDot
	r.dot = decimal{negative, body[:point], body[point+1:]}
	return true
}

func (r *cellForm) plain(text []byte, negative bool) {
	if len(text) > 1 && text[0] == '0' {
		r.zeros = true
		return
	}
	r.fits |= fitWhole | fitDot | fitComma
	r.dot = decimal{negative: negative, whole: text}
	r.comma = r.dot
}

func plainDigits(text []byte) bool {
	for _, c := range text {
		if c < '0' || c > '9' {
			return false
		}
	}
	return len(text) > 0
}

// marks are what stands before or behind numbers.
var marks = []string{"€", "$", "£", "¥", "₽", "zł", "kr", "Fr.", "EUR", "USD", "GBP", "CHF", "NOK", "SEK", "DKK", "PLN",
	"%", "‰"}

// affixes takes currency and percent signs off.
func (r *cellForm) affixes(body []byte) []byte {
	if first, last := body[0], body[len(body)-1]; !startsMark[first] && !endsMark[last] {
		return body
	}
	for _, m := range marks {
		if m[0] != body[0] && m[len(m)-1] != body[len(body)-1] {
			continue
		}
		if rest, ok := bytes.CutPrefix(body, []byte(m)); ok && r.writing.before == "" {
			r.writing.before = m
			body = bytes.TrimLeft(rest, " \u00a0\u202f")
		}
		if rest, ok := bytes.CutSuffix(body, []byte(m)); ok && r.writing.behind == "" {
			r.writing.behind = m
			if trimmed := bytes.TrimRight(rest, " \u00a0\u202f"); len(trimmed) < len(rest) {
				r.writing.behind = " " + m
				rest = trimmed
			}
			body = rest
		}
	}
	return body
}

// startsMark and endsMark have the first and last bytes of marks.
var startsMark, endsMark = func() (first, last [256]bool) {
	for _, m := range marks {
		first[m[0]], last[m[len(m)-1]] = true, true
	}
	return first, last
}()

// separated reads digits with point before the fraction; thousands may be grouped by other, a blank or an apostrophe.
func separated(body []byte, point, other byte) (d decimal, group byte, ok bool) {
	whole := body
	if at := bytes.IndexByte(body, point); at >= 0 {
		whole, d.fraction = body[:at], body[at+1:]
		if !plainDigits(d.fraction) {
			return d, 0, false
		}
	}
	if plainDigits(whole) {
		d.whole = whole
		return d, 0, true
	}
	if len(whole) == 0 {
		return d, 0, d.fraction != nil
	}
	for _, g := range [...]string{",", ".", " ", "'", "\u00a0", "\u202f", "\u2019"} {
		if g[0] != point && (g[0] == other || g[0] != '.' && g[0] != ',') {
			if digits, ok := ungroup(whole, g); ok {
				d.whole = digits
				return d, g[0], true
			}
		}
	}
	return d, 0, false
}

// ungroup takes the marks between groups of three digits out.
func ungroup(text []byte, mark string) ([]byte, bool) {
	first := bytes.Index(text, []byte(mark))
	if first < 1 || first > 3 || text[0] == '0' || !plainDigits(text[:first]) {
		return nil, false
	}
	digits := bytes.Clone(text[:first])
	for rest := text[first:]; len(rest) > 0; {
		group, ok := bytes.CutPrefix(rest, []byte(mark))
		if !ok || len(group) < 3 || !plainDigits(group[:3]) {
			return nil, false
		}
		digits, rest = append(digits, group[:3]...), group[3:]
	}
	return digits, true
}

// compare orders numbers.
func (d decimal) compare(e decimal) int {
	if d.negative != e.negative {
		if d.isZero() && e.isZero() {
			return 0
		}
		if d.negative {
			return -1
		}
		return 1
	}
	n := d.compareSize(e)
	if d.negative {
		return -n
	}
	return n
}

func (d decimal) isZero() bool {
	return len(bytes.Trim(d.whole, "0")) == 0 && len(bytes.Trim(d.fraction, "0")) == 0
}

func (d decimal) compareSize(e decimal) int {
	a, b := bytes.TrimLeft(d.whole, "0"), bytes.TrimLeft(e.whole, "0")
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	if n := bytes.Compare(a, b); n != 0 {
		return n
	}
	return bytes.Compare(bytes.TrimRight(d.fraction, "0"), bytes.TrimRight(e.fraction, "0"))
}

func (d decimal) clone() decimal {
	return decimal{d.negative, bytes.Clone(d.whole), bytes.Clone(d.fraction)}
}

// String is the number in plain digits.
func (d decimal) String() string {
	s := string(d.whole)
	if s == "" {
		s = "0"
	}
	if len(d.fraction) > 0 {
		s += "." + string(d.fraction)
	}
	if d.negative {
		s = "-" + s
	}
	return s
}

// exactDigits is how many decimal digits a float64 always tells apart.
const exactDigits = 15

// exact reports whether a float tells the number apart from all others that do so.
func (d decimal) exact() bool { return len(d.whole)+len(d.fraction) <= exactDigits }

// powers are those of ten that are exact.
var powers = [exactDigits + 1]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// float is the float nearest to an exact number, and near any other one.
func (d decimal) float() (f float64) {
	for _, c := range d.whole {
		f = f*10 + float64(c-'0')
	}
	if d.exact() {
		for _, c := range d.fraction {
			f = f*10 + float64(c-'0')
		}
		f /= powers[len(d.fraction)]
	} else {
		unit := 1.0
		for _, c := range d.fraction {
			unit /= 10
			f += float64(c-'0') * unit
		}
	}
	if d.negative {
		return -f
	}
	return f
}

// example writes a number in the notation of the ladle file: by example.
func (w writing) example(point byte, fraction bool) string {
	s := "1234"
	if w.group != 0 {
		group := string(w.group)
		if w.group >= 0x80 {
			group = "\u00a0"
		}
		s = "1" + group + "234"
	}
	switch { // without a fraction, 1,234 would not tell what its comma parts
	case fraction:
		s += string(point) + "5"
	case w.group == ',':
		s += ".5"
	case w.group == '.':
		s += ",5"
	}
	s = w.before + s + w.behind
	switch {
	case w.bracketed:
		s = "(" + s + ")"
	case w.trailing:
		s += "-"
	}
	return s
}

// bucketOf is that of a histogram of numbers: those with the same sign, exponent and first bits.
func bucketOf(f float64) int32 { return int32(int64(math.Float64bits(f)) >> 46) }

func bucketStart(b int32) float64 { return math.Float64frombits(uint64(int64(b) << 46)) }
