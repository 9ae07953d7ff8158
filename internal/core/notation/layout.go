package notation

import (
	"unicode/utf8"

	"ladle/internal/core/value"
)

// layout is a pattern whose dates are all of one length and hold digits and ASCII literals only.
type layout struct {
	length                                 int
	marks                                  []mark // the literals
	year, month, day, hour, minute, second int    // where their digits are; 0 for none, else from 1
}

// mark is a literal character and where it stands.
type mark struct {
	at   int
	char byte
}

// fixed is the layout of the pattern; nil when it has none.
func (p *Pattern) fixed() *layout {
	l := &layout{}
	for _, f := range p.fields {
		to, width := (*int)(nil), 2
		switch f.letter {
		case 0:
			for _, c := range f.literal {
				if c >= utf8.RuneSelf {
					return nil
				}
				l.marks = append(l.marks, mark{l.length, c})
				l.length++
			}
			continue
		case 'y':
			to, width = &l.year, 4
		case 'M':
			to = &l.month
		case 'd':
			to = &l.day
		case 'H':
			to = &l.hour
		case 'm':
			to = &l.minute
		case 's':
			to = &l.second
		}
		if to == nil || f.width != width || !p.dated {
			return nil
		}
		*to = l.length + 1
		l.length += width
	}
	return l
}

// scan reads a cell; not ok where its fields must be looked at.
func (l *layout) scan(cell []byte) (days, micros int64, ok bool) {
	if len(cell) != l.length {
		return 0, 0, false
	}
	for _, m := range l.marks {
		if cell[m.at] != m.char {
			return 0, 0, false
		}
	}
	century, odd := twoDigits(cell, l.year)
	year, oddYear := twoDigits(cell, l.year+2)
	month, oddMonth := twoDigits(cell, l.month)
	day, oddDay := twoDigits(cell, l.day)
	odd |= oddYear | oddMonth | oddDay
	if l.hour > 0 {
		var clock [3]int64
		for i, at := range [3]int{l.hour, l.minute, l.second} {
			if at == 0 {
				break
			}
			n, oddPart := twoDigits(cell, at)
			clock[i], odd = n, odd|oddPart
		}
		if clock[0] > 23 || clock[1] > 59 || clock[2] > 59 {
			return 0, 0, false
		}
		micros = value.Clock(clock[0], clock[1], clock[2])
	}
	if odd >= 0x80 {
		return 0, 0, false
	}
	days, ok = value.Days(century*100+year, month, day)
	return days, micros, ok
}

// twoDigits are those from a place on, counted from 1; odd has its highest bit set where they aren't digits.
func twoDigits(cell []byte, at int) (n int64, odd byte) {
	x, y := cell[at-1]-'0', cell[at]-'0'
	const past9 = 0x80 - 10
	return int64(x)*10 + int64(y), x | (x + past9) | y | (y + past9)
}
