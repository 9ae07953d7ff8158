package cli

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/setaside"
	"ladle/internal/term"
)

// firstGroups is the number of reasons for setting lines aside that are shown.
const firstGroups = 12

// showPlan shows what will be done.
func showPlan(s *term.Screen, r *report.Report) {
	s.Line("%s into %s", r.LadleFile, r.Database)
	for _, note := range r.Notes {
		s.Note("Note: %s", note)
	}
	showRules(s, r)
	showSteps(s, r)
	showLookups(s, r)
	showAsides(s, r)
	if r.Queries != nil {
		s.Title("SQL in this ladle file, which has never been loaded into this database")
		for _, q := range r.Queries {
			s.Item(term.Dot, "%s", strings.Join(strings.Fields(q), " "))
		}
	}
}

// showReport shows how a load ended.
func showReport(s *term.Screen, r *report.Report) {
	if r.Outcome == report.Declined {
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

func showLookups(s *term.Screen, r *report.Report) {
	if len(r.Lookups) == 0 {
		return
	}
	s.Title("New names in lookup tables, added first")
	for _, l := range r.Lookups {
		names := make([]string, len(l.Names))
		for i, n := range l.Names {
			names[i] = fmt.Sprintf("%q", n)
		}
		more := ""
		if int64(len(names)) < l.Added {
			more = fmt.Sprintf(" and %s more", term.Count(l.Added-int64(len(names))))
		}
		if len(names) == 0 { // of a run that goes on
			names, more = []string{term.Count(l.Added) + " by earlier parts"}, ""
		}
		s.Item(term.Dot, "%s: %s%s", l.Table, strings.Join(names, ", "), more)
		showSimilar(s, l.Table, l.Similar)
	}
}

func showAsides(s *term.Screen, r *report.Report) {
	aside := r.LinesSetAside()
	if aside == 0 {
		return
	}
	s.Title("Set aside: %s of %s", plural(aside, "line"), term.Count(r.LinesRead()))
	showGroups(s, r.Groups, len(r.Inputs) > 1)
	advised := func(g setaside.Group) bool { return g.Advice != nil && len(g.Advice.Settings) > 0 }
	if !ladlefile.Named(r.LadleFile) && slices.ContainsFunc(r.Groups, advised) {
		s.Note("Settings go into a ladle file, which --keep NAME.ladle.yaml writes; try --fix puts them in by your " +
			"answers.")
	}
	for _, in := range r.Inputs {
		if in.SetAsideFile != "" {
			showAsideFile(s, in.SetAside, in.Input, in.SetAsideFile)
		}
		if in.Moved != "" {
			s.Note("The older set-aside file, which you had edited, is now %s", in.Moved)
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
func showGroups(s *term.Screen, groups []setaside.Group, several bool) {
	for i, g := range groups {
		if i == firstGroups {
			more := int64(0)
			for _, g := range groups[i:] {
				more += g.Count
			}
			s.Item(term.Dot, "and %s more, for %s", plural(more, "problem"),
				plural(int64(len(groups)-i), "other reason"))
			return
		}
		if g.Count == 1 {
			s.Item(term.Dot, "%s: %s", g.First[0].Place, g.First[0].Says)
		} else {
			s.Item(term.Dot, "%s", groupWords(g, several))
		}
		showAdvice(s, g)
	}
}

// groupWords are a reason, and the first of the lines that it holds for.
func groupWords(g setaside.Group, several bool) string {
	what := g.Says
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
		if e.Values != "" {
			one += " (" + e.Values + ")"
		}
		first = append(first, one)
	}
	if more := g.Count - int64(len(first)); more > 0 {
		first = append(first, fmt.Sprintf("and %s more", term.Count(more)))
	}
	return what + ": " + strings.Join(first, ", ")
}

// showAdvice shows what would solve the problems of a group: the settings of the ladle file, and what to know of them.
func showAdvice(s *term.Screen, g setaside.Group) {
	a := g.Advice
	if a == nil {
		return
	}
	for i, setting := range a.Settings {
		lead := "to solve it, put "
		switch {
		case i > 0:
			lead = "or "
		case a.Covers > 0:
			lead = fmt.Sprintf("to solve %s of them, put ", term.Count(a.Covers))
		case g.Count > 1:
			lead = "to solve them, put "
		}
		s.Item("    ", "%s%s under %s", lead, setting.YAML(), setting.Where())
	}
	if a.Says != "" {
		s.Item("    ", "%s", strings.Join(append([]string{a.Says}, quotedWords(a)...), ": "))
	}
}

// quotedWords are the words of the file that advice speaks of.
func quotedWords(a *setaside.Advice) []string {
	if a.Note != setaside.NoteGiveWords || a.Words == nil {
		return nil
	}
	return []string{strings.Join(a.Words, ", ")}
}

// were writes a number of things that something was done to: "1 line was", "2 lines were".
func were(n int64, what string) string {
	if n == 1 {
		return "1 " + what + " was"
	}
	return plural(n, what) + " were"
}

func plural(n int64, what string) string { return reason.Plural(n, what) }

func showChecks(s *term.Screen, r *report.Report) {
	if len(r.Checks) == 0 {
		return
	}
	s.Title("Checks")
	showCheckKinds(s, r.Checks)
	if r.Level != check.Cells && r.Level != "" {
		s.Item(term.Dot, "only what --check-level %s asks was checked, so run %d can't be undone", r.Level,
			r.Run)
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
	{"removed", "the rows to be removed are gone"},
	{"relations", "every foreign key finds its row"},
	{"keys", "no duplicate keys"},
	{"cells", "everything written reads back unchanged"},
	{"total", "the control totals match what was read"},
	{"claim", "the ladle file's checks hold"},
}

// showCheck shows the answers to one check: those that hold in one paragraph, each other one by itself.
func showCheck(s *term.Screen, name, meaning string, all []check.Result) {
	var hold []string
	for _, c := range all {
		switch {
		case c.Check != name:
		case c.OK && c.Short != "" && !slices.ContainsFunc(hold,
			func(h string) bool { return strings.HasPrefix(h, c.Table+" ") && strings.Contains(h, c.Short) }):
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
				s.Item(term.Dot, "%s, %s, worth a look: %s", name, c.Table, warning)
			}
		}
	}
	if hold != nil {
		s.Item(term.Good, "%s, %s: %s", name, meaning, strings.Join(hold, "; "))
	}
}

func showTotals(s *term.Screen, checks []check.Result) {
	t := term.Table{Header: []string{"column, read back", "values", "sum", "least", "greatest"},
		Numbers: []int{1, 2, 3, 4}}
	for _, c := range checks {
		for _, total := range c.Totals {
			t.Rows = append(t.Rows, []string{c.Table + "." + total.Column, term.Count(total.Count), total.Sum,
				total.Least, total.Most})
		}
	}
	if len(t.Rows) > 0 {
		s.Title("Totals of what was added")
		s.Table(t)
	}
}

func showNewest(s *term.Screen, r *report.Report) {
	if r.Outcome == report.Tried {
		return // they were rolled back; the first rows were shown
	}
	for _, n := range r.Newest {
		s.Title("Newest rows of %s", n.Table)
		showRows(s, &n)
	}
}

func showRows(s *term.Screen, rows *report.Rows) {
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

// doneWords says how many rows a load adds, changes, removes and marks.
func doneWords(r *report.Report) string {
	var added, updated, removed, marked, back int64
	for _, step := range r.Steps {
		added += step.Tally.Added
		updated += step.Tally.Updated
		removed += step.Removed
		marked += step.Marked.Rows
		back += step.MarkedBack.Rows
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
	if marked > 0 {
		did += ", " + term.Count(marked) + " marked as gone"
	}
	if back > 0 {
		did += ", " + term.Count(back) + " marked back"
	}
	return did
}

func showEnd(s *term.Screen, r *report.Report) {
	did := doneWords(r)
	time := fmt.Sprintf("%s: reading %s, judging %s, writing %s, proving %s", duration(r.Seconds.Total),
		duration(r.Seconds.Read), duration(r.Seconds.Judge), duration(r.Seconds.Write), duration(r.Seconds.Prove))
	aside := ""
	if n := r.LinesSetAside(); n > 0 {
		aside = fmt.Sprintf(", %s set aside", plural(n, "line"))
	}
	switch r.Outcome {
	case report.Loaded:
		as := "Loaded without the logbook"
		if r.Run > 0 {
			as = fmt.Sprintf("Loaded as run %d", r.Run)
		}
		if r.Parts != nil {
			as += ", in " + plural(int64(r.Parts.Number), "part")
		}
		s.Strong(true, "%s: %s%s (%s)", as, did, aside, time)
	case report.Tried:
		s.Strong(true, "Dry run: nothing was changed. A load would do this: %s%s (%s)", did, aside, time)
	case report.Unfinished:
		s.Strong(false, "NOT ALL LOADED: %s of run %d %s in the tables (%s); the next was refused: %s.", plural(int64(r.Parts.Number),
			"part"), r.Run, reason.Verb(int64(r.Parts.Number), "is", "are"), did, whyRefused(r.Why))
		s.Note("To load the others: the same command with --go-on %d. To take back what is in: ladle undo %d", r.Run, r.Run)
	case report.Refused:
		s.Strong(false, "NOT LOADED, nothing was changed: %s.", whyRefused(r.Why))
	}
}

// duration writes seconds so that short ones can be told from none.
func duration(seconds float64) string {
	if seconds < 1 {
		return fmt.Sprintf("%.0f ms", seconds*1000)
	}
	return fmt.Sprintf("%.1f s", seconds)
}
