package judge

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/spool"
)

// match holds the keys of a step's lines against each other and against the rows that are there, part by part.
type match struct {
	step          *Step
	dir           string   // for temporary files
	index         *index   // nil for a step without a key
	pairing       *pairing // nil for a step that doesn't pair rows with lines
	spoilt        spool.RowSet
	unlike        map[newName]reason.Cause
	declined      []reason.Cause // of the names that look too much like others; answers name them by number
	declines      map[keyindex.Hash]int
	completes     bool // the step updates what no earlier step of the table writes: then it also updates rows of these
	knowsContents bool // the index knows what rows have in the columns of the step
	shares        int  // of a part of the index, which are answered side by side: so many parts of the questions
	questions     []*spool.Stream[question]
	answers       []*spool.Stream[answer]
	readers       []*spool.StreamReader[answer]
	hashes        []keyindex.Hash
	buf           []byte
}

// question is the key of a line, and what stands for all that the step uses of it.
type question struct {
	line    int64
	key     keyindex.Hash
	content uint64
	breaks  bool // its row would break a CHECK constraint if it were added
}

// answer is what a match says of a line. What is small stands together, since there is one for each line.
type answer struct {
	other int64 // the other line that the outcome speaks of
	ref   int64 // what the index yields for the row that is there

	// of lines that contradict others with their key, where one stands against many that agree: which side the line is
	// on, and how many they are
	crowd   int64
	side    side
	outcome outcome
	new     bool // ref is a NewRow
	same    bool // the row that is there has all that the line says
}

// side is where a line stands in a contradiction.
type side uint8

const (
	mixed side = iota // there is no crowd
	alone             // the line is the only one that differs from a crowd
	among             // the line is of a crowd from which only one differs
)

// outcome is how a line stands to the others, and to the rows that are there.
type outcome uint8

const (
	isNew        outcome = iota // the line stands for its key, which is not in the table
	isThere                     // the line stands for its key, which is in the table
	isRepeat                    // as another line that stands for the key
	isOverruled                 // another line, which differs, or an earlier block stands for the key
	isContradict                // same key as another line, with other values
	isMany                      // the key is in the table more than once
	isPassed                    // of a second half: the first one does nothing with the line
	isGap                       // the key is not in the table, and a value that a new row needs is blank
	isAlike                     // the key is not in the table, and is a name that looks too much like another
	isBroken                    // the key is not in the table, and a new row would break a CHECK constraint
)

func (r *round) newMatch(s *Step) *match {
	m := &match{step: s, dir: r.Dir}
	if !s.Recognises() || s.first != nil {
		return m
	}
	parts := r.partsOf(max(s.rows.Len(), r.Before[s.Table].Rows))
	m.shares = 1
	if !s.Pairs {
		m.index = r.keyIndex(s.Step)
		m.completes, m.spoilt, m.unlike = r.completes(s), r.spoilt[s.Number], r.unlike
		m.knowsContents = s.comparesContents() && slices.Equal(m.index.Contents, s.Names())
		parts = max(r.partsOf(s.rows.Len()), m.index.PartCount())
		if s.rows.Len() > fewLines && len(m.unlike) == 0 && s.Policy.Contradictions != ladlefile.MostOfContradictions {
			m.shares = min(runtime.GOMAXPROCS(0), mostShares)
		}
	}
	m.questions, m.answers = spool.Streams[question](r.Dir, parts*m.shares), spool.Streams[answer](r.Dir, parts*m.shares)
	if s.Policy.Gone != nil && !r.Partial {
		s.Gone = newGone(r.Dir, parts)
	}
	if s.Pairs {
		m.pairing = r.newPairing(s, parts)
	}
	return m
}

// manyRows is how many times more rows than lines a table must have before only the keys of its rows are read: then each line
// whose row is there is held against it.
const manyRows = 2

// readContents has the index of a step's keys know what its rows have in all columns that the step feeds, unless there are many.
func (r *round) readContents(s *Step, x *index) {
	if s.comparesContents() && r.Before[s.Table].Rows <= manyRows*s.rows.Len() && x.Contents == nil {
		x.Contents = s.Names()
	}
}

