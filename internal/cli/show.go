package cli

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/aside"
	"ladle/internal/core/check"
	"ladle/internal/core/load"
	"ladle/internal/term"
)

// firstGroups is the number of reasons for setting lines aside that are shown.
const firstGroups = 12

// showPlan shows what will be done.
func showPlan(s *term.Screen, r *load.Report) {
	s.Line("%s into %s", r.LadleFile, r.Database)
	for _, note := range r.Notes {
		s.Note("Note: %s", note)
	}
	showSteps(s, r)
	showLookups(s, r)
	showAsides(s, r)
}

// showReport shows how a load ended.
func showReport(s *term.Screen, r *load.Report) {
	if r.Outcome == load.Declined {
		s.Strong(false, "You said no: nothing was changed.")
		return
	}
	if len(r.Steps) == 0 { // it ended before a file was read
		s.Line("%s into %s", r.LadleFile, r.Database)
		showEnd(s, r)
		return
	}
	showPlan(s, r)
	showChecks(s, r)
	showNewest(s, r)
	showEnd(s, r)
}

func showSteps(s *term.Screen, r *load.Report) {
	switch r.Outcome {
	case load.Asking:
		s.Title("What will be done, in this order")
	case load.Refused:
		s.Title("What would have been done, in this order")
	default:
		s.Title("Steps, in the order of loading")
	}
	t := term.Table{Header: []string{"", "table", "from", "read", "added", "updated", "unchanged", "kept", "repeated", "left out", "aside", "removed", "key"},
		Numbers: []int{0, 3, 4, 5, 6, 7, 8, 9, 10, 11}, Wrap: []int{12}}
	for i, step := range r.Steps {
		table := step.Table
		switch {
		case strings.HasPrefix(step.Step, table+"."):
			table = step.Step
		case step.Step != table:
			table = step.Step + " (" + table + ")"
		}
		key := strings.Join(step.Key, ", ")
		if key == "" {
			key = "none"
		}
		y := step.Tally
		t.Rows = append(t.Rows, []string{fmt.Sprint(i + 1), table, step.Input, term.Count(y.Read), term.Count(y.Added), term.Count(y.Updated), term.Count(y.Unchanged),
			term.Count(y.Kept), term.Count(y.Repeated), term.Count(y.LeftOut), term.Count(y.SetAside), term.Count(step.Removed), key})
	}
	var notes []string
	for _, c := range slices.Backward(sometimes) {
		at := slices.Index(t.Header, c.column)
		if slices.ContainsFunc(t.Rows, func(row []string) bool { return row[at] != "0" }) {
			notes = append([]string{c.column + ": " + c.means}, notes...)
			continue
		}
		t.Drop(at)
	}
	s.Table(t)
	if len(notes) > 0 {
		s.Note("%s", strings.Join(notes, "; "))
	}
	for _, step := range r.Steps {
		for _, why := range step.After {
			s.Item(term.Dot, "%s %s", step.Step, why)
		}
	}
	showRemoved(s, r)
	showFirst(s, r)
}

// sometimes are the columns of the tallies that are shown only where a row counts in them, and what they mean.
var sometimes = []struct{ column, means string }{
	{"updated", "the key is in the table already, and other columns change"},
	{"unchanged", "they would not"},
	{"kept", "the key is in the table already"},
	{"repeated", "an equal line stands in the file"},
	{"left out", "by only: or not_there:"},
	{"removed", "rows of the table that are gone from the file"},
}

// showRemoved names the rows that are gone from the file.
func showRemoved(s *term.Screen, r *load.Report) {
	for _, step := range r.Steps {
		if step.Removed == 0 {
			continue
		}
		more := ""
		if n := step.Removed - int64(len(step.Gone)); n > 0 {
			more = fmt.Sprintf(" and %s more", term.Count(n))
		}
		s.Item(term.Dot, "gone from %s, so removed from %s: %s%s", step.Input, step.Table, strings.Join(step.Gone, "; "), more)
	}
}

// showFirst shows the first rows of each step as they would be stored.
func showFirst(s *term.Screen, r *load.Report) {
	for _, step := range r.Steps {
		if step.First != nil {
			s.Title("First rows of %s, as they would be stored", step.Step)
			showRows(s, step.First)
		}
	}
}

