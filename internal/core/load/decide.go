package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// decide is the last pass of a step's judging: a verdict for each row, in the order of the file, locators for those
// that are added, and what later finds will know of them.
func (j *judgement) decide(ctx context.Context, s *judged, keys *match) error {
	s.verdicts = spool.New(j.run.dir, []value.Type{{Kind: value.Int}, {Kind: value.Int}})
	outcomes, err := j.outcomes(s, keys)
	if err != nil {
		return err
	}
	defer outcomes.Close()
	if s.Table.Locator != "" && !s.FeedsIdentity() {
		if s.spans, err = j.db.Reserve(ctx, s.Table, s.tally.Added, j.fedUpTo(s.Table)); err != nil {
			return err
		}
	}
	d := &decision{judgement: j, judged: s, log: spool.NewLog(j.run.dir), ids: locators{spans: s.spans}, fedLocator: -1}
	if s.Table.Locator != "" {
		d.fedLocator = slices.Index(s.Names(), s.Table.Locator)
	}
	s.problems = append(s.problems, d.log)
	for _, x := range j.indexes {
		if x.table == s.Table && x.old == nil && j.neededLater(x, s) {
			d.learners = append(d.learners, x)
		}
	}
	if s.updates() {
		s.changes = newChanges(s, d.learners, j.run.dir)
	}
	told, err := outcomes.Reader()
	if err != nil {
		return err
	}
	return j.looks(ctx, s, d.wanted(), func(v *view, found *value.Batch) error { return d.batch(ctx, v, found, told) })
}

// fedUpTo is the greatest locator that a file brings along for t in the steps judged so far.
func (j *judgement) fedUpTo(t *schema.Table) (most int64) {
	for _, s := range j.steps {
		if s.Table == t {
			most = max(most, s.fedMost)
		}
	}
	return most
}

// outcomes brings the answers of all parts into the order of the rows, with verdicts, and fills the tally; which rows an
// update leaves as they are is not known yet, and not in the tally.
func (j *judgement) outcomes(s *judged, keys *match) (*spool.Stream, error) {
	all := spool.NewStream(j.run.dir, 4)
	batch, first := &value.Batch{}, &value.Batch{}
	for i := range s.found.Batches() {
		if err := s.found.Read(i, []int{0}, batch); err != nil {
			return all, err
		}
		if s.first != nil {
			if err := s.first.verdicts.Read(i, []int{0, 1}, first); err != nil {
				return all, err
			}
		}
		for row, part := range batch.Columns[0].Nums {
			v, a := setAside, answer{outcome: isContradict}
			switch {
			case part == bad:
			case part == out:
				v = leftOut
			case s.first != nil:
				v, a = secondOf(verdict(first.Columns[0].Nums[row]), first.Columns[1].Nums[row])
			default:
				var err error
				if a, err = keys.next(part); err != nil {
					return all, err
				}
				v = s.verdictOf(a.outcome)
			}
			if v == added && s.gaps.has(s.found.First(i)+int64(row)) {
				v, a.outcome = setAside, isGap
			}
			if v == setAside {
				s.aside.add(s.found.First(i) + int64(row))
				j.asides[s.feed].add(s.found.First(i) + int64(row))
			}
			if v != updated {
				s.tally.count(v)
			}
			if err := all.Append(uint64(v), uint64(a.outcome), uint64(a.other), uint64(a.ref)); err != nil {
				return all, err
			}
		}
	}
	return all, nil
}

// verdictOf is the verdict that follows from an outcome; updated stands for what is held against the table yet.
func (s *judged) verdictOf(o outcome) verdict {
	switch {
	case o == isNew && s.Block.NotThere == ladlefile.AddNotThere:
		return added
	case o == isNew && s.Block.NotThere == ladlefile.LeaveNotThere:
		return leftOut
	case o == isThere && s.Block.There == ladlefile.KeepThere:
		return kept
	case o == isThere && s.Block.There == ladlefile.UpdateThere:
		return updated
	case o == isRepeat:
		return repeated
	}
	return setAside
}

