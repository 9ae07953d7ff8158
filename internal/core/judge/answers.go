package judge

import (
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// lineAnswer is the answer for a line with the verdict that follows from it; Updated stands for what is yet to be held
// against the table.
type lineAnswer struct {
	answer
	verdict Verdict
	kept    bool // of a second half: the first one leaves the row as it is, so it is only compared
}

// answering gives the answers for the lines of a step, batch by batch.
type answering func(give func([]lineAnswer) error) error

// answers brings the answers of all parts into the order of the lines, batch by batch.
func (s *Step) answers(keys *match, give func([]lineAnswer) error) error {
	var batch findingBatch
	var first verdictBatch
	for i := range s.rows.Batches() {
		if err := s.findings.read(i, &batch); err != nil {
			return err
		}
		if s.first != nil {
			if err := s.first.verdicts.read(i, &first); err != nil {
				return err
			}
		}
		_, n := s.rows.Span(i)
		all := make([]lineAnswer, n)
		for line := range all {
			var err error
			if all[line], err = s.answer(batch.rowState(line), keys, &first, line); err != nil {
				return err
			}
		}
		if err := give(all); err != nil {
			return err
		}
	}
	return nil
}

// settle sets those lines aside, from first on, whose rows can't be added, and fills the tally; which rows an update leaves
// as they are is not known yet, and not in the tally.
func (r *round) settle(s *Step, first int64, all []lineAnswer) {
	for i := range all {
		a, number := &all[i], first+int64(i)
		switch {
		case a.verdict == Added && s.gaps.Has(number) && !s.fillsGaps(number):
			a.verdict, a.outcome = SetAside, isGap
		case a.verdict == Added && s.breaks(number):
			a.verdict, a.outcome = SetAside, isBroken
		}
		if a.verdict == SetAside {
			s.SetAside.Add(number)
			r.SetAside[s.Feed.Number].Add(number)
		}
		if a.verdict != Updated {
			s.Tally.Count(a.verdict)
		}
	}
}

// settleAll settles all answers and keeps them.
func (r *round) settleAll(s *Step, answers answering, kept *spool.Stream[lineAnswer]) error {
	first := int64(0)
	return answers(func(all []lineAnswer) error {
		r.settle(s, first, all)
		first += int64(len(all))
		for _, a := range all {
			if err := kept.Append(a); err != nil {
				return err
			}
		}
		return nil
	})
}

// again gives kept answers, batch by batch.
func (s *Step) again(kept *spool.Stream[lineAnswer], give func([]lineAnswer) error) error {
	answers, err := kept.Reader()
	if err != nil {
		return err
	}
	for i := range s.rows.Batches() {
		_, n := s.rows.Span(i)
		all := make([]lineAnswer, n)
		for line := range all {
			a, err := answers.Next()
			if err != nil {
				return err
			}
			all[line] = *a
		}
		if err := give(all); err != nil {
			return err
		}
	}
	return nil
}

// answer is the answer for a line by its row state.
func (s *Step) answer(rowState int64, keys *match, first *verdictBatch, line int) (lineAnswer, error) {
	switch {
	case rowState == bad:
		return lineAnswer{answer: answer{outcome: isContradict}, verdict: SetAside}, nil
	case rowState == out:
		return lineAnswer{answer: answer{outcome: isContradict}, verdict: LeftOut}, nil
	case s.first != nil:
		return secondOf(first, line), nil
	}
	a, err := keys.next(rowState)
	return lineAnswer{answer: a, verdict: s.verdictOf(a)}, err
}

// verdictOf is the verdict that follows from an answer.
func (s *Step) verdictOf(a answer) Verdict {
	switch o := a.outcome; {
	case o == isNew && s.Policy.NotThere == ladlefile.AddNotThere:
		return Added
	case o == isNew && s.Policy.NotThere == ladlefile.LeaveOutNotThere:
		return LeftOut
	case o == isThere && s.Compares() && a.same:
		return s.untouched(existingRow{})
	case o == isThere && s.Compares():
		return Updated
	case o == isThere:
		return Same
	case o == isRepeat:
		return Repeated
	case o == isOverruled:
		return Overruled
	}
	return SetAside
}

// secondOf is what a second half does with a line for which the first one has a verdict.
func secondOf(first *verdictBatch, line int) lineAnswer {
	switch v := first.verdict(line); v {
	case Added, Updated, Unchanged, Same, Differs:
		row := first.row()
		a := answer{outcome: isThere, ref: row.Nums[line], new: row.States[line] == value.New}
		return lineAnswer{a, Updated, v == Same || v == Differs}
	default:
		return lineAnswer{answer: answer{outcome: isPassed}, verdict: v}
	}
}
