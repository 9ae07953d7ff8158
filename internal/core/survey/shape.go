package survey

import (
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/notation"
)

// Shape is something that a file has in one line, and that could be a line each.
type Shape struct {
	Key     string   `json:"key"`               // of the ladle file, that makes lines of it
	Columns []string `json:"columns"`           // that seem to be values of one, or the one that seems to hold lists
	Between string   `json:"between,omitempty"` // what stands between the parts of lists
	Cells   int64    `json:"cells,omitempty"`   // distinct cells that look like lists
	Of      int64    `json:"of,omitempty"`      // of so many
}

// The keys of the ladle file that shapes are for.
const (
	ColumnsToRows = "columns_to_rows"
	PartsToRows   = "parts_to_rows"
)

// shapes are those that an input seems to have.
func (in *Input) shapes() (all []Shape) {
	if names := in.periods(); names != nil {
		all = append(all, Shape{Key: ColumnsToRows, Columns: names})
	}
	for i, c := range in.Columns {
		if s, ok := in.lists(i); ok {
			s.Columns = []string{c.Name}
			all = append(all, s)
		}
	}
	return all
}

// fewestPeriods is how many columns beside each other must be called like periods.
const fewestPeriods = 3

// periods are the columns beside each other that are called like years, months or quarters.
func (in *Input) periods() []string {
	var longest, run []string
	kind := ""
	for _, c := range in.Columns {
		of := periodOf(c.Name)
		if of == "" || of != kind {
			run = nil
		}
		if kind = of; of == "" {
			continue
		}
		if run = append(run, c.Name); len(run) > len(longest) {
			longest = run
		}
	}
	if len(longest) < fewestPeriods {
		return nil
	}
	return longest
}

var (
	yearName    = regexp.MustCompile(`^(19|20)\d\d$`)
	monthNumber = regexp.MustCompile(`^((19|20)\d\d[-/. ](0?[1-9]|1[0-2])|(0?[1-9]|1[0-2])[-/. ](19|20)\d\d)$`)
	quarterName = regexp.MustCompile(`^(?i)(q[1-4]|[1-4]q)([ /-]?(19|20)?\d\d)?$`)
	yearPart    = regexp.MustCompile(`(19|20)\d\d`)
)

// periodOf is what kind of period the header of a column names: two are of one kind only where the rest is the same.
func periodOf(name string) string {
	name = strings.TrimSpace(name)
	switch {
	case yearName.MatchString(name):
		return "year"
	case monthNumber.MatchString(name):
		return "month"
	case quarterName.MatchString(name):
		return "quarter"
	}
	word, rest, _ := strings.Cut(strings.ToLower(name), " ")
	word = strings.TrimRight(word, ".")
	if slices.ContainsFunc(notation.Months[:], func(m string) bool {
		return len(word) >= 3 && strings.HasPrefix(m, word)
	}) {
		return "month " + yearPart.ReplaceAllString(rest, "")
	}
	if yearPart.MatchString(name) {
		return "year in " + yearPart.ReplaceAllString(name, "")
	}
	return ""
}

// lists reports whether the cells of a column look like lists: most of them have a separator, and short parts.
func (in *Input) lists(column int) (Shape, bool) {
	const fewest, longest = 3, 40
	texts := in.Distinct(column)
	for _, between := range []string{";", "|", " / ", "\n"} {
		s := Shape{Key: PartsToRows, Between: between, Of: int64(len(texts))}
		for _, text := range texts {
			parts := strings.Split(text, between)
			if len(parts) > 1 && !slices.ContainsFunc(parts, func(p string) bool { return len([]rune(p)) > longest }) {
				s.Cells++
			}
		}
		if s.Cells >= fewest && 2*s.Cells >= s.Of {
			return s, true
		}
	}
	return Shape{}, false
}