// secondOf is what a second half does with a row for which the first one has a verdict.
func secondOf(first verdict, ref int64) (verdict, answer) {
	switch first {
	case added, updated, unchanged:
		return updated, answer{outcome: isThere, ref: ref}
	}
	return first, answer{outcome: isPassed}
}

// neededLater tells whether a step behind s asks x.
func (j *judgement) neededLater(x *index, s *judged) bool {
	later := j.steps[slices.Index(j.steps, s)+1:]
	return slices.ContainsFunc(later, func(t *judged) bool {
		asks := t.Table == x.table && len(t.Key) > 0 && t.first == nil && slices.Equal(t.KeyNames(), x.columns)
		for _, f := range finders(t.columns) {
			asks = asks || f.index == x || f.index.old != nil && f.index.old.asks(x)
		}
		return asks
	})
}

// looks passes over the rows of a step with what its finds led to.
func (j *judgement) looks(ctx context.Context, s *judged, want []*evaluator, look func(*view, *value.Batch) error, more ...int) error {
	found := &value.Batch{}
	all := make([]int, len(s.found.Types()))
	for i := range all {
		all[i] = i
	}
	batch := 0
	return j.views(ctx, s.rows, want, func(v *view) error {
		if err := s.found.Read(batch, all, found); err != nil {
			return err
		}
		batch++
		return look(v, found)
	}, more...)
}

// plain lists the evaluators of a step that are not finds.
func (s *judged) plain() []*evaluator {
	return slices.DeleteFunc(slices.Clone(s.columns), func(e *evaluator) bool { return e.find != nil })
}

// values gives the columns of a step for a batch: from the file, constants, and what was found.
func (s *judged) values(ctx context.Context, v *view, found *value.Batch) ([]*value.Column, error) {
	columns := make([]*value.Column, len(s.columns))
	finds := 0
	for i, e := range s.columns {
		if e.find != nil {
			finds++
			columns[i] = &found.Columns[finds]
			continue
		}
		c, err := e.column(ctx, v)
		if err != nil {
			return nil, err
		}
		columns[i] = c
	}
	return columns, nil
}

// decision is decide at work.
type decision struct {
	*judgement
	*judged
	log        *spool.Log
	ids        locators
	fedLocator int      // the column of the step that is the table's locator, or -1
	learners   []*index // the indexes that must know the rows of this step
	read       []*rowBatch
}

// wanted is what the pass reads: all columns where an index needs values or rows are held against the table, else none.
func (d *decision) wanted() []*evaluator {
	if len(d.learners) > 0 || d.changes != nil || d.fedLocator >= 0 {
		return d.plain()
	}
	return nil
}

func (d *decision) batch(ctx context.Context, v *view, found *value.Batch, told *spool.StreamReader) error {
	out := value.NewBatch(d.verdicts.Types())
	var there []standing
	for row := range v.n {
		w, err := told.Next()
		if err != nil {
			return err
		}
		verdict, a := verdict(w[0]), answer{outcome(w[1]), int64(w[2]), int64(w[3])}
		out.Columns[0].AppendNum(int64(verdict))
		switch {
		case verdict == added:
			out.Columns[1].AppendNum(d.ids.next())
			if err := d.need(found, row, v.first+int64(row)); err != nil {
				return err
			}
			continue
		case verdict == updated:
			there = append(there, standing{row, a.ref})
		case verdict == setAside && found.Columns[0].Nums[row] >= 0:
			if err := d.tell(ctx, v.first+int64(row), a); err != nil {
				return err
			}
		}
		out.Columns[1].AppendNum(a.ref)
	}
	var columns []*value.Column
	if d.wanted() != nil {
		var err error
		if columns, err = d.values(ctx, v, found); err != nil {
			return err
		}
	}
	if d.fedLocator >= 0 {
		for row, what := range out.Columns[0].Nums {
			if verdict(what) == added {
				out.Columns[1].Nums[row] = columns[d.fedLocator].Nums[row]
				d.fedMost = max(d.fedMost, columns[d.fedLocator].Nums[row])
			}
		}
	}
	if err := d.hold(ctx, v, columns, found, out, there); err != nil {
		return err
	}
	if err := d.learn(ctx, v, columns, out); err != nil {
		return err
	}
	return d.verdicts.Append(out)
}

