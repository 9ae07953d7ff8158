package draft

import (
	"fmt"
	"strings"

	"ladle/internal/core/notation"
	"ladle/internal/core/reason"
)

// mostPatterns is how many ways of writing dates a column may have, to be dates.
const mostPatterns = 3

// dates finds how the dates in a column are written, where not all are written alike, and makes it one of dates if
// nearly all cells are: to a survey such a column is text.
func (c *column) dates() {
	const enough, fewest = 0.9, 2 // of the cells, and cells
	mixed := c.Misfits.Count > 0 && (c.Type == "date" || c.Type == "date and time")
	if c.Type != "text" && !mixed || len(c.texts) < fewest {
		return
	}
	var cells []string
	for _, t := range c.texts[:min(len(c.texts), fewTexts)] {
		cells = append(cells, strings.TrimSpace(t))
	}
	patterns, covered, unsure := notation.Covering(cells, mostPatterns)
	if patterns == nil || float64(covered) < enough*float64(len(cells)) {
		return
	}
	own := *c.Column
	own.Type, own.Written = "date", patterns[0]
	if strings.ContainsAny(strings.Join(patterns, ""), "Hh") {
		own.Type = "date and time"
	}
	c.Column, c.patterns, c.unsure = &own, patterns, unsure
	c.others = len(cells) - covered
}

// datesRule are the patterns of a column whose dates are written in several ways; nil for others, with what is to be
// said.
func (c *column) datesRule() (rule, why string) {
	if c.patterns == nil {
		return "", ""
	}
	rule = "date: " + quotedList(c.patterns)
	if len(c.patterns) > 1 {
		why = fmt.Sprintf("dates are written in %d ways", len(c.patterns))
	}
	if c.unsure {
		why = join(why, "day and month could be the other way round")
	}
	if c.others > 0 {
		why = join(why, fmt.Sprintf("%s written in another way", reason.Plural(int64(c.others), "distinct cell")))
	}
	return rule, why
}
