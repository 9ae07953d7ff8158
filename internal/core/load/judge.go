package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/logbook"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// verdict is what is decided of one row in one step, before anything is written.
type verdict uint8

const (
	setAside verdict = iota
	added
	updated
	unchanged // as an update would leave it
	kept
	repeated
	leftOut
)

// judgement is what is decided of all rows, against the database as one transaction sees it.
type judgement struct {
	run       *run
	db        engine.Reader
	before    map[*schema.Table]check.Before
	indexes   []*index
	additions []*addition
	steps     []*judged
	asides    []rowSet        // for each feed, the rows that a step set aside
	book      *logbook.Writer // what is done with rows; nil where nothing is noted
	similar   []Similar       // new names that look like others, and that a person accepted
}

// judged is a step with its verdicts.
type judged struct {
	*ladlefile.Step
	number   int // in the order of the steps
	feed     int
	rows     *clean.Rows
	columns  []*evaluator
	first    *judged      // of a second half: the step whose rows it completes
	later    []int        // of a first one: the columns of the spool that second halves read
	found    *spool.Spool // for each row its standing, then what its finds lead to
	verdicts *spool.Spool // for each row its verdict, then the locator of one that is added or there
	changes  *changes     // what becomes of rows that are there
	gone     *gone        // the rows of the table that the input no longer has
	problems []*spool.Log // row and column; cell and reason; each by ascending row
	aside    rowSet
	gaps     rowSet // rows that can change one that is there, but not be added: a value that they need is blank
	tally    Tally
	spans    []engine.Span // locators of the added rows
	fedMost  int64         // the greatest locator that the file brings along
}

const resident = 1 << 18 // keys that are kept in memory at a time

// judge decides on all rows. What becomes clear only behind a row - that a second half of it is set aside, that a new
// name it needs is refused - is taken into account by judging once more.
func (r *run) judge(ctx context.Context, db engine.Reader) (*judgement, error) {
	r.forget()
	for {
		j, err := r.judgeOnce(ctx, db)
		if err != nil {
			return j, err
		}
		halved := r.halve(j)
		alike, err := j.alike(ctx)
		if err != nil || !halved && !alike {
			return j, err
		}
		r.carry(j)
		j.close()
	}
}

// judgeOnce decides on all rows, step by step, in one direction.
func (r *run) judgeOnce(ctx context.Context, db engine.Reader) (*judgement, error) {
	j := &judgement{run: r, db: db, before: map[*schema.Table]check.Before{}, asides: make([]rowSet, len(r.plan.Feeds))}
	if err := j.count(ctx); err != nil {
		return j, err
	}
	for i, s := range r.plan.Steps {
		j.steps = append(j.steps, j.prepare(i, s))
	}
	for _, s := range j.steps {
		if err := j.judgeStep(ctx, s); err != nil {
			return j, fmt.Errorf("step %s: %w", s.Name, err)
		}
	}
	if j.run.reading {
		return j, nil
	}
	return j, j.pointed(ctx)
}

// count counts the rows of all tables in use.
func (j *judgement) count(ctx context.Context) error {
	for _, t := range j.run.tables() {
		n, exact, err := j.db.Count(ctx, t)
		if err != nil {
			return err
		}
		j.before[t] = check.Before{Rows: n, Exact: exact}
	}
	return nil
}

// prepare makes the evaluators and indexes of a step.
func (j *judgement) prepare(number int, s *ladlefile.Step) *judged {
	feed := slices.Index(j.run.plan.Feeds, s.Feed)
	d := &judged{Step: s, number: number, feed: feed, rows: j.run.rows[feed]}
	for _, f := range s.Columns {
		d.columns = append(d.columns, j.evaluator(f.Value, s.Table))
	}
	for _, f := range s.Later {
		d.later = append(d.later, cells([]*evaluator{j.evaluator(f.Value, s.Table)})...)
	}
	if s.First != nil {
		d.first = j.stepOf(s.First)
		d.problems = j.run.carried[number]
	} else if len(s.Key) > 0 {
		j.keyIndex(d.Step)
	}
	return d
}

// stepOf is the judged form of a step.
func (j *judgement) stepOf(s *ladlefile.Step) *judged {
	return j.steps[slices.IndexFunc(j.steps, func(d *judged) bool { return d.Step == s })]
}

// evaluator makes what gives the values of a source of a step into t.
func (j *judgement) evaluator(v ladlefile.Value, t *schema.Table) *evaluator {
	e := &evaluator{of: v}
	if v.Find == nil {
		return e
	}
	e.find = &finder{of: v.Find, judge: j, table: t, index: j.indexOf(v.Find)}
	for _, by := range v.Find.By {
		e.find.by = append(e.find.by, j.evaluator(by.Value, t))
	}
	return e
}

