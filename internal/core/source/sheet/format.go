package sheet

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// shown is as what the format of a cell shows a number.
type shown byte

const (
	asNumber   shown = iota
	asDate           // a date
	asTime           // a time of day
	asDateTime       // both
	asDuration       // hours, minutes or seconds that may be more than a day has
)

// builtIn are the formats that have a number and no code (ECMA-376 part 1, 18.8.30).
func builtIn(id int) shown {
	switch {
	case id >= 14 && id <= 17, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 54, id >= 57 && id <= 58:
		return asDate
	case id >= 18 && id <= 21, id >= 32 && id <= 35, id == 45, id == 47, id == 55, id == 56:
		return asTime
	case id == 22:
		return asDateTime
	case id == 46:
		return asDuration
	}
	return asNumber
}

// judgeFormat says as what a format code shows numbers, by its first section (ECMA-376 part 1, 18.8.31).
func judgeFormat(code string) shown {
	if strings.EqualFold(code, "general") {
		return asNumber
	}
	date, clock, month := false, false, false
	for i := 0; i < len(code); i++ {
		switch c := code[i]; c {
		case ';':
			i = len(code)
		case '"':
			n := strings.IndexByte(code[i+1:], '"')
			if n < 0 {
				n = len(code)
			}
			i += n + 1
		case '\\', '_', '*':
			i++
		case '[':
			n := strings.IndexByte(code[i:], ']')
			if n < 0 {
				n = 0
			}
			inside := strings.ToLower(code[i+1 : max(i+1, i+n)])
			if inside != "" && strings.Trim(inside, "h") == "" || strings.Trim(inside, "m") == "" && inside != "" || strings.Trim(inside, "s") == "" && inside != "" {
				return asDuration
			}
			i += n
		case 'y', 'Y', 'd', 'D', 'g', 'b':
			date = true
		case 'e', 'E':
			if i+1 < len(code) && (code[i+1] == '+' || code[i+1] == '-') {
				return asNumber
			}
			date = true
		case 'h', 'H', 's', 'S':
			clock = true
		case 'm', 'M':
			month = true
		case 'a', 'A':
			if rest := strings.ToLower(code[i:]); strings.HasPrefix(rest, "am/pm") || strings.HasPrefix(rest, "a/p") {
				clock = true
				i += len("a/p") - 1
			}
		}
	}
	switch {
	case date && clock:
		return asDateTime
	case clock:
		return asTime
	case date || month:
		return asDate
	}
	return asNumber
}

// number gives a number as a plain decimal: what the cell holds, a double (IEEE 754), in the shortest form that reads
// back as the same, unless its own digits say more. An exponent is written out.
func number(text []byte) ([]byte, bool) {
	text = bytes.TrimSpace(text)
	digits, plain, dot := 0, len(text) > 0, false
	for i, c := range text {
		switch {
		case c >= '0' && c <= '9':
			if digits > 0 || c != '0' {
				digits++
			}
		case c == '.' && !dot:
			dot = true
		case c == '-' && i == 0:
		default:
			plain = false
		}
	}
	const exact = 15 // decimal digits that every double keeps
	if plain && digits <= exact && text[len(text)-1] != '.' && text[0] != '.' && (digits > 0 || bytes.IndexByte(text, '0') >= 0) {
		return text, true
	}
	f, err := strconv.ParseFloat(string(text), 64)
	if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
		return nil, false
	}
	shortest := strconv.AppendFloat(nil, f, 'f', -1, 64)
	if plain && significant(shortest) > exact && text[0] != '.' && text[len(text)-1] != '.' {
		return text, true
	}
	return shortest, true
}

// significant counts the digits of a number without zeros at either end.
func significant(text []byte) int {
	bare := bytes.Trim(bytes.ReplaceAll(bytes.TrimPrefix(text, []byte("-")), []byte("."), nil), "0")
	return len(bare)
}

const (
	dayMillis = 24 * 60 * 60 * 1000
	lastDay   = 2958465 // 9999-12-31 in days of the 1900 system
)

// moment writes the number of days that a cell holds as its format shows it, to the millisecond, as dates are kept
// (ECMA-376 part 1, 18.17.4). In the 1900 system day 60 is a 29 February that never was.
func moment(text []byte, as shown, from1904 bool) (string, string) {
	serial, err := strconv.ParseFloat(string(bytes.TrimSpace(text)), 64)
	if err != nil {
		return "", "is shown as a date, but is no number"
	}
	if as == asDuration {
		return duration(serial), ""
	}
	offset := 0.0
	if from1904 {
		offset = 1462
	}
	if serial < 0 || serial+offset >= lastDay+1 || math.IsNaN(serial) {
		return "", "is shown as a date, but is outside of all dates"
	}
	millis := int64(math.Round(serial * dayMillis))
	day, clock := millis/dayMillis, millis%dayMillis
	switch {
	case as == asTime && day == 0, day == 0 && clock > 0 && !from1904:
		return clockText(clock), ""
	case day == 0 && !from1904:
		return "", "is 0, which is shown as a date, but is none"
	case day == 60 && !from1904:
		return "", "is 29 February 1900, a day that never was"
	}
	start := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if from1904 {
		start = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	} else if day < 60 {
		day++
	}
	date := start.AddDate(0, 0, int(day)).Format(time.DateOnly)
	if as == asDate && clock == 0 {
		return date, ""
	}
	return date + " " + clockText(clock), ""
}

// clockText writes milliseconds since midnight as 15:04:05, with .000 where there are some.
func clockText(millis int64) string {
	text := fmt.Sprintf("%02d:%02d:%02d", millis/3600000, millis/60000%60, millis/1000%60)
	if rest := millis % 1000; rest > 0 {
		text += strings.TrimRight(fmt.Sprintf(".%03d", rest), "0")
	}
	return text
}

// duration writes days as hours, minutes and seconds: 26:30:00.
func duration(days float64) string {
	sign := ""
	if days < 0 {
		sign, days = "-", -days
	}
	return sign + clockText(int64(math.Round(days*dayMillis)))
}
