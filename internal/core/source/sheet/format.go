package sheet

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/nfp"

	"ladle/internal/core/reason"
)

// display is as what the format of a cell shows a number.
type display byte

const (
	asNumber   display = iota
	asDate             // a date
	asTime             // a time of day
	asDateTime         // both
	asDuration         // hours, minutes or seconds that may be more than a day has
)

// builtIn are the formats that have a number and no code (ECMA-376 part 1, 18.8.30).
func builtIn(id int) display {
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

// longestFormat is the length of the longest format code that a workbook may have.
const longestFormat = 255

// judgeFormat returns as what a format code shows numbers, by its first section (ECMA-376 part 1, 18.8.31).
func judgeFormat(code string) display {
	parser := nfp.NumberFormatParser()
	sections := parser.Parse(withoutGeneral(code[:min(len(code), longestFormat)]))
	if len(sections) == 0 {
		return asNumber
	}
	date, clock := false, false
	month := false // or minutes, as what stands beside it says
	for _, part := range sections[0].Items {
		switch part.TType {
		case nfp.TokenTypeElapsedDateTimes:
			return asDuration
		case nfp.TokenTypeDateTimes:
			switch strings.ToLower(part.TValue[:min(1, len(part.TValue))]) {
			case "h", "s", "a": // a for AM/PM
				clock = true
			case "m":
				month = true
			default:
				date = true
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

// withoutGeneral puts 0 in the place of General, which the parser takes for letters of dates where anything stands beside
// it. Texts in quotes or brackets, and escaped characters, stay as they are.
func withoutGeneral(code string) string {
	const general = "general"
	var b strings.Builder
	for i := 0; i < len(code); i++ {
		switch c := code[i]; {
		case c == '"' || c == '[':
			end := strings.IndexByte(code[i+1:], map[byte]byte{'"': '"', '[': ']'}[c])
			if end < 0 {
				return b.String() + code[i:]
			}
			b.WriteString(code[i : i+end+2])
			i += end + 1
		case (c == '\\' || c == '_' || c == '*') && i+1 < len(code):
			b.WriteString(code[i : i+2])
			i++
		case len(code)-i >= len(general) && strings.EqualFold(code[i:i+len(general)], general):
			b.WriteByte('0')
			i += len(general) - 1
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// number returns a number as a plain decimal: what the cell holds, a double (IEEE 754), in the shortest form that reads
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
	if plain && digits <= exact && text[len(text)-1] != '.' && text[0] != '.' &&
		(digits > 0 || bytes.IndexByte(text, '0') >= 0) {
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
func moment(text []byte, as display, from1904 bool) (string, *reason.Cause) {
	serial, err := strconv.ParseFloat(string(bytes.TrimSpace(text)), 64)
	if err != nil {
		return "", noDateNumber
	}
	if as == asDuration {
		return duration(serial), nil
	}
	offset := 0.0
	if from1904 {
		offset = 1462
	}
	if serial < 0 || serial+offset >= lastDay+1 || math.IsNaN(serial) {
		return "", beyondDates
	}
	millis := int64(math.Round(serial * dayMillis))
	day, clock := millis/dayMillis, millis%dayMillis
	switch {
	case as == asTime && day == 0, day == 0 && clock > 0 && !from1904:
		return clockText(clock), nil
	case day == 0 && !from1904:
		return "", dayZero
	case day == 60 && !from1904:
		return "", dayThatNeverWas
	}
	start := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if from1904 {
		start = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	} else if day < 60 {
		day++
	}
	date := start.AddDate(0, 0, int(day)).Format(time.DateOnly)
	if as == asDate && clock == 0 {
		return date, nil
	}
	return date + " " + clockText(clock), nil
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
