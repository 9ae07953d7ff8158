package survey

import (
	"bytes"
	"unicode"
)

// look is something that cells can look like.
type look uint8

const (
	lookMail look = iota
	lookPhone
	lookLink
	lookPostcode
	lookCurrency
	lookPercent
	lookUnit
	looks
)

var lookNames = [...]string{"e-mail addresses", "phone numbers", "web addresses", "postcodes",
	"amounts with a currency", "percentages", "numbers with a unit"}

func lookOf(w writing) look {
	for _, affix := range []string{w.before, w.behind} {
		if bytes.ContainsAny([]byte(affix), "%‰") {
			return lookPercent
		}
	}
	return lookCurrency
}

// text takes a cell that is nothing but text.
func (s *stats) text(text []byte, of class, n int64) {
	odd := s.odd
	s.odd = true
	switch {
	case of.has(classAt) && isMail(text):
		s.looks[lookMail] += n
	case (of.has(classSlash) || text[0] == 'w') && isLink(text):
		s.looks[lookLink] += n
	case !of.has(classDigit):
		s.odd = odd
	case !of.has(classLetter) && isPhone(text):
		s.looks[lookPhone] += n
	case of.has(classBlank) && of.has(classLetter) && isPostcode(text):
		s.looks[lookPostcode] += n
	case isUnit(text):
		s.looks[lookUnit] += n
	default:
		s.odd = odd
	}
}

// isMail tells an address of RFC 5322 in its usual form.
func isMail(b []byte) bool {
	at := bytes.IndexByte(b, '@')
	return at > 0 && bytes.IndexByte(b[at+1:], '@') < 0 && bytes.LastIndexByte(b, '.') > at+1 && b[len(b)-1] != '.' &&
		bytes.IndexByte(b, ' ') < 0
}

func isLink(b []byte) bool {
	return bytes.HasPrefix(b, []byte("http://")) || bytes.HasPrefix(b, []byte("https://")) ||
		bytes.HasPrefix(b, []byte("www."))
}

// isPhone tells digits, seven to fifteen (ITU-T E.164), with the marks that people put between them.
func isPhone(b []byte) bool {
	digits, marks := 0, 0
	for _, c := range b {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case bytes.IndexByte([]byte(" ()-/.+"), c) >= 0:
			marks++
		default:
			return false
		}
	}
	return digits >= 7 && digits <= 15 && marks > 0 && (b[0] == '+' || b[0] == '(' || b[0] == '0')
}

// isPostcode tells the shapes that postcodes with letters have: AB1 2CD, 1234 AB, A1B 2C3.
func isPostcode(b []byte) bool {
	if len(b) < 6 || len(b) > 8 || bytes.IndexByte(b, ' ') < 2 {
		return false
	}
	letters, digits := 0, 0
	for _, c := range b {
		switch {
		case c >= 'A' && c <= 'Z':
			letters++
		case c >= '0' && c <= '9':
			digits++
		case c != ' ':
			return false
		}
	}
	return letters >= 2 && digits >= 2 && letters+digits == len(b)-1
}

// isUnit tells a number with a short word behind it.
func isUnit(b []byte) bool {
	if b[0] < '0' || b[0] > '9' {
		return false
	}
	end := bytes.IndexFunc(b, func(c rune) bool { return c != '.' && c != ',' && (c < '0' || c > '9') })
	unit := bytes.TrimSpace(b[max(end, 0):])
	return end > 0 && len(unit) > 0 && len(unit) <= 4 && bytes.IndexFunc(unit,
		func(c rune) bool { return !unicode.IsLetter(c) && c != '²' && c != '³' && c != '°' }) < 0
}