// indexOf is the index that answers a find.
func (j *judgement) indexOf(l *ladlefile.Lookup) *index {
	if l.Made != nil {
		return j.oldIndex(l)
	}
	return j.index(l.Table, l.Names(), l.Yields.Name, false)
}

// keyIndex is the index by which a step recognises rows that are there: it yields what they are updated by.
func (j *judgement) keyIndex(s *ladlefile.Step) *index {
	yields := ""
	if s.Block.There == ladlefile.UpdateThere {
		yields = s.Table.Locator
	}
	return j.index(s.Table, s.KeyNames(), yields, s.Block.BlankKey == ladlefile.MatchBlankKey)
}

// index gives the index of t by columns, in which blanks are values or not; one that yields something serves where
// nothing needs to be yielded.
func (j *judgement) index(t *schema.Table, columns []string, yields string, blanks bool) *index {
	for _, x := range j.indexes {
		if x.old == nil && x.table == t && x.blanks == blanks && slices.Equal(x.columns, columns) {
			if x.yields == "" {
				x.yield(yields)
			}
			if yields == "" || x.yields == yields {
				return x
			}
		}
	}
	x := newIndex(t, columns, yields, j.partsOf(j.before[t].Rows+j.incoming(t)), j.run.dir)
	x.blanks = blanks
	j.indexes = append(j.indexes, x)
	return x
}

// incoming is the number of rows that steps could add to t.
func (j *judgement) incoming(t *schema.Table) (n int64) {
	for _, s := range j.run.plan.Steps {
		if s.Table == t {
			n += j.run.rows[slices.Index(j.run.plan.Feeds, s.Feed)].Spool.Rows()
		}
	}
	return n
}

// partsOf is in how many parts n keys are kept: one, or the same number for all that are more than memory should hold.
func (j *judgement) partsOf(n int64) int {
	if n <= j.run.resident {
		return 1
	}
	most := int64(0)
	for _, t := range j.run.tables() {
		most = max(most, j.before[t].Rows+j.incoming(t))
	}
	return int(most/j.run.resident) + 1
}

// views passes over rows, with the columns that evaluators read, and those of the spool that are wanted besides.
func (j *judgement) views(ctx context.Context, rows *clean.Rows, evaluators []*evaluator, look func(*view) error, want ...int) error {
	for _, f := range finders(evaluators) {
		if err := f.rewind(); err != nil {
			return err
		}
	}
	want = append(append(cells(evaluators), clean.Lines), want...)
	v := &view{rows: &value.Batch{}}
	for i := range rows.Spool.Batches() {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := rows.Spool.Read(i, want, v.rows); err != nil {
			return err
		}
		v.first, v.n = rows.Spool.First(i), rows.Spool.Len(i)
		if err := look(v); err != nil {
			return err
		}
	}
	return nil
}

func (j *judgement) judgeStep(ctx context.Context, s *judged) error {
	for _, f := range finders(s.columns) {
		if err := f.fill(ctx, s); err != nil {
			return err
		}
		if err := f.prepare(ctx, s.rows); err != nil {
			return err
		}
		defer f.close()
	}
	keys := newMatch(j, s)
	defer keys.close()
	if err := j.resolve(ctx, s, keys); err != nil {
		return err
	}
	if err := keys.match(ctx); err != nil {
		return err
	}
	return j.decide(ctx, s, keys)
}

// fill makes the index x know what evaluators by ask of it in step s.
func (j *judgement) fill(ctx context.Context, s *judged, x *index, by []*evaluator) error {
	rows := s.rows.Spool.Rows()
	return x.fill(ctx, j.db, j.before[x.table].Rows, rows, func(take func(*value.Batch) error) error {
		return j.views(ctx, s.rows, by, func(v *view) error {
			b := &value.Batch{Columns: make([]value.Column, len(by))}
			for i, e := range by {
				c, err := e.column(ctx, v)
				if err != nil {
					return err
				}
				b.Columns[i] = *c
			}
			return take(b)
		})
	})
}

// standing is what the first pass of a step says of a row: one of these, or the part that its key belongs to.
const (
	bad = -1
	out = -2 // a condition leaves it out
)

// wholeRow stands for the column of a problem that concerns all of a row.
const wholeRow = clean.WholeRow

