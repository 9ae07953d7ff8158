package aside

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/notation"
	"ladle/internal/core/value"
)

// advisor learns from the problems of a group what would solve them.
type advisor struct {
	examples []*candidate // of notations of numbers
	patterns []*candidate // of dates
	words    []string     // cells, as long as there are few different ones
	many     bool
	tries    int         // cells that candidates were looked for in
	near     [][2]string // names, and what they are like
}

// candidate is a notation and how many cells are written so.
type candidate struct {
	says  string
	reads func(cell string) bool
	count int64
}

const (
	mostCandidates = 6
	mostWords      = 8
	mostTries      = 1000
)

// see learns from a problem.
func (a *advisor) see(p Problem) {
	if p.Cell == "" {
		return
	}
	if !a.many && !slices.Contains(a.words, p.Cell) {
		if a.words = append(a.words, p.Cell); len(a.words) > mostWords {
			a.many, a.words = true, nil
		}
	}
	if _, near, ok := strings.Cut(p.Why, "; there is "); ok && len(a.near) < mostWords {
		if pair := [2]string{p.Cell, strings.Trim(near, `"`)}; !slices.Contains(a.near, pair) {
			a.near = append(a.near, pair)
		}
	}
	switch {
	case aboutNumbers(p.Why):
		a.examples = a.consider(a.examples, p.Cell, numbersLike)
	case aboutDates(p.Why):
		a.patterns = a.consider(a.patterns, p.Cell, datesLike)
	}
}

func aboutNumbers(why string) bool {
	return strings.Contains(why, "not a number") || strings.Contains(why, "not a plain number")
}

func aboutDates(why string) bool {
	return strings.Contains(why, "not a date") || strings.Contains(why, "more in it than a date") || strings.Contains(why, "not a time") || strings.Contains(why, "doesn't exist")
}

// consider counts the cell for the candidates that read it, and adds those that it could be the first of.
func (a *advisor) consider(all []*candidate, cell string, like func(string) []*candidate) []*candidate {
	known := false
	for _, c := range all {
		if c.reads(cell) {
			c.count++
			known = true
		}
	}
	if known || len(all) >= mostCandidates || a.tries == mostTries {
		return all
	}
	a.tries++
	for _, c := range like(cell) {
		c.count = 1
		all = append(all, c)
	}
	return all
}

func numbersLike(cell string) []*candidate {
	example := notation.Guess(cell)
	n, err := notation.NumberLike(example)
	if err != nil {
		return nil
	}
	return []*candidate{{says: example, reads: func(cell string) bool {
		_, _, err := n.Scan(nil, []byte(cell))
		return err == nil
	}}}
}

func datesLike(cell string) (all []*candidate) {
	var first value.Moment
	for _, text := range notation.Fitting([]string{cell}, 2) {
		p, err := notation.NewPattern(text, notation.CenturyFrom())
		if err != nil {
			continue
		}
		dates := notation.NewDates(p)
		m, _ := dates.Scan([]byte(cell))
		if all != nil && m == first {
			continue // another way to say the same
		}
		first = m
		all = append(all, &candidate{says: text, reads: func(cell string) bool {
			_, err := dates.Scan([]byte(cell))
			return err == nil
		}})
	}
	return all
}

// best is the candidate that reads most; tied tells that another one reads as many.
func best(all []*candidate) (one, tied *candidate) {
	for _, c := range all {
		switch {
		case one == nil || c.count > one.count:
			one, tied = c, nil
		case c.count == one.count && tied == nil:
			tied = c
		}
	}
	return one, tied
}

const plainDate = "2026-03-31" // stands in reasons where no pattern was said

// numberIn is the number in reasons that name one.
var numberIn = regexp.MustCompile(`\d+`)

