package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

// inOrderOf resolves the columns that order the rows which a step adds.
func (r *resolver) inOrderOf(s *Step) {
	for _, name := range s.Block.InOrderOf {
		at := slices.Index(s.Names(), name.Value)
		switch {
		case at < 0:
			r.problem(name.Place, fmt.Sprintf("in_order_of: names %q, which this block doesn't fill", name.Value),
				fault.DidYouMean(name.Value, s.Names()))
		case s.Columns[at].Source.Lookup != nil:
			r.problem(name.Place, fmt.Sprintf("in_order_of: can't order by %s, which is looked up", name.Value),
				"name columns whose values stand in the input")
		case s.Policy.NotThere != ladlefile.AddNotThere:
			r.problem(name.Place, "in_order_of: has no effect here: this block adds no rows", "delete in_order_of:")
		default:
			s.InOrderOf = append(s.InOrderOf, at)
		}
	}
}

// order puts the steps behind those that fill the tables they find in or refer to. Where these are part of a
// circular reference, a column that may be blank for the moment becomes a step of its own.
func (r *resolver) order(steps []*Step) (all []*Step) {
	defer func() {
		for i, s := range all {
			s.Number = i
		}
	}()
	for {
		edges := edges(steps)
		labels, needs := make([]string, len(steps)), make([]schema.Need, len(edges))
		for i, s := range steps {
			labels[i] = s.Name
		}
		for i, e := range edges {
			needs[i] = e.Need
		}
		order, err := schema.Order(labels, needs)
		var cycle *schema.Cycle
		if !errors.As(err, &cycle) {
			return sorted(steps, order, needs)
		}
		at := slices.IndexFunc(cycle.Needs, func(n int) bool { return steps[edges[n].After].mayLeave(edges[n].column) })
		if at < 0 {
			r.unbroken(steps, edges, cycle)
			return nil
		}
		e := edges[cycle.Needs[at]]
		steps = append(steps, steps[e.After].leave(e.column))
	}
}

func sorted(steps []*Step, order []int, needs []schema.Need) []*Step {
	all := make([]*Step, len(order))
	for i, o := range order {
		all[i] = steps[o]
	}
	for _, n := range needs {
		why := After{steps[n.Before].Name, n.Why}
		if s := steps[n.After]; !slices.Contains(s.After, why) {
			s.After = append(s.After, why)
		}
	}
	return all
}

// unbroken tells of a circle of steps in which no column can be left for later.
func (r *resolver) unbroken(steps []*Step, edges []edge, cycle *schema.Cycle) {
	what := cycle.Error()
	for _, n := range cycle.Needs {
		e := edges[n]
		s := steps[e.After]
		what += fmt.Sprintf("\n    %s -> %s: %s, and %s", s.Name, steps[e.Before].Name, e.Why, s.whyNot(e.column))
	}
	r.problem(steps[edges[cycle.Needs[0]].After].Block.Name.Place, what,
		"allow NULL in one of these columns, or leave it out here and fill it with a second ladle file")
}

// mayLeave reports whether a column can be filled by a later step: its row can be there without it.
func (s *Step) mayLeave(column int) bool { return s.whyNot(column) == "" }

func (s *Step) whyNot(column int) string {
	if column < 0 {
		return "it completes rows that must exist"
	}
	switch c := s.Columns[column].Column; {
	case slices.Contains(s.Key, column) || s.Pairs:
		return c.Name + " is part of the key"
	case slices.Contains(s.InOrderOf, column):
		return c.Name + " orders the rows"
	case c.Required || c.Identity:
		return c.Name + " is NOT NULL"
	case c.Defaulted:
		return c.Name + " has a default, which the database uses when there is no value"
	case s.First != nil:
		return c.Name + " is filled in a later step already"
	case s.Table.Locator == "" && !s.Table.UniqueOn(s.KeyNames()):
		return s.Table.Name + " has neither an auto-numbered id nor a unique key by which a row could be completed"
	}
	return ""
}

// leave takes a column out of the step, and returns the step that fills it.
func (s *Step) leave(column int) *Step {
	fed := s.Columns[column]
	second := &Step{Name: s.Name + "." + fed.Column.Name, Block: s.Block, Feed: s.Feed, Table: s.Table,
		Policy: s.Policy, Only: s.Only, First: s}
	if s.Table.Locator == "" { // its rows are found by their key
		for i, k := range s.Key {
			second.Columns, second.Key = append(second.Columns, s.Columns[k]), append(second.Key, i)
		}
	}
	second.Columns = append(second.Columns, fed)
	s.Columns = slices.Delete(slices.Clone(s.Columns), column, column+1)
	for i, k := range s.Key {
		if k > column {
			s.Key[i]--
		}
	}
	s.InOrderOf = slices.Clone(s.InOrderOf)
	for i, o := range s.InOrderOf {
		if o > column {
			s.InOrderOf[i]--
		}
	}
	s.Later = append(s.Later, fed)
	return second
}

// edge is a need of a step, and the column of the step that makes it; -1 where it is the step itself.
type edge struct {
	schema.Need
	column int
}

// edges lists what the steps need of each other: the rows that they look up, or refer to.
func edges(steps []*Step) []edge {
	var all []edge
	for after, s := range steps {
		add := func(column int, why string, needed func(*Step) bool) {
			for before, b := range steps {
				if needed(b) {
					all = append(all, edge{schema.Need{Before: before, After: after, Why: why}, column})
				}
			}
		}
		if s.First != nil {
			add(-1, "it completes its rows", func(b *Step) bool { return b == s.First })
		}
		for i, f := range s.Columns {
			s.lookups(i, f, add)
			if relation := s.Table.Relation(f.Column.Name); relation != nil && f.Source.Lookup == nil &&
				s.direct(i, relation) {
				add(i, s.Table.Name+"."+f.Column.Name+" refers to it", filling(relation.Parent))
			}
		}
		for _, relation := range s.Table.Relations {
			i := slices.IndexFunc(s.Columns, func(f Assignment) bool {
				return slices.Contains(relation.Columns,
					f.Column.Name)
			})
			for k, f := range s.Columns {
				if slices.Contains(relation.Columns, f.Column.Name) && s.mayLeave(k) {
					i = k
				}
			}
			if len(relation.Columns) > 1 && i >= 0 && s.direct(i, &relation) {
				add(i, s.Table.Name+"."+strings.Join(relation.Columns, ", ")+" refers to it", filling(relation.Parent))
			}
		}
	}
	return all
}

func filling(table string) func(*Step) bool {
	return func(s *Step) bool { return s.Table.Name == table && s.First == nil }
}

// direct reports whether a relation whose values stand in the file makes a need. To its own table it does where the
// column can be left for later; else the rows must stand in the file in an order that does.
func (s *Step) direct(column int, relation *schema.Relation) bool {
	return relation.Parent != s.Table.Name || s.mayLeave(column)
}

// lookups adds the needs of all lookups of column i.
func (s *Step) lookups(i int, f Assignment, add func(int, string, func(*Step) bool)) {
	column := s.Table.Name + "." + f.Column.Name
	f.Source.lookups(func(l *Lookup) {
		why := column + " looks up " + l.Table.Name + "." + strings.Join(l.Names(), ", ")
		if l.Makers == nil {
			add(i, why, filling(l.Table.Name))
			return
		}
		add(i, column+" looks up "+l.Table.Name+" by its old id", func(b *Step) bool {
			return slices.ContainsFunc(l.Makers, func(m Maker) bool { return m.Step == b })
		})
	})
}
