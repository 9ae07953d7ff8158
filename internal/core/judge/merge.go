package judge

import (
	"cmp"
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Lines that contradict each other can be decided column by column (contradictions: most): the value that most of them
// have, blanks not counted, is taken. Where a line has all of these values, it stands for the key, and the others are
// overruled. Where none has, the first line stands for it and takes values of others: it is merged. A tie sets all of
// them aside.

// merges are the merged lines of a step.
type merges struct {
	rows   *spool.Spool // for each merged line and column of the step: the line that gives the value; then the values
	places []mergePlace // by ascending line, once all are there
	whole  spool.RowSet // the merged lines in which nothing is blank that a row needs

	waits  value.Batch // the rows that are yet to be spooled
	batch  value.Batch // the batch of rows that was read last
	number int         // which one; -1 for none
}

// mergePlace says where the row of a merged line stands.
type mergePlace struct{ line, row int64 }

func newMerges(s *Step, dir string) *merges {
	n := len(s.Columns)
	types := make([]value.Type, n, 2*n)
	for i := range types {
		types[i].Kind = value.Int
	}
	for _, c := range s.Columns {
		types = append(types, c.Column.Type)
	}
	return &merges{rows: spool.New(dir, types), waits: *value.NewBatch(types), number: -1}
}

// end brings the rows of all merged lines into the order of the lines.
func (m *merges) end() error {
	if m == nil {
		return nil
	}
	slices.SortFunc(m.places, func(a, b mergePlace) int { return cmp.Compare(a.line, b.line) })
	return m.flush()
}

func (m *merges) flush() error {
	if m.waits.Len() == 0 {
		return nil
	}
	err := m.rows.Append(&m.waits)
	m.waits.Reset()
	return err
}

// among lists the places of the merged lines among n from first.
func (m *merges) among(first int64, n int) []mergePlace {
	if m == nil {
		return nil
	}
	at := func(line int64) int {
		i, _ := slices.BinarySearchFunc(m.places, line, func(p mergePlace, line int64) int {
			return cmp.Compare(p.line, line)
		})
		return i
	}
	return m.places[at(first):at(first+int64(n))]
}

// read returns the row of a merged line: the lines that give the values, and the values, in slot i; good until the next.
func (m *merges) read(p mergePlace) (donors, values []value.Column, i int, err error) {
	number := m.rows.Holding(p.row)
	if number != m.number {
		all := make([]int, len(m.rows.Types()))
		for i := range all {
			all[i] = i
		}
		if err := m.rows.Read(number, all, &m.batch); err != nil {
			return nil, nil, 0, err
		}
		m.number = number
	}
	n := len(m.batch.Columns) / 2
	return m.batch.Columns[:n], m.batch.Columns[n:], int(p.row - m.rows.First(number)), nil
}

func (m *merges) close() error {
	if m == nil {
		return nil
	}
	return m.rows.Close()
}

// mostVoters is the number of contradicting lines whose values are counted at a time.
const mostVoters = 50_000

// voter is a line that contradicts another one with its key.
type voter struct {
	line    int64
	content uint64
	key     *seenKey
}

// decideByMost decides all contradictions of a part, some keys at a time.
func (m *match) decideByMost(ctx context.Context, part int, keys *keyindex.Map[seenKey]) error {
	contested := int64(0)
	keys.Each(func(_ keyindex.Hash, k *seenKey) {
		if k.differ > 0 {
			contested += k.agree + k.differ
		}
	})
	turns := uint64(contested/mostVoters + 1)
	for turn := range turns {
		var voters []voter
		err := m.questions[part].Each(func(q *question) error {
			if k := keys.Find(q.key); k.differ > 0 && q.key.Lo%turns == turn && k.takes(q) {
				voters = append(voters, voter{q.line, q.content, k})
			}
			return nil
		})
		if err != nil || voters == nil {
			return err
		}
		slices.SortFunc(voters, func(a, b voter) int { return cmp.Compare(a.line, b.line) })
		if err := m.vote(ctx, voters); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// election is the counting of the values of some keys.
type election struct {
	step    *Step
	groups  map[*seenKey]int32
	columns []ballot // those of the step, then the cells that second halves read
}

// ballot counts the values of a column.
type ballot struct {
	pool  value.Column // the distinct values
	votes map[vote]candidate
}

type vote struct {
	group int32
	value uint64
}

// candidate is a value of a key: where it stands in the pool, how many lines have it, and the first of them.
type candidate struct {
	slot  int
	count int64
	line  int64
	tied  bool // another one has as many
}

// vote decides the contradictions of the keys of some lines.
func (m *match) vote(ctx context.Context, voters []voter) error {
	s := m.step
	e := &election{step: s, groups: map[*seenKey]int32{}, columns: make([]ballot, len(s.sources)+len(s.later))}
	for _, v := range voters {
		if _, ok := e.groups[v.key]; !ok {
			e.groups[v.key] = int32(len(e.groups))
		}
	}
	lines := s.lines(ctx, true, s.later...)
	for at, i := 0, 0; i < s.rows.Batches() && at < len(voters); i++ {
		first, n := s.rows.Span(i)
		if voters[at].line >= first+int64(n) {
			continue
		}
		if err := lines.read(i); err != nil {
			return err
		}
		for ; at < len(voters) && voters[at].line < first+int64(n); at++ {
			e.count(lines, voters[at], int(voters[at].line-first))
		}
	}
	return m.settle(e, voters)
}

// count counts the values of line i of a batch.
func (e *election) count(lines *Lines, v voter, i int) {
	group := e.groups[v.key]
	var buf []byte
	for b := range e.columns {
		c, ballot := e.column(lines, b), &e.columns[b]
		if ballot.votes == nil {
			ballot.votes, ballot.pool = map[vote]candidate{}, value.NewColumn(value.Type{Kind: c.Kind, Scale: c.Scale})
		}
		if c.States[i] == value.Null {
			continue
		}
		buf = c.AppendIdentity(buf[:0], i)
		is := vote{group, keyindex.ContentOf(buf)}
		known, ok := ballot.votes[is]
		if !ok {
			known.slot, known.line = ballot.pool.Len(), v.line
			ballot.pool.AppendFrom(c, i)
		}
		known.count++
		ballot.votes[is] = known
	}
}

func (e *election) column(lines *Lines, b int) *value.Column {
	if n := len(e.step.sources); b >= n {
		return lines.Cell(e.step.later[b-n])
	}
	return lines.Value(b)
}

// winners are, for each group, the values that most lines have; those of a count of 0 are blank.
func (e *election) winners() [][]candidate {
	all := make([][]candidate, len(e.groups))
	for g := range all {
		all[g] = make([]candidate, len(e.columns))
	}
	for b, ballot := range e.columns {
		for v, c := range ballot.votes {
			switch best := &all[v.group][b]; {
			case c.count > best.count:
				*best = c
			case c.count == best.count:
				best.tied = true
			}
		}
	}
	return all
}

// settle finds for each key the line that stands for it.
func (m *match) settle(e *election, voters []voter) error {
	winners := e.winners()
	wanted := make(map[*seenKey]uint64, len(e.groups))
	for k, g := range e.groups {
		if wanted[k] = e.content(winners[g]); slices.ContainsFunc(winners[g], func(c candidate) bool { return c.tied }) {
			k.clash = true
		}
	}
	stands := map[*seenKey]int64{}
	first := map[*seenKey]int64{}
	for _, v := range voters {
		if _, ok := first[v.key]; !ok {
			first[v.key] = v.line
		}
		if _, ok := stands[v.key]; !ok && v.content == wanted[v.key] {
			stands[v.key] = v.line
		}
	}
	for _, v := range voters {
		k := v.key
		line, whole := stands[k]
		switch {
		case k.clash || first[k] != v.line:
		case whole:
			k.line, k.content = line, wanted[k]
		case len(m.step.later) > 0: // a second half reads the line itself
			k.clash = true
		default:
			k.line, k.content = v.line, wanted[k]
			if err := m.merge(e, v.line, winners[e.groups[k]]); err != nil {
				return err
			}
		}
	}
	return nil
}

// content is that of a line with the values that win.
func (e *election) content(winners []candidate) uint64 {
	var buf []byte
	for b, c := range winners {
		if c.count == 0 {
			buf = append(buf, byte(value.Null))
			continue
		}
		buf = e.columns[b].pool.AppendIdentity(buf, c.slot)
	}
	return keyindex.ContentOf(buf)
}

// merge keeps the row of a line that takes values of others.
func (m *match) merge(e *election, line int64, winners []candidate) error {
	s := m.step
	if s.merges == nil {
		s.merges = newMerges(s, m.dir)
	}
	row, whole := &s.merges.waits, true
	s.merges.places = append(s.merges.places, mergePlace{line, s.merges.rows.Rows() + int64(row.Len())})
	for b := range s.Columns {
		donors, values, c := &row.Columns[b], &row.Columns[len(s.Columns)+b], winners[b]
		if c.count == 0 {
			donors.AppendNum(line)
			values.AppendState(value.Null)
			whole = whole && !s.Columns[b].Column.Required
			continue
		}
		donors.AppendNum(c.line)
		values.AppendFrom(&e.columns[b].pool, c.slot)
	}
	if whole {
		s.merges.whole.Add(line)
	}
	if row.Len() < engine.BatchRows {
		return nil
	}
	return s.merges.flush()
}

// takes reports whether a line stands beside the others with its key: not where its row would break a constraint.
func (k *seenKey) takes(q *question) bool { return !q.breaks || k.there.There() }

// fillsGaps reports whether a line takes what it lacks from others.
func (s *Step) fillsGaps(line int64) bool { return s.merges != nil && s.merges.whole.Has(line) }

// mergeIn puts the values that merged lines take from others into the columns of the batch that was read.
func (l *Lines) mergeIn() error {
	l.merged = l.step.merges.among(l.batch.First, l.batch.Len())
	if len(l.merged) == 0 {
		return nil
	}
	l.donors = map[int][]int64{}
	patches := make([]patch, len(l.values))
	for _, p := range l.merged {
		donors, values, at, err := l.step.merges.read(p)
		if err != nil {
			return err
		}
		i := int(p.line - l.batch.First)
		l.donors[i] = make([]int64, len(donors))
		for c := range donors {
			donor := donors[c].Nums[at]
			if l.donors[i][c] = donor; donor == p.line || l.values[c] == nil {
				continue
			}
			patches[c].set(i, &values[c], at)
		}
	}
	for c := range patches {
		if patches[c].slots != nil {
			l.values[c] = patches[c].on(l.values[c])
		}
	}
	return nil
}

// patch is some slots of a column that hold other values.
type patch struct {
	pool  value.Column
	slots map[int]int // where the value of a slot stands in the pool
}

func (p *patch) set(i int, from *value.Column, at int) {
	if p.slots == nil {
		p.slots, p.pool = map[int]int{}, value.NewColumn(value.Type{Kind: from.Kind, Scale: from.Scale})
	}
	p.slots[i] = p.pool.Len()
	p.pool.AppendFrom(from, at)
}

// on returns a copy of a column with the patch.
func (p *patch) on(c *value.Column) *value.Column {
	made := value.NewColumn(value.Type{Kind: c.Kind, Scale: c.Scale})
	for i := range c.Len() {
		if at, ok := p.slots[i]; ok {
			made.AppendFrom(&p.pool, at)
		} else {
			made.AppendFrom(c, i)
		}
	}
	return &made
}

// Donor is the line that gives column c of line i its value: the line itself, unless it is merged.
func (l *Lines) Donor(c, i int) int64 {
	if donors := l.donors[i]; donors != nil {
		return donors[c]
	}
	return l.Number(i)
}
