package judge

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"unicode"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// Similar is a new name that looks like another one.
type Similar struct {
	Table string `json:"table"`
	Name  string `json:"name"`
	Like  string `json:"like"`
	IsNew bool   `json:"like_is_new"` // the other one is not in the table yet either
}

// SimilarQuestion asks whether a name that looks like another one may be added.
type SimilarQuestion struct {
	Similar
	Lines     int64 // that have the name
	LikeLines int64 // that have the other one, where that is new too
}

// ErrStopped is what a person's answer gives who wants nothing to be done at all.
var ErrStopped = errors.New("stopped by the person who was asked")

// Answers are the answers of a person about names that look like others: whether they may be added.
type Answers map[Similar]bool

const (
	// mostNewNames is the number of new keys of a step that are held against each other and against the table.
	mostNewNames = 20_000
	// mostNamesThere is the number of rows of a table against which they are held.
	mostNamesThere = 500_000
)

// newNames are the names that a load would add to a table in one way: by lookups, or by a step.
type newNames struct {
	table    *schema.Table
	column   string
	all      []*freshName
	accepted *[]Similar // by a person
	codes    bool       // names may be codes, which are not held against each other
}

// freshName is a name that would be added.
type freshName struct {
	name  string
	at    newName
	lines int64
	says  ladlefile.Similar
	why   reason.Why
}

// alike finds the new names that look like others. Those that nobody accepts are refused; it reports whether there are
// any, so that all must be judged again without them.
func (r *round) alike(ctx context.Context) (refused bool, err error) {
	for _, g := range r.Growths {
		if len(g.Columns) == 1 && g.Table.Column(g.Columns[0]).Type.Kind == value.Text {
			found, err := r.holdNames(ctx, g.newNames())
			if err != nil {
				return false, err
			}
			refused = refused || found
		}
	}
	for _, s := range r.Steps {
		if s.First != nil || !s.Policy.HoldsNames {
			continue
		}
		names, err := r.addedNames(ctx, s)
		if err != nil {
			return false, err
		}
		found, err := r.holdNames(ctx, names)
		if err != nil {
			return false, err
		}
		refused = refused || found
	}
	return refused, nil
}

// holdNames asks about those of the names that look like others, and refuses those that are not accepted.
func (r *round) holdNames(ctx context.Context, names *newNames) (refused bool, err error) {
	pairs, err := r.alikeIn(ctx, names)
	if err != nil {
		return false, err
	}
	for _, p := range pairs {
		accepted, err := r.accepts(ctx, p)
		switch {
		case err != nil:
			return false, err
		case !accepted:
			c := reason.Because(p.why)
			c.Near, c.IsNew = p.Like, p.IsNew
			r.unlike[p.at] = c
			refused = true
		case p.says == "":
			*names.accepted = append(*names.accepted, p.Similar)
		}
	}
	return refused, nil
}

// accepts reports whether a name that looks like another one may be added: as the ladle file says, or the person.
func (r *round) accepts(ctx context.Context, p similarPair) (bool, error) {
	if p.says != "" {
		return p.says == ladlefile.AcceptSimilar, nil
	}
	accepted, asked := r.Answers[p.Similar]
	if asked || r.AskSimilar == nil {
		return accepted, nil
	}
	accepted, err := r.AskSimilar(ctx, p.SimilarQuestion)
	if r.Answers != nil && err == nil {
		r.Answers[p.Similar] = accepted
	}
	return accepted, err
}

// similarPair is a new name and one that it looks like.
type similarPair struct {
	SimilarQuestion
	*freshName
}

