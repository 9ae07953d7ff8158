package text

import (
	"strings"
	"unicode"
)

// Nearest returns the name that was most likely meant by name, or "" when none is near enough.
func Nearest(name string, names []string) string { return nearest(name, names, len([]rune(name))/3+1) }

// NearestValue returns the value of a table that was most likely meant by a cell, or "". Codes, which have digits in
// them, are near only when they differ in nothing but case, blanks and marks: the next code is another thing.
func NearestValue(cell string, values []string) string {
	bare := lettersAndDigits(cell)
	for _, v := range values {
		if lettersAndDigits(v) == bare {
			return v
		}
	}
	if strings.ContainsAny(cell, "0123456789") {
		return ""
	}
	return nearest(cell, values, len([]rune(cell))/4)
}

func lettersAndDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

// nearest returns the first of those names that differ least from name, and in at most so many changes.
func nearest(name string, names []string, most int) string {
	best, folded := "", []rune(strings.ToLower(name))
	for _, n := range names {
		if d := distance(folded, []rune(strings.ToLower(n)), most); d <= most {
			best, most = n, d-1
		}
	}
	return best
}

// within reports whether one text becomes the other by at most so many changes.
func within(a, b []rune, most int) bool { return distance(a, b, most) <= most }

// distance is the number of changes by which one text becomes the other: a letter taken out, put in or put for another
// one, or two that stand side by side swapped (restricted Damerau-Levenshtein distance). It may stop at more than most.
func distance(a, b []rune, most int) int {
	if d := max(len(a)-len(b), len(b)-len(a)); d > most {
		return d
	}
	var buf [3][64]int
	before, above, row := buf[0][:], buf[1][:], buf[2][:]
	if len(b) >= len(before) {
		before, above, row = make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	}
	before, above, row = before[:len(b)+1], above[:len(b)+1], row[:len(b)+1]
	for k := range above {
		above[k] = k
	}
	for i := range a {
		row[0] = i + 1
		for k := range b {
			cost := 1
			if a[i] == b[k] {
				cost = 0
			}
			row[k+1] = min(above[k+1]+1, row[k]+1, above[k]+cost)
			if i > 0 && k > 0 && a[i] == b[k-1] && a[i-1] == b[k] {
				row[k+1] = min(row[k+1], before[k-1]+1)
			}
		}
		before, above, row = above, row, before
	}
	return above[len(b)]
}
