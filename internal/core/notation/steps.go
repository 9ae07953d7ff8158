package notation

import "ladle/internal/core/value"

// steps read the cells of a pattern that has nothing but numbers, English names of months by their first letters, and
// literals: each reads its part from the place where the one before stopped. What they don't read, the fields
// of the pattern do.
type steps []step

// step is a part of a date, or a character.
type step struct {
	to          stepTo
	char        byte // of a character
	least, most int  // digits of a number
}

// stepTo is where what a step reads goes.
type stepTo int

const (
	toYear stepTo = iota
	toMonth
	toDay
	toHour
	toMinute
	toSecond
	toName // of a month
	toChar
)

// inSteps are the steps of the pattern; nil when it has none.
func (p *Pattern) inSteps() (all steps) {
	if !p.dated {
		return nil
	}
	numbers := map[byte]stepTo{'y': toYear, 'M': toMonth, 'd': toDay, 'H': toHour, 'm': toMinute, 's': toSecond}
	for i := range p.fields {
		f := &p.fields[i]
		to, isNumber := numbers[f.letter]
		switch {
		case f.letter == 0:
			for _, c := range f.literal {
				all = append(all, step{to: toChar, char: c})
			}
		case f.letter == 'M' && f.width == 3 && p.months == nil:
			all = append(all, step{to: toName})
		case !isNumber || f.letter == 'y' && f.width == 2 || f.width > 2 && f.letter != 'y':
			return nil
		case f.letter == 'y':
			all = append(all, step{to: to, least: f.width, most: f.digits(4)})
		default:
			all = append(all, step{to: to, least: f.width, most: f.digits(2)})
		}
	}
	return all
}

// scan reads a cell; not ok where its fields must be looked at.
func (all steps) scan(cell []byte) (days, micros int64, ok bool) {
	var parts [toSecond + 1]int64
	for i := range all {
		switch s := &all[i]; s.to {
		case toChar:
			if len(cell) == 0 || cell[0] != s.char {
				return 0, 0, false
			}
			cell = cell[1:]
		case toName:
			if len(cell) < 4 || isLetter(cell[3]) {
				return 0, 0, false
			}
			if parts[toMonth] = monthByLetters(cell); parts[toMonth] == 0 {
				return 0, 0, false
			}
			cell = cell[3:]
		default:
			n, number := 0, int64(0)
			for n < len(cell) && n < s.most && cell[n]-'0' <= 9 {
				number = number*10 + int64(cell[n]-'0')
				n++
			}
			if n < s.least {
				return 0, 0, false
			}
			parts[s.to], cell = number, cell[n:]
		}
	}
	hour, minute, second := parts[toHour], parts[toMinute], parts[toSecond]
	if len(cell) > 0 || hour > 23 || minute > 59 || second > 59 {
		return 0, 0, false
	}
	days, ok = value.Days(parts[toYear], parts[toMonth], parts[toDay])
	return days, value.Clock(hour, minute, second), ok
}

// monthLetters are the first three letters of each month.
var monthLetters = func() (all [12]uint32) {
	for i, name := range Months {
		all[i] = letters3([]byte(name))
	}
	return all
}()

// letters3 are the first three characters as a number, letters as small ones.
func letters3(cell []byte) uint32 {
	return (uint32(cell[0]) | uint32(cell[1])<<8 | uint32(cell[2])<<16) | 0x202020
}

// monthByLetters is the month, from 1, with the first three letters of a cell; 0 for none.
func monthByLetters(cell []byte) int64 {
	key := letters3(cell)
	for i, letters := range monthLetters {
		if letters == key {
			return int64(i + 1)
		}
	}
	return 0
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }
