package engine

import (
	"fmt"
	"strings"

	"ladle/internal/core/schema"
)

// Window is which rows of a table are wanted.
type Window struct {
	N      int    // so many of them
	Newest bool   // those that came last, the last one first
	By     string // the whole-number column, the locator or one that is a key, to which From refers; "" for none
	From   int64  // the least value of By
}

// order lists the columns by which rows of t are ordered.
func (w Window) order(t *schema.Table) []string {
	switch {
	case w.By != "":
		return []string{w.By}
	case t.Locator != "":
		return []string{t.Locator}
	case len(t.Keys) > 0:
		return t.Keys[0].Columns
	}
	return nil
}

// Clauses are WHERE, ORDER BY and LIMIT of a query for the rows. name writes a column, and atLeast is the operator >=.
func (w Window) Clauses(t *schema.Table, name func(string) string, atLeast string) string {
	var clauses, by []string
	if w.By != "" {
		clauses = append(clauses, fmt.Sprintf("WHERE %s %s %d", name(w.By), atLeast, w.From))
	}
	for _, c := range w.order(t) {
		if c = name(c); w.Newest {
			c += " DESC"
		}
		by = append(by, c)
	}
	if by != nil {
		clauses = append(clauses, "ORDER BY "+strings.Join(by, ", "))
	}
	return strings.Join(append(clauses, fmt.Sprintf("LIMIT %d", w.N)), " ")
}
