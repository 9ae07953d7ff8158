package judge

import (
	"context"
	"slices"

	"ladle/internal/core/ahead"
	"ladle/internal/core/reason"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// decide is the last pass of a step's judging: a verdict for each line, in the order of the file, the rows that lines
// become, and what later lookups will know of them.
func (r *round) decide(ctx context.Context, s *Step, keys *match) error {
	d := r.newDecision(s)
	d.declined = keys.declined
	var answers answering = func(give func([]lineAnswer) error) error { return s.answers(keys, give) }
	if len(s.InOrderOf) > 0 {
		kept := spool.NewStream[lineAnswer](r.Dir)
		defer kept.Close()
		err := r.settleAll(s, answers, kept)
		if err != nil {
			return err
		}
		if s.ranks, err = r.ranks(ctx, s, kept); err != nil {
			return err
		}
		if d.ranks, err = s.Ranks(); err != nil {
			return err
		}
		answers = func(give func([]lineAnswer) error) error { return s.again(kept, give) }
	}
	if d.locates {
		s.FirstNew = r.newRows[s.Table]
	}
	verdicts := newVerdicts(r.Dir)
	lines, first := s.lines(ctx, d.needsValues()), int64(0)
	var before *answered
	one := func(t *answered) error {
		switch {
		case t == nil:
			return nil
		case d.idle(t.answers):
			lines.pass()
		case !lines.Next():
			return lines.Err()
		}
		out, err := d.batch(ctx, lines, t)
		if err != nil {
			return err
		}
		return verdicts.spool.Append(&out.batch)
	}
	err := ahead.Of(answers, func(all []lineAnswer) error {
		if d.ranks == nil { // else they are settled
			r.settle(s, first, all)
		}
		first += int64(len(all))
		next := d.ask(ctx, all) // its rows are read while the batch before is decided
		err := one(before)
		before = next
		return err
	})
	if err == nil {
		err = one(before)
	}
	if err != nil {
		_ = verdicts.spool.Close()
		return err
	}
	if d.locates {
		r.newRows[s.Table] += d.added
	}
	s.verdicts = verdicts
	return nil
}

// decision is decide at work.
type decision struct {
	*round
	step       *Step
	log        *spool.Problems
	held       *spool.Problems            // of lines that are held against their rows, a batch at a time
	added      int64                      // rows so far
	ranks      *spool.StreamReader[int64] // of the rows that are added; nil for the order of the file
	fedLocator int                        // the column of the step that is the table's locator, or -1
	locates    bool                       // the rows that are added get locators which are reserved for them
	learners   []*index                   // the indexes that must know the rows of this step
	declined   []reason.Cause             // of names that look like others
	reader
}

func (r *round) newDecision(s *Step) *decision {
	d := &decision{round: r, step: s, log: spool.NewProblems(r.Dir), held: spool.NewProblems(r.Dir),
		fedLocator: -1, locates: s.Locates(), reader: reader{from: s}}
	if s.Table.Locator != "" {
		d.fedLocator = slices.Index(s.Names(), s.Table.Locator)
	}
	s.Problems = append(s.Problems, d.log, d.held)
	for _, x := range r.indexes {
		if x.Table == s.Table && x.old == nil && r.neededLater(x, s) {
			d.learners = append(d.learners, x)
		}
	}
	if s.Compares() {
		s.changes = newChanges(s, d.learners, r.Dir)
	}
	return d
}

// needsValues reports whether the pass needs the values of lines: where an index learns them, rows are held against the
// table, or the file brings locators along.
func (d *decision) needsValues() bool {
	return len(d.learners) > 0 || d.step.changes != nil || d.fedLocator >= 0
}

// idle reports whether nothing is done with any line of a batch, nor told of it, so that its values are not needed.
func (d *decision) idle(answers []lineAnswer) bool {
	return d.step.merges == nil && !slices.ContainsFunc(answers, func(a lineAnswer) bool {
		return !slices.Contains([]Verdict{Unchanged, Same, Repeated, LeftOut}, a.verdict)
	})
}

// answered is what was answered of the lines of a batch, and their rows that are in the table.
type answered struct {
	answers []lineAnswer
	rows    []existingRow
	there   *existingRows // these, where they can be read before the lines are
}

// ask begins to read the rows that lines are held against.
func (d *decision) ask(ctx context.Context, answers []lineAnswer) *answered {
	t := &answered{answers: answers}
	for i := range answers {
		if a := &answers[i]; a.verdict == Updated {
			t.rows = append(t.rows, existingRow{i, a.ref, a.new, d.step.first != nil && !a.kept})
		}
	}
	if len(t.rows) > 0 && d.step.Table.Locator != "" {
		t.there = d.step.changes.ask(ctx, d.Database, d.step, nil, t.rows)
	}
	return t
}

func (d *decision) batch(ctx context.Context, lines *Lines, t *answered) (*verdictBatch, error) {
	made := newDecided()
	for i := range t.answers {
		a := &t.answers[i]
		var err error
		made.add(a.verdict)
		switch {
		case a.verdict == Added:
			if err = d.add(lines, i, made.row()); err == nil {
				err = d.need(lines, i)
			}
		case a.verdict == SetAside && lines.found.rowState(i) >= 0:
			err = d.tell(ctx, lines.Number(i), a.answer)
		case a.verdict == Overruled && a.outcome == isOverruled:
			err = d.overrule(ctx, lines.Number(i), *a)
		}
		if err == nil && a.verdict != SetAside && len(d.step.merges.among(lines.Number(i), 1)) > 0 {
			err = d.overrule(ctx, lines.Number(i), *a)
		}
		if err != nil {
			return nil, err
		}
		switch {
		case a.verdict == Added:
		case a.new:
			made.row().AppendNew(a.ref)
		default:
			made.row().AppendNum(a.ref)
		}
	}
	changed, err := d.hold(ctx, lines, made, t)
	if err != nil {
		return nil, err
	}
	return made, d.learn(ctx, lines, made, changed)
}

// add returns the row that is added for line i.
func (d *decision) add(lines *Lines, i int, row *value.Column) error {
	rank := d.added
	d.added++
	if d.ranks != nil {
		next, err := d.ranks.Next()
		if err != nil {
			return err
		}
		rank = *next
	}
	switch {
	case d.fedLocator >= 0:
		fed := lines.Value(d.fedLocator)
		row.AppendFrom(fed, i)
		if fed.States[i] == value.Given {
			d.step.FedMost = max(d.step.FedMost, fed.Nums[i])
		}
	case d.locates:
		row.AppendNew(int64(newOfStep(d.step.FirstNew + rank)))
	default:
		row.AppendNum(0)
	}
	return nil
}

// hold finds out which rows that are there change, and puts the verdicts of their lines into made.
func (d *decision) hold(ctx context.Context, lines *Lines, made *verdictBatch, lot *answered) (*changedBatch, error) {
	if len(lot.rows) == 0 {
		return nil, nil
	}
	s := d.step
	if lot.there == nil {
		lot.there = s.changes.ask(ctx, d.Database, s, lines.Values(), lot.rows)
	}
	changed, err := s.changes.hold(ctx, d.round, s, lines.Values(), lines.Number(0), lot.rows, lot.there)
	if err != nil {
		return nil, err
	}
	for i, t := range lot.rows {
		what := changed.verdicts[i]
		switch what {
		case Updated:
			err = d.need(lines, t.line)
		case SetAside:
			number := lines.Number(t.line)
			s.SetAside.Add(number)
			d.round.SetAside[s.Feed.Number].Add(number)
			if differing := changed.differing[i]; differing != nil {
				err = d.differ(number, lines, t.line, differing)
			} else {
				err = d.breaks(number, d.held)
			}
		}
		if err != nil {
			return nil, err
		}
		made.set(t.line, what)
		s.Tally.Count(what)
	}
	return changed, nil
}

// need marks the additions that a row refers to which is added or changed, and keeps how the first such line spells
// them.
func (d *decision) need(lines *Lines, i int) error {
	for _, c := range lines.lookups {
		found := lines.Value(c)
		if found.States[i] != value.New || !NewRow(found.Nums[i]).OfLookup() {
			continue
		}
		a := d.additions[NewRow(found.Nums[i]).Number()]
		if a.lines++; a.needed {
			continue
		}
		if err := d.spell(a, d.step.sources[c].lookup.by, lines.Donor(c, i)); err != nil {
			return err
		}
	}
	return nil
}

// spell returns an addition the values that a line has for it. An addition is identified by cells and constants only.
func (d *decision) spell(a *addition, by []*evaluator, line int64) error {
	b, in, err := d.stored(line)
	if err != nil {
		return err
	}
	a.needed, a.first, a.values = true, origin{d.step.Feed.Number, line}, &value.Batch{}
	for _, e := range by {
		from, at := e.of.Constant, 0
		if from == nil {
			from, at = b.lines.Cell(e.of.Cell), in
		}
		c := value.Column{Kind: from.Kind, Scale: from.Scale}
		c.AppendFrom(from, at)
		a.values.Columns = append(a.values.Columns, c)
	}
	return nil
}

// neededLater reports whether a step behind s asks x.
func (r *round) neededLater(x *index, s *Step) bool {
	return slices.ContainsFunc(r.Steps[s.Number+1:], func(t *Step) bool {
		asks := t.Table == x.Table && len(t.Key) > 0 && t.first == nil && slices.Equal(t.KeyNames(), x.Columns)
		for _, l := range lookupsIn(t.sources) {
			asks = asks || l.index == x || l.index.old != nil && l.index.old.asks(x)
		}
		return asks
	})
}
