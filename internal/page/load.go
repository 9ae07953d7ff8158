package page

import (
	"fmt"

	"ladle/internal/core/check"
	"ladle/internal/core/load"
)

// loadView is what the page of a load shows.
type loadView struct {
	*load.Report
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
	load.StepReport
	Parts []part
	Says  string // the tally in words, for those who don't see the bar
}

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

func newLoadView(r *load.Report, program string) *loadView {
	v := &loadView{Report: r, Program: program, Good: r.Outcome != load.Refused, Title: title(r)}
	seen := map[string]bool{}
	for _, s := range r.Steps {
		step := stepView{StepReport: s, Parts: parts(s.Tally)}
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

func title(r *load.Report) string {
	switch r.Outcome {
	case load.Loaded:
		if r.Run > 0 {
			return fmt.Sprintf("Loaded as run %d", r.Run)
		}
		return "Loaded without the logbook"
	case load.Tried:
		return "Tried, and taken back as asked"
	}
	return "Not loaded, nothing was changed"
}

// kinds are the parts of a tally.
var kinds = []part{
	{Class: "added", Name: "added", Means: "new in the table"},
	{Class: "updated", Name: "updated", Means: "the key is there, and other columns change"},
	{Class: "unchanged", Name: "unchanged", Means: "the key is there, and nothing changes"},
	{Class: "kept", Name: "kept", Means: "the key is in the table already"},
	{Class: "repeated", Name: "repeated", Means: "an equal line stands in the file"},
	{Class: "left_out", Name: "left out", Means: "by only: or not_there:"},
	{Class: "set_aside", Name: "set aside", Means: "can't be loaded as it is"},
}

func parts(t load.Tally) (all []part) {
	for i, n := range []int64{t.Added, t.Updated, t.Unchanged, t.Kept, t.Repeated, t.LeftOut, t.SetAside} {
		if n > 0 {
			p := kinds[i]
			p.Rows, p.Share = n, float64(n)*100/float64(t.Read)
			all = append(all, p)
		}
	}
	return all
}
