package cli

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/report"
	"ladle/internal/term"
)

func showSteps(s *term.Screen, r *report.Report) {
	switch r.Outcome {
	case report.Asking:
		s.Title("What will be done, in this order")
	case report.Refused:
		s.Title("What would have been done, in this order")
	case report.Unfinished:
		s.Title("What is in the tables, in the order of loading")
	default:
		s.Title("Steps, in the order of loading")
	}
	t := term.Table{Header: []string{"", "table", "from", "read", "added", "updated", "unchanged", "same", "differs",
		"repeated", "overruled", "left out", "set aside", "removed"},
		Numbers: []int{0, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13}}
	for i, step := range r.Steps {
		table := step.Table
		switch {
		case strings.HasPrefix(step.Step, table+"."):
			table = step.Step
		case step.Step != table:
			table = step.Step + " (" + table + ")"
		}
		y := step.Tally
		t.Rows = append(t.Rows, []string{fmt.Sprint(i + 1), table, step.Input, term.Count(y.Read), term.Count(y.Added),
			term.Count(y.Updated), term.Count(y.Unchanged),
			term.Count(y.Same), term.Count(y.Differs), term.Count(y.Repeated), term.Count(y.Overruled),
			term.Count(y.LeftOut), term.Count(y.SetAside),
			term.Count(step.Removed)})
	}
	var shown []legend
	for _, c := range slices.Backward(sometimes) {
		at := slices.Index(t.Header, c.column)
		if slices.ContainsFunc(t.Rows, func(row []string) bool { return row[at] != "0" }) {
			shown = append([]legend{c}, shown...)
			continue
		}
		t.Drop(at)
	}
	showTallies(s, t, 3, len(t.Header), func(row []string) string { return row[0] + ". " + row[1] + " from " + row[2] })
	for _, c := range shown {
		s.Entry(11, c.column, c.means)
	}
	for _, step := range r.Steps {
		key, after := strings.Join(step.Key, ", "), ""
		if key == "" {
			key = "none"
		}
		if steps := comesAfter(step); steps != nil {
			after = "; comes after " + strings.Join(steps, ", ")
		}
		s.Item(term.Dot, "%s: key %s%s", step.Step, key, after)
	}
	for _, step := range r.Steps {
		if step.BlankLines > 0 {
			s.Item(term.Dot, "%s: %s left out because all cells are blank that it uses", step.Step,
				were(step.BlankLines, "line"))
		}
		if step.Blank > 0 {
			s.Item(term.Dot, "%s: %s left out because only: is blank for them, as a blank cell makes it; is_blank(x) "+
				"or ... keeps them", step.Step, were(step.Blank, "line"))
		}
	}
	for _, step := range r.Steps {
		switch {
		case step.Equal < 0:
			s.Item(term.Dot, "%s: whether rows to be added are in the table already was not looked up, since it has "+
				"so many rows", step.Step)
		case step.Equal > 0:
			s.Item(term.Dot, "%s: %s of %s to be added %s in the table already, with the same values; without a "+
				"key, they are added again", step.Step, term.Count(step.Equal), plural(step.Tally.Added, "row"),
				map[bool]string{true: "is", false: "are"}[step.Equal == 1])
		}
	}
	showTypeless(s, r)
	showNewKeys(s, r)
	showRemoved(s, r)
	showMarked(s, r)
	showLeftBlank(s, r)
	showDifferences(s, r)
	showOverruled(s, r)
	showFirst(s, r)
}

// showTypeless says where numbers are kept as texts.
func showTypeless(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		for _, c := range step.Typeless {
			what := fmt.Sprintf("%s of %s values are numbers, and are", term.Count(c.Numbers), term.Count(c.Values))
			if c.Numbers == 1 {
				what = fmt.Sprintf("1 of %s is a number, and is", plural(c.Values, "value"))
			}
			s.Item(term.Dot, "%s.%s: %s kept as text, since the column has no type: %s < 31 finds nothing; "+
				"store_as: number stores numbers", step.Table, c.Column, what, c.Column)
		}
	}
}

// comesAfter lists the steps that a step comes after, each once.
func comesAfter(step report.Step) (names []string) {
	for _, a := range step.After {
		if !slices.Contains(names, a.Step) {
			names = append(names, a.Step)
		}
	}
	return names
}

// legend is a column of the tallies, and what it means.
type legend struct{ column, means string }

// sometimes are the columns that are shown only where a line counts in them.
var sometimes = []legend{
	{"updated", "a row with this key exists, and the line changes it"},
	{"unchanged", "a row with this key exists, and the line would change nothing"},
	{"same", "a row with this key exists, with the same values"},
	{"differs", "a row with this key exists with other values, and is kept as it is"},
	{"repeated", "an equal line was taken"},
	{"overruled", "another line with the same key was taken"},
	{"left out", "excluded by only: or not_there:, blank, dropped by you, or loaded by an earlier run"},
	{"removed", "rows of the table that are gone from the file"},
}

