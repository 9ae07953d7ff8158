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

// scanFixed reads a cell by the layout.
func (p *Pattern) scanFixed(cell []byte) (value.Moment, outcome) {
	l := p.layout
	if len(cell) != l.length {
		return value.Moment{}, another
	}
	for _, m := range l.marks {
		if cell[m.at] != m.char {
			return value.Moment{}, another
		}
	}
	century, ok := twoDigits(cell[l.year-1:])
	year, okay := twoDigits(cell[l.year+1:])
	month, okMonth := twoDigits(cell[l.month-1:])
	day, okDay := twoDigits(cell[l.day-1:])
	micros, okTime := l.clock(cell)
	if !ok || !okay || !okMonth || !okDay || micros == another64 {
		return value.Moment{}, another
	}
	m := value.Moment{Micros: micros, Dated: true, Timed: p.timed}
	m.Days, ok = value.Days(century*100+year, month, day)
	if !ok || !okTime {
		return m, nowhere
	}
	return m, read
}

// another64 stands for a time that has other characters than digits.
const another64 = -1

// clock reads the time; not ok for one that doesn't exist.
func (l *layout) clock(cell []byte) (micros int64, ok bool) {
	var parts [3]int64
	for i, at := range [3]int{l.hour, l.minute, l.second} {
		if at == 0 {
			break
		}
		n, digits := twoDigits(cell[at-1:])
		if !digits {
			return another64, false
		}
		parts[i] = n
	}
	return value.Clock(parts[0], parts[1], parts[2]), parts[0] < 24 && parts[1] < 60 && parts[2] < 60
}

func twoDigits(b []byte) (int64, bool) {
	x, y := b[0]-'0', b[1]-'0'
	return int64(x)*10 + int64(y), x <= 9 && y <= 9
}
