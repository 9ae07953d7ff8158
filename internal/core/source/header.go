package source

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
)

// row is a record of a sample.
type row struct {
	line  int64
	cells []string
	typed []bool // whether a cell is a number, date or the like; nil to judge by its look
}

func (r row) blank(i int) bool { return i >= len(r.cells) || r.cells[i] == "" }

func (r row) isTyped(i int) bool {
	if r.blank(i) {
		return false
	}
	if r.typed != nil && r.typed[i] {
		return true
	}
	return typed(r.cells[i])
}

// filled counts the cells that hold something, and returns the position behind the last of them.
func (r row) filled() (n, width int) {
	for i := range r.cells {
		if r.cells[i] != "" {
			n, width = n+1, i+1
		}
	}
	return n, width
}

// headerGuess is where the header stands in a sample: from rows first to last, or nowhere.
type headerGuess struct {
	first, last int // -1 for none
	sure        float64
}

const (
	mostTitles  = 40  // rows over the header that are looked at
	enoughCells = 0.6 // of the usual number, that a header has
	longName    = 60  // characters of a cell that hardly is a name
)

// judgeHeader finds the header of the rows: the first row that is as wide as they usually are, when it holds names
// over columns of values.
func judgeHeader(rows []row) headerGuess {
	width := usual(rows, func(r row) int { _, width := r.filled(); return width })
	cells := usual(rows, func(r row) int { n, _ := r.filled(); return n })
	at := slices.IndexFunc(rows[:min(len(rows), mostTitles)], func(r row) bool {
		n, _ := r.filled()
		return float64(n) >= enoughCells*float64(cells)
	})
	if at < 0 {
		return headerGuess{-1, -1, 0.3}
	}
	named, valued := evidence(rows[at], rows[at+1:], width)
	switch {
	case named > 0 && valued <= named:
		return joined(rows, headerGuess{at, at, 0.99 - 0.2*float64(valued)/float64(named)}, width)
	case valued > 0:
		return headerGuess{-1, -1, 0.9}
	case at+1 == len(rows) && !slices.ContainsFunc(rows[at].cells, typed):
		return headerGuess{at, at, 0.6}
	case likeNames(rows[at], rows[at+1:]):
		return joined(rows, headerGuess{at, at, 0.7}, width)
	}
	return headerGuess{-1, -1, 0.6}
}

// usual is the size that most rows have; of several the largest.
func usual(rows []row, size func(row) int) int {
	counts := map[int]int{}
	for _, r := range rows {
		counts[size(r)]++
	}
	most := 0
	for size, n := range counts {
		if n > counts[most] || n == counts[most] && size > most {
			most = size
		}
	}
	return most
}

// evidence counts the columns of values over which row holds a name, and those over which it holds a value too.
func evidence(r row, data []row, width int) (named, valued int) {
	periods := r.periods()
	if len(data) > 0 && data[0].periods() != nil {
		periods = nil // then they are values
	}
	for i := range width {
		given, values := 0, 0
		for _, d := range data {
			if !d.blank(i) {
				given++
				if d.isTyped(i) {
					values++
				}
			}
		}
		if values == 0 || float64(values) < 0.8*float64(given) || r.blank(i) {
			continue
		}
		if r.isTyped(i) && !periods[i] {
			valued++
		} else {
			named++
		}
	}
	return named, valued
}

var periodName = regexp.MustCompile(`^(19|20)\d\d([-/.](0?[1-9]|1[0-2]))?$`)

// periods are the cells, three or more beside each other, that are years or months, each later than the one before: as
// names of columns have them.
func (r row) periods() (all map[int]bool) {
	const fewest = 3
	from := 0
	for i := 0; i <= len(r.cells); i++ {
		if i < len(r.cells) && periodName.MatchString(r.cells[i]) && (i == from || r.cells[i] > r.cells[i-1]) {
			continue
		}
		if i-from >= fewest {
			if all == nil {
				all = map[int]bool{}
			}
			for k := from; k < i; k++ {
				all[k] = true
			}
		}
		from = i + 1
	}
	return all
}

// likeNames reports whether a row over columns of nothing but text can hold their names: short ones, each another, that
// don't stand among the values.
func likeNames(r row, data []row) bool {
	seen := map[string]bool{}
	for i, name := range r.cells {
		if name == "" {
			continue
		}
		if seen[FoldName(name)] || len([]rune(name)) > longName || r.isTyped(i) {
			return false
		}
		seen[FoldName(name)] = true
		if slices.ContainsFunc(data, func(d row) bool { return !d.blank(i) && d.cells[i] == name }) {
			return false
		}
	}
	return true
}

// joined takes the row above or below to the header when it names what the header leaves open.
func joined(rows []row, t headerGuess, width int) headerGuess {
	if unclear(rows[t.first], width) {
		if above := t.first - 1; above >= 0 && rows[above].line == rows[t.first].line-1 && groups(rows[above]) {
			return headerGuess{above, t.last, t.sure * 0.8}
		}
		if below := t.first + 1; below < len(rows)-1 && groups(rows[below]) &&
			rows[t.first].blankAnd(rows[below], width) {
			if named, valued := evidence(rows[below], rows[below+1:], width); named > valued || named == 0 &&
				valued == 0 {
				return headerGuess{t.first, below, t.sure * 0.8}
			}
		}
	}
	return t
}

// unclear reports whether columns have no name in r, or the same.
func unclear(r row, width int) bool {
	seen := map[string]bool{}
	for i := range width {
		if r.blank(i) || seen[FoldName(r.cells[i])] {
			return true
		}
		seen[FoldName(r.cells[i])] = true
	}
	return false
}

// groups reports whether a row can hold names of groups of columns, or the names under them.
func groups(r row) bool {
	n, _ := r.filled()
	for i := range r.cells {
		if r.isTyped(i) {
			return false
		}
	}
	return n >= 2
}

// blankAnd reports whether below has a name where r has none.
func (r row) blankAnd(below row, width int) bool {
	for i := range width {
		if r.blank(i) && !below.blank(i) {
			return true
		}
	}
	return false
}

// names are the names of the columns that stand in rows, one below the other. The name of a group holds for the
// columns to its right that have none in its row.
func names(rows []row, width int, position func(int) string) []string {
	all := make([]string, width)
	for k, r := range rows {
		group := ""
		for i := range width {
			word := ""
			if !r.blank(i) {
				word = strings.Join(strings.Fields(r.cells[i]), " ")
				group = word
			} else if k < len(rows)-1 && !blankBelow(rows[k+1:], i) {
				word = group
			}
			if word != "" && all[i] != word {
				all[i] = strings.TrimSpace(all[i] + " " + word)
			}
		}
	}
	for i := range all {
		if all[i] == "" {
			all[i] = position(i)
		}
	}
	return all
}

func blankBelow(rows []row, i int) bool {
	return !slices.ContainsFunc(rows, func(r row) bool { return !r.blank(i) })
}

func numbered(i int) string { return fmt.Sprintf("column %d", i+1) }

// guess says where the header is.
func (t headerGuess) guess(rows []row, asked HeaderLines) Setting {
	g := Setting{Value: "none", Confidence: math.Round(100*t.sure) / 100, Given: asked.Given()}
	if asked.Given() {
		g.Confidence = 1
	}
	switch {
	case t.first < 0:
	case t.first == t.last:
		g.Value = fmt.Sprint(rows[t.first].line)
	default:
		g.Value = fmt.Sprintf("%d-%d", rows[t.first].line, rows[t.last].line)
	}
	return g
}