// showTallies shows a table of tallies, which stand in the columns from first to last; where it has no room, a step in
// a line, without what is zero, and the column behind the tallies last.
func showTallies(s *term.Screen, t term.Table, first, last int, name func(row []string) string) {
	if s.Fits(t) {
		s.Table(t)
		return
	}
	for _, row := range t.Rows {
		var parts []string
		for c := first; c < last; c++ {
			if row[c] != "0" && row[c] != "" {
				parts = append(parts, row[c]+" "+t.Header[c])
			}
		}
		words := name(row) + ": " + strings.Join(parts, ", ")
		if last < len(row) {
			words += "; " + t.Header[last] + " " + row[last]
		}
		s.Item(term.Dot, "%s", words)
	}
}

// shownCells is the number of differences, or overruled lines, of a step that are shown.
const shownCells = 5

// showRemoved names the rows that are gone from the file.
func showRemoved(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		if step.Removed == 0 {
			continue
		}
		more := ""
		if n := step.Removed - int64(len(step.Gone)); n > 0 {
			more = fmt.Sprintf(" and %s more", term.Count(n))
		}
		s.Item(term.Dot, "gone from %s, so removed from %s: %s%s", step.Input, step.Table,
			strings.Join(step.Gone, "; "), more)
	}
}

// showMarked names the rows that are marked as gone from the file, and those that are marked back.
func showMarked(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		for _, m := range []struct {
			report.Marked
			why string
		}{{step.Marked, "gone from %s, so marked in %s (%s): %s%s"},
			{step.MarkedBack, "in %s again, so marked back in %s (%s): %s%s"}} {
			if m.Rows == 0 {
				continue
			}
			more := ""
			if n := m.Rows - int64(len(m.Keys)); n > 0 {
				more = fmt.Sprintf(" and %s more", term.Count(n))
			}
			s.Item(term.Dot, m.why, step.Input, step.Table, m.Words(), strings.Join(m.Keys, "; "), more)
		}
	}
}

// showLeftBlank shows the cells that lookups found no row for, or several, and left blank.
func showLeftBlank(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		if len(step.LeftBlank) == 0 {
			continue
		}
		s.Title("Left blank in %s, as leave_blank says: %s", step.Step, plural(step.Unfound, "cell"))
		for i, b := range step.LeftBlank {
			if i == shownCells {
				s.Note("and more: --json has the most frequent %d", len(step.LeftBlank))
				break
			}
			what := fmt.Sprintf("%q is not in %s", b.Cell, b.Target)
			switch {
			case b.Cell == "":
				what = "others"
			case b.Reason == "several":
				what = fmt.Sprintf("%q is in more than one row of %s", b.Cell, b.Target)
			}
			s.Item(term.Dot, "%s: %s (%s)", b.Column, what, plural(b.Lines, "line"))
		}
	}
}

// showDifferences shows the first cells that differ from rows which are kept.
func showDifferences(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		if step.Tally.Differs == 0 && len(step.Differences) == 0 {
			continue
		}
		s.Title("Differs from %s, where the row is kept: %s", step.Step, plural(step.Tally.Differs, "line"))
		for i, d := range step.Differences {
			if i == shownCells {
				s.Note("and more: --json has the first %d cells", len(step.Differences))
				break
			}
			inFile := report.OrNull(d.InFile)
			if inFile == "new" {
				inFile = "a new row"
			}
			s.Item(term.Dot, "%s: %s: %s is %s in the file and %s in %s", d.Place, d.Key, d.Column, inFile,
				report.OrNull(d.InTable), step.Table)
		}
	}
	if slices.ContainsFunc(r.Steps, func(step report.Step) bool { return step.Tally.Differs > 0 }) {
		if !ladlefile.Named(r.LadleFile) {
			s.Note("To write them, keep a ladle file with --keep, put already_there: update in its block, and load " +
				"with it.")
			return
		}
		s.Note("To write them, put already_there: update in the block, or on_update: update behind a column.")
	}
}

// showOverruled shows the first lines that lost against others.
func showOverruled(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		if len(step.Overruled) == 0 {
			continue
		}
		s.Title("Overruled in %s: %s", step.Step, plural(step.Tally.Overruled, "line"))
		for i, o := range step.Overruled {
			if i == shownCells {
				s.Note("and more: --json has the first %d", len(step.Overruled))
				break
			}
			if o.Takes {
				s.Item(term.Dot, "%s takes %s from %s", o.Place, strings.Join(o.Columns, ", "), o.By)
				continue
			}
			if o.By == "" {
				s.Item(term.Dot, "%s: an earlier block has written the row", o.Place)
				continue
			}
			s.Item(term.Dot, "%s lost to %s: a different %s", o.Place, o.By, strings.Join(o.Columns, ", "))
		}
	}
}

// showFirst shows the first rows of each step as they would be stored.
func showFirst(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		if step.First != nil {
			s.Title("First rows of %s, as they would be stored", step.Step)
			showRows(s, step.First)
		}
	}
}