// comparesContents reports whether a row that has the content of its line, in all columns that the step feeds, is one that the
// step leaves as it is.
func (s *Step) comparesContents() bool {
	return s.Compares() && !s.Pairs && len(s.later) == 0 && len(s.Key)+len(s.Targets()) == len(s.Columns) &&
		s.Policy.Contradictions != ladlefile.MostOfContradictions // else lines take values of others
}

// fillAhead begins to read the rows that are there, where all of a table are taken: that goes on while the lines are resolved.
// What it returns waits for the end of it.
func (r *round) fillAhead(ctx context.Context, m *match) (filled func() error) {
	if m.index == nil || !m.index.TakesAll(r.Before[m.step.Table].Rows, m.step.rows.Len()) {
		return func() error { return nil }
	}
	return engine.Ahead(r.Database, func(db engine.Reader) error { return m.index.FillAll(ctx, db) })
}

// The questions of more than fewLines lines are answered by several processors, up to mostShares.
const (
	fewLines   = 1 << 14
	mostShares = 4
)

// addKeys makes questions of the keys of the good lines of a batch, and writes their parts into its rowState.
func (r *round) addKeys(ctx context.Context, m *match, b *resolved) (err error) {
	if m.pairing != nil {
		return m.addPaired(b)
	}
	if m.index == nil {
		return nil
	}
	if m.hashes, err = m.index.Hashes(ctx, r.Database, keyOf(m.step, b.columns), m.hashes); err != nil {
		return err
	}
	if m.step.Gone != nil {
		if err := m.step.Gone.stay(m.hashes, b.hasNothing); err != nil {
			return err
		}
	}
	for line, h := range m.hashes {
		if b.rowState[line] < 0 {
			continue
		}
		part := h.Part(len(m.questions))
		b.rowState[line] = int64(part)
		q := question{b.first + int64(line), h, m.content(b, line), b.breaks != nil && b.breaks[line]}
		if err := m.questions[part].Append(q); err != nil {
			return err
		}
	}
	return nil
}

// addPaired is addKeys for a step that pairs rows with lines.
func (m *match) addPaired(b *resolved) error {
	for line, h := range m.pairing.hash(b.columns) {
		if b.rowState[line] < 0 {
			if err := m.pairing.leave(h, b.hasNothing(line)); err != nil {
				return err
			}
			continue
		}
		part := h.Part(len(m.questions))
		b.rowState[line] = int64(part)
		if err := m.questions[part].Append(question{line: b.first + int64(line), key: h}); err != nil {
			return err
		}
	}
	return nil
}

// content stands for all that the step, with its second halves, uses of a line. Only lines of one key are compared by
// it.
func (m *match) content(b *resolved, line int) uint64 {
	m.buf = m.buf[:0]
	for _, c := range b.columns {
		m.buf = c.AppendIdentity(m.buf, line)
	}
	for _, c := range b.later {
		m.buf = c.AppendIdentity(m.buf, line)
	}
	return keyindex.ContentOf(m.buf)
}

// seenKey is what is known of a key of the input. What is small stands together, since there is one for each key.
type seenKey struct {
	line    int64 // the line that stands for the key
	other   int64 // a line that contradicts it
	content uint64
	there   keyindex.Entry

	otherContent  uint64 // of lines with another content
	agree, differ int64  // lines with this content, and others
	torn          bool   // these differ among themselves
	clash         bool
	met           bool // a line stands for the key
}

// sides says on which side lines are that have the content of the key, or another one.
func (k *seenKey) sides() (own, other side, crowd int64) {
	switch {
	case k.agree == 1 && k.differ > 1 && !k.torn:
		return alone, among, k.differ
	case k.differ == 1 && k.agree > 1:
		return among, alone, k.agree
	}
	return mixed, mixed, 0
}

