package value

import (
	"bytes"
	"errors"
	"time"
)

const (
	micro = int64(time.Second / time.Microsecond)
	dayOf = 24 * 60 * 60 * micro
)

// parseMoment reads the ISO 8601 forms 2006-01-02, 15:04[:05[.000000]] and both with a blank or T between.
func parseMoment(t Type, cell []byte) (int64, error) {
	switch t.Kind {
	case Date:
		days, rest, ok := isoDate(cell)
		switch {
		case !ok:
			return 0, errors.New("is not a date like 2026-03-31")
		case len(rest) > 0:
			return 0, errors.New("has more in it than a date like 2026-03-31")
		}
		return days, nil
	case Time:
		n, ok := isoTime(cell)
		if !ok {
			return 0, errors.New("is not a time like 15:04 or 15:04:05")
		}
		return n, keepsStep(t, n)
	}
	days, rest, ok := isoDate(cell)
	if !ok || len(rest) > 0 && rest[0] != ' ' && rest[0] != 'T' {
		return 0, errors.New("is not a date and time like 2026-03-31 15:04")
	}
	if len(rest) == 0 {
		return 0, errors.New("is a date without a time")
	}
	clock, offset, zoned := cutZone(rest[1:])
	n, ok := isoTime(clock)
	switch {
	case !ok:
		return 0, errors.New("is not a date and time like 2026-03-31 15:04")
	case zoned && !t.Zoned:
		return 0, errors.New("says a zone, which the column would lose")
	case !zoned && t.Zoned:
		return 0, errors.New("doesn't say its zone (Z, or an offset like +02:00)")
	}
	return days*dayOf + n - offset, keepsStep(t, n)
}

// cutZone takes Z or an offset like +02:00, +0200 or +02 off a time; offset is in microseconds.
func cutZone(b []byte) (clock []byte, offset int64, zoned bool) {
	if n := len(b); n > 0 && b[n-1] == 'Z' {
		return b[:n-1], 0, true
	}
	at := bytes.LastIndexAny(b, "+-")
	if at < 0 {
		return b, 0, false
	}
	digits := bytes.Replace(b[at+1:], []byte{':'}, nil, 1)
	if len(digits) != 2 && len(digits) != 4 || !allDigits(digits) {
		return b, 0, false
	}
	offset = number(digits[:2]) * 60
	if len(digits) == 4 {
		offset += number(digits[2:])
	}
	if b[at] == '-' {
		offset = -offset
	}
	return b[:at], offset * 60 * micro, true
}

func keepsStep(t Type, n int64) error {
	if t.Step > 0 && n%t.Step != 0 {
		return errors.New("is finer than the times in this column")
	}
	return nil
}

// isoDate reads a date at the start of b and gives the days since 1970-01-01 and what stands behind it.
func isoDate(b []byte) (days int64, rest []byte, ok bool) {
	if len(b) < 10 || b[4] != '-' || b[7] != '-' || !allDigits(b[:4]) || !allDigits(b[5:7]) || !allDigits(b[8:10]) {
		return 0, nil, false
	}
	y, m, d := number(b[:4]), number(b[5:7]), number(b[8:10])
	if y < 1 || m < 1 || m > 12 || d < 1 || d > daysIn(y, m) {
		return 0, nil, false
	}
	return civil(y, m, d), b[10:], true
}

// isoTime reads a whole time of day: 15:04, 15:04:05 or with up to six digits of a fraction.
func isoTime(b []byte) (int64, bool) {
	if len(b) < 5 || b[2] != ':' || !allDigits(b[:2]) || !allDigits(b[3:5]) {
		return 0, false
	}
	h, m, s, fraction := number(b[:2]), number(b[3:5]), int64(0), int64(0)
	if b = b[5:]; len(b) > 0 {
		if len(b) < 3 || b[0] != ':' || !allDigits(b[1:3]) {
			return 0, false
		}
		s, b = number(b[1:3]), b[3:]
	}
	if len(b) > 0 {
		if b[0] != '.' || len(b) < 2 || len(b) > 7 || !allDigits(b[1:]) {
			return 0, false
		}
		fraction = number(b[1:])
		for range 7 - len(b) {
			fraction *= 10
		}
	}
	if h > 23 || m > 59 || s > 59 {
		return 0, false
	}
	return ((h*60+m)*60+s)*micro + fraction, true
}

func number(b []byte) (n int64) {
	for _, c := range b {
		n = n*10 + int64(c-'0')
	}
	return n
}

func daysIn(y, m int64) int64 {
	switch m {
	case 2:
		if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

// civil counts the days from 1970-01-01 in the proleptic Gregorian calendar, years counted from March.
func civil(y, m, d int64) int64 {
	if m <= 2 {
		y, m = y-1, m+12
	}
	const shift = 719469 // days from 0000-03-01 to 1970-01-01, plus one since d counts from 1
	return 365*y + y/4 - y/100 + y/400 + (153*(m-3)+2)/5 + d - shift
}

// uncivil is the inverse of civil.
func uncivil(days int64) (y, m, d int64) {
	t := time.Unix(days*24*60*60, 0).UTC()
	return int64(t.Year()), int64(t.Month()), int64(t.Day())
}

func two(b []byte, n int64) []byte { return append(b, byte('0'+n/10), byte('0'+n%10)) }

// AppendDate adds a number of days since 1970-01-01 as 2006-01-02.
func AppendDate(b []byte, days int64) []byte {
	y, m, d := uncivil(days)
	b = two(two(b, y/100), y%100)
	return two(append(two(append(b, '-'), m), '-'), d)
}

// AppendTime adds microseconds since midnight as 15:04:05, or 15:04 where step is whole minutes, with as many
// digits of a fraction as are not zero.
func AppendTime(b []byte, n, step int64) []byte {
	s := n / micro
	b = two(append(two(b, s/3600), ':'), s/60%60)
	if step >= 60*micro {
		return b
	}
	b = two(append(b, ':'), s%60)
	if fraction := n % micro; fraction > 0 {
		b = append(b, '.')
		for unit := micro / 10; fraction > 0; unit /= 10 {
			b = append(b, byte('0'+fraction/unit))
			fraction %= unit
		}
	}
	return b
}

// AppendDateTime adds a date and time with sep between them.
func AppendDateTime(b []byte, n int64, sep byte, step int64) []byte {
	days := n / dayOf
	if n%dayOf < 0 {
		days--
	}
	return AppendTime(append(AppendDate(b, days), sep), n-days*dayOf, step)
}
