package draft

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// rules writes how the cells of used columns are written, where that is not plain.
func (w *writer) rules(f *file) {
	titled := false
	for _, c := range f.columns {
		r := w.rule(f, c)
		where := f.input + ": " + c.Name
		for _, k := range r.kept {
			w.doubt("    ", c.Name+": "+k.says, f.input)
			w.ask(len(w.lines)-1, where, k.says, Choice{Says: "keep it as it is"}, Choice{Says: k.change,
				settings: []ladlefile.Setting{{At: []string{"inputs", f.input, "columns", c.ref}, Key: k.key,
					Value: []string{k.value},
					Add:   true}}}).Harmless = true
		}
		if r.parts == nil {
			if r.doubt {
				w.doubt("    ", c.Name+": "+r.why, f.input)
			}
			continue
		}
		if !titled {
			w.line("    columns:")
			titled = true
		}
		c.rule, c.doubt = strings.Join(r.parts, ", "), r.doubt
		line := func(rule string) string { return fmt.Sprintf("      %s: {%s}", ladlefile.Scalar(c.ref), rule) }
		if w.said(line(c.rule), r.why, r.doubt, where); !r.doubt {
			continue
		}
		choices := []Choice{{Says: c.rule, Samples: c.sample()}}
		if other := swapped(c.rule); (c.unsure || c.Unclear != "") && other != c.rule {
			choices = append(choices, Choice{Says: other, lines: []string{line(other) + "  # chosen by hand"}})
		}
		choices = append(choices, Choice{Says: "leave the cells as they are", lines: leave})
		w.ask(len(w.lines)-1, where, r.why, choices...)
	}
}

// swapped is a rule with day and month the other way round, where they come first.
func swapped(rule string) string {
	return dayAndMonth.ReplaceAllString(rule, "'$3$2$1")
}

var dayAndMonth = regexp.MustCompile(`'(dd?|MM?)([/.-])(MM?|dd?)\b`)

// columnRule is what must be said of the cells of a column.
type columnRule struct {
	parts []string // of the rule
	kept  []keptValue
	why   string
	doubt bool
}

// keptValue is what a rule could change and leaves as it is, with the key and value by which it would change it.
type keptValue struct{ says, change, key, value string }

// rule finds what must be said of the cells of a column.
func (w *writer) rule(f *file, c *column) (r columnRule) {
	var kind value.Kind
	used := false
	recode := map[string]string{}
	for _, b := range w.blocks {
		b.each(func(x assignment) {
			if b.file == f && x.column == c {
				kind, used = x.of.Type.Kind, true
			}
			if b.file == f && x.single() == c {
				w.respell(x, recode)
			}
		})
	}
	if !used {
		return r
	}
	parts, whys, kept := w.changes(f, c, kind)
	if said := recoded(recode); said != "" {
		parts = append(parts, said)
		whys = append(whys, reason.Plural(int64(len(recode)), "value")+" respelt as in the table")
	}
	if n := f.belowMerged(c); n > 0 {
		parts = append(parts, "if_blank: above")
		whys = append(whys, fmt.Sprintf("%s below merged ones get their value", reason.Plural(n, "blank cell")))
	}
	doubt := whys != nil // what changes values is for a person to see
	var doubts []string
	switch kind {
	case value.Int, value.Fixed, value.Decimal, value.Float:
		if rule, why := c.numbers().rule(); rule != "" {
			if parts = append(parts, rule); why != "" {
				doubts, doubt = append(doubts, why), true
			}
		}
	case value.Date, value.DateTime, value.Time:
		if rule, why := c.datesRule(); rule != "" {
			parts = append(parts, rule)
			if why != "" {
				doubts, doubt = append(doubts, why), true
			}
			break
		}
		if c.Written != "" && !slices.Contains([]string{"yyyy-MM-dd", "yyyy-MM-dd HH:mm", "yyyy-MM-dd HH:mm:ss",
			"HH:mm", "HH:mm:ss"}, c.Written) {
			parts = append(parts, "date: "+ladlefile.Quoted(c.Written))
		}
	case value.Bool:
		parts = append(parts, truth(c)...)
	}
	if c.Unclear != "" && c.patterns == nil && kind != value.Text {
		doubts, doubt = append(doubts, c.Unclear), true
	}
	unread := !isNumber(kind) || c.numbers().covered < c.numbers().of
	if n := c.Misfits.Count; n > 0 && c.patterns == nil && kind != value.Text && unread {
		doubts, doubt = append(doubts, fmt.Sprintf("%s %s%s", reason.Plural(n, "cell"), c.NotOfType(),
			firstPlace(c.Misfits))), true
	}
	return columnRule{parts, kept, strings.Join(slices.Concat(whys, doubts), "; "), doubt}
}

// belowMerged is the number of blank cells of a column in which merged cells stand for several rows.
func (f *file) belowMerged(c *column) int64 {
	if slices.Contains(f.Survey.Read.MergedDown, slices.Index(f.columns, c)) {
		return c.Blank
	}
	return 0
}

// respell adds the texts of a lookup that its table spells in another way.
func (w *writer) respell(x assignment, recode map[string]string) {
	by := x.lookup.by[0]
	texts, err := w.values.respelt(place{x.lookup.table, by.of.Name}, by.column.texts)
	w.err = cmp.Or(w.err, err)
	maps.Copy(recode, texts)
}

// mostRecoded is the number of texts up to which a draft recodes them.
const mostRecoded = 20

func recoded(texts map[string]string) string {
	if len(texts) == 0 || len(texts) > mostRecoded {
		return ""
	}
	var all []string
	for _, t := range slices.Sorted(maps.Keys(texts)) {
		all = append(all, ladlefile.Flow(t)+": "+ladlefile.Flow(texts[t]))
	}
	return "recode: {" + strings.Join(all, ", ") + "}"
}

// truth says which words mean yes and no, where they are not those that are known anyway.
func truth(c *column) []string {
	var yes, no []string
	for _, t := range c.texts {
		switch strings.ToLower(strings.TrimSpace(t)) {
		case "true", "false", "1", "0":
		case "yes", "y", "x", "on":
			yes = append(yes, ladlefile.Quoted(t))
		case "no", "n", "off":
			no = append(no, ladlefile.Quoted(t))
		}
	}
	var parts []string
	if yes != nil {
		parts = append(parts, "yes_is: ["+strings.Join(yes, ", ")+"]")
	}
	if no != nil {
		parts = append(parts, "no_is: ["+strings.Join(no, ", ")+"]")
	}
	return parts
}

func cells(n int64) string {
	if n == 1 {
		return "1 cell is"
	}
	return fmt.Sprintf("%d cells are", n)
}

// onLine says on which line the first of some cells stands.
func onLine(o survey.Oddity, words string) string {
	if len(o.Places) == 0 {
		return ""
	}
	return fmt.Sprintf(words, o.Places[0].Line)
}

func firstPlace(o survey.Oddity) string {
	if len(o.Places) == 0 {
		return ""
	}
	return fmt.Sprintf(", the first in line %d: %q", o.Places[0].Line, o.Places[0].Says)
}
