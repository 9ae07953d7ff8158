package notation

import (
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"
)

// unlikely returns what hardly stands around a number.
func unlikely(r rune) bool { return unicode.IsControl(r) || strings.ContainsRune(`/:[]{}"`, r) }

// Guess returns an example of the way in which a cell may write a number; "" when it holds none, or does not tell.
func Guess(cell string) string {
	body, open := strings.CutPrefix(cell, "(")
	body, closed := strings.CutSuffix(body, ")")
	if open != closed {
		return ""
	}
	first, last := strings.IndexAny(body, "0123456789"), strings.LastIndexAny(body, "0123456789")
	if first < 0 {
		return ""
	}
	before, behind := strings.Trim(body[:first], " -"+minus), body[last+1:]
	number := body[first : last+1]
	if utf8.RuneCountInString(before) > 5 || utf8.RuneCountInString(behind) > 8 ||
		strings.ContainsFunc(before+behind, unlikely) {
		return ""
	}
	marks := strings.FieldsFunc(number, func(r rune) bool { return r >= '0' && r <= '9' })
	example := "1234"
	if len(marks) > 0 {
		group, point := "", marks[len(marks)-1]
		tail := len(number) - strings.LastIndex(number, point) - len(point)
		if len(marks) > 1 {
			group = marks[0]
		}
		if group == point { // only thousands
			point = ""
		}
		if len(marks) == 1 && (tail == 3 || !strings.ContainsAny(point, ".,")) {
			group, point = point, "" // 1,234: thousands, unless other cells tell more
		}
		example = "1" + group + "234"
		switch {
		case point != "":
			example += point + "50"
		case group == "," || group == ".":
			example += map[string]string{",": ".", ".": ","}[group] + "50"
		}
	}
	example = before + example + behind
	if open {
		example = "(" + example + ")"
	}
	n, err := NumberLike(example)
	if err != nil {
		return ""
	}
	if _, _, err := n.Scan(nil, []byte(cell)); err != nil {
		return ""
	}
	return example
}

// usual are the patterns that are proposed for cells; those between which only the day tells stand beside each other.
var usual = sync.OnceValue(func() (all []*Pattern) {
	days := []string{"yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "dd-MM-yyyy", "MM-dd-yyyy", "yyyy/MM/dd",
		"yyyyMMdd",
		"d/M/yyyy", "M/d/yyyy", "d.M.yyyy", "d MMM yyyy", "d MMMM yyyy", "MMM d, yyyy", "MMMM d, yyyy", "d-MMM-yyyy",
		"MMM d yyyy", "MMMM d yyyy", "d. MMM yyyy", "d. MMMM yyyy", "d-MMMM-yyyy",
		"dd/MM/yy", "MM/dd/yy", "dd.MM.yy", "d-MMM-yy"}
	times := []string{"", " HH:mm", " HH:mm:ss", " h:mm a", " H:mm", "'T'HH:mm:ssXXX", "'T'HH:mm"}
	for _, day := range days {
		for _, time := range times {
			p, err := NewPattern(day+time, CenturyFrom())
			if err == nil {
				all = append(all, p)
			}
		}
	}
	return all
})

// CenturyFrom is the first year that two digits mean when twenty of a hundred years lie ahead (LDML, yy).
func CenturyFrom() int { return time.Now().Year() - 79 }

// Fitting lists the usual patterns by which all cells are dates, at most most of them.
func Fitting(cells []string, most int) []string {
	var fit []string
	for _, p := range usual() {
		if len(fit) == most {
			break
		}
		all := len(cells) > 0
		for _, c := range cells {
			_, v := p.scan([]byte(c))
			all = all && v == read
		}
		if all {
			fit = append(fit, p.text)
		}
	}
	return fit
}

// Covering returns usual patterns, at most most of them, that together read as many cells as possible: the first reads
// most, each other one most of those that are left. covered is how many cells they read; unsure says that another
// pattern reads as many of the cells of the first, as other days.
func Covering(cells []string, most int) (patterns []string, covered int, unsure bool) {
	left := cells
	for len(patterns) < most && len(left) > 0 {
		var best *Pattern
		bestRead, tied := 0, false
		for _, p := range usual() {
			n := 0
			for _, c := range left {
				if _, v := p.scan([]byte(c)); v == read {
					n++
				}
			}
			switch {
			case n > bestRead:
				best, bestRead, tied = p, n, false
			case n == bestRead && best != nil && p.differs(best, left):
				tied = true
			}
		}
		if best == nil {
			break
		}
		unsure = unsure || tied
		patterns, covered = append(patterns, best.text), covered+bestRead
		var others []string
		for _, c := range left {
			if _, v := best.scan([]byte(c)); v != read {
				others = append(others, c)
			}
		}
		left = others
	}
	return patterns, covered, unsure
}

// differs reports whether two patterns read a cell as different moments.
func (p *Pattern) differs(o *Pattern, cells []string) bool {
	for _, c := range cells {
		a, v := p.scan([]byte(c))
		b, w := o.scan([]byte(c))
		if v == read && w == read && a != b {
			return true
		}
	}
	return false
}