// hold finds out which rows that are there change, and puts their verdicts into out.
func (d *decision) hold(ctx context.Context, v *view, columns []*value.Column, found, out *value.Batch, there []standing) error {
	if d.changes != nil {
		d.changes.lastRows = d.changes.lastRows[:0]
	}
	if len(there) == 0 {
		return nil
	}
	changes, err := d.changes.hold(ctx, d, columns, there)
	if err != nil {
		return err
	}
	for i, t := range there {
		what := unchanged
		if changes[i] {
			what = updated
			if err := d.need(found, t.row, v.first+int64(t.row)); err != nil {
				return err
			}
		}
		out.Columns[0].Nums[t.row] = int64(what)
		d.tally.count(what)
	}
	return nil
}

// need marks the additions that an added row points at, and keeps how the first such row spells them.
func (d *decision) need(found *value.Batch, row int, number int64) error {
	finds := 0
	for _, e := range d.columns {
		if e.find == nil {
			continue
		}
		finds++
		c := &found.Columns[finds]
		if c.States[row] != value.New || d.additions[c.Nums[row]].needed {
			continue
		}
		if err := d.spell(d.additions[c.Nums[row]], e.find.by, number); err != nil {
			return err
		}
	}
	return nil
}

// spell gives an addition the values that a row has for it. An addition is known by cells and constants only.
func (d *decision) spell(a *addition, by []*evaluator, row int64) error {
	b, in, err := d.row(row)
	if err != nil {
		return err
	}
	a.needed, a.first, a.values = true, origin{d.feed, row}, &value.Batch{}
	for _, e := range by {
		from := e.of.Constant
		if from == nil {
			from = &b.rows.Columns[1+e.of.Cell]
		}
		at := in
		if e.of.Constant != nil {
			at = 0
		}
		c := value.Column{Kind: from.Kind, Scale: from.Scale}
		c.AppendFrom(from, at)
		a.values.Columns = append(a.values.Columns, c)
	}
	return nil
}

