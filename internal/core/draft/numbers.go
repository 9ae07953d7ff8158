package draft

import (
	"fmt"
	"strings"
	"unicode"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/notation"
	"ladle/internal/core/reason"
)

// mostNotations is how many ways of writing numbers a column may have.
const mostNotations = 3

// numbers are the notations of the numbers in a column, and how many of its distinct values, of those that were looked
// at, they read.
type numbers struct {
	examples    []string
	covered, of int
}

// numbers finds how the numbers in a column are written.
func (c *column) numbers() *numbers {
	if c.written == nil {
		var cells, likely []string
		for _, t := range c.texts[:min(len(c.texts), fewTexts)] {
			cells = append(cells, strings.TrimSpace(t))
		}
		if c.Type == "whole number" || c.Type == "decimal number" {
			likely = []string{c.Written}
		}
		n := &numbers{of: len(cells)}
		n.examples, n.covered = notation.CoveringNumbers(cells, mostNotations, likely...)
		c.written = n
	}
	return c.written
}

// rule is the rule that reads the numbers, "" where they are plain, with what makes it a doubt.
func (n *numbers) rule() (rule, doubt string) {
	if len(n.examples) == 0 || len(n.examples) == 1 && n.examples[0] == notation.Plain {
		return "", ""
	}
	rule = "number: " + quotedList(n.examples)
	if len(n.examples) > 1 {
		doubt = fmt.Sprintf("numbers are written in %d ways", len(n.examples))
	}
	if around := n.around(); around != "" {
		doubt = join(doubt, fmt.Sprintf("%s around the numbers is left out; is it the unit of the column?", around))
	}
	if others := n.of - n.covered; others > 0 {
		doubt = join(doubt, fmt.Sprintf("%s written in another way", reason.Plural(int64(others), "distinct cell")))
	}
	return rule, doubt
}

// quotedList is a single text in quotes, or several as a list.
func quotedList(texts []string) string {
	var quoted []string
	for _, t := range texts {
		quoted = append(quoted, ladlefile.Quoted(t))
	}
	if len(quoted) == 1 {
		return quoted[0]
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// around lists the words that stand around the numbers.
func (n *numbers) around() string {
	var all []string
	for _, e := range n.examples {
		word := strings.TrimFunc(e, func(r rune) bool { return !unicode.IsLetter(r) })
		if word != "" {
			all = append(all, fmt.Sprintf("%q", word))
		}
	}
	return strings.Join(all, " or ")
}