// resolve is the first pass of a step: finds, and what is wrong with a row by itself. The keys of good rows go to keys.
func (j *judgement) resolve(ctx context.Context, s *judged, keys *match) error {
	types := []value.Type{{Kind: value.Int}}
	for _, c := range s.Columns {
		if c.Value.Find != nil {
			types = append(types, c.Value.Find.Yields.Type)
		}
	}
	s.found = spool.New(j.run.dir, types)
	log := spool.NewLog(j.run.dir)
	s.problems = append(s.problems, log)
	rejected := j.run.rejections(s.number)
	return j.views(ctx, s.rows, s.columns, func(v *view) error {
		columns, err := s.evaluate(ctx, v)
		if err != nil {
			return err
		}
		standing, problems := s.stand(v, columns, rejected)
		s.spoil(v, standing, j.run.halved[s.Block])
		problems = s.silence(v, problems, j.run.halved[s.Block])
		for _, p := range problems {
			if err := log.Append([]int64{v.first + int64(p.row), int64(p.column)}, []string{p.cell, p.why}); err != nil {
				return err
			}
		}
		found := &value.Batch{Columns: []value.Column{{Kind: value.Int}}}
		for i, c := range s.Columns {
			if c.Value.Find != nil {
				found.Columns = append(found.Columns, *columns[i])
			}
		}
		if err := keys.add(ctx, v, columns, standing); err != nil {
			return err
		}
		for _, part := range standing {
			found.Columns[0].AppendNum(part)
		}
		return s.found.Append(found)
	}, append(s.conditions(), s.later...)...)
}

// conditions lists the columns of the spool that are conditions of the step.
func (s *judged) conditions() []int {
	all := make([]int, len(s.Only))
	for i, only := range s.Only {
		all[i] = 1 + only
	}
	return all
}

func (s *judged) evaluate(ctx context.Context, v *view) ([]*value.Column, error) {
	columns := make([]*value.Column, len(s.columns))
	for i, e := range s.columns {
		c, err := e.column(ctx, v)
		if err != nil {
			return nil, err
		}
		columns[i] = c
	}
	return columns, nil
}

// rowProblem is something wrong with a row in a step.
type rowProblem struct {
	row    int // in the batch
	column int // of the step
	cell   string
	why    string
}

// leaveOut marks the rows for which a condition of the step doesn't hold, or can't be told.
func (s *judged) leaveOut(v *view, standing []int64) {
	for _, only := range s.Only {
		c := &v.rows.Columns[1+only]
		for row, state := range c.States {
			switch {
			case state == value.Bad && standing[row] != out:
				standing[row] = bad
			case state == value.Null, state == value.Given && c.Nums[row] == 0:
				standing[row] = out
			}
		}
	}
}

// stand judges each row by itself: 0 for good ones, bad or out for others. Cells that could not be read have been told.
func (s *judged) stand(v *view, columns []*value.Column, rejected *rejections) ([]int64, []rowProblem) {
	standing := make([]int64, v.n)
	s.leaveOut(v, standing)
	var problems []rowProblem
	for i, c := range columns {
		column, key := s.Columns[i].Column, slices.Contains(s.Key, i)
		for row, state := range c.States {
			switch {
			case standing[row] == out:
			case state == value.Bad:
				standing[row] = bad
			case state == value.Null && key && s.Block.BlankKey == ladlefile.RefuseBlankKey:
				problems = append(problems, rowProblem{row, i, "", fmt.Sprintf("is blank, but is part of the key (%s)", strings.Join(s.KeyNames(), ", "))})
			case state == value.Null && column.Required && !key && s.leavesBlanks():
				s.gaps.add(v.first + int64(row))
			case state == value.Null && (column.Required || column.Identity):
				problems = append(problems, rowProblem{row, i, "", fmt.Sprintf("is blank, but %s.%s must have a value", s.Table.Name, column.Name)})
			}
		}
	}
	for i, e := range s.columns {
		for _, f := range finders([]*evaluator{e}) {
			for _, x := range f.failures {
				if x.own && s.first != nil && s.first.aside.has(v.first+int64(x.row)) {
					standing[x.row] = bad // the row itself, or another one with its key: that was told
					continue
				}
				problems = append(problems, rowProblem{x.row, i, x.cell, x.why})
			}
		}
	}
	for _, p := range rejected.in(v) {
		p.why += s.mentioned(p.why, columns, p.row)
		problems = append(problems, p)
	}
	problems = slices.DeleteFunc(problems, func(p rowProblem) bool { return standing[p.row] == out })
	slices.SortStableFunc(problems, func(a, b rowProblem) int { return a.row - b.row })
	for _, p := range problems {
		standing[p.row] = bad
	}
	return standing, problems
}
