package survey

import (
	"bytes"
	"math"
	"slices"
	"strings"
	"time"
)

// fits says as what a cell can be read, a bit for each reading.
type fits uint32

const (
	fitWhole fits = 1 << iota // a whole number without marks
	fitDot                    // a number with a decimal point
	fitComma                  // a number with a decimal comma
	fitTime                   // a time of day
	fitTruth                  // yes or no, in some words
	fitClock                  // a date with a time
	fitSwap                   // point and comma could be swapped, and it would be another number
	fitDate                   // the first of dates; those behind it are the other ways to write one
)

// datePatterns are the ways to write a date, in Unicode (LDML) patterns. Those whose day and month could be swapped
// stand beside each other.
var datePatterns = []string{"yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "dd-MM-yyyy", "MM-dd-yyyy", "yyyy/MM/dd",
	"yyyyMMdd", "dd MMM yyyy", "MMM dd, yyyy", "dd/MM/yy", "MM/dd/yy", "dd.MM.yy", "yyyy.MM.dd", "dd-MMM-yyyy"}

// swapped is for each pattern the one with day and month the other way round, or -1.
var swapped = []int{-1, 2, 1, -1, 5, 4, -1, -1, -1, -1, 11, 10, -1, -1, -1}

const anyDate = (1<<15 - 1) * fitDate

func dateFit(pattern int) fits { return fitDate << pattern }

// seen is what a cell says, as far as it could be a number, a date or the like.
type seen struct {
	fits       fits
	dot, comma decimal // the number in both readings
	moment     [2]int64
	patterns   [2]int // of moment; -1 for none
	short      bool   // day or month have a single digit
	clock      string // the pattern of the time
	micros     int64  // the time
	writing    writing
	zeros      bool // digits that start with a zero
}

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
	bracketed bool // a negative one stands in brackets
	trailing  bool // its minus stands behind
	as        fits // fitDot or fitComma, or both
}

// readCell finds all that a cell, without outer blanks and of these classes, could be.
func readCell(text []byte, of class) seen {
	r := seen{patterns: [2]int{-1, -1}}
	if len(text) == 0 || len(text) > 40 {
		return r
	}
	if !of.has(classDigit) {
		if isTruth(text) {
			r.fits = fitTruth
		}
		return r
	}
	if len(text) == 16 && of.has(classColon) && r.minute(text) {
		return r
	}
	if !of.has(classSlash | classColon) {
		r.number(text, of)
	}
	if of.has(classDash|classSlash|classPoint|classLetter) || len(text) == 8 {
		if r.fits&fitWhole == 0 || len(text) == 8 {
			r.date(text, of)
		}
	}
	if of.has(classColon) && r.fits == 0 {
		if micros, pattern, ok := readTime(text); ok {
			r.fits |= fitTime
			r.micros, r.clock = micros, pattern
		}
	}
	return r
}

// minute reads 2026-03-31 15:04, the form of dates with times that is met most; false for anything else.
func (r *seen) minute(text []byte) bool {
	t := (*[16]byte)(text)
	if t[4] != '-' || t[7] != '-' || t[10] != ' ' && t[10] != 'T' || t[13] != ':' {
		return false
	}
	year, month, day := two(t[0], t[1])*100+two(t[2], t[3]), two(t[5], t[6]), two(t[8], t[9])
	hour, minute := two(t[11], t[12]), two(t[14], t[15])
	if year < 1000 || year > 9999 || month < 1 || month > 12 || day < 1 || hour < 0 || hour > 23 || minute < 0 || minute > 59 {
		return false
	}
	days, ok := dayNumber(year, month, day)
	if !ok {
		return false
	}
	r.fits, r.clock = dateFit(0)|fitClock, clockPatterns[1]
	r.patterns[0], r.moment[0] = 0, days*24*hourMicros+int64(hour*60+minute)*60*1e6
	return true
}

// two is the number of two digits; far below zero when they are none.
func two(a, b byte) int {
	if a < '0' || a > '9' || b < '0' || b > '9' {
		return -1 << 20
	}
	return int(a-'0')*10 + int(b-'0')
}

