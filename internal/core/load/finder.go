package load

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// addition is a row of a lookup that is added when a row needs it.
type addition struct {
	index  *index
	key    hash
	finder *finder // the find that asked for it first
	needed bool
	first  origin       // the first row that needs it
	values *value.Batch // as that row spells it: one row for the index's columns
	id     int64
}

// origin is a row of an input.
type origin struct {
	feed int
	row  int64
}

func (o origin) compare(p origin) int {
	return cmp.Or(cmp.Compare(o.feed, p.feed), cmp.Compare(o.row, p.row))
}

// failure is a row whose find leads nowhere.
type failure struct {
	row  int // in the batch
	cell string
	why  string
	own  bool // it leads to a row of the step's own table that is set aside
}

// view is a batch of cleaned rows that steps look at.
type view struct {
	rows  *value.Batch // the columns of the feed's spool
	first int64        // the number of its first row
	n     int
}

// evaluator gives the values of a source, batch by batch.
type evaluator struct {
	of   ladlefile.Value
	find *finder
	room value.Column
}

func (e *evaluator) column(ctx context.Context, v *view) (*value.Column, error) {
	switch {
	case e.find != nil:
		return e.find.column(ctx, v)
	case e.of.Constant != nil:
		e.room = value.Column{Kind: e.of.Constant.Kind, Scale: e.of.Constant.Scale, States: e.room.States[:0],
			Nums: e.room.Nums[:0], Ends: e.room.Ends[:0], Data: e.room.Data[:0]}
		for range v.n {
			e.room.AppendFrom(e.of.Constant, 0)
		}
		return &e.room, nil
	}
	return &v.rows.Columns[1+e.of.Cell], nil
}

// finder resolves one find of a step.
type finder struct {
	of       *ladlefile.Lookup
	index    *index
	by       []*evaluator
	judge    *judgement
	table    *schema.Table   // of the step
	answers  []*spool.Stream // of an index in parts: state and ref for each question, in the order of the rows
	readers  []*spool.StreamReader
	hashes   []hash
	room     value.Column
	failures []failure
	near     map[string]string
}

// keys gives the hash of each row of v for the finder's index, and the values behind it.
func (f *finder) keys(ctx context.Context, v *view) ([]hash, []*value.Column, error) {
	columns := make([]*value.Column, len(f.by))
	for i, e := range f.by {
		c, err := e.column(ctx, v)
		if err != nil {
			return nil, nil, err
		}
		columns[i] = c
	}
	hashes, err := f.index.hashes(ctx, f.judge.db, columns, f.hashes)
	f.hashes = hashes
	return hashes, columns, err
}

// column gives what each row of v finds. Rows that find nothing they may go on with are Bad, and in failures.
func (f *finder) column(ctx context.Context, v *view) (*value.Column, error) {
	f.failures = f.failures[:0]
	hashes, by, err := f.keys(ctx, v)
	if err != nil {
		return nil, err
	}
	f.room.Reset()
	f.room.Kind, f.room.Scale = f.of.Yields.Type.Kind, f.of.Yields.Type.Scale
	for row, h := range hashes {
		if h.hi == 0 {
			f.room.AppendState(missing(by, row))
			continue
		}
		e, err := f.answer(h)
		if err != nil {
			return nil, err
		}
		f.append(e, h, by, row)
	}
	return &f.room, nil
}

// missing is what a find by a row with a gap gives: nothing for blanks, Bad for what could not be read.
func missing(by []*value.Column, row int) value.State {
	for _, c := range by {
		if c.States[row] == value.Bad {
			return value.Bad
		}
	}
	return value.Null
}

// answer is what the index knows of h: from memory, or the next of the answers that were prepared.
func (f *finder) answer(h hash) (entry, error) {
	if f.index.resident() {
		return f.ask(f.index.parts[0], h)
	}
	w, err := f.readers[h.part(len(f.index.parts))].Next()
	if err != nil {
		return entry{}, err
	}
	return entry{entryState(w[0]), int64(w[1])}, nil
}

// ask looks h up in a part that is in memory, and makes an addition where the find may add.
func (f *finder) ask(p *indexPart, h hash) (entry, error) {
	e := p.get(h)
	if e.state > isAside || f.of.NotFound != ladlefile.AddNotFound || f.judge.run.whyRefused(f.refusal(h)) != "" {
		return e, nil
	}
	e = entry{fresh, int64(len(f.judge.additions))}
	f.judge.additions = append(f.judge.additions, &addition{index: f.index, key: h, finder: f})
	p.put(h, e)
	if p.log != nil {
		return e, p.log.Append(h.hi, h.lo, uint64(e.state), uint64(e.ref))
	}
	return e, nil
}

// refusal names an addition that the database did not take.
func (f *finder) refusal(h hash) refusal { return refusal{f.index.label(), h} }

func (x *index) label() string {
	if x.old != nil {
		return fmt.Sprintf("%s of the lines that fill %s", x.columns[0], x.table.Name)
	}
	return x.table.Name + "." + strings.Join(x.columns, ", ")
}

