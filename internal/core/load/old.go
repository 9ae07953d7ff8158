package load

import (
	"context"
	"slices"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// oldIDs are what an index of old ids stands on: the steps whose rows had them, and, where a step recognises its rows,
// the index that knows which row of the table each of its lines became.
type oldIDs struct {
	made   []ladlefile.Maker
	keys   []*index // of each of made; nil for a step without a key
	filled bool
}

// asks tells whether the old ids are found by means of x.
func (o *oldIDs) asks(x *index) bool { return slices.Contains(o.keys, x) }

// oldIndex is the index for a find by old ids.
func (j *judgement) oldIndex(l *ladlefile.Lookup) *index {
	for _, x := range j.indexes {
		if x.old != nil && x.table == l.Table && x.yields == l.Yields.Name && slices.Equal(x.old.made, l.Made) {
			return x
		}
	}
	old := &oldIDs{made: l.Made}
	for _, m := range l.Made {
		var keys *index
		if len(m.Step.Key) > 0 {
			keys = j.index(l.Table, m.Step.KeyNames(), l.Yields.Name, m.Step.Block.BlankKey == ladlefile.MatchBlankKey)
		}
		old.keys = append(old.keys, keys)
	}
	x := newIndex(l.Table, l.Names(), l.Yields.Name, j.partsOf(j.incoming(l.Table)), j.run.dir)
	x.old, x.whole = old, true
	j.indexes = append(j.indexes, x)
	return x
}

// fillOld tells an index of old ids of all lines of the steps that it stands on.
func (j *judgement) fillOld(ctx context.Context, x *index) error {
	if x.old.filled {
		return nil
	}
	x.old.filled = true
	for i, m := range x.old.made {
		if err := j.fillMade(ctx, x, j.stepOf(m.Step), 1+m.Cell, x.old.keys[i]); err != nil {
			return err
		}
	}
	return nil
}

// fillMade tells an index of the old ids of one step, which stand in a column of its spool.
func (j *judgement) fillMade(ctx context.Context, x *index, s *judged, cell int, keys *index) error {
	if keys != nil {
		if err := j.fill(ctx, s, keys, keyOf(s, s.columns)); err != nil {
			return err
		}
	}
	asked, err := j.askMade(ctx, x, s, cell, keys)
	for i, questions := range asked {
		if err == nil {
			err = answerMade(x, keys, i, questions)
		}
		questions.Close()
	}
	return err
}

// askMade puts the old id of each row that was set aside or added without a key into x, and gives the others with their
// keys, by part.
func (j *judgement) askMade(ctx context.Context, x *index, s *judged, cell int, keys *index) ([]*spool.Stream, error) {
	var asked []*spool.Stream
	if keys != nil {
		for range keys.parts {
			asked = append(asked, spool.NewStream(j.run.dir, 4))
		}
	}
	return asked, j.eachVerdict(ctx, s, func(v *view, columns []*value.Column, verdicts *value.Batch) error {
		olds, err := x.hashes(ctx, j.db, []*value.Column{&v.rows.Columns[cell]}, nil)
		if err != nil {
			return err
		}
		var hashes []hash
		if keys != nil {
			if hashes, err = keys.hashes(ctx, j.db, keyOf(s, columns), nil); err != nil {
				return err
			}
		}
		for row, old := range olds {
			what := verdict(verdicts.Columns[0].Nums[row])
			switch {
			case old.hi == 0 || what == leftOut:
			case what == setAside:
				err = x.put(old, entry{isAside, int64(s.feed)<<feedBits | v.rows.Columns[0].Nums[row]})
			case keys == nil:
				err = x.put(old, entry{touched, verdicts.Columns[1].Nums[row]})
			default:
				h := hashes[row]
				err = asked[h.part(len(asked))].Append(h.hi, h.lo, old.hi, old.lo)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}, cell)
}

// answerMade tells x which rows the keys of one part lead to.
func answerMade(x, keys *index, part int, questions *spool.Stream) error {
	if err := keys.load(part); err != nil {
		return err
	}
	defer keys.unload(part)
	return eachRecord(questions, func(w []uint64) error {
		if e := keys.parts[part].get(hash{w[0], w[1]}); e.there() {
			return x.put(hash{w[2], w[3]}, e)
		}
		return nil
	})
}
