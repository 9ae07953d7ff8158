package load

import (
	"context"
	"hash/maphash"
	"slices"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// match holds the keys of a step's rows against each other and against the rows that are there, part by part.
type match struct {
	judge     *judgement
	step      *judged
	index     *index          // nil for a step without a key
	questions []*spool.Stream // row, hash, content
	answers   []*spool.Stream // answer
	readers   []*spool.StreamReader
	hashes    []hash
	room      []byte
}

// outcome is what a match says of a row.
type outcome uint64

const (
	isNew        outcome = iota // the row stands for its key, which is not in the table
	isThere                     // the row stands for its key, which is in the table
	isRepeat                    // as another row, or as one of an earlier block, which stands for the key
	isContradict                // same key as another row, with other values
	isMany                      // the key is in the table more than once
	isPassed                    // of a second half: the first one does nothing with the row
	isGap                       // the key is not in the table, and a value that a new row needs is blank
)

// answer is an outcome, the other row that it speaks of, and what the index yields for the row that is there.
type answer struct {
	outcome outcome
	other   int64
	ref     int64
}

func newMatch(j *judgement, s *judged) *match {
	m := &match{judge: j, step: s}
	if len(s.Key) == 0 || s.first != nil {
		return m
	}
	m.index = j.keyIndex(s.Step)
	for range max(j.partsOf(s.rows.Spool.Rows()), len(m.index.parts)) {
		m.questions = append(m.questions, spool.NewStream(j.run.dir, 4))
		m.answers = append(m.answers, spool.NewStream(j.run.dir, 3))
	}
	if s.Block.Gone != nil && j.run.First == 0 { // what stands behind the first rows is not gone
		s.gone = newGone(j.run.dir, len(m.questions))
	}
	return m
}

// add takes the keys of the good rows of a batch and writes their parts into standing.
func (m *match) add(ctx context.Context, v *view, columns []*value.Column, standing []int64) error {
	if m.index == nil {
		return nil
	}
	hashes, err := m.index.hashes(ctx, m.judge.db, keyOf(m.step, columns), m.hashes)
	if err != nil {
		return err
	}
	m.hashes = hashes
	if err := m.step.gone.stay(hashes); err != nil {
		return err
	}
	for row, h := range hashes {
		if standing[row] < 0 {
			continue
		}
		part := h.part(len(m.questions))
		standing[row] = int64(part)
		if err := m.questions[part].Append(uint64(v.first+int64(row)), h.hi, h.lo, m.content(v, columns, row)); err != nil {
			return err
		}
	}
	return nil
}

// content stands for all that the step, with its second halves, uses of a row. Only rows of one key are compared by it.
func (m *match) content(v *view, columns []*value.Column, row int) uint64 {
	m.room = m.room[:0]
	for _, c := range columns {
		m.room = c.AppendIdentity(m.room, row)
	}
	for _, c := range m.step.later {
		m.room = v.rows.Columns[c].AppendIdentity(m.room, row)
	}
	return maphash.Bytes(seeds[0], m.room)
}

// keysOfPart is what is known of the keys of one part of the file.
type keysOfPart struct {
	keySet
	seen []seenKey
}

type seenKey struct {
	row     int64 // the row that stands for the key
	other   int64 // a row that contradicts it
	content uint64
	there   entry
	clash   bool
}

func newKeysOfPart(n int64) *keysOfPart {
	k := &keysOfPart{}
	k.grow = func(slots int, moved func(func(from, to int))) {
		old := k.seen
		k.seen = make([]seenKey, slots)
		moved(func(from, to int) { k.seen[to] = old[from] })
	}
	k.room(min(n, resident)) // many rows may share few keys
	return k
}

// match answers all questions.
func (m *match) match(ctx context.Context) error {
	if m.index == nil {
		return nil
	}
	if err := m.judge.fill(ctx, m.step, m.index, keyOf(m.step, m.step.columns)); err != nil {
		return err
	}
	if err := m.scope(ctx); err != nil {
		return err
	}
	for i := range m.questions {
		if err := m.matchPart(i); err != nil {
			return err
		}
		r, err := m.answers[i].Reader()
		if err != nil {
			return err
		}
		m.readers = append(m.readers, r)
	}
	return ctx.Err()
}

func (m *match) matchPart(i int) error {
	there := m.index.parts[0]
	if !m.index.resident() {
		if err := m.index.load(i); err != nil {
			return err
		}
		defer m.index.unload(i)
		there = m.index.parts[i]
	}
	keys := newKeysOfPart(m.questions[i].Len())
	err := eachRecord(m.questions[i], func(w []uint64) error {
		slot, found := keys.insert(hash{w[1], w[2]})
		keys.seen[slot].meet(int64(w[0]), w[3], found, m.step.Block.Repeats)
		return nil
	})
	if err != nil {
		return err
	}
	for slot, h := range keys.slots {
		if h.hi != 0 {
			keys.seen[slot].there = there.get(h)
		}
	}
	return eachRecord(m.questions[i], func(w []uint64) error {
		slot, _ := keys.find(hash{w[1], w[2]})
		a := m.answer(&keys.seen[slot], int64(w[0]), w[3])
		return m.answers[i].Append(uint64(a.outcome), uint64(a.other), uint64(a.ref))
	})
}

// meet takes a row of the key into account.
func (k *seenKey) meet(row int64, content uint64, found bool, repeats ladlefile.Repeats) {
	switch {
	case !found:
		k.row, k.content = row, content
	case repeats == ladlefile.LastRepeat:
		k.row, k.content = row, content
	case repeats == ladlefile.RefuseRepeats && content != k.content && !k.clash:
		k.clash, k.other = true, row
	}
}

func (m *match) answer(k *seenKey, row int64, content uint64) answer {
	switch {
	case k.clash && content == k.content:
		return answer{outcome: isContradict, other: k.other}
	case k.clash:
		return answer{outcome: isContradict, other: k.row}
	case k.there.state == several && m.step.Block.There == ladlefile.UpdateThere:
		return answer{outcome: isMany}
	case k.there.there() && k.there.state != touched && m.step.Block.There == ladlefile.RefuseThere:
		return answer{outcome: isThere}
	case row != k.row, k.there.state == touched && !m.completes():
		return answer{outcome: isRepeat, other: k.row}
	case k.there.there():
		return answer{outcome: isThere, ref: k.there.ref}
	}
	return answer{outcome: isNew}
}

// completes tells whether the step updates what no earlier step of the table writes: then it also updates rows of these.
func (m *match) completes() bool {
	if m.step.Block.There != ladlefile.UpdateThere {
		return false
	}
	for _, s := range m.judge.steps[:m.step.number] {
		if s.Table != m.step.Table {
			continue
		}
		for _, target := range m.step.TargetNames() {
			if slices.Contains(s.Names(), target) {
				return false
			}
		}
	}
	return true
}

// next is the answer for the next row of a part.
func (m *match) next(part int64) (answer, error) {
	if m.index == nil {
		return answer{}, nil
	}
	w, err := m.readers[part].Next()
	if err != nil {
		return answer{}, err
	}
	return answer{outcome(w[0]), int64(w[1]), int64(w[2])}, nil
}

// keyOf gives those of a step's columns, or of what stands for them, that are its key.
func keyOf[T any](s *judged, columns []T) []T {
	key := make([]T, len(s.Key))
	for i, k := range s.Key {
		key[i] = columns[k]
	}
	return key
}

func (m *match) close() {
	for i := range m.questions {
		m.questions[i].Close()
		m.answers[i].Close()
	}
}