// match answers all questions.
func (r *round) match(ctx context.Context, m *match) error {
	if m.pairing != nil {
		if err := m.pairing.read(ctx, r); err != nil {
			return err
		}
		return m.each(ctx, func(i int) error { return m.pairing.part(i, m.questions[i], m.answers[i]) })
	}
	if m.index == nil {
		return nil
	}
	if err := r.fill(ctx, m.step, m.index, keyOf(m.step, m.step.sources)); err != nil {
		return err
	}
	if err := r.findGone(ctx, m); err != nil {
		return err
	}
	err := m.index.eachPart(len(m.questions)/m.shares, func(i int, there *keyindex.Part) error {
		return m.side(ctx, there, i*m.shares)
	})
	if err != nil {
		return err
	}
	return m.answered(ctx)
}

// each answers the questions part by part.
func (m *match) each(ctx context.Context, part func(i int) error) error {
	for i := range m.questions {
		if err := part(i); err != nil {
			return err
		}
	}
	return m.answered(ctx)
}

// answered makes the answers ready to be read.
func (m *match) answered(ctx context.Context) error {
	for _, answers := range m.answers {
		reader, err := answers.Reader()
		if err != nil {
			return err
		}
		m.readers = append(m.readers, reader)
	}
	return errors.Join(m.step.merges.end(), ctx.Err())
}

// side answers, side by side, the questions from part first on that are about one part of the index.
func (m *match) side(ctx context.Context, there *keyindex.Part, first int) error {
	errs := make([]error, m.shares)
	var wait sync.WaitGroup
	for i := 1; i < m.shares; i++ {
		wait.Go(func() {
			defer fault.Recover(&errs[i])
			errs[i] = m.part(ctx, there, first+i)
		})
	}
	errs[0] = m.part(ctx, there, first)
	wait.Wait()
	return errors.Join(errs...)
}

// part answers the questions of part i, by what a part of the index knows.
func (m *match) part(ctx context.Context, there *keyindex.Part, i int) error {
	distinct, err := m.distinct(i)
	if err != nil {
		return err
	}
	if distinct {
		return m.partOfDistinct(there, i)
	}
	var keys keyindex.Map[seenKey]
	keys.Grow(min(m.questions[i].Len(), resident)) // many lines may share few keys
	err = m.questions[i].Each(func(q *question) error {
		key, found := keys.Insert(q.key)
		if !found {
			key.there = there.Get(q.key)
		}
		key.meet(q, m.step.Policy.Contradictions)
		return nil
	})
	if err == nil && m.step.Policy.Contradictions == ladlefile.MostOfContradictions {
		err = m.decideByMost(ctx, i, &keys)
	}
	if err != nil {
		return err
	}
	return m.questions[i].Each(func(q *question) error {
		return m.answers[i].Append(m.answer(keys.Find(q.key), q))
	})
}

// errRepeated says that a key is that of several lines.
var errRepeated = errors.New("a key comes again")

// distinct reports whether each question of part i is about another key. It takes a sixth of the memory that answering takes
// where some are not.
func (m *match) distinct(i int) (bool, error) {
	var keys keyindex.Set
	keys.Grow(min(m.questions[i].Len(), resident))
	err := m.questions[i].Each(func(q *question) error {
		if _, found := keys.Insert(q.key); found {
			return errRepeated
		}
		return nil
	})
	if errors.Is(err, errRepeated) {
		return false, nil
	}
	return err == nil, err
}

// partOfDistinct is part for questions that are each about another key: then no line is held against others.
func (m *match) partOfDistinct(there *keyindex.Part, i int) error {
	return m.questions[i].Each(func(q *question) error {
		key := seenKey{there: there.Get(q.key)}
		key.meet(q, m.step.Policy.Contradictions)
		return m.answers[i].Append(m.answer(&key, q))
	})
}

