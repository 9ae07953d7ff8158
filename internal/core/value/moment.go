package value

import (
	"bytes"
	"fmt"
	"time"

	"ladle/internal/core/reason"
)

const (
	micro = int64(time.Second / time.Microsecond)
	dayOf = 24 * 60 * 60 * micro
)

// Moment is a date, a time, or both, by what is written of it.
type Moment struct {
	Days   int64 // since 1970-01-01
	Micros int64 // since midnight; of a time without a date, it may pass 24 hours or be below zero
	Offset int64 // from UTC, in microseconds; east of it is more
	Dated  bool  // there is a date
	Timed  bool  // there is a time
	Zoned  bool  // the offset is said
}

// Instant is the moment in microseconds since 1970-01-01, in UTC where its offset is said; of a time without a date, since
// midnight.
func (m Moment) Instant() int64 { return m.Days*dayOf + m.Micros - m.Offset }

// ScanMoment reads the ISO 8601 forms 2006-01-02, 15:04[:05[.000000]] and both with a blank or T between, these also
// with an offset or Z behind. A time alone may pass 24:00.
func ScanMoment(cell []byte) (m Moment, ok bool) {
	days, rest, dated := isoDate(cell)
	if !dated {
		m.Micros, m.Timed = isoSpan(cell)
		return m, m.Timed
	}
	m.Days, m.Dated = days, true
	if len(rest) == 0 {
		return m, true
	}
	if rest[0] != ' ' && rest[0] != 'T' {
		return m, false
	}
	clock, offset, zoned := cutZone(rest[1:])
	m.Offset, m.Zoned = offset, zoned
	m.Micros, m.Timed = isoTime(clock)
	return m, m.Timed
}

// AppendMoment adds m in its canonical text, which ScanMoment reads.
func AppendMoment(b []byte, m Moment) []byte {
	switch {
	case !m.Dated:
		return AppendTime(b, m.Micros, 0)
	case !m.Timed:
		return AppendDate(b, m.Days)
	case m.Zoned:
		return append(AppendDateTime(b, m.Days*dayOf+m.Micros-m.Offset, ' ', 0), 'Z')
	}
	return AppendDateTime(b, m.Days*dayOf+m.Micros, ' ', 0)
}

// parseMoment reads a cell in ISO 8601.
func parseMoment(c *Column, t Type, cell []byte, zone *time.Location) error {
	m, ok := ScanMoment(cell)
	switch {
	case ok && (t.Kind != Date || !m.Timed) && (t.Kind != DateTime || m.Dated && m.Timed):
		return putMoment(c, t, m, zone)
	case t.Kind == Time:
		return reason.New(reason.NotTime)
	case t.Kind == Date && m.Dated:
		return reason.New(reason.MoreThanDate)
	case t.Kind == Date:
		return reason.New(reason.NotDate)
	case ok && m.Dated:
		return reason.New(reason.DateWithoutTime)
	}
	return reason.New(reason.NotDateTime)
}

// PutMoment adds m to c, a column for values of t, when it is one: a date alone is the midnight that it starts with,
// and a time of nothing behind a date may fall away. zone, when not nil, is that of times that don't say theirs, and of
// the column where it keeps none. Otherwise it adds Bad, and the error is a reason.Cause.
func PutMoment(c *Column, t Type, m Moment, zone *time.Location) error {
	err := putMoment(c, t, m, zone)
	if err != nil {
		c.AppendState(Bad)
	}
	return err
}

// PutPlain adds a date, in days since 1970-01-01, with the time since midnight, in microseconds, and no zone, to c, a column for
// values of t, when that is plainly one; false, with nothing added, when it needs a closer look.
func PutPlain(c *Column, t *Type, days, micros int64) bool {
	switch {
	case t.Kind == Date && micros == 0:
		c.AppendNum(days)
	case t.Kind == DateTime && !t.Zoned && (t.Step <= 1 || micros%t.Step == 0):
		c.AppendNum(days*dayOf + micros)
	default:
		return false
	}
	return true
}

