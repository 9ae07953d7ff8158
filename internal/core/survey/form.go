package survey

import (
	"slices"
	"strings"
)

// forms says as what a cell can be read, a bit for each reading.
type forms uint32

const (
	fitWhole forms = 1 << iota // a whole number without marks
	fitDot                     // a number with a decimal point
	fitComma                   // a number with a decimal comma
	fitTime                    // a time of day
	fitTruth                   // yes or no, in some words
	fitClock                   // a date with a time
	fitSwap                    // point and comma could be swapped, and it would be another number
	fitDate                    // the first of dates; those behind it are the other ways to write one
)

// datePatterns are the ways to write a date, in Unicode (LDML) patterns. Those whose day and month could be swapped
// stand beside each other.
var datePatterns = []string{"yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "dd-MM-yyyy", "MM-dd-yyyy",
	"yyyy/MM/dd",

	"yyyyMMdd", "dd MMM yyyy", "MMM dd, yyyy", "dd/MM/yy", "MM/dd/yy", "dd.MM.yy", "yyyy.MM.dd", "dd-MMM-yyyy"}

// swapped is for each pattern the one with day and month the other way round, or -1.
var swapped = []int{-1, 2, 1, -1, 5, 4, -1, -1, -1, -1, 11, 10, -1, -1, -1}

const anyDate = (1<<15 - 1) * fitDate

func dateFit(pattern int) forms { return fitDate << pattern }

// cellForm is what a cell says, as far as it could be a number, a date or the like.
type cellForm struct {
	fits       forms
	dot, comma decimal // the number in both readings
	moment     [2]int64
	patterns   [2]int // of moment; -1 for none
	short      bool   // day or month have a single digit
	clock      string // the pattern of the time
	micros     int64  // the time
	writing    writing
	zeros      bool // digits that start with a zero
}

// readCell finds all that a cell, without outer blanks and of these classes, could be.
func readCell(text []byte, of class) cellForm {
	r := cellForm{patterns: [2]int{-1, -1}}
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

// truths are pairs of words for yes and no.
var truths = [][2]string{{"yes", "no"}, {"true", "false"}, {"y", "n"}, {"t", "f"}, {"ja", "nein"}, {"oui", "non"},
	{"x", ""}, {"on", "off"}}

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

// blanks are words that stand for a value that isn't there.
var blanks = []string{"n/a", "na", "n.a.", "null", "none", "nil", "-", "--", "---", "?", "??", ".", "..", "unknown",
	"tbd", "tba", "tbc", "#n/a", "nan", "void",

	"not available", "not known", "missing", "(blank)", "blank", "empty", "<null>", `\n`, "\u2013", "\u2014", "xxx"}

// blankStarts has the first bytes of blanks.
var blankStarts = func() (all [256]bool) {
	for _, b := range blanks {
		all[b[0]] = true
		all[strings.ToUpper(b)[0]] = true
	}
	return all
}()

// isBlankWord reports whether a cell only says that there is nothing.
func isBlankWord(text []byte) bool {
	return len(text) <= 13 && blankStarts[text[0]] && slices.Contains(blanks, strings.ToLower(string(text)))
}
