package plan

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// key resolves the key that the block names, or finds the one unique constraint whose columns are all fed.
func (r *resolver) key(s *Step) {
	b := s.Block
	if b.AllColumns {
		r.pairs(s)
		return
	}
	if b.Keyless {
		for _, c := range b.Columns {
			r.noUpdate(c, "without a key, no row is recognised")
		}
		if b.AlreadyThere != ladlefile.KeepThere || b.NotThere != ladlefile.AddNotThere ||
			b.Contradictions != ladlefile.SetAsideContradictions || b.BlankKey != ladlefile.SetAsideBlankKey ||
			b.Gone != nil {
			r.problem(b.KeyAt, "without a key, no row is recognised as existing, repeated or gone",
				"delete already_there:, not_there:, contradictions:, blank_key: and gone_from_file: from this block")
		}
		return
	}
	names := make([]string, len(b.Key))
	for i, k := range b.Key {
		names[i] = k.Value
	}
	if len(b.Key) == 0 {
		names = r.defaultKey(s)
	}
	fed := s.Names()
	for i, name := range names {
		at := slices.Index(fed, name)
		if at < 0 {
			r.problem(b.Key[i].Place, fmt.Sprintf("key: names %q, which this block doesn't fill", name),
				fault.DidYouMean(name, fed))
			continue
		}
		s.Key = append(s.Key, at)
	}
	for _, c := range b.Columns {
		if slices.Contains(s.KeyNames(), c.Name.Value) {
			r.noUpdate(c, "it is part of the key")
		}
	}
	for _, t := range s.Targets() {
		s.Policy.Writes = s.Policy.Writes || s.writes(t)
	}
	r.judgeUpdate(s)
}

// pairs makes a step recognise rows by all that it feeds.
func (r *resolver) pairs(s *Step) {
	b := s.Block
	s.Pairs = true
	for _, c := range b.Columns {
		r.noUpdate(c, "all columns are the key")
	}
	if b.AlreadyThere != ladlefile.KeepThere || b.Contradictions != ladlefile.SetAsideContradictions ||
		b.BlankKey != ladlefile.SetAsideBlankKey || b.Blank == ladlefile.ClearBlank {
		r.problem(b.KeyAt, "with all columns as the key, lines are equal to a row or new: there is nothing to update, no "+
			"contradiction, and a blank is NULL", "delete already_there:, contradictions:, blank: and blank_key: from this block")
	}
	if len(s.Paired()) == 0 {
		r.problem(b.KeyAt, "the database may change all columns that this block fills, so no row can be recognised by them",
			"write key: none, or take columns out of changed_by_database:")
	}
	if b.Gone != nil && s.Table.FoundBy() == nil {
		r.copies(s)
	}
}

// copies refuses what can't be done with rows that may be equal in all columns: as many are removed as there are too
// many, and it doesn't matter which.
func (r *resolver) copies(s *Step) {
	problem := func(what string) {
		r.problem(s.Block.Gone.Place, fmt.Sprintf("%s: %s has neither an auto-numbered id nor a unique key that is NOT NULL",
			what, s.Table.Name), "give the table one, or delete gone_from_file: here")
	}
	odd := slices.IndexFunc(s.Table.Columns, func(c schema.Column) bool { return c.Odd != "" })
	switch pointing := r.schema.PointingAt(s.Table); {
	case s.Block.Gone.Mark != nil:
		problem("a row that is gone can't be marked without marking its equals")
	case len(pointing) > 0:
		problem(fmt.Sprintf("rows of %s refer to some of these rows, and it can't be found out to which", pointing[0].Child.Name))
	case odd >= 0:
		problem(fmt.Sprintf("rows can't be distinguished, since %s can't be read", s.Table.Columns[odd].Name))
	}
}

// judgeUpdate refuses what a step that updates rows can't do.
func (r *resolver) judgeUpdate(s *Step) {
	b := s.Block
	if !s.Policy.Writes && b.AlreadyThere != ladlefile.UpdateThere && b.AlreadyThere != ladlefile.FillBlanksThere {
		if b.Blank == ladlefile.ClearBlank {
			r.problem(b.Name.Place, "blank: clear has no effect without updates",
				"add already_there: update, or delete blank:")
		}
		return
	}
	if s.Table.Locator == "" && (!s.Table.UniqueOn(s.KeyNames()) || b.BlankKey == ladlefile.MatchBlankKey) {
		r.problem(b.Name.Place, fmt.Sprintf("rows of %s can't be updated by this key: the table has no auto-numbered "+
			"id, and no unique key covers it",
			s.Table.Name), "name the columns of a unique key in key:")
	}
	if len(s.Targets()) == 0 {
		r.problem(b.Name.Place, fmt.Sprintf("block %s has nothing to update: all its columns are part of the key",
			s.Name),
			"fill more columns, or write already_there: keep")
	}
}

func (r *resolver) defaultKey(s *Step) []string {
	fed := s.Names()
	var found [][]string
	for _, k := range s.Table.Keys {
		isFed := func(name string) bool { return slices.Contains(fed, name) }
		if !slices.ContainsFunc(k.Columns, func(n string) bool { return !isFed(n) }) {
			found = append(found, k.Columns)
		}
	}
	if len(found) == 1 {
		return found[0]
	}
	what := fmt.Sprintf("block %s needs a key: no unique key of %s has all its columns filled", s.Name,
		s.Table.Name)
	if len(found) > 1 {
		all := make([]string, len(found))
		for i, f := range found {
			all[i] = "[" + strings.Join(f, ", ") + "]"
		}
		what = fmt.Sprintf("block %s needs a key: %s has several unique keys, %s", s.Name, s.Table.Name,
			strings.Join(all, " and "))
	}
	r.problem(s.Block.Name.Place, what, "add key: with the columns by which a row is recognised, or key: none to add "+
		"every row")
	return nil
}

// names finds the steps whose keys are names: a lookup of the plan finds their rows by them, or the ladle file says
// what becomes of names that look like others.
func (r *resolver) names(steps []*Step) {
	for _, s := range steps {
		said := s.Policy.Similar.Given()
		isName := len(s.Key) == 1 && s.Columns[s.Key[0]].Column.Type.Kind == value.Text &&
			s.Columns[s.Key[0]].Source.Lookup == nil && s.Columns[s.Key[0]].Source.Constant == nil
		switch {
		case said && !isName:
			r.problem(s.Block.SimilarAt, "similar_names: has no effect here: the key is not one column of texts",
				"delete similar_names:")
		case said && s.Policy.NotThere != ladlefile.AddNotThere:
			r.problem(s.Block.SimilarAt, "similar_names: has no effect here: this block adds no rows",
				"delete similar_names:")
		}
		s.Policy.HoldsNames = isName && s.Policy.NotThere == ladlefile.AddNotThere &&
			(said || lookedUp(steps, s.Table, s.KeyNames()[0]))
	}
}

// lookedUp reports whether a lookup of the steps finds rows of t by a column.
func lookedUp(steps []*Step, t *schema.Table, column string) (found bool) {
	for _, s := range steps {
		s.Lookups(func(l *Lookup) { found = found || l.Table == t && slices.Equal(l.Names(), []string{column}) })
	}
	return found
}