func putMoment(c *Column, t Type, m Moment, zone *time.Location) error {
	switch t.Kind {
	case Date:
		if !m.Dated {
			return reason.New(reason.TimeWithoutDate)
		}
		if m.Micros != 0 || m.Zoned {
			return reason.New(reason.TimeLost)
		}
		c.AppendNum(m.Days)
		return nil
	case Time:
		return putTime(c, t, m)
	case DateTime:
		n, err := m.at(t, zone)
		if err == nil {
			err = keepsStep(t, n)
		}
		if err == nil {
			c.AppendNum(n)
		}
		return err
	case Text:
		return parseText(c, t, AppendMoment(nil, m))
	}
	return reason.Because(reason.Why{Kind: reason.MomentForType, Type: t.Kind.String()})
}

func putTime(c *Column, t Type, m Moment) error {
	switch {
	case m.Dated:
		return reason.New(reason.DateLost)
	case !t.Long && (m.Micros < 0 || m.Micros >= dayOf):
		return reason.New(reason.PastMidnight)
	case t.Long && t.Most != 0 && (m.Micros < t.Least || m.Micros > t.Most):
		return reason.Because(reason.Why{Kind: reason.OutOfRange, Least: string(AppendTime(nil, t.Least, 0)),
			Most: string(AppendTime(nil, t.Most, 0))})
	}
	if err := keepsStep(t, m.Micros); err != nil {
		return err
	}
	c.AppendNum(m.Micros)
	return nil
}

// at is m as a column of dates with times keeps it.
func (m Moment) at(t Type, zone *time.Location) (int64, error) {
	local := m.Days*dayOf + m.Micros
	switch {
	case !m.Dated:
		return 0, reason.New(reason.TimeWithoutDate)
	case m.Zoned && t.Zoned:
		return local - m.Offset, nil
	case m.Zoned && zone != nil:
		return local - m.Offset + offsetAt(zone, local-m.Offset), nil
	case m.Zoned:
		return 0, reason.New(reason.ZoneLost)
	case t.Zoned && zone != nil:
		return InZone(local, zone)
	case t.Zoned:
		return 0, reason.New(reason.ZoneMissing)
	}
	return local, nil
}

// offsetAt is the offset of the zone's clocks from UTC, in microseconds, at a number of microseconds since 1970-01-01.
func offsetAt(zone *time.Location, utc int64) int64 {
	_, seconds := time.UnixMicro(utc).In(zone).Zone()
	return int64(seconds) * micro
}

// InZone returns the moment, in microseconds since 1970-01-01 in UTC, at which the clocks of zone show local. It is an
// error when they never do, or twice, because they are set forward or back.
func InZone(local int64, zone *time.Location) (int64, error) {
	before, after := offsetAt(zone, local-dayOf), offsetAt(zone, local+dayOf)
	first, second := local-before, local-after
	isFirst, isSecond := offsetAt(zone, first) == before, offsetAt(zone, second) == after
	switch {
	case isFirst && isSecond && first != second:
		return 0, reason.Because(reason.Why{Kind: reason.ClockTwice, Text: zone.String()})
	case isFirst:
		return first, nil
	case isSecond:
		return second, nil
	}
	return 0, reason.Because(reason.Why{Kind: reason.ClockNever, Text: zone.String()})
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
	offset, ok := ScanOffset(b[at:])
	if !ok {
		return b, 0, false
	}
	return b[:at], offset, true
}

// ScanOffset reads an offset from UTC like +02:00, -0330 or +02, in microseconds.
func ScanOffset(b []byte) (offset int64, ok bool) {
	if len(b) < 3 || b[0] != '+' && b[0] != '-' {
		return 0, false
	}
	hours, minutes := b[1:3], b[3:]
	if len(minutes) == 3 && minutes[0] == ':' {
		minutes = minutes[1:]
	}
	if len(minutes) != 0 && len(minutes) != 2 || !AllDigits(hours) || !AllDigits(minutes) {
		return 0, false
	}
	h, m := number(hours), number(minutes)
	if h > 18 || m > 59 {
		return 0, false
	}
	offset = (h*60 + m) * 60 * micro
	if b[0] == '-' {
		offset = -offset
	}
	return offset, true
}

