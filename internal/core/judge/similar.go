package judge

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// Similar is a new name for a lookup table that looks like another one.
type Similar struct {
	Table string `json:"table"`
	Name  string `json:"name"`
	Like  string `json:"like"`
	IsNew bool   `json:"like_is_new"` // the other one is not in the table yet either
}

// Answers are the answers of a person about names that look like others: whether they may be added.
type Answers map[Similar]bool

// alike finds the new names that look like others. Those that nobody accepts are refused; it reports whether there are
// any, so that all must be judged again without them.
func (r *round) alike(ctx context.Context) (refused bool, err error) {
	for _, g := range r.Growths {
		if len(g.Columns) != 1 || g.Table.Column(g.Columns[0]).Type.Kind != value.Text {
			continue
		}
		pairs, err := r.alikeIn(ctx, g)
		if err != nil {
			return false, err
		}
		for _, p := range pairs {
			accepted, err := r.accepts(ctx, p)
			switch {
			case err != nil:
				return false, err
			case !accepted:
				c := reason.Because(p.addition.index.why(reason.LooksLike))
				c.Near, c.IsNew = p.Like, p.IsNew
				r.unlike[p.addition.index.name(p.addition.key)] = c
				refused = true
			case p.addition.lookup.of.Similar == "":
				g.Similar = append(g.Similar, p.Similar)
			}
		}
	}
	return refused, nil
}

// accepts reports whether a name that looks like another one may be added: as the ladle file says, or the person.
func (r *round) accepts(ctx context.Context, p similarPair) (bool, error) {
	switch p.addition.lookup.of.Similar {
	case ladlefile.AcceptSimilar:
		return true, nil
	case ladlefile.SetAsideSimilar:
		return false, nil
	}
	accepted, asked := r.Answers[p.Similar]
	if asked || r.AskSimilar == nil {
		return accepted, nil
	}
	accepted, err := r.AskSimilar(ctx, p.Similar)
	if r.Answers != nil {
		r.Answers[p.Similar] = accepted
	}
	return accepted, err
}

// similarPair is a new name and one that it looks like.
type similarPair struct {
	Similar
	addition *addition
}

// alikeIn holds the new names of a growth against each other and against all names that are there.
func (r *round) alikeIn(ctx context.Context, g *Growth) ([]similarPair, error) {
	likes := make([]Similar, len(g.additions))
	near := text.NewNear()
	for i, a := range g.additions {
		name := a.values.Columns[0].Text(0)
		likes[i] = Similar{Table: g.Table.Name, Name: name}
		near.Each(name, func(other int) bool {
			likes[i].Like, likes[i].IsNew = likes[other].Name, true
			return false
		})
		near.Add(name)
	}
	err := r.Database.Scan(ctx, g.Table, g.Columns, func(b *value.Batch) error {
		for row := range b.Len() {
			if b.Columns[0].States[row] != value.Given {
				continue
			}
			there := string(b.Columns[0].Bytes(row))
			near.Each(there, func(i int) bool {
				// the same one whatever the order of the table
				if l := &likes[i]; l.Like == "" || l.IsNew || there < l.Like {
					l.Like, l.IsNew = there, false
				}
				return true
			})
		}
		return nil
	})
	var all []similarPair
	for i, l := range likes {
		if l.Like != "" {
			all = append(all, similarPair{l, g.additions[i]})
		}
	}
	slices.SortFunc(all, func(a, b similarPair) int {
		return cmp.Compare(strings.ToLower(a.Name),
			strings.ToLower(b.Name))
	})
	return all, err
}
