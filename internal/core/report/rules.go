package report

import (
	"ladle/internal/core/clean"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
)

// RuleEffect is what part of a rule did to a column of an input.
type RuleEffect struct {
	Input  string       `json:"input"`
	Column string       `json:"column"`
	Rule   string       `json:"rule"` // its key in the ladle file
	Cells  int64        `json:"cells"`
	First  []RuleChange `json:"first"` // different ones
}

// RuleChange is a cell that a rule changed.
type RuleChange struct {
	File   string  `json:"file"`
	Line   int64   `json:"line"`
	Place  string  `json:"-"` // both, in short
	Before string  `json:"before"`
	After  *string `json:"after"` // once the whole rule is done; nil for NULL
}

// Did brings in what the rules of an input did to its cells. place says where a record of it stands.
func (r *Report) Did(f *plan.Feed, rows *clean.Rows, place func(position int64) reason.Place) {
	for _, e := range rows.Effects() {
		x := RuleEffect{Input: f.Name(), Column: f.Recipe.Name(e.Column), Rule: e.Deed.String(), Cells: e.Cells,
			First: []RuleChange{}}
		for _, c := range e.First {
			at := place(c.Position)
			made := RuleChange{File: at.File, Line: at.Line, Place: at.Short(), Before: reason.Shorten(c.Before)}
			if c.After != nil {
				after := reason.Shorten(*c.After)
				made.After = &after
			}
			x.First = append(x.First, made)
		}
		r.Rules = append(r.Rules, x)
	}
}