// advice says what to put into the ladle file for a group; "" when nothing there would help.
func (a *advisor) advice(g *Group) string {
	rule := func(says string) string {
		return fmt.Sprintf("inputs: %s: columns: %s: {%s}", g.Input, yaml(g.Column), says)
	}
	number := numberIn.FindString(g.Why)
	switch why := g.Why; {
	case g.Column == "" && strings.HasPrefix(why, "another line has the same key"):
		return "repeats: first, or last, in the block takes one of the lines"
	case g.Column == "":
		return ""
	case aboutNumbers(why):
		return a.numberAdvice(g, rule)
	case aboutDates(why):
		return a.dateAdvice(g, rule)
	case strings.Contains(why, "is a date without a time"):
		return rule("date: yyyy-MM-dd") + " takes the midnight that it starts with"
	case strings.HasPrefix(why, "is longer than the") && strings.Contains(why, "characters"):
		return rule("shorten_to: "+number) + " cuts them"
	case strings.Contains(why, "would be rounded"):
		return rule("round: "+number) + " rounds them"
	case strings.Contains(why, "doesn't say its zone"):
		return fmt.Sprintf("inputs: %s: time_zone: ..., with a name like Europe/Lisbon, says which", g.Input)
	case strings.Contains(why, "neither true nor false"):
		return rule("yes_is: [...], no_is: [...]") + a.list(" with the words of this file: ")
	case strings.HasPrefix(why, "is blank, but") && !strings.Contains(why, "part of the key"):
		return rule("default: ...") + ", or if_blank:, gives it a value"
	case strings.HasPrefix(why, "starts with a zero"):
		return rule(`number: "0001"`) + " if the zeros mean nothing"
	case strings.Contains(why, "looks like another name") && a.near == nil:
		return "similar: accept, behind the find, adds them"
	case a.near != nil && !slices.ContainsFunc(a.near, func(p [2]string) bool { return strings.TrimSpace(p[0]) != p[1] }):
		return rule("clean: trim")
	case a.near != nil:
		var pairs []string
		for _, p := range a.near {
			pairs = append(pairs, yaml(p[0])+": "+yaml(p[1]))
		}
		if strings.Contains(why, "looks like another name") {
			return rule("recode: {"+strings.Join(pairs, ", ")+"}") + ", or similar: accept, behind the find, adds them"
		}
		return rule("recode: {" + strings.Join(pairs, ", ") + "}")
	case strings.HasPrefix(why, "is not in "):
		return "not_found: add, or leave_blank, behind the find takes them"
	}
	return ""
}

// numberAdvice proposes a notation, or what to take for blank.
func (a *advisor) numberAdvice(g *Group, rule func(string) string) string {
	if a.words != nil && !slices.ContainsFunc(a.words, func(w string) bool { return strings.TrimSpace(w) == w || notation.Guess(strings.TrimSpace(w)) == "" }) {
		return rule("clean: trim")
	}
	if one, _ := best(a.examples); one != nil {
		says := rule(fmt.Sprintf("number: %q", one.says))
		switch {
		case strings.Contains(g.Why, "is not a number like"):
			return fmt.Sprintf("%s written like %q, another notation than the rest of the column", howMany(one.count, g.Count), one.says)
		case one.count < g.Count:
			return fmt.Sprintf("%s read by %s", howMany(one.count, g.Count), says)
		}
		return says
	}
	if a.words != nil && !slices.ContainsFunc(a.words, func(w string) bool { return strings.ContainsAny(w, "0123456789") }) {
		return rule("blank_is: ["+strings.Join(all(a.words), ", ")+"]") + " if that means nothing"
	}
	return ""
}

func (a *advisor) dateAdvice(g *Group, rule func(string) string) string {
	one, tied := best(a.patterns)
	switch {
	case one == nil && a.words != nil && !strings.Contains(g.Why, "doesn't exist"):
		return rule("blank_is: ["+strings.Join(all(a.words), ", ")+"]") + " if that means nothing"
	case one == nil:
		return ""
	case strings.Contains(g.Why, "is not a date like") && !strings.Contains(g.Why, plainDate):
		return fmt.Sprintf("%s written by the pattern %s; date: takes a list of patterns", howMany(one.count, g.Count), one.says)
	case tied != nil:
		return fmt.Sprintf("%s, or %s: no line tells which", rule("date: "+yaml(one.says)), tied.says)
	case one.count < g.Count:
		return fmt.Sprintf("%s read by %s", howMany(one.count, g.Count), rule("date: "+yaml(one.says)))
	}
	says := one.says
	if !strings.Contains(g.Why, "doesn't exist") {
		return rule("date: [" + yaml(says) + ", " + yaml(iso(says)) + "]")
	}
	return rule("date: " + yaml(says))
}

// iso is the pattern of ISO 8601 for what another one writes: the other lines of the column are written so.
func iso(pattern string) string {
	if strings.Contains(pattern, "H") || strings.Contains(pattern, "h") {
		return "yyyy-MM-dd HH:mm"
	}
	return "yyyy-MM-dd"
}

func howMany(n, of int64) string {
	if n == 1 {
		return "1 of them is"
	}
	return fmt.Sprintf("%d of them are", n)
}

func (a *advisor) list(before string) string {
	if a.words == nil {
		return ""
	}
	return before + strings.Join(all(a.words), ", ")
}

func all(words []string) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = yaml(w)
	}
	return out
}

var plainScalar = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}_./ -]*$`)

// yaml writes a scalar of a ladle file.
func yaml(s string) string {
	if plainScalar.MatchString(s) && !strings.HasSuffix(s, " ") {
		return s
	}
	return fmt.Sprintf("%q", s)
}
