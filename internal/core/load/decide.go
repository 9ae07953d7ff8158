package load

import (
	"context"
	"slices"

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