func showLookups(s *term.Screen, r *load.Report) {
	if len(r.Lookups) == 0 {
		return
	}
	s.Title("New names in lookups, added first")
	for _, l := range r.Lookups {
		names := make([]string, len(l.Names))
		for i, n := range l.Names {
			names[i] = fmt.Sprintf("%q", n)
		}
		more := ""
		if int64(len(names)) < l.Added {
			more = fmt.Sprintf(" and %s more", term.Count(l.Added-int64(len(names))))
		}
		s.Item(term.Dot, "%s: %s%s", l.Table, strings.Join(names, ", "), more)
		for _, p := range l.Similar {
			s.Item(term.Dot, "%s: %q is added although it looks like %q", l.Table, p.Name, p.Like)
		}
	}
}

func showAsides(s *term.Screen, r *load.Report) {
	aside := r.Aside()
	if aside == 0 {
		return
	}
	s.Title("Set aside: %s of %s", plural(aside, "line"), term.Count(r.Read()))
	showGroups(s, r.Groups, len(r.Inputs) > 1)
	for _, in := range r.Inputs {
		if in.SetAsideFile != "" {
			showAsideFile(s, in.SetAside, in.Input, in.SetAsideFile)
		}
		if in.Moved != "" {
			s.Note("An older file that you have edited is kept as %s", in.Moved)
		}
	}
}

// showAsideFile says where the lines of an input are that were set aside.
func showAsideFile(s *term.Screen, lines int64, input, path string) {
	if lines == 1 {
		s.Note("The line of %s, with its reasons: %s", input, path)
		return
	}
	s.Note("All %s of %s, with their reasons: %s", term.Count(lines), input, path)
}

// showGroups shows problems by column and reason, and what would solve each of them.
func showGroups(s *term.Screen, groups []aside.Group, several bool) {
	for i, g := range groups {
		if i == firstGroups {
			more := int64(0)
			for _, g := range groups[i:] {
				more += g.Count
			}
			s.Item(term.Dot, "and %s more, for %s", plural(more, "problem"), plural(int64(len(groups)-i), "other reason"))
			return
		}
		if g.Count == 1 {
			s.Item(term.Dot, "%s: %s", g.First[0].Place, g.First[0].Says)
		} else {
			s.Item(term.Dot, "%s", groupWords(g, several))
		}
		if g.Advice != "" {
			s.Item("    ", "%s", g.Advice)
		}
	}
}

// groupWords are a reason, and the first of the lines that it holds for.
func groupWords(g aside.Group, several bool) string {
	what := g.Why
	if g.Column != "" {
		what = g.Column + " " + what
	}
	if several {
		what = g.Input + ": " + what
	}
	var first []string
	for _, e := range g.First {
		one := e.Place
		if e.Cell != "" {
			one += fmt.Sprintf(" %q", e.Cell)
		}
		first = append(first, one)
	}
	if more := g.Count - int64(len(first)); more > 0 {
		first = append(first, fmt.Sprintf("and %s more", term.Count(more)))
	}
	return what + ": " + strings.Join(first, ", ")
}

func plural(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return term.Count(n) + " " + what + "s"
}

func showChecks(s *term.Screen, r *load.Report) {
	if len(r.Checks) == 0 {
		return
	}
	s.Title("Checks")
	showCheckKinds(s, r.Checks)
	if r.Level != check.Cells && r.Level != "" {
		s.Item(term.Dot, "no more was checked than --check-level %s asks, so run %d can't be taken back", r.Level, r.Run)
	}
	showTotals(s, r.Checks)
}

func showCheckKinds(s *term.Screen, results []check.Result) {
	for _, kind := range checkKinds {
		showCheck(s, kind.name, kind.meaning, results)
	}
}

// checkKinds are the checks in the order of showing, and what each says when it holds.
var checkKinds = []struct{ name, meaning string }{
	{"balance", "rows before + added - removed = rows after"},
	{"removed", "what was to go is gone"},
	{"relations", "every row points at one that is there"},
	{"keys", "no key stands twice"},
	{"cells", "all that was written reads back as it was sent"},
	{"total", "what the sender states is what was read"},
	{"claim", "what the ladle file claims is true"},
}

