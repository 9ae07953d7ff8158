package script

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
)

// instead is what to do where the rows that are there matter.
const instead = "have the script written for the database, which must be one that ladle can connect to"

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
				What: "the input " + in.Name.Value + " reads the database that is loaded into", Do: instead})
		}
	}
	return nil
}

// Loosen has a plan judge lines without the rows that are there: names that aren't found are taken for names that the
// server has. It returns the lookups that add what they don't find. What can't be done without those rows is an error.
func Loosen(p *plan.Plan) (Additions, error) {
	problem := func(s *plan.Step, what string) error {
		return at(p, s, "the block "+s.Name+" "+what+", which takes the rows that are there", instead)
	}
	for _, s := range p.Steps {
		switch {
		case s.Policy.Gone != nil:
			return nil, problem(s, "has gone_from_file:")
		case s.Pairs:
			return nil, problem(s, "has key: all_columns")
		case s.Policy.NotThere != ladlefile.AddNotThere:
			return nil, problem(s, "has not_there:")
		case s.Policy.AlreadyThere == ladlefile.SetAsideThere:
			return nil, problem(s, "has already_there: set_aside")
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
			case slices.ContainsFunc(l.Makers, func(m plan.Maker) bool { return len(m.Step.Key) == 0 }):
				wrong = at(p, s, "the block "+s.Name+" refers by old ids to rows that have no key, so that a script can't find them",
					"give their block a key")
			case l.Makers != nil:
			case l.Yields.Name != l.Table.Locator:
				wrong = problem(s, "looks up "+l.Table.Name+"."+l.Yields.Name+", which is no auto-numbered id")
			default:
				l.Similar = ladlefile.SimilarNames{All: ladlefile.AcceptSimilar}
			}
		})
		if wrong != nil {
			return nil, wrong
		}
	}
	return allAdd(p)
}

// at is the error of a block; of several ladle files, it is not told in which.
func at(p *plan.Plan, s *plan.Step, what, do string) error {
	problem := fault.Problem{File: p.File.Title(), What: what, Do: do}
	if p.File.Parts == nil {
		problem.Line, problem.Column = s.Block.Name.Line, s.Block.Name.Column
	}
	return fault.At(fault.Wrong, problem)
}

// direct has a column take ids that the file brings along as they are: the tables can't tell whether they are there.
func direct(a *plan.Assignment) {
	for a.Source.Lookup != nil && a.Source.Lookup.Implied {
		a.Source = a.Source.Lookup.By[0].Source
	}
}

// Additions tells which lookups add what they don't find, by what they look for.
type Additions map[string]bool

// allAdd has all lookups of a plan add what they don't find, and returns which did so before. Lookups for the same names
// must agree.
func allAdd(p *plan.Plan) (adds Additions, err error) {
	adds = Additions{}
	for _, s := range p.Steps {
		s.Lookups(func(l *plan.Lookup) {
			if l.Makers != nil {
				return
			}
			name, add := indexed(l.Table, l.Names()), l.NotFound == ladlefile.AddNotFound
			if said, ok := adds[name]; ok && said != add {
				err = at(p, s, fmt.Sprintf("lookups of %s by %s don't agree on not_found: add", l.Table.Name,
					strings.Join(l.Names(), ", ")), "make it the same in all of them")
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
