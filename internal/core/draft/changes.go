package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// changes are the parts of a rule that change values: words that become blank, blanks that are taken off. What the
// column could hold on purpose is kept, and said.
func (w *writer) changes(f *file, c *column, kind value.Kind) (parts, whys []string, kept []keptValue) {
	tells := w.tells(f, c)
	keep := func(what, how, change, key, value string) {
		kept = append(kept, keptValue{what + " is kept as it is; " + how, change, key, value})
	}
	var words, shown []string
	n := int64(0)
	for _, word := range c.Words {
		if tells || w.holds(f, c, word.What) {
			keep(fmt.Sprintf("%q%s", word.What, onLine(word, " in line %d")),
				fmt.Sprintf("blank_is: %s would make it blank",
					ladlefile.Quoted(word.What)), "make it blank", "blank_is", word.What)
			continue
		}
		words, n = append(words, ladlefile.Quoted(word.What)), n+word.Count
		shown = append(shown, fmt.Sprintf("%q (%d)", word.What, word.Count))
	}
	if words != nil {
		parts = append(parts, "blank_is: ["+strings.Join(words, ", ")+"]")
		whys = append(whys, fmt.Sprintf("%s made blank: %s", cells(n), strings.Join(shown, ", ")))
	}
	if kind != value.Text {
		return parts, whys, kept
	}
	for _, o := range c.Oddities {
		switch {
		case o.What == survey.OuterBlanks && !tells:
			parts = append(parts, "clean: trim")
			whys = append(whys, fmt.Sprintf("%s trimmed%s", cells(o.Count), firstPlace(o)))
		case o.What == survey.OuterBlanks:
			keep(fmt.Sprintf("%s with blanks at the ends%s", reason.Plural(o.Count, "cell"), firstPlace(o)),
				"clean: trim would take them off", "take the blanks off", "clean", "trim")
		case o.What == survey.DoubledBlanks:
			keep(fmt.Sprintf("%s with doubled blanks%s", reason.Plural(o.Count, "cell"), firstPlace(o)),
				"clean: squeeze would make one of each, and of line ends", "make one blank of each, and of line ends",
				"clean", "squeeze")
		}
	}
	return parts, whys, kept
}

// tells reports whether a column tells lines apart: it is part of a key, or its values are all different.
func (w *writer) tells(f *file, c *column) bool {
	for _, b := range w.blocks {
		key, _, _ := b.key()
		if b.file == f && slices.ContainsFunc(b.fed, func(x assignment) bool {
			return slices.Contains(key, x.of.Name) && x.lookup == nil && x.column == c
		}) {
			return true
		}
	}
	const enough = 3 // lines
	return f.Survey.Rows >= enough && c.Distinct >= f.Survey.Rows-c.Blank
}

// isWord reports whether a cell is one of the words for blank.
func (c *column) isWord(cell string) bool {
	return slices.ContainsFunc(c.Words, func(o survey.Oddity) bool {
		return strings.EqualFold(o.What, strings.TrimSpace(cell))
	})
}

// holds reports whether a table in which the column is looked up has a value.
func (w *writer) holds(f *file, c *column, text string) (found bool) {
	for _, b := range w.blocks {
		if b.file != f {
			continue
		}
		b.each(func(x assignment) {
			if x.single() != c {
				return
			}
			has, err := w.values.values(place{x.lookup.table, x.lookup.by[0].of.Name}, []string{text})
			w.err = cmp.Or(w.err, err)
			_, there := has[source.FoldName(text)]
			found = found || there
		})
	}
	return found
}