// alikeIn holds new names against each other and against all names that are there.
func (r *round) alikeIn(ctx context.Context, names *newNames) ([]similarPair, error) {
	if len(names.all) == 0 {
		return nil, nil
	}
	likes := make([]SimilarQuestion, len(names.all))
	near := text.NewNear()
	for i, c := range names.all {
		likes[i] = SimilarQuestion{Similar: Similar{Table: names.table.Name, Name: c.name}, Lines: c.lines}
		near.Each(c.name, func(other int) bool {
			likes[i].Like, likes[i].IsNew, likes[i].LikeLines = likes[other].Name, true, likes[other].Lines
			return false
		})
		near.Add(c.name)
	}
	err := r.Database.Scan(ctx, names.table, []string{names.column}, func(b *value.Batch) error {
		for row := range b.Len() {
			there := b.Columns[0].Bytes(row)
			if b.Columns[0].States[row] != value.Given || names.codes && isCode(string(there)) {
				continue
			}
			near.Each(string(there), func(i int) bool {
				// the same one whatever the order of the table
				if l := &likes[i]; l.Like == "" || l.IsNew || string(there) < l.Like {
					l.Like, l.IsNew, l.LikeLines = string(there), false, 0
				}
				return true
			})
		}
		return nil
	})
	var all []similarPair
	for i, l := range likes {
		if l.Like != "" {
			all = append(all, similarPair{l, names.all[i]})
		}
	}
	slices.SortFunc(all, func(a, b similarPair) int {
		return cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return all, err
}

// newNames are the names that lookups add.
func (g *Growth) newNames() *newNames {
	names := &newNames{table: g.Table, column: g.Columns[0], accepted: &g.Similar}
	for i, a := range g.additions {
		name := g.Name(i)
		names.all = append(names.all, &freshName{name, g.index.name(a.key), a.lines, a.lookup.of.Similar.Of(name),
			g.index.why(reason.LooksLike)})
	}
	return names
}

// addedNames are the keys of the rows that a step adds, without codes.
func (r *round) addedNames(ctx context.Context, s *Step) (*newNames, error) {
	x, cell := r.keyIndex(s.Step), s.Columns[s.Key[0]].Source.Cell
	names := &newNames{table: s.Table, column: s.KeyNames()[0], accepted: &s.Similar, codes: true}
	if s.Tally.Added == 0 {
		return names, nil
	}
	byName := map[string]*freshName{}
	var hashes []keyindex.Hash
	lines := s.lines(ctx, false, cell)
	for lines.Next() {
		key := lines.Cell(cell)
		isName := func(i int) bool { return lines.Verdict(i) == Added && !isCode(string(key.Bytes(i))) }
		if !anyOf(lines.Len(), isName) {
			continue
		}
		var err error
		if hashes, err = x.Hashes(ctx, r.Database, []*value.Column{key}, hashes); err != nil {
			return nil, err
		}
		for i := range lines.Len() {
			if !isName(i) {
				continue
			}
			if len(names.all) == mostNewNames || r.Before[s.Table].Rows > mostNamesThere {
				s.Unheld = s.Tally.Added
				names.all = nil
				return names, nil
			}
			c := &freshName{key.Text(i), x.name(hashes[i]), 0, "", x.why(reason.LooksLike)}
			c.says = s.Policy.Similar.Of(c.name)
			names.all, byName[c.name] = append(names.all, c), c
		}
	}
	return names, errors.Join(lines.Err(), s.countNames(ctx, cell, byName))
}

// anyOf reports whether something holds for one of n.
func anyOf(n int, holds func(int) bool) bool {
	for i := range n {
		if holds(i) {
			return true
		}
	}
	return false
}

// countNames counts the lines that have one of the names.
func (s *Step) countNames(ctx context.Context, cell int, byName map[string]*freshName) error {
	if len(byName) == 0 {
		return nil
	}
	lines := s.lines(ctx, false, cell)
	for lines.Next() {
		key := lines.Cell(cell)
		for i := range lines.Len() {
			if key.States[i] != value.Given || lines.Verdict(i) == LeftOut {
				continue
			}
			if c := byName[string(key.Bytes(i))]; c != nil {
				c.lines++
			}
		}
	}
	return lines.Err()
}

// isCode reports whether a key is a code rather than a name: the next code is another thing, not a slip of the pen.
func isCode(key string) bool {
	letters, digits := 0, 0
	for _, c := range key {
		switch {
		case unicode.IsDigit(c):
			digits++
		case unicode.IsLetter(c):
			letters++
		}
	}
	return digits > 0 && digits >= letters
}