func keepsStep(t Type, n int64) error {
	if t.Step > 1 && n%t.Step != 0 {
		return reason.New(reason.TooFineTime)
	}
	return nil
}

// isoDate reads a date at the start of b and returns the days since 1970-01-01 and what stands behind it.
func isoDate(b []byte) (days int64, rest []byte, ok bool) {
	if len(b) < 10 || b[4] != '-' || b[7] != '-' || !AllDigits(b[:4]) || !AllDigits(b[5:7]) || !AllDigits(b[8:10]) {
		return 0, nil, false
	}
	days, ok = Days(number(b[:4]), number(b[5:7]), number(b[8:10]))
	return days, b[10:], ok
}

// isoSpan reads a time that may pass 24:00 or be below zero: 30:15, -1:30:00.
func isoSpan(b []byte) (int64, bool) {
	body, negative := bytes.CutPrefix(b, []byte{'-'})
	colon := bytes.IndexByte(body, ':')
	if colon < 1 || colon > 6 || !AllDigits(body[:colon]) {
		return 0, false
	}
	rest, ok := isoTime(append([]byte("00"), body[colon:]...))
	n := number(body[:colon])*60*60*micro + rest
	if negative {
		n = -n
	}
	return n, ok
}

// isoTime reads a whole time of day: 15:04, 15:04:05 or with up to six digits of a fraction.
func isoTime(b []byte) (int64, bool) {
	if len(b) < 5 || b[2] != ':' || !AllDigits(b[:2]) || !AllDigits(b[3:5]) {
		return 0, false
	}
	h, m, s, fraction := number(b[:2]), number(b[3:5]), int64(0), int64(0)
	if b = b[5:]; len(b) > 0 {
		if len(b) < 3 || b[0] != ':' || !AllDigits(b[1:3]) {
			return 0, false
		}
		s, b = number(b[1:3]), b[3:]
	}
	if len(b) > 0 {
		if b[0] != '.' || len(b) < 2 || len(b) > 7 || !AllDigits(b[1:]) {
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
	return Clock(h, m, s) + fraction, true
}

// Clock is a time in microseconds since midnight.
func Clock(hours, minutes, seconds int64) int64 { return ((hours*60+minutes)*60 + seconds) * micro }

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

// Days counts the days from 1970-01-01 to a day of the proleptic Gregorian calendar (ISO 8601); not ok for one that
// isn't there, or before the year 1 or after 9999.
func Days(y, m, d int64) (days int64, ok bool) {
	if y < 1 || y > 9999 || m < 1 || m > 12 || d < 1 || d > 28 && d > daysIn(y, m) {
		return 0, false
	}
	if m <= 2 { // years are counted from March
		y, m = y-1, m+12
	}
	const shift = 719469 // days from 0000-03-01 to 1970-01-01, plus one since d counts from 1
	return 365*y + y/4 - y/100 + y/400 + (153*(m-3)+2)/5 + d - shift, true
}

// Civil is the inverse of Days.
func Civil(days int64) (y, m, d int64) {
	t := time.Unix(days*24*60*60, 0).UTC()
	return int64(t.Year()), int64(t.Month()), int64(t.Day())
}

func two(b []byte, n int64) []byte { return append(b, byte('0'+n/10), byte('0'+n%10)) }

// AppendDate adds a number of days since 1970-01-01 as 2006-01-02.
func AppendDate(b []byte, days int64) []byte {
	y, m, d := Civil(days)
	b = two(two(b, y/100), y%100)
	return two(append(two(append(b, '-'), m), '-'), d)
}

// AppendTime adds microseconds since midnight as 15:04:05, or 15:04 where step is whole minutes, with as many
// digits of a fraction as are not zero. A time may pass 24 hours, or be below zero.
func AppendTime(b []byte, n, step int64) []byte {
	if n < 0 {
		b, n = append(b, '-'), -n
	}
	s := n / micro
	if hours := s / 3600; hours > 99 {
		b = fmt.Appendf(b, "%d:", hours)
	} else {
		b = append(two(b, hours), ':')
	}
	b = two(b, s/60%60)
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