// learn tells the indexes of the rows of a batch.
func (d *decision) learn(ctx context.Context, v *view, columns []*value.Column, out *value.Batch) error {
	if len(d.learners) == 0 {
		return nil
	}
	for _, x := range d.learners {
		if err := d.learnChanged(ctx, x, columns); err != nil {
			return err
		}
		key := d.pick(x.columns, columns)
		if key == nil {
			continue // the step leaves a column of the index blank, so nothing finds its rows
		}
		hashes, err := x.hashes(ctx, d.db, key, nil)
		if err != nil {
			return err
		}
		for row, h := range hashes {
			if h.hi == 0 {
				continue
			}
			if e, ok := d.entry(x, columns, out, row, v); ok {
				if err := x.put(h, e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// pick gives the columns with these names, nil when the step doesn't feed one of them.
func (d *decision) pick(names []string, columns []*value.Column) []*value.Column {
	picked := make([]*value.Column, len(names))
	for i, name := range names {
		at := slices.Index(d.Names(), name)
		if at < 0 {
			return nil
		}
		picked[i] = columns[at]
	}
	return picked
}

// entry is what x must know of a row.
func (d *decision) entry(x *index, columns []*value.Column, out *value.Batch, row int, v *view) (entry, bool) {
	switch verdict(out.Columns[0].Nums[row]) {
	case setAside:
		return entry{isAside, int64(d.feed)<<feedBits | v.rows.Columns[clean.Lines].Nums[row]}, true
	case added:
	default:
		return entry{}, false
	}
	if at := slices.Index(d.Names(), x.yields); at >= 0 {
		ref, ok := x.ref(columns[at], row)
		return entry{touched, ref}, ok
	}
	return entry{touched, out.Columns[1].Nums[row]}, x.yields == "" || x.yields == d.Table.Locator
}

// tell logs why a row is set aside that is good by itself.
func (d *decision) tell(ctx context.Context, row int64, a answer) error {
	key := strings.Join(d.KeyNames(), ", ")
	whole := func(why string) error { return d.log.Append([]int64{row, wholeRow}, []string{"", why}) }
	switch a.outcome {
	case isThere:
		return whole(fmt.Sprintf("a row with this key is in %s already", d.Table.Name))
	case isNew:
		return whole(fmt.Sprintf("no row with this key (%s) is in %s", key, d.Table.Name))
	case isMany:
		return whole(fmt.Sprintf("several rows with this key (%s) are in %s, so it can't be told which to update", key, d.Table.Name))
	case isGap:
		return d.tellGaps(row)
	case isPassed: // the first half has told
		return nil
	}
	other := a.other
	spot, differ, err := d.contradiction(ctx, row, other)
	if err != nil {
		return err
	}
	return whole(fmt.Sprintf("%s has the same key (%s), but another %s", spot, key, strings.Join(differ, ", ")))
}

// tellGaps logs which values a row lacks that is not in the table.
func (d *decision) tellGaps(row int64) error {
	b, in, err := d.row(row)
	if err != nil {
		return err
	}
	for i, c := range b.columns(d.judged) {
		column := d.Columns[i].Column
		if c == nil || c.States[in] != value.Null || !column.Required {
			continue
		}
		why := fmt.Sprintf("is blank, but %s.%s must have a value, and no row with this key is there", d.Table.Name, column.Name)
		if err := d.log.Append([]int64{row, int64(i)}, []string{"", why}); err != nil {
			return err
		}
	}
	return nil
}

// columns gives the columns of a step for a batch that was read for one row; nil for constants.
func (b *rowBatch) columns(s *judged) []*value.Column {
	columns, finds := make([]*value.Column, len(s.columns)), 0
	for i, e := range s.columns {
		switch {
		case e.find != nil:
			finds++
			columns[i] = &b.found.Columns[finds]
		case e.of.Constant == nil:
			columns[i] = &b.rows.Columns[1+e.of.Cell]
		}
	}
	return columns
}

// contradiction says where the other row stands, and gives the columns in which the two differ.
func (d *decision) contradiction(ctx context.Context, row, other int64) (spot string, differ []string, err error) {
	mine, i, err := d.row(row)
	if err != nil {
		return "", nil, err
	}
	theirs, k, err := d.row(other)
	if err != nil {
		return "", nil, err
	}
	others := theirs.columns(d.judged)
	for c, own := range mine.columns(d.judged) {
		if own != nil && !own.Same(i, others[c], k) {
			differ = append(differ, d.Columns[c].Value.Label())
		}
	}
	for _, later := range d.Later {
		for _, c := range cells([]*evaluator{d.evaluator(later.Value, d.Table)}) {
			if !mine.rows.Columns[c].Same(i, &theirs.rows.Columns[c], k) {
				differ = append(differ, later.Value.Label())
				break
			}
		}
	}
	return d.run.spotWords(d.feed, theirs.rows.Columns[0].Nums[k]), differ, ctx.Err()
}

// rowBatch is a batch that was read for one row of it.
type rowBatch struct {
	number int
	rows   value.Batch
	found  value.Batch
}

// keptBatches is the number of batches that are kept for rows that contradict each other.
const keptBatches = 32

// row reads the batch that has a row, and gives the row's number in it. The batches read last are kept.
func (d *decision) row(row int64) (*rowBatch, int, error) {
	number := d.found.Holding(row)
	in := int(row - d.found.First(number))
	for _, b := range d.read {
		if b.number == number {
			return b, in, nil
		}
	}
	b := &rowBatch{number: number}
	if err := d.rows.Spool.Read(number, append(append(cells(d.columns), clean.Lines), d.later...), &b.rows); err != nil {
		return nil, 0, err
	}
	all := make([]int, len(d.found.Types()))
	for i := range all {
		all[i] = i
	}
	if err := d.found.Read(number, all, &b.found); err != nil {
		return nil, 0, err
	}
	if d.read = append(d.read, b); len(d.read) > keptBatches {
		d.read = d.read[1:]
	}
	return b, in, nil
}

// locators gives out the numbers of spans in order.
type locators struct {
	spans []engine.Span
	used  int64
}

func (l *locators) next() int64 {
	if len(l.spans) == 0 {
		return 0
	}
	for l.used == l.spans[0].Count {
		l.spans, l.used = l.spans[1:], 0
	}
	l.used++
	return l.spans[0].First + l.used - 1
}
