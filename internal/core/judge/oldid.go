package judge

import (
	"context"
	"slices"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/plan"
	"ladle/internal/core/spool"
)

// oldIDs are what an index of old ids stands on: the steps whose rows had them, and, where a step recognises its rows,
// the index that knows which row of the table each of its lines became.
type oldIDs struct {
	makers []plan.Maker
	keys   []*index // of each of makers; nil for a step without a key
	filled bool
}

// asks reports whether the old ids are found by means of x.
func (o *oldIDs) asks(x *index) bool { return slices.Contains(o.keys, x) }

// oldIndex is the index for a lookup by old ids.
func (r *round) oldIndex(l *plan.Lookup) *index {
	for _, x := range r.indexes {
		if x.old != nil && x.Table == l.Table && x.Yields == l.Yields.Name && slices.Equal(x.old.makers, l.Makers) {
			return x
		}
	}
	old := &oldIDs{makers: l.Makers}
	for _, m := range l.Makers {
		var keys *index
		if len(m.Step.Key) > 0 {
			keys = r.index(l.Table, m.Step.KeyNames(), l.Yields.Name, m.Step.MatchesBlanks())
		}
		old.keys = append(old.keys, keys)
	}
	o := keyindex.Options{Yields: l.Yields.Name, Parts: r.partsOf(r.incoming(l.Table)), Dir: r.Dir}
	x := &index{Index: keyindex.New(l.Table, l.Names(), o), old: old}
	r.indexes = append(r.indexes, x)
	return x
}

// fillOld tells an index of old ids of all lines of the steps that it stands on.
func (r *round) fillOld(ctx context.Context, x *index) error {
	if x.old.filled {
		return nil
	}
	x.old.filled = true
	for i, m := range x.old.makers {
		if err := r.fillMade(ctx, x, r.stepOf(m.Step), m.Cell, x.old.keys[i]); err != nil {
			return err
		}
	}
	return nil
}

// oldKey is an old id, and the key of the line that has it.
type oldKey struct{ key, old keyindex.Hash }

// fillMade tells an index of the old ids of one step, which stand in a cell of its lines.
func (r *round) fillMade(ctx context.Context, x *index, s *Step, cell int, keys *index) error {
	var asked []*spool.Stream[oldKey]
	if keys != nil {
		if err := r.fill(ctx, s, keys, keyOf(s, s.sources)); err != nil {
			return err
		}
		asked = spool.Streams[oldKey](r.Dir, keys.PartCount())
		defer closeAll(asked)
	}
	if err := r.askMade(ctx, x, s, cell, keys, asked); err != nil {
		return err
	}
	for i, questions := range asked {
		if err := answerMade(x, keys, i, questions); err != nil {
			return err
		}
	}
	return nil
}

// askMade puts the old id of each line that was set aside or added without a key into x, and returns asked the others
// with their keys, by part.
func (r *round) askMade(ctx context.Context, x *index, s *Step, cell int, keys *index,
	asked []*spool.Stream[oldKey]) error {
	lines := s.Lines(ctx, cell)
	var olds, hashes []keyindex.Hash
	for lines.Next() {
		olds = keyindex.HashesAsWritten(lines.Cell(cell), olds)
		if keys != nil {
			var err error
			if hashes, err = keys.Hashes(ctx, r.Database, keyOf(s, lines.Values()), hashes); err != nil {
				return err
			}
		}
		for i, old := range olds {
			var err error
			switch what := lines.Verdict(i); {
			case old.None() || what == LeftOut:
			case what == SetAside:
				err = x.Put(old, keyindex.Entry{State: keyindex.SetAside,
					Ref: refOfLine(s.Feed.Number, lines.Position(i))})
			case keys == nil:
				ref, isNew := lines.Row(i)
				err = x.Put(old, keyindex.Entry{State: keyindex.Touched, Ref: ref, New: isNew})
			default:
				err = asked[hashes[i].Part(len(asked))].Append(oldKey{hashes[i], old})
			}
			if err != nil {
				return err
			}
		}
	}
	return lines.Err()
}

// answerMade tells x which rows the keys of one part lead to.
func answerMade(x, keys *index, part int, questions *spool.Stream[oldKey]) error {
	known, err := keys.Load(part)
	if err != nil {
		return err
	}
	defer known.Unload()
	return questions.Each(func(q *oldKey) error {
		if e := known.Get(q.key); e.There() {
			return x.Put(q.old, e)
		}
		return nil
	})
}
