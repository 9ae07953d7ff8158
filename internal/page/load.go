package page

import (
	"fmt"

	"ladle/internal/core/check"
	"ladle/internal/core/judge"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
)

// loadView is what the page of a load shows.
type loadView struct {
	*report.Report
	Program string
	Title   string
	Good    bool
	Steps   []stepView
	Checks  []checkView
	Totals  []totalView
	Legend  []part
}

// stepView is a step with its tally as parts of a bar.
type stepView struct {
	step
	Parts []part
	Says  string // the tally in words, for those who don't see the bar
}

// step is a step of a report; its name in a view is not that of its field Step.
type step = report.Step

// part is a part of a bar.
type part struct {
	Class, Name, Means string
	Rows               int64
	Share              float64 // in percent
}

// checkView is a check with the mark in front of it.
type checkView struct {
	check.Result
	Mark string
	Of   string
}

type totalView struct {
	Column string
	check.Total
}

func newLoadView(r *report.Report, program string) *loadView {
	v := &loadView{Report: r, Program: program, Good: r.Outcome != report.Refused && r.Outcome != report.Unfinished, Title: title(r)}
	seen := map[string]bool{}
	for _, s := range r.Steps {
		step := stepView{step: s, Parts: parts(s.Tally)}
		for _, p := range step.Parts {
			if !seen[p.Class] {
				seen[p.Class] = true
			}
			if step.Says != "" {
				step.Says += ", "
			}
			step.Says += fmt.Sprintf("%d %s", p.Rows, p.Name)
		}
		v.Steps = append(v.Steps, step)
	}
	for _, k := range kinds {
		if seen[k.Class] {
			v.Legend = append(v.Legend, k)
		}
	}
	for _, c := range r.Checks {
		mark := "good"
		if !c.OK {
			mark = "bad"
		}
		of := c.Table
		if of == "" {
			of = c.Claim
		}
		v.Checks = append(v.Checks, checkView{c, mark, of})
		for _, t := range c.Totals {
			v.Totals = append(v.Totals, totalView{c.Table + "." + t.Column, t})
		}
	}
	return v
}

func title(r *report.Report) string {
	switch r.Outcome {
	case report.Loaded:
		if r.Run > 0 {
			return fmt.Sprintf("Loaded as run %d", r.Run)
		}
		return "Loaded without the logbook"
	case report.Tried:
		return "Dry run: nothing was changed"
	case report.Unfinished:
		return fmt.Sprintf("Not all loaded: %s of run %d %s in the tables", reason.Plural(int64(r.Parts.Number), "part"), r.Run,
			reason.Verb(int64(r.Parts.Number), "is", "are"))
	}
	return "Not loaded: nothing was changed"
}

// kinds are the parts of a tally.
var kinds = []part{
	{Class: "added", Name: "added", Means: "a new row in the table"},
	{Class: "updated", Name: "updated", Means: "a row with this key exists, and the line changes it"},
	{Class: "unchanged", Name: "unchanged", Means: "a row with this key exists, and the line would change nothing"},
	{Class: "same", Name: "same", Means: "a row with this key exists, with the same values"},
	{Class: "differs", Name: "differs", Means: "a row with this key exists with other values, and is kept as it is"},
	{Class: "repeated", Name: "repeated", Means: "an equal line was taken"},
	{Class: "overruled", Name: "overruled", Means: "another line with the same key was taken"},
	{Class: "left_out", Name: "left out", Means: "excluded by only: or not_there:, blank, dropped by you, or loaded by an " +
		"earlier run"},
	{Class: "set_aside", Name: "set aside", Means: "can't be loaded as it is"},
}

func parts(t judge.Tally) (all []part) {
	for i, n := range []int64{t.Added, t.Updated, t.Unchanged, t.Same, t.Differs, t.Repeated, t.Overruled,
		t.LeftOut, t.SetAside} {
		if n > 0 {
			p := kinds[i]
			p.Rows, p.Share = n, float64(n)*100/float64(t.Read)
			all = append(all, p)
		}
	}
	return all
}
