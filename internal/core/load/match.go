package load

import (
	"context"
	"hash/maphash"

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
	answers   []*spool.Stream // outcome, other row
	readers   []*spool.StreamReader
	hashes    []hash
	room      []byte
}

// outcome is what a match says of a row.
type outcome uint64

const (
	isFirst       outcome = iota // the row that stands for its key
	isRepeat                     // as another row, which stands for the key
	isContradict                 // same key as another row, with other values
	isThereKept                  // the key is in the table
	isThereRefuse                // the key is in the table, and that is refused
)

func newMatch(j *judgement, s *judged) *match {
	m := &match{judge: j, step: s}
	if len(s.Key) == 0 {
		return m
	}
	m.index = j.index(s.Table, s.KeyNames(), "")
	for range max(j.partsOf(s.rows.Spool.Rows()), len(m.index.parts)) {
		m.questions = append(m.questions, spool.NewStream(j.run.dir, 4))
		m.answers = append(m.answers, spool.NewStream(j.run.dir, 2))
	}
	return m
}

// add takes the keys of the good rows of a batch and writes their parts into standing.
func (m *match) add(ctx context.Context, v *view, columns []*value.Column, standing []int64) error {
	if m.index == nil {
		return nil
	}
	key := make([]*value.Column, len(m.step.Key))
	for i, k := range m.step.Key {
		key[i] = columns[k]
	}
	hashes, err := keyHashes(ctx, m.judge.db, m.step.Table, m.step.KeyNames(), key, m.hashes)
	if err != nil {
		return err
	}
	m.hashes = hashes
	for row, h := range hashes {
		if standing[row] < 0 {
			continue
		}
		part := h.part(len(m.questions))
		standing[row] = int64(part)
		if err := m.questions[part].Append(uint64(v.first+int64(row)), h.hi, h.lo, m.content(columns, row)); err != nil {
			return err
		}
	}
	return nil
}

// content stands for all that the step uses of a row. Only rows of one key are compared by it.
func (m *match) content(columns []*value.Column, row int) uint64 {
	m.room = m.room[:0]
	for _, c := range columns {
		m.room = c.AppendIdentity(m.room, row)
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
	there   bool
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
	key := make([]*evaluator, len(m.step.Key))
	for i, k := range m.step.Key {
		key[i] = m.step.columns[k]
	}
	if err := m.judge.fill(ctx, m.step, m.index, key); err != nil {
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
			keys.seen[slot].there = there.get(h).state >= several
		}
	}
	return eachRecord(m.questions[i], func(w []uint64) error {
		slot, _ := keys.find(hash{w[1], w[2]})
		o, other := m.outcome(&keys.seen[slot], int64(w[0]), w[3])
		return m.answers[i].Append(uint64(o), uint64(other))
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

func (m *match) outcome(k *seenKey, row int64, content uint64) (outcome, int64) {
	switch {
	case k.clash && content == k.content:
		return isContradict, k.other
	case k.clash:
		return isContradict, k.row
	case k.there && m.step.Block.There == ladlefile.RefuseThere:
		return isThereRefuse, row
	case row != k.row:
		return isRepeat, k.row
	case k.there:
		return isThereKept, row
	}
	return isFirst, row
}

// next is the outcome of the next row of a part.
func (m *match) next(part int64) (outcome, int64, error) {
	if m.index == nil {
		return isFirst, 0, nil
	}
	w, err := m.readers[part].Next()
	if err != nil {
		return 0, 0, err
	}
	return outcome(w[0]), int64(w[1]), nil
}

func (m *match) close() {
	for i := range m.questions {
		m.questions[i].Close()
		m.answers[i].Close()
	}
}