// append adds what the entry e means for a row.
func (f *finder) append(e entry, h hash, by []*value.Column, row int) {
	switch {
	case e.one() && f.index.wide != nil:
		f.room.AppendFrom(f.index.wide, int(e.ref))
		return
	case e.one():
		f.room.AppendNum(e.ref)
		return
	case e.state == fresh:
		if f.of.NotFound == ladlefile.AddNotFound || f.judge.additions[e.ref].needed {
			f.room.AppendNew(e.ref)
			return
		}
	case e.state == several && f.of.Several == ladlefile.BlankSeveral:
		f.room.AppendState(value.Null)
		return
	}
	if e.state != several && f.of.NotFound == ladlefile.BlankNotFound {
		f.room.AppendState(value.Null)
		return
	}
	f.room.AppendState(value.Bad)
	cell := words(by, row)
	f.failures = append(f.failures, failure{row, cell, f.why(e, h, cell), e.state == isAside && f.index.table == f.table})
}

func words(by []*value.Column, row int) string {
	texts := make([]string, len(by))
	for i, c := range by {
		texts[i] = c.Text(row)
		if c.States[row] == value.New {
			texts[i] = "a new row"
		}
	}
	return strings.Join(texts, ", ")
}

// why says what came of a find, to go behind the quoted cell.
func (f *finder) why(e entry, h hash, cell string) string {
	where := f.index.label()
	if why := f.judge.run.whyRefused(f.refusal(h)); why != "" {
		return fmt.Sprintf("can't be added to %s: %s", where, why)
	}
	switch e.state {
	case several:
		return "is in more than one row of " + where
	case left:
		return fmt.Sprintf("is not in %s any more: an earlier step gives that row another value", where)
	case isAside:
		spot := source.SpotOf(f.judge.run.sources[e.ref>>feedBits], e.ref&(1<<feedBits-1))
		return fmt.Sprintf("would be in %s, but %s is set aside", where, spot.Short())
	}
	why := "is not in " + where
	if near := f.nearest(cell); near != "" {
		why += fmt.Sprintf("; there is %q", near)
	}
	return why
}

// nearest is the name most like cell, where the index knows the names.
func (f *finder) nearest(cell string) string {
	if len(f.index.names) == 0 || len(f.index.names) == nameCount {
		return ""
	}
	if f.near == nil || len(f.near) > nameCount {
		f.near = map[string]string{}
	}
	near, known := f.near[cell]
	if !known {
		near = fault.NearValue(cell, f.index.names)
		f.near[cell] = near
	}
	return near
}

// fill makes sure that the index knows what the find asks in step s.
func (f *finder) fill(ctx context.Context, s *judged) error {
	if f.index.old != nil {
		return f.judge.fillOld(ctx, f.index)
	}
	return f.judge.fill(ctx, s, f.index, f.by)
}

// prepare finds the answers of an index in parts: the questions of all rows are put to it part by part.
func (f *finder) prepare(ctx context.Context, rows *clean.Rows) error {
	if f.index.resident() {
		return nil
	}
	parts := len(f.index.parts)
	questions := make([]*spool.Stream, parts)
	for i := range parts {
		questions[i] = spool.NewStream(f.judge.run.dir, 2)
		defer questions[i].Close()
	}
	err := f.judge.views(ctx, rows, f.by, func(v *view) error {
		hashes, _, err := f.keys(ctx, v)
		for _, h := range hashes {
			if h.hi != 0 && err == nil {
				err = questions[h.part(parts)].Append(h.hi, h.lo)
			}
		}
		return err
	})
	if err != nil {
		return err
	}
	f.answers = make([]*spool.Stream, parts)
	for i := range parts {
		if err := f.answerPart(i, questions[i]); err != nil {
			return err
		}
	}
	return f.rewind()
}

func (f *finder) answerPart(i int, questions *spool.Stream) error {
	f.answers[i] = spool.NewStream(f.judge.run.dir, 2)
	if err := f.index.load(i); err != nil {
		return err
	}
	defer f.index.unload(i)
	return eachRecord(questions, func(w []uint64) error {
		e, err := f.ask(f.index.parts[i], hash{w[0], w[1]})
		if err != nil {
			return err
		}
		return f.answers[i].Append(uint64(e.state), uint64(e.ref))
	})
}

// rewind makes the finder ready for another pass over the rows.
func (f *finder) rewind() error {
	f.readers = f.readers[:0]
	for _, a := range f.answers {
		r, err := a.Reader()
		if err != nil {
			return err
		}
		f.readers = append(f.readers, r)
	}
	return nil
}

func (f *finder) close() {
	for _, a := range f.answers {
		if a != nil {
			a.Close()
		}
	}
}

// finders lists the finders in evaluators, those inside of others first.
func finders(evaluators []*evaluator) []*finder {
	var all []*finder
	for _, e := range evaluators {
		if e.find != nil {
			all = append(append(all, finders(e.find.by)...), e.find)
		}
	}
	return all
}

// cells lists the columns of the spool that evaluators read.
func cells(evaluators []*evaluator) []int {
	var all []int
	for _, e := range evaluators {
		switch {
		case e.find != nil:
			all = append(all, cells(e.find.by)...)
		case e.of.Constant == nil:
			all = append(all, 1+e.of.Cell)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