// meet takes a line of the key into account, if it stands beside others with it; else it is set aside, whatever they are.
func (k *seenKey) meet(q *question, policy ladlefile.Contradictions) {
	if !k.takes(q) {
		return
	}
	first := !k.met
	k.met = true
	if first || q.content == k.content {
		k.agree++
	} else {
		k.torn = k.torn || k.differ > 0 && q.content != k.otherContent
		k.differ++
		k.otherContent = q.content
	}
	switch {
	case first, policy == ladlefile.LastOfContradictions:
		k.line, k.content = q.line, q.content
	case policy == ladlefile.SetAsideContradictions && q.content != k.content && !k.clash:
		k.clash, k.other = true, q.line
	case policy == ladlefile.MostOfContradictions && q.content != k.content && k.other == 0:
		k.other = q.line
	}
}

func (m *match) answer(k *seenKey, q *question) answer {
	touched := k.there.State == keyindex.Touched
	if len(m.unlike) > 0 && !k.there.There() {
		if n, declined := m.decline(q.key); declined {
			return answer{outcome: isAlike, other: int64(n)}
		}
	}
	switch {
	case q.breaks && !k.there.There():
		return answer{outcome: isNew}
	case k.clash:
		own, other, crowd := k.sides()
		if q.content == k.content {
			return answer{outcome: isContradict, other: k.other, side: own, crowd: crowd}
		}
		return answer{outcome: isContradict, other: k.line, side: other, crowd: crowd}
	case k.there.State == keyindex.Several && m.step.Policy.Updates():
		return answer{outcome: isMany}
	case k.there.There() && !touched && m.step.Policy.AlreadyThere == ladlefile.SetAsideThere &&
		!m.step.Policy.Updates() && !m.overrules(k, q):
		// every line of the key is held against the row, since none may count as taken that is set aside
		return m.there(k, q)
	case !touched && m.step.Policy.Updates() && q.content == k.content && (q.breaks || m.spoilt.Has(k.line)):
		// held against the row too, since what is there decides whether it is set aside
		return m.there(k, q)
	case q.line != k.line && q.content == k.content:
		return answer{outcome: isRepeat, other: k.line}
	case q.line != k.line:
		return answer{outcome: isOverruled, other: k.line}
	case touched && !m.completes:
		return answer{outcome: isOverruled, other: q.line}
	case k.there.There():
		return m.there(k, q)
	}
	return answer{outcome: isNew}
}

// there is the answer for a line whose row is in the table.
func (m *match) there(k *seenKey, q *question) answer {
	return answer{outcome: isThere, ref: k.there.Ref, new: k.there.New,
		same: m.knowsContents && k.there.State == keyindex.Present && k.there.Content == q.content}
}

// decline finds the number of the cause for which a name is not added.
func (m *match) decline(h keyindex.Hash) (number int, declined bool) {
	if n, known := m.declines[h]; known {
		return n, true
	}
	c, unlike := m.unlike[m.index.name(h)]
	if !unlike {
		return 0, false
	}
	if m.declines == nil {
		m.declines = map[keyindex.Hash]int{}
	}
	m.declines[h], m.declined = len(m.declined), append(m.declined, c)
	return m.declines[h], true
}

// overrules reports whether other lines with the key of a line have decided against it.
func (m *match) overrules(k *seenKey, q *question) bool {
	return m.step.Policy.Contradictions == ladlefile.MostOfContradictions && q.line != k.line && q.content != k.content
}

// completes reports whether the step updates what no earlier step of its table writes.
func (r *round) completes(s *Step) bool {
	if !s.Policy.Updates() {
		return false
	}
	for _, earlier := range r.Steps[:s.Number] {
		if earlier.Table != s.Table {
			continue
		}
		names := earlier.Names()
		if slices.ContainsFunc(s.TargetNames(), func(target string) bool { return slices.Contains(names, target) }) {
			return false
		}
	}
	return true
}

// next is the answer for the next line of a part.
func (m *match) next(part int64) (answer, error) {
	if m.questions == nil {
		return answer{}, nil
	}
	a, err := m.readers[part].Next()
	if err != nil {
		return answer{}, err
	}
	return *a, nil
}

func (m *match) close() {
	closeAll(m.questions)
	closeAll(m.answers)
	if m.pairing != nil {
		m.pairing.close()
	}
}
