package survey

import (
	"bytes"
	"strings"

	"ladle/internal/core/notation"
)

// minute reads 2026-03-31 15:04, the form of dates with times that is met most; false for anything else.
func (r *cellForm) minute(text []byte) bool {
	t := (*[16]byte)(text)
	if t[4] != '-' || t[7] != '-' || t[10] != ' ' && t[10] != 'T' || t[13] != ':' {
		return false
	}
	year, month, day := two(t[0], t[1])*100+two(t[2], t[3]), two(t[5], t[6]), two(t[8], t[9])
	hour, minute := two(t[11], t[12]), two(t[14], t[15])
	if year < 1000 || year > 9999 || month < 1 || month > 12 || day < 1 || hour < 0 || hour > 23 || minute < 0 ||
		minute > 59 {
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

// date reads text as a date, perhaps with a time behind it.
func (r *cellForm) date(text []byte, of class) {
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
	// 03/04/2026 4:15 PM
	if at := bytes.IndexByte(text, ' '); at >= 6 && at < 11 && rest == nil && bytes.IndexByte(text[at:], ':') > 0 {
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
func (r *cellForm) day(text []byte) {
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
func (r *cellForm) numeric(parts [3][]byte, separator byte) {
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
	first := notation.CenturyFrom()
	full := first - first%100 + year
	if full < first {
		full += 100
	}
	return full
}

// take notes a date by one pattern, when there is such a day.
func (r *cellForm) take(pattern, year, month, day int) {
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
	for m, name := range notation.Months {
		if start == [3]byte([]byte(name[:3])) && (len(text) == 3 || strings.EqualFold(string(text), name)) {
			return m + 1
		}
	}
	return 0
}

// readTime reads 15:04, 15:04:05 with a fraction, a zone or AM and PM behind, and returns its pattern.
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
		return micros, pattern + offsetPattern, ok
	}
	if at := bytes.LastIndexAny(text, "+-"); at >= 4 {
		zone := bytes.ReplaceAll(text[at+1:], []byte(":"), nil)
		if !plainDigits(zone) || len(zone) != 2 && len(zone) != 4 {
			return 0, "", false
		}
		micros, pattern, ok = readTime(text[:at])
		return micros, pattern + offsetPattern, ok
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

// offsetPattern is that of an offset from UTC: Z, or hours and minutes with a colon (UTS 35 part 4).
const offsetPattern = "XXX"

var clockPatterns = [...]string{"H:mm", "HH:mm", "H:mm:ss", "HH:mm:ss"}

const hourMicros = 3600 * 1e6