// truths are pairs of words for yes and no.
var truths = [][2]string{{"yes", "no"}, {"true", "false"}, {"y", "n"}, {"t", "f"}, {"ja", "nein"}, {"oui", "non"}, {"x", ""}, {"on", "off"}}

func isTruth(text []byte) bool {
	if len(text) > 5 {
		return false
	}
	for _, pair := range truths {
		if strings.EqualFold(string(text), pair[0]) || strings.EqualFold(string(text), pair[1]) {
			return true
		}
	}
	return false
}

// number reads text as a number, with a point and with a comma.
func (r *seen) number(text []byte, of class) {
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
func (r *seen) simple(body []byte, negative bool) bool {
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
	case point == 0 || point == len(body)-1 || len(body)-point == 4 && point <= 3 && body[0] != '0' || body[0] == '0' && point > 1:
		return false
	}
	r.fits |= fitDot
	r.dot = decimal{negative, body[:point], body[point+1:]}
	return true
}

func (r *seen) plain(text []byte, negative bool) {
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
var marks = []string{"€", "$", "£", "¥", "₽", "zł", "kr", "Fr.", "EUR", "USD", "GBP", "CHF", "NOK", "SEK", "DKK", "PLN", "%", "‰"}

// affixes takes currency and percent signs off.
func (r *seen) affixes(body []byte) []byte {
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

// float is near the number, for histograms.
func (d decimal) float() float64 {
	f := 0.0
	for _, c := range d.whole {
		f = f*10 + float64(c-'0')
	}
	unit := 1.0
	for _, c := range d.fraction {
		unit /= 10
		f += float64(c-'0') * unit
	}
	if d.negative {
		return -f
	}
	return f
}

// date reads text as a date, perhaps with a time behind it.
func (r *seen) date(text []byte, of class) {
	if !of.has(classColon) {
		r.day(text)
		for _, p := range r.patterns {
			if p >= 0 {
				r.fits |= dateFit(p)
			}
		}
		return
	}
	day, rest := text, []byte(nil)
	if len(text) > 11 && text[4] == '-' && text[7] == '-' && (text[10] == ' ' || text[10] == 'T') {
		day, rest = text[:10], text[11:]
	} else if at := bytes.IndexAny(text, "T"); at >= 8 && at <= 10 && text[0] <= '9' {
		day, rest = text[:at], text[at+1:]
	} else if at := bytes.LastIndexByte(text, ' '); at >= 6 && bytes.IndexByte(text[at:], ':') > 0 {
		if before := bytes.TrimSpace(text[:at]); !isHalf(text[at+1:]) {
			day, rest = before, text[at+1:]
		}
	}
	if at := bytes.IndexByte(text, ' '); at >= 6 && at < 11 && rest == nil && bytes.IndexByte(text[at:], ':') > 0 { // 03/04/2026 4:15 PM
		day, rest = text[:at], text[at+1:]
	}
	micros, pattern := int64(0), ""
	if rest != nil {
		ok := false
		if micros, pattern, ok = readTime(rest); !ok {
			return
		}
	}
	r.day(day)
	if r.patterns[0] < 0 {
		return
	}
	for i, p := range r.patterns {
		if p >= 0 {
			r.fits |= dateFit(p)
			r.moment[i] += micros
		}
	}
	if rest != nil {
		r.fits |= fitClock
		r.clock = pattern
	}
}

func isHalf(text []byte) bool {
	return strings.EqualFold(string(text), "am") || strings.EqualFold(string(text), "pm")
}

// day reads a date without a time.
func (r *seen) day(text []byte) {
	if len(text) == 10 && text[4] == '-' && text[7] == '-' {
		r.take(0, whole(text[:4]), whole(text[5:7]), whole(text[8:]))
		return
	}
	if len(text) == 8 && plainDigits(text) {
		r.take(7, whole(text[:4]), whole(text[4:6]), whole(text[6:]))
		return
	}
	var parts [3][]byte
	var separators [2]byte
	n, start := 0, 0
	for i, c := range text {
		if c != '-' && c != '/' && c != '.' && c != ' ' && c != ',' {
			continue
		}
		if i == start { // a blank behind a comma or point
			start++
			continue
		}
		if n == 2 {
			return
		}
		parts[n], separators[n] = text[start:i], c
		n, start = n+1, i+1
	}
	if n != 2 || start >= len(text) {
		return
	}
	parts[2] = text[start:]
	if month := monthOf(parts[1]); month > 0 && len(parts[2]) == 4 {
		pattern := 8
		if separators[0] == '-' {
			pattern = 14
		}
		r.short = len(parts[0]) == 1
		r.take(pattern, whole(parts[2]), month, whole(parts[0]))
		return
	}
	if month := monthOf(parts[0]); month > 0 && len(parts[2]) == 4 {
		r.short = len(parts[1]) == 1
		r.take(9, whole(parts[2]), month, whole(parts[1]))
		return
	}
	if separators[0] != separators[1] {
		return
	}
	r.numeric(parts, separators[0])
}

// numeric reads three numbers with a separator between them.
func (r *seen) numeric(parts [3][]byte, separator byte) {
	a, b, c := whole(parts[0]), whole(parts[1]), whole(parts[2])
	if a < 0 || b < 0 || c < 0 || len(parts[1]) > 2 {
		return
	}
	if len(parts[0]) == 4 && len(parts[2]) <= 2 {
		r.short = len(parts[1]) == 1 || len(parts[2]) == 1
		switch separator {
		case '-':
			r.take(0, a, b, c)
		case '/':
			r.take(6, a, b, c)
		case '.':
			r.take(13, a, b, c)
		}
		return
	}
	if len(parts[0]) > 2 {
		return
	}
	r.short = len(parts[0]) == 1 || len(parts[1]) == 1
	long := len(parts[2]) == 4
	if !long {
		if len(parts[2]) != 2 {
			return
		}
		c = century(c)
	}
	switch {
	case separator == '/' && long:
		r.take(1, c, b, a)
		r.take(2, c, a, b)
	case separator == '/':
		r.take(10, c, b, a)
		r.take(11, c, a, b)
	case separator == '.' && long:
		r.take(3, c, b, a)
	case separator == '.':
		r.take(12, c, b, a)
	case separator == '-' && long:
		r.take(4, c, b, a)
		r.take(5, c, a, b)
	}
}

// century puts a year of two digits into the hundred years of which eighty lie behind (LDML, date format pattern yy).
func century(year int) int {
	now := time.Now().Year()
	full := now - now%100 + year
	if full > now+20 {
		full -= 100
	}
	return full
}

// take notes a date by one pattern, when there is such a day.
func (r *seen) take(pattern, year, month, day int) {
	if year < 1000 || year > 9999 || month < 1 || month > 12 || day < 1 || day > 31 {
		return
	}
	days, ok := dayNumber(year, month, day)
	if !ok || pattern == 7 && (year < 1900 || year > 2100) {
		return
	}
	i := 0
	if r.patterns[0] >= 0 {
		i = 1
	}
	r.patterns[i], r.moment[i] = pattern, days*24*hourMicros
}

// dayNumber counts the days from 1970-01-01 (days from civil, the proleptic Gregorian calendar of ISO 8601); not ok for
// a day that isn't there.
func dayNumber(year, month, day int) (int64, bool) {
	leap := year%4 == 0 && (year%100 != 0 || year%400 == 0)
	if last := monthDays[month]; day > last && !(month == 2 && day == 29 && leap) {
		return 0, false
	}
	y, m := int64(year), int64(month)
	if m <= 2 {
		y, m = y-1, m+12
	}
	return 365*y + y/4 - y/100 + y/400 + (153*m-457)/5 + int64(day) - 719469, true
}

var monthDays = [13]int{0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// whole is a small number; -1 when text is none.
func whole(text []byte) int {
	if len(text) > 4 || !plainDigits(text) {
		return -1
	}
	n := 0
	for _, c := range text {
		n = n*10 + int(c-'0')
	}
	return n
}

// monthOf is the month with that English name or its first three letters; 0 for none.
func monthOf(text []byte) int {
	if len(text) < 3 || len(text) > len("September") {
		return 0
	}
	start := [3]byte{text[0] | 0x20, text[1] | 0x20, text[2] | 0x20}
	for m, name := range months {
		if start == [3]byte([]byte(name[:3])) && (len(text) == 3 || strings.EqualFold(string(text), name)) {
			return m + 1
		}
	}
	return 0
}

var months = [12]string{"january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december"}

// readTime reads 15:04, 15:04:05 with a fraction, a zone or AM and PM behind, and gives its pattern.
func readTime(text []byte) (micros int64, pattern string, ok bool) {
	last := text[len(text)-1]
	if last >= '0' && last <= '9' && bytes.IndexByte(text, '-') < 0 && bytes.IndexByte(text, '+') < 0 {
		return readClock(text)
	}
	if half := bytes.TrimRight(text, " apmAPM"); len(text)-len(half) >= 2 && isHalf(bytes.TrimSpace(text[len(half):])) {
		afternoon := text[len(text)-2] == 'p' || text[len(text)-2] == 'P'
		micros, pattern, ok = readTime(half)
		hour := micros / hourMicros
		if !ok || hour < 1 || hour > 12 {
			return 0, "", false
		}
		if hour == 12 {
			micros -= 12 * hourMicros
		}
		if afternoon {
			micros += 12 * hourMicros
		}
		return micros, "h" + strings.TrimLeft(pattern, "Hh") + " a", true
	}
	if n := len(text); n > 1 && text[n-1] == 'Z' {
		micros, pattern, ok = readTime(text[:n-1])
		return micros, pattern + "XXX", ok
	}
	if at := bytes.LastIndexAny(text, "+-"); at >= 4 {
		zone := bytes.ReplaceAll(text[at+1:], []byte(":"), nil)
		if !plainDigits(zone) || len(zone) != 2 && len(zone) != 4 {
			return 0, "", false
		}
		micros, pattern, ok = readTime(text[:at])
		return micros, pattern + "XXX", ok
	}
	return readClock(text)
}

// readClock reads 15:04 or 15:04:05 with a fraction.
func readClock(text []byte) (micros int64, pattern string, ok bool) {
	at := bytes.IndexByte(text, ':')
	if at != 1 && at != 2 || len(text) < at+3 {
		return 0, "", false
	}
	hour, minute, second := whole(text[:at]), whole(text[at+1:at+3]), 0
	rest := text[at+3:]
	pattern = clockPatterns[at-1]
	if len(rest) >= 3 && rest[0] == ':' {
		second = whole(rest[1:3])
		rest, pattern = rest[3:], clockPatterns[at+1]
		if len(rest) > 1 && len(rest) <= 10 && rest[0] == '.' && plainDigits(rest[1:]) {
			rest, pattern = nil, pattern+"."+strings.Repeat("S", len(rest)-1)
		}
	}
	if len(rest) > 0 || hour < 0 || hour > 23 || minute < 0 || minute > 59 || second < 0 || second > 59 {
		return 0, "", false
	}
	return int64(hour*3600+minute*60+second) * 1e6, pattern, true
}

var clockPatterns = [...]string{"H:mm", "HH:mm", "H:mm:ss", "HH:mm:ss"}

const hourMicros = 3600 * 1e6

// blanks are words that stand for a value that isn't there.
var blanks = []string{"n/a", "na", "n.a.", "null", "none", "nil", "-", "--", "---", "?", "??", ".", "..", "unknown", "tbd", "tba", "tbc", "#n/a", "nan", "void",
	"not available", "not known", "missing", "(blank)", "blank", "empty", "<null>", `\n`, "\u2013", "\u2014", "xxx"}

// blankStarts has the first bytes of blanks.
var blankStarts = func() (all [256]bool) {
	for _, b := range blanks {
		all[b[0]] = true
		all[strings.ToUpper(b)[0]] = true
	}
	return all
}()

// isBlankWord tells whether a cell only says that there is nothing.
func isBlankWord(text []byte) bool {
	return len(text) <= 13 && blankStarts[text[0]] && slices.Contains(blanks, strings.ToLower(string(text)))
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
	if fraction {
		s += string(point) + "5"
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
