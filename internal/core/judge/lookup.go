package judge

import (
	"context"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// lookup resolves one lookup of a step.
type lookup struct {
	of    *plan.Lookup
	in    *round
	into  *schema.Table // the table of the step
	index *index
	by    []*evaluator
	// of an index in parts: for each question of a part, in the order of the lines
	answers  []*spool.Stream[keyindex.Entry]
	readers  []*spool.StreamReader[keyindex.Entry]
	hashes   []keyindex.Hash
	turns    [2]value.Column // what the lines of a batch find, and those of the one before
	found    *value.Column   // the one of these that is being made
	turn     int
	failures []failure
	blanked  []blanked
	near     map[string]string
}

// failure is a line whose lookup leads nowhere.
type failure struct {
	line int // in the batch
	cell string
	why  reason.Cause
	own  bool // it leads to a row of the step's own table whose line is set aside
}

// indexOf is the index that answers a lookup.
func (r *round) indexOf(l *plan.Lookup) *index {
	if l.Makers != nil {
		return r.oldIndex(l)
	}
	return r.index(l.Table, l.Names(), l.Yields.Name, false)
}

// keys returns the hash of each line for the index of the lookup, and the values behind it.
func (l *lookup) keys(ctx context.Context, b *clean.Batch) ([]keyindex.Hash, []*value.Column, error) {
	columns := make([]*value.Column, len(l.by))
	for i, e := range l.by {
		c, err := e.column(ctx, b)
		if err != nil {
			return nil, nil, err
		}
		columns[i] = c
	}
	var err error
	if l.index.old != nil {
		l.hashes = keyindex.HashesAsWritten(columns[0], l.hashes)
	} else {
		l.hashes, err = l.index.Hashes(ctx, l.in.Database, columns, l.hashes)
	}
	return l.hashes, columns, err
}

// column returns what each line finds, good until the next but one. Lines that find nothing they may go on with are Bad, and
// in failures.
func (l *lookup) column(ctx context.Context, b *clean.Batch) (*value.Column, error) {
	l.failures, l.blanked = l.failures[:0], l.blanked[:0]
	hashes, by, err := l.keys(ctx, b)
	if err != nil {
		return nil, err
	}
	l.turn ^= 1
	l.found = &l.turns[l.turn]
	l.found.Reset()
	l.found.Kind, l.found.Scale = l.of.Yields.Type.Kind, l.of.Yields.Type.Scale
	for line, h := range hashes {
		if h.None() {
			l.found.AppendState(missing(by, line))
			continue
		}
		e, err := l.answer(h)
		if err != nil {
			return nil, err
		}
		l.append(e, h, by, line)
	}
	return l.found, nil
}

// missing is what a lookup by a gap gives: nothing for blanks, Bad for what could not be read.
func missing(by []*value.Column, line int) value.State {
	for _, c := range by {
		if c.States[line] == value.Bad {
			return value.Bad
		}
	}
	return value.Null
}

// answer is what the index knows of h: from memory, or the next of the answers that were prepared.
func (l *lookup) answer(h keyindex.Hash) (keyindex.Entry, error) {
	if l.index.InMemory() {
		part, err := l.index.Load(0)
		if err != nil {
			return keyindex.Entry{}, err
		}
		return l.ask(part, h)
	}
	e, err := l.readers[h.Part(l.index.PartCount())].Next()
	if err != nil {
		return keyindex.Entry{}, err
	}
	return *e, nil
}

// ask looks h up in a part that is in memory, and makes an addition where the lookup may add.
func (l *lookup) ask(p *keyindex.Part, h keyindex.Hash) (keyindex.Entry, error) {
	e := p.Get(h)
	if e.State > keyindex.SetAside || l.of.NotFound != ladlefile.AddNotFound || l.refused(h) != nil {
		return e, nil
	}
	e = keyindex.Entry{State: keyindex.Addable, Ref: int64(len(l.in.additions))}
	l.in.additions = append(l.in.additions, &addition{index: l.index, key: h, lookup: l})
	return e, p.Put(h, e)
}

// refused is why a name can't be added; nil when it can.
func (l *lookup) refused(h keyindex.Hash) *reason.Cause {
	name := l.index.name(h)
	if text, rejected := l.in.Rejected.names[name]; rejected {
		why := l.index.why(reason.NotAdded)
		why.Text = text
		return &reason.Cause{Why: why}
	}
	if c, unlike := l.in.unlike[name]; unlike {
		return &c
	}
	return nil
}

// append adds what the entry e means for a line.
func (l *lookup) append(e keyindex.Entry, h keyindex.Hash, by []*value.Column, line int) {
	switch {
	case e.One():
		l.index.Append(l.found, e)
		return
	case e.State == keyindex.Addable && (l.of.NotFound == ladlefile.AddNotFound || l.in.additions[e.Ref].needed):
		l.found.AppendNew(int64(newOfLookup(int(e.Ref))))
		return
	case e.State == keyindex.Several && l.of.Several == ladlefile.BlankSeveral,
		e.State != keyindex.Several && l.of.NotFound == ladlefile.BlankNotFound:
		l.found.AppendState(value.Null)
		l.blanked = append(l.blanked, blanked{line, textOf(by, line), e.State == keyindex.Several})
		return
	}
	l.found.AppendState(value.Bad)
	cell := textOf(by, line)
	l.failures = append(l.failures, failure{line, cell, l.why(e, h, cell), e.State == keyindex.SetAside &&
		l.index.Table == l.into})
}

// textOf writes the cells of a line with commas between them.
func textOf(columns []*value.Column, line int) string {
	texts := make([]string, len(columns))
	for i, c := range columns {
		texts[i] = c.Text(line)
		if c.States[line] == value.New {
			texts[i] = "a new row"
		}
	}
	return strings.Join(texts, ", ")
}

// why is the cause for which a lookup leads nowhere.
func (l *lookup) why(e keyindex.Entry, h keyindex.Hash, cell string) reason.Cause {
	if c := l.refused(h); c != nil {
		return *c
	}
	switch e.State {
	case keyindex.Several:
		return reason.Because(l.index.why(reason.FoundSeveral))
	case keyindex.Left:
		return reason.Because(l.index.why(reason.FoundNoMore))
	case keyindex.SetAside:
		c := reason.Because(l.index.why(reason.FoundSetAside))
		feed, position := lineOf(e.Ref)
		c.Other = l.in.Place(feed, position)
		return c
	}
	c := reason.Because(l.index.why(reason.NotFound))
	c.Near = l.nearest(cell)
	return c
}

// nearest is the name most like cell, where the index knows the names.
func (l *lookup) nearest(cell string) string {
	if len(l.index.Names) == 0 || len(l.index.Names) == keyindex.MaxNames {
		return ""
	}
	if l.near == nil || len(l.near) > keyindex.MaxNames {
		l.near = map[string]string{}
	}
	near, known := l.near[cell]
	if !known {
		near = text.NearestValue(cell, l.index.Names)
		l.near[cell] = near
	}
	return near
}

// prepareLookup makes sure that the index of a lookup knows what step s asks. The answers of an index in parts are
// found here: the questions of all lines are put to it part by part.
func (r *round) prepareLookup(ctx context.Context, l *lookup, s *Step) error {
	var err error
	if l.index.old != nil {
		err = r.fillOld(ctx, l.index)
	} else {
		err = r.fill(ctx, s, l.index, l.by)
	}
	if err != nil || l.index.InMemory() {
		return err
	}
	parts := l.index.PartCount()
	questions := spool.Streams[keyindex.Hash](r.Dir, parts)
	defer closeAll(questions)
	lines, err := r.pass(s.rows, l.by)
	if err != nil {
		return err
	}
	for {
		more, err := lines.next(ctx)
		if err != nil {
			return err
		}
		if !more {
			break
		}
		hashes, _, err := l.keys(ctx, lines.Batch)
		if err != nil {
			return err
		}
		for _, h := range hashes {
			if h.None() {
				continue
			}
			if err := questions[h.Part(parts)].Append(h); err != nil {
				return err
			}
		}
	}
	l.answers = spool.Streams[keyindex.Entry](r.Dir, parts)
	err = l.index.eachPart(parts, func(i int, p *keyindex.Part) error { return l.answerPart(i, p, questions[i]) })
	if err != nil {
		return err
	}
	return l.rewind()
}

func (l *lookup) answerPart(i int, part *keyindex.Part, questions *spool.Stream[keyindex.Hash]) error {
	return questions.Each(func(h *keyindex.Hash) error {
		e, err := l.ask(part, *h)
		if err != nil {
			return err
		}
		return l.answers[i].Append(e)
	})
}

// rewind makes the lookup ready for another pass over the lines.
func (l *lookup) rewind() error {
	l.readers = l.readers[:0]
	for _, a := range l.answers {
		r, err := a.Reader()
		if err != nil {
			return err
		}
		l.readers = append(l.readers, r)
	}
	return nil
}

func (l *lookup) close() { closeAll(l.answers) }

func closeAll[T any](all []*spool.Stream[T]) {
	for _, s := range all {
		_ = s.Close() // a temporary file without a name
	}
}

// fill makes the index x know what evaluators by ask of it in step s.
func (r *round) fill(ctx context.Context, s *Step, x *index, by []*evaluator) error {
	keys := func(yield func(*value.Batch, error) bool) {
		lines, err := r.pass(s.rows, by)
		b := &value.Batch{Columns: make([]value.Column, len(by))}
		for more := err == nil; more; {
			if more, err = lines.next(ctx); err != nil || !more {
				break
			}
			for i, e := range by {
				var c *value.Column
				if c, err = e.column(ctx, lines.Batch); err != nil {
					break
				}
				b.Columns[i] = *c
			}
			if err != nil || !yield(b, nil) {
				break
			}
		}
		if err != nil {
			yield(nil, err)
		}
	}
	return x.Fill(ctx, r.Database, r.Before[x.Table].Rows, s.rows.Len(), keys)
}
