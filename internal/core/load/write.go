package load

import (
	"cmp"
	"context"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// refusal is a row of a lookup that the database did not take.
type refusal struct {
	index string
	key   hash
}

// rejections are the rows of a step that the database did not take, by the reason that it gave.
type rejections struct {
	why  []string
	rows []rowSet
}

// manyReasons is the number of different reasons that are kept.
const manyReasons = 1000

func (r *rejections) add(row int64, why string) {
	at := slices.Index(r.why, why)
	if at < 0 && len(r.why) == manyReasons {
		at = manyReasons - 1
		r.why[at] = "the database does not take the row"
	}
	if at < 0 {
		at = len(r.why)
		r.why, r.rows = append(r.why, why), append(r.rows, nil)
	}
	r.rows[at].add(row)
}

// in lists the rejected rows of a batch.
func (r *rejections) in(v *view) []rowProblem {
	var problems []rowProblem
	for i, why := range r.why {
		for row := range v.n {
			if r.rows[i].has(v.first + int64(row)) {
				problems = append(problems, rowProblem{row, wholeRow, "", "the database does not take the row: " + why})
			}
		}
	}
	return problems
}

// write sends every added row once: the lookups' first, then step by step. It stops behind the first step with rows
// that the database does not take, and says that there are some.
func (j *judgement) write(ctx context.Context, tx engine.Tx) (rejected bool, err error) {
	if err := j.remove(ctx, tx); err != nil {
		return false, err
	}
	for _, x := range j.growing() {
		rejected, err = j.writeAdditions(ctx, tx, x)
		if err != nil || rejected {
			return rejected, err
		}
	}
	for _, s := range j.steps {
		rejected, err = j.writeStep(ctx, tx, s)
		if err != nil || rejected {
			return rejected, err
		}
	}
	return false, nil
}

// writeStep changes the rows of a step that are there, and adds the others.
func (j *judgement) writeStep(ctx context.Context, tx engine.Tx, s *judged) (rejected bool, err error) {
	sent := func(rows []int64, refused []engine.Rejection) {
		for _, x := range refused {
			j.run.rejections(s.number).add(rows[x.Row], x.Why)
			rejected = true
		}
		j.run.tell("writing", s.Name, int64(len(rows)), s.tally.Added+s.tally.Updated)
	}
	turn := j.turn(s)
	err = j.revised(ctx, s, func(r *revision) error {
		if err := j.noteWas(ctx, turn, s.Table, s.changes.by, r.columns, &r.before); err != nil {
			return err
		}
		refused, err := tx.Update(ctx, s.Table, s.changes.by, r.columns, &r.rows)
		sent(r.numbers, refused)
		return err
	})
	if err != nil || rejected {
		return rejected, err
	}
	err = j.sent(ctx, s, func(batch *value.Batch, rows []int64) error {
		refused, err := tx.Insert(ctx, s.Table, s.sentColumns(), batch)
		sent(rows, refused)
		return err
	})
	return rejected, err
}

// growing lists the indexes whose tables get additions.
func (j *judgement) growing() []*index {
	var all []*index
	for _, a := range j.additions {
		if a.needed && !slices.Contains(all, a.index) {
			all = append(all, a.index)
		}
	}
	slices.SortFunc(all, func(a, b *index) int { return cmp.Compare(slices.Index(j.indexes, a), slices.Index(j.indexes, b)) })
	return all
}

// additionsTo lists the needed additions to x in the order of the files that name them.
func (j *judgement) additionsTo(x *index) []*addition {
	var all []*addition
	for _, a := range j.additions {
		if a.needed && a.index == x {
			all = append(all, a)
		}
	}
	slices.SortFunc(all, func(a, b *addition) int { return a.first.compare(b.first) })
	return all
}

func (j *judgement) writeAdditions(ctx context.Context, tx engine.Tx, x *index) (rejected bool, err error) {
	all := j.additionsTo(x)
	spans, err := tx.Reserve(ctx, x.table, int64(len(all)), j.fedUpTo(x.table))
	if err != nil {
		return false, err
	}
	ids := locators{spans: spans}
	for _, a := range all {
		a.id = ids.next()
	}
	at := 0
	err = sentAdditions(x, all, func(batch *value.Batch) error {
		refused, err := tx.Insert(ctx, x.table, x.sentColumns(), batch)
		for _, r := range refused {
			j.run.refused[refusal{x.label(), all[at+r.Row].key}] = r.Why
			rejected = true
		}
		at += batch.Len()
		return err
	})
	return rejected, err
}

// sentColumns lists what additions to x consist of.
func (x *index) sentColumns() []string { return append([]string{x.table.Locator}, x.columns...) }

// sentAdditions gives the rows of additions in batches.
func sentAdditions(x *index, all []*addition, take func(*value.Batch) error) error {
	for chunk := range slices.Chunk(all, engine.BatchRows) {
		batch := &value.Batch{Columns: []value.Column{{Kind: value.Int}}}
		for _, name := range x.columns {
			batch.Columns = append(batch.Columns, value.NewColumn(x.table.Column(name).Type))
		}
		for _, a := range chunk {
			batch.Columns[0].AppendNum(a.id)
			for i := range x.columns {
				batch.Columns[i+1].AppendFrom(&a.values.Columns[i], 0)
			}
		}
		if err := take(batch); err != nil {
			return err
		}
	}
	return nil
}

// located tells whether the rows of the step are sent with locators that were reserved for them.
func (s *judged) located() bool { return len(s.spans) > 0 }

// firstLocator is the least locator of the rows that the step adds, 0 where it reserves none.
func (s *judged) firstLocator() int64 {
	if !s.located() {
		return 0
	}
	return s.spans[0].First
}

// sentColumns lists what the rows of the step consist of.
func (s *judged) sentColumns() []string {
	if s.located() {
		return append([]string{s.Table.Locator}, s.Names()...)
	}
	return s.Names()
}

// sent gives the added rows of a step in batches, ready for the database, with their numbers in the input.
func (j *judgement) sent(ctx context.Context, s *judged, take func(batch *value.Batch, rows []int64) error) error {
	if s.tally.Added == 0 {
		return nil
	}
	out, rows := s.emptyBatch(), []int64(nil)
	err := j.eachVerdict(ctx, s, func(v *view, columns []*value.Column, verdicts *value.Batch) error {
		for row, what := range verdicts.Columns[0].Nums {
			if verdict(what) != added {
				continue
			}
			j.gather(s, out, columns, row, verdicts.Columns[1].Nums[row])
			if rows = append(rows, v.first+int64(row)); len(rows) == engine.BatchRows {
				if err := take(out, rows); err != nil {
					return err
				}
				out.Reset()
				rows = rows[:0]
			}
		}
		return nil
	})
	if err == nil && len(rows) > 0 {
		err = take(out, rows)
	}
	return err
}

// eachVerdict passes over the rows of a step with their values and verdicts, and further columns of the spool.
func (j *judgement) eachVerdict(ctx context.Context, s *judged, take func(v *view, columns []*value.Column, verdicts *value.Batch) error, want ...int) error {
	verdicts, number := &value.Batch{}, 0
	return j.looks(ctx, s, s.plain(), func(v *view, found *value.Batch) error {
		if err := s.verdicts.Read(number, []int{0, 1}, verdicts); err != nil {
			return err
		}
		number++
		columns, err := s.values(ctx, v, found)
		if err != nil {
			return err
		}
		return take(v, columns, verdicts)
	}, want...)
}

func (s *judged) emptyBatch() *value.Batch {
	b := &value.Batch{}
	if s.located() {
		b.Columns = append(b.Columns, value.Column{Kind: value.Int})
	}
	for _, c := range s.Columns {
		b.Columns = append(b.Columns, value.NewColumn(c.Column.Type))
	}
	return b
}

// gather adds one row to out, with additions by their ids.
func (j *judgement) gather(s *judged, out *value.Batch, columns []*value.Column, row int, id int64) {
	at := 0
	if s.located() {
		out.Columns[0].AppendNum(id)
		at = 1
	}
	for i, c := range columns {
		j.appendFinal(&out.Columns[at+i], c, row)
	}
}

// work lists what was written, for the checks.
func (j *judgement) work(ctx context.Context) []check.Work {
	var all []check.Work
	for i, x := range j.growing() {
		additions := j.additionsTo(x)
		w := check.Work{Table: x.table, Columns: x.columns, Key: x.columns, Added: int64(len(additions)),
			First: additions[0].id, Points: x.table.Declared(), By: []string{x.table.Locator},
			Sent: func(take func(*value.Batch) error) error { return sentAdditions(x, additions, take) }}
		j.noteRows(ctx, &w, turnLookups+i)
		all = append(all, w)
	}
	for _, s := range j.steps {
		w := check.Work{Table: s.Table, Columns: s.Names(), Key: s.KeyNames(), Added: s.tally.Added,
			First: s.firstLocator(), Points: s.points(), Totals: s.totals(), By: s.by(), Excused: s.excused(),
			Sent: func(take func(*value.Batch) error) error {
				return j.sent(ctx, s, func(batch *value.Batch, rows []int64) error {
					j.run.tell("proving", s.Name, int64(len(rows)), s.tally.Added+s.tally.Updated)
					return take(s.withKey(batch))
				})
			}}
		j.noteRows(ctx, &w, j.turn(s)+1)
		all = append(all, w, j.changedWork(ctx, s))
	}
	return all
}

// changedWork is what a step changed in rows that are there.
func (j *judgement) changedWork(ctx context.Context, s *judged) check.Work {
	w := check.Work{Table: s.Table, Updated: s.tally.Updated}
	if w.Updated == 0 {
		return w
	}
	w.By, w.Columns, w.Excused = s.changes.by, s.TargetNames(), s.excused()
	j.noteRows(ctx, &w, j.turn(s))
	w.Points = slices.DeleteFunc(s.points(), func(r schema.Relation) bool {
		return !slices.ContainsFunc(r.Columns, func(c string) bool { return slices.Contains(w.Columns, c) })
	})
	w.Sent = func(take func(*value.Batch) error) error {
		return j.revised(ctx, s, func(r *revision) error {
			j.run.tell("proving", s.Name, int64(len(r.numbers)), s.tally.Added+s.tally.Updated)
			return take(r.whole(w))
		})
	}
	return w
}

// excused lists the columns that the database itself may give another value.
func (s *judged) excused() (names []string) {
	for _, c := range s.Block.Changed {
		names = append(names, c.Value)
	}
	return names
}

// whole gives a revision all columns of the work; those that it leaves as they are hold nothing.
func (r *revision) whole(w check.Work) *value.Batch {
	out := value.NewBatch(engine.Types(w.Table, append(slices.Clone(w.By), w.Columns...)))
	copy(out.Columns, r.rows.Columns[:len(w.By)])
	for i, name := range w.Columns {
		if at := slices.Index(r.columns, name); at >= 0 {
			out.Columns[len(w.By)+i] = r.rows.Columns[len(w.By)+at]
			continue
		}
		for range r.numbers {
			out.Columns[len(w.By)+i].AppendState(check.Untouched)
		}
	}
	return out
}

// by is what the rows of the step are read back by: their locators, else a key that is unique, else the key of the step;
// nothing where that has none.
func (s *judged) by() []string {
	if s.located() {
		return []string{s.Table.Locator}
	}
	if c := s.Table.Identity(); c != nil && s.FeedsIdentity() {
		return []string{c.Name}
	}
	whole := func(name string) bool { // it has a value in every row that is sent
		i := slices.Index(s.Names(), name)
		return i >= 0 && (s.Columns[i].Column.Required || slices.Contains(s.Key, i) && s.Block.BlankKey == ladlefile.RefuseBlankKey)
	}
	keys := [][]string{}
	for _, k := range s.Table.Keys {
		keys = append(keys, k.Columns)
	}
	for _, k := range append(keys, s.KeyNames()) {
		if len(k) > 0 && !slices.ContainsFunc(k, func(c string) bool { return !whole(c) }) {
			return k
		}
	}
	return nil
}

// withKey puts the columns by which rows are read back in front of those sent, where they aren't there already.
func (s *judged) withKey(batch *value.Batch) *value.Batch {
	if s.located() {
		return batch
	}
	out := &value.Batch{}
	for _, name := range s.by() {
		out.Columns = append(out.Columns, batch.Columns[slices.Index(s.Names(), name)])
	}
	out.Columns = append(out.Columns, batch.Columns...)
	return out
}

// points lists the declared relations of the step's table, and those that only its finds make.
func (s *judged) points() []schema.Relation { return append(s.Table.Declared(), s.undeclared()...) }

func (s *judged) undeclared() (all []schema.Relation) {
	for _, c := range s.Columns {
		if f := c.Value.Find; f != nil && s.Table.Relation(c.Column.Name) == nil {
			all = append(all, schema.Relation{Columns: []string{c.Column.Name}, Parent: f.Table.Name,
				ParentColumns: []string{f.Yields.Name}, ParentTable: f.Table})
		}
	}
	return all
}

// totals lists the columns whose totals mean something: numbers and dates that are no ids.
func (s *judged) totals() []string {
	var all []string
	for _, c := range s.Columns {
		isID := c.Column.Identity || c.Value.Find != nil || s.Table.Relation(c.Column.Name) != nil
		if c.Column.Type.Kind.Ordered() && !isID {
			all = append(all, c.Column.Name)
		}
	}
	return all
}

// names lists the first names that are added to x.
func (j *judgement) names(x *index, most int) []string {
	var names []string
	for i, a := range j.additionsTo(x) {
		if i == most {
			break
		}
		columns := make([]*value.Column, len(a.values.Columns))
		for i := range columns {
			columns[i] = &a.values.Columns[i]
		}
		names = append(names, words(columns, 0))
	}
	return names
}
