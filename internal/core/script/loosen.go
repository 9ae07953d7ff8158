package script

import (
	"fmt"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
)

// named is what to do where the rows that are there matter.
const named = "have the script written for the database, which must be one that ladle can connect to"

// Apart is an error where an input reads the database that is loaded into, which nobody asks.
func Apart(f *ladlefile.File) error {
	for _, part := range f.Parts {
		if err := Apart(part); err != nil {
			return err
		}
	}
	for _, in := range f.Inputs {
		if in.FromDatabase() && !in.Database.Given() {
			return fault.At(fault.Wrong, fault.Problem{File: f.Path, Line: in.Name.Line, Column: in.Name.Column,
				What: "the input " + in.Name.Value + " reads the database that is loaded into", Do: named})
		}
	}
	return nil
}

// Loosen has a plan judge lines without the rows that are there: names that aren't found are taken for names that the
// server has. What can't be done without those rows is an error.
func Loosen(p *plan.Plan) error {
	problem := func(s *plan.Step, what, do string) error {
		return fault.At(fault.Wrong, at(p, s, "the block "+s.Name+" "+what+", which takes the rows that are there", do))
	}
	for _, s := range p.Steps {
		switch {
		case s.Policy.Gone != nil:
			return problem(s, "has gone_from_file:", named)
		case s.Pairs:
			return problem(s, "has key: all_columns", named)
		case s.Policy.NotThere != ladlefile.AddNotThere:
			return problem(s, "has not_there:", named)
		case s.Policy.AlreadyThere == ladlefile.SetAsideThere:
			return problem(s, "has already_there: set_aside", named)
		}
		for i := range s.Columns {
			direct(&s.Columns[i])
		}
		for i := range s.Later {
			direct(&s.Later[i])
		}
		var wrong error
		s.Lookups(func(l *plan.Lookup) {
			switch {
			case l.Makers != nil:
			case l.Yields.Name != l.Table.Locator:
				wrong = problem(s, "looks up "+l.Table.Name+"."+l.Yields.Name+", which is no auto-numbered id", named)
			default:
				l.Similar = ladlefile.SimilarNames{All: ladlefile.AcceptSimilar}
			}
		})
		if wrong != nil {
			return wrong
		}
	}
	return nil
}

// at is a problem with a block; of several ladle files, it is not told in which.
func at(p *plan.Plan, s *plan.Step, what, do string) fault.Problem {
	if p.File.Parts != nil {
		return fault.Problem{File: p.File.Title(), What: what, Do: do}
	}
	return fault.Problem{File: p.File.Path, Line: s.Block.Name.Line, Column: s.Block.Name.Column, What: what, Do: do}
}

// direct has a column take ids that the file brings along as they are: the tables can't tell whether they are there.
func direct(a *plan.Assignment) {
	for a.Source.Lookup != nil && a.Source.Lookup.Implied {
		a.Source = a.Source.Lookup.By[0].Source
	}
}

// AllAdd has all lookups of a plan add what they don't find, and returns which did so before. Lookups for the same names
// must agree.
func AllAdd(p *plan.Plan) (adds map[string]bool, err error) {
	adds = map[string]bool{}
	for _, s := range p.Steps {
		s.Lookups(func(l *plan.Lookup) {
			if l.Makers != nil {
				return
			}
			name, add := indexed(l.Table, l.Names()), l.NotFound == ladlefile.AddNotFound
			if said, ok := adds[name]; ok && said != add {
				err = fault.At(fault.Wrong, at(p, s, fmt.Sprintf("lookups of %s by %s don't agree on not_found: add", l.Table.Name,
					strings.Join(l.Names(), ", ")), "make it the same in all of them"))
			}
			adds[name] = add
		})
	}
	for _, s := range p.Steps {
		s.Lookups(func(l *plan.Lookup) {
			if l.Makers == nil {
				l.NotFound = ladlefile.AddNotFound
			}
		})
	}
	return adds, err
}

// indexed names what a lookup looks for.
func indexed(t *schema.Table, columns []string) string {
	return t.Name + "\x00" + strings.Join(columns, "\x00")
}
