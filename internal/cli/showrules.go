package cli

import (
	"fmt"
	"strings"

	"ladle/internal/core/report"
	"ladle/internal/term"
)

// showRules shows what the rules of the ladle file did to cells.
func showRules(s *term.Screen, r *report.Report) {
	if len(r.Rules) == 0 {
		return
	}
	s.Title("What the rules did")
	t := term.Table{Header: []string{"column", "rule", "cells", "first values"}, Numbers: []int{2}}
	for _, e := range r.Rules {
		column := e.Column
		if len(r.Inputs) > 1 {
			column = e.Input + "." + column
		}
		t.Rows = append(t.Rows, []string{column, e.Rule, term.Count(e.Cells), firstChanges(e)})
	}
	if s.Fits(t) {
		s.Table(t)
		return
	}
	for i, row := range t.Rows {
		s.Item(term.Dot, "%s, %s: %s: %s", row[0], row[1], plural(r.Rules[i].Cells, "cell"), row[3])
	}
}

// firstChanges are the first values that a rule changed, and what they became.
func firstChanges(e report.RuleEffect) string {
	var all []string
	for _, c := range e.First {
		before := "blank"
		if c.Before != "" {
			before = fmt.Sprintf("%q", c.Before)
		}
		after := "NULL"
		if c.After != nil {
			after = fmt.Sprintf("%q", *c.After)
		}
		all = append(all, before+" becomes "+after)
	}
	return strings.Join(all, "; ")
}