// showCheck shows the answers to one check: those that hold in one paragraph, each other one by itself.
func showCheck(s *term.Screen, name, meaning string, all []check.Result) {
	var hold []string
	for _, c := range all {
		switch {
		case c.Check != name:
		case c.OK && c.Short != "" && !slices.ContainsFunc(hold, func(h string) bool { return strings.HasPrefix(h, c.Table+" ") && strings.Contains(h, c.Short) }):
			hold = append(hold, strings.TrimSpace(c.Table+" "+c.Short))
		case c.OK:
		case !c.OK:
			s.Item(term.Wrong, "%s, %s: %s", name, c.Table+c.Claim, c.Says)
			for _, p := range c.Problems {
				s.Item("  ", "%s", p)
			}
		}
	}
	for _, c := range all {
		for _, warning := range c.Warnings {
			if c.Check == name {
				s.Item(term.Dot, "%s, %s, to be looked at: %s", name, c.Table, warning)
			}
		}
	}
	if hold != nil {
		s.Item(term.Good, "%s, %s: %s", name, meaning, strings.Join(hold, "; "))
	}
}

func showTotals(s *term.Screen, checks []check.Result) {
	t := term.Table{Header: []string{"column, read back", "values", "sum", "least", "greatest"}, Numbers: []int{1, 2, 3, 4}}
	for _, c := range checks {
		for _, total := range c.Totals {
			t.Rows = append(t.Rows, []string{c.Table + "." + total.Column, term.Count(total.Count), total.Sum, total.Least, total.Most})
		}
	}
	if len(t.Rows) > 0 {
		s.Title("Totals of what was added")
		s.Table(t)
	}
}

func showNewest(s *term.Screen, r *load.Report) {
	if r.Outcome == load.Tried {
		return // they are taken back; their first rows were shown
	}
	for _, n := range r.Newest {
		s.Title("Newest rows of %s", n.Table)
		showRows(s, &n)
	}
}

func showRows(s *term.Screen, rows *load.TableReport) {
	t := term.Table{Header: rows.Columns}
	for _, row := range rows.Rows {
		cells := make([]string, len(row))
		for i, c := range row {
			cells[i] = "NULL"
			if c != nil {
				cells[i] = *c
			}
		}
		t.Rows = append(t.Rows, cells)
	}
	s.Table(t)
}

func showEnd(s *term.Screen, r *load.Report) {
	var added, updated, removed int64
	for _, step := range r.Steps {
		added += step.Tally.Added
		updated += step.Tally.Updated
		removed += step.Removed
	}
	for _, l := range r.Lookups {
		added += l.Added
	}
	did := plural(added, "row") + " added"
	if updated > 0 {
		did += ", " + term.Count(updated) + " updated"
	}
	if removed > 0 {
		did += ", " + term.Count(removed) + " removed"
	}
	time := fmt.Sprintf("%s: reading %s, judging %s, writing %s, proving %s", duration(r.Seconds.Total),
		duration(r.Seconds.Read), duration(r.Seconds.Judge), duration(r.Seconds.Write), duration(r.Seconds.Prove))
	aside := ""
	if n := r.Aside(); n > 0 {
		aside = fmt.Sprintf(", %s set aside", plural(n, "line"))
	}
	switch r.Outcome {
	case load.Loaded:
		as := "Loaded without the logbook"
		if r.Run > 0 {
			as = fmt.Sprintf("Loaded as run %d", r.Run)
		}
		s.Strong(true, "%s: %s%s (%s)", as, did, aside, time)
	case load.Tried:
		s.Strong(true, "Tried, and taken back as asked; load would do this: %s%s (%s)", did, aside, time)
	case load.Refused:
		s.Strong(false, "NOT LOADED, nothing was changed: %s.", r.Why)
	}
}

// duration writes seconds so that short ones can be told from none.
func duration(seconds float64) string {
	if seconds < 1 {
		return fmt.Sprintf("%.0f ms", seconds*1000)
	}
	return fmt.Sprintf("%.1f s", seconds)
}
