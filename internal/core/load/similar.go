package load

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// Similar is a new name for a lookup that looks like another one.
type Similar struct {
	Table    string `json:"table"`
	Name     string `json:"name"`
	Like     string `json:"like"`
	New      bool   `json:"like_is_new"` // the other one is not in the table yet either
	Accepted bool   `json:"accepted"`
}

// alike finds the new names that look like others. Those that nobody accepts are refused; it tells whether there are any,
// so that all must be judged again without them.
func (j *judgement) alike(ctx context.Context) (refused bool, err error) {
	j.similar = nil
	for _, x := range j.growing() {
		if len(x.columns) != 1 || x.table.Column(x.columns[0]).Type.Kind != value.Text {
			continue
		}
		pairs, err := j.alikeIn(ctx, x)
		if err != nil {
			return false, err
		}
		for _, p := range pairs {
			if accepted, err := j.run.accepts(ctx, p); err != nil {
				return false, err
			} else if !accepted {
				j.run.unlike[refusal{x.label(), p.addition.key}] = p.why()
				refused = true
			} else if p.addition.finder.of.Similar == "" {
				p.Accepted = true
				j.similar = append(j.similar, p.Similar)
			}
		}
	}
	return refused, nil
}

// accepts tells whether a name that looks like another one may be added: as the ladle file says, or the person.
func (r *run) accepts(ctx context.Context, p alike) (bool, error) {
	switch p.addition.finder.of.Similar {
	case ladlefile.AcceptSimilar:
		return true, nil
	case ladlefile.RefuseSimilar:
		return false, nil
	}
	accepted, asked := r.accepted[p.Similar]
	if asked || r.AskSimilar == nil || !r.asking {
		return accepted, nil
	}
	accepted, err := r.AskSimilar(ctx, p.Similar)
	r.accepted[p.Similar] = accepted
	return accepted, err
}

// alike is a new name and one that it looks like.
type alike struct {
	Similar
	addition *addition
}

func (p alike) why() string {
	if p.New {
		return fmt.Sprintf("it looks like another name; %q is new too", p.Like)
	}
	return fmt.Sprintf("it looks like another name; there is %q", p.Like)
}

// alikeIn holds the new names for x against each other and against all names that are there.
func (j *judgement) alikeIn(ctx context.Context, x *index) ([]alike, error) {
	additions := j.additionsTo(x)
	likes := make([]Similar, len(additions))
	near := text.NewNear()
	for i, a := range additions {
		name := a.values.Columns[0].Text(0)
		likes[i] = Similar{Table: x.table.Name, Name: name}
		near.Each(name, func(other int) bool {
			likes[i].Like, likes[i].New = likes[other].Name, true
			return false
		})
		near.Add(name)
	}
	err := j.db.Scan(ctx, x.table, x.columns, func(b *value.Batch) error {
		for row := range b.Len() {
			if b.Columns[0].States[row] != value.Given {
				continue
			}
			there := string(b.Columns[0].Bytes(row))
			near.Each(there, func(i int) bool {
				if l := &likes[i]; l.Like == "" || l.New || there < l.Like { // the same one whatever the order of the table
					l.Like, l.New = there, false
				}
				return true
			})
		}
		return nil
	})
	var all []alike
	for i, l := range likes {
		if l.Like != "" {
			all = append(all, alike{l, additions[i]})
		}
	}
	slices.SortFunc(all, func(a, b alike) int { return cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return all, err
}

// whyRefused says why a row of a lookup can't be added; "" when it can.
func (r *run) whyRefused(x refusal) string { return cmp.Or(r.refused[x], r.unlike[x]) }

// similarIn lists the names for x that look like others.
func (j *judgement) similarIn(x *index) []Similar {
	return slices.DeleteFunc(slices.Clone(j.similar), func(s Similar) bool { return s.Table != x.table.Name })
}
