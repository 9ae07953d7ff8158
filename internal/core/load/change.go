package load

import (
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// changes is what becomes of the rows of a step that are in the table already: those that differ from the file are
// kept, as they were and with the columns that get another value.
type changes struct {
	by      []string // by which the rows are found again
	reads   []string // what is read of them: first what may change, then what indexes must know besides
	targets []int    // which of the step's columns may change
	rows    *spool.Spool

	last     *value.Batch // the rows that were added to rows last
	lastRows []int        // and what they are in their batch of the input
}

// The columns of changes.rows: the targets that change, a bit each, then by, then reads.
const (
	changedMask = iota
	changedBy
)

// updates tells whether the step changes rows that are there.
func (s *judged) updates() bool { return s.first != nil || s.Block.There == ladlefile.UpdateThere }

// leavesBlanks tells whether a blank changes nothing in rows that are there.
func (s *judged) leavesBlanks() bool {
	return s.Block.There == ladlefile.UpdateThere && s.Block.Blank == ladlefile.BlankKeeps
}

// findBy lists the columns by which rows that are there are found again: the locator, else the key.
func (s *judged) findBy() []string {
	if s.Table.Locator != "" {
		return []string{s.Table.Locator}
	}
	return s.KeyNames()
}

// newChanges makes room for the changes of the step; learners are the indexes that must know them.
func newChanges(s *judged, learners []*index, dir string) *changes {
	c := &changes{by: s.findBy(), targets: s.Targets()}
	c.reads = s.TargetNames()
	for _, x := range learners {
		for _, name := range x.columns {
			if s.Table.Column(name) != nil && !slices.Contains(c.reads, name) && !slices.Contains(s.KeyNames(), name) {
				c.reads = append(c.reads, name)
			}
		}
	}
	types := append([]value.Type{{Kind: value.Bytes}}, engine.Types(s.Table, c.by)...)
	c.rows = spool.New(dir, append(types, engine.Types(s.Table, c.reads)...))
	return c
}

// standing is a row of a batch that is in the table.
type standing struct {
	row int   // in the batch
	ref int64 // its locator, where the table has one
}

// hold holds rows of a batch against those in the table. It gives, for each of them, whether it changes.
func (c *changes) hold(ctx context.Context, d *decision, columns []*value.Column, rows []standing) ([]bool, error) {
	keys := c.keys(d.judged, columns, rows)
	there, err := c.read(ctx, d, keys)
	if err != nil {
		return nil, err
	}
	differ := make([]bool, len(rows))
	c.lastRows = c.lastRows[:0]
	out := value.NewBatch(c.rows.Types())
	mask := make([]byte, (len(c.targets)+7)/8)
	for i, r := range rows {
		at, found := there.places[there.asked[i]]
		clear(mask)
		for t, target := range c.targets {
			if c.differs(d.Block.Blank, columns[target], r.row, &there.batch.Columns[len(c.by)+t], at, found) {
				mask[t/8] |= 1 << (t % 8)
				differ[i] = true
			}
		}
		if !differ[i] {
			continue
		}
		c.lastRows = append(c.lastRows, r.row)
		out.Columns[changedMask].AppendBytes(mask)
		for b := range c.by {
			if from := &there.batch.Columns[b]; found {
				out.Columns[changedBy+b].AppendFrom(from, at)
			} else {
				out.Columns[changedBy+b].AppendFrom(&keys.Columns[b], i)
			}
		}
		for k := range c.reads {
			if to := &out.Columns[changedBy+len(c.by)+k]; found {
				to.AppendFrom(&there.batch.Columns[len(c.by)+k], at)
			} else {
				to.AppendState(value.Null) // this run adds the row, so nothing stands in it yet
			}
		}
	}
	if c.last = out; out.Len() == 0 {
		return differ, nil
	}
	return differ, c.rows.Append(out)
}

// keys gives what the rows are found by.
func (c *changes) keys(s *judged, columns []*value.Column, rows []standing) *value.Batch {
	keys := value.NewBatch(engine.Types(s.Table, c.by))
	for _, r := range rows {
		if s.Table.Locator != "" {
			keys.Columns[0].AppendNum(r.ref)
			continue
		}
		for i, k := range s.Key {
			keys.Columns[i].AppendFrom(columns[k], r.row)
		}
	}
	return keys
}

// differs tells whether a cell of the file changes what is in the table.
func (c *changes) differs(blank ladlefile.Blank, cell *value.Column, row int, there *value.Column, at int, found bool) bool {
	switch cell.States[row] {
	case value.Null:
		return blank == ladlefile.BlankClears && found && there.States[at] != value.Null
	case value.New:
		return true
	}
	return !found || !cell.Same(row, there, at)
}

// readRows are rows of the table by what they are found by.
type readRows struct {
	batch  value.Batch
	places map[hash]int
	asked  []hash // of the keys
}

// read reads the rows with the given keys; those that this run adds are not there yet.
func (c *changes) read(ctx context.Context, d *decision, keys *value.Batch) (*readRows, error) {
	columns := append(slices.Clone(c.by), c.reads...)
	r, compares := &readRows{places: map[hash]int{}}, &index{table: d.Table, columns: c.by}
	take := engine.Collect(&r.batch, d.Table, columns)
	if err := d.db.Probe(ctx, d.Table, c.by, keys, columns, take); err != nil {
		return nil, err
	}
	found, err := compares.hashes(ctx, d.db, value.Pointers(r.batch.Columns[:len(c.by)]), nil)
	if err != nil {
		return nil, err
	}
	for i, h := range found {
		r.places[h] = i
	}
	r.asked, err = compares.hashes(ctx, d.db, value.Pointers(keys.Columns), nil)
	return r, err
}

// changeReader gives the changes of a step one by one, in the order of the rows.
type changeReader struct {
	*changes
	batch  value.Batch
	number int // of the batch that is read next
	at     int // in the batch
}

func (c *changes) reader() *changeReader { return &changeReader{changes: c} }

// next goes on to the next change.
func (r *changeReader) next() error {
	for r.at++; r.at >= r.batch.Len(); r.at = 0 {
		all := make([]int, len(r.rows.Types()))
		for i := range all {
			all[i] = i
		}
		if err := r.rows.Read(r.number, all, &r.batch); err != nil {
			return err
		}
		r.number++
	}
	return nil
}

// mask tells which targets change.
func (r *changeReader) mask() []byte { return r.batch.Columns[changedMask].Bytes(r.at) }

// among tells whether target t is one of those of a mask.
func among(mask []byte, t int) bool { return mask[t/8]&(1<<(t%8)) != 0 }

// revision is rows that are changed in the same columns.
type revision struct {
	columns []string
	rows    value.Batch // what they are found by, then the new values
	before  value.Batch // the same, then the values that stand there
	numbers []int64     // of the rows in the input
}

// manyRevisions is the number of rows that wait for others which change in the same columns.
const manyRevisions = 8 * engine.BatchRows

// revised gives the changed rows of a step in batches, each of rows that change in the same columns.
func (j *judgement) revised(ctx context.Context, s *judged, take func(*revision) error) error {
	if s.tally.Updated == 0 {
		return nil
	}
	waiting, count := map[string]*revision{}, 0
	flush := func() error {
		for mask, r := range waiting {
			if err := take(r); err != nil {
				return err
			}
			delete(waiting, mask)
		}
		count = 0
		return nil
	}
	err := j.changed(ctx, s, func(c *changeReader, columns []*value.Column, row int, number int64) error {
		r := waiting[string(c.mask())]
		if r == nil {
			r = s.newRevision(c)
			waiting[string(c.mask())] = r
		}
		j.revise(r, c, columns, row)
		if r.numbers = append(r.numbers, number); len(r.numbers) == engine.BatchRows {
			if err := take(r); err != nil {
				return err
			}
			count -= len(r.numbers) - 1
			r.rows.Reset()
			r.before.Reset()
			r.numbers = r.numbers[:0]
			return nil
		}
		if count++; count >= manyRevisions {
			return flush()
		}
		return nil
	})
	if err != nil {
		return err
	}
	for mask, r := range waiting { // one that was sent just now is empty
		if len(r.numbers) == 0 {
			delete(waiting, mask)
		}
	}
	return flush()
}

func (s *judged) newRevision(c *changeReader) *revision {
	r := &revision{}
	r.rows, r.before = *value.NewBatch(engine.Types(s.Table, c.by)), *value.NewBatch(engine.Types(s.Table, c.by))
	for t, target := range c.targets {
		if among(c.mask(), t) {
			r.columns = append(r.columns, s.Columns[target].Column.Name)
			r.rows.Columns = append(r.rows.Columns, value.NewColumn(s.Columns[target].Column.Type))
			r.before.Columns = append(r.before.Columns, value.NewColumn(s.Columns[target].Column.Type))
		}
	}
	return r
}

// revise adds a row to a revision.
func (j *judgement) revise(r *revision, c *changeReader, columns []*value.Column, row int) {
	for b := range c.by {
		r.rows.Columns[b].AppendFrom(&c.batch.Columns[changedBy+b], c.at)
		r.before.Columns[b].AppendFrom(&c.batch.Columns[changedBy+b], c.at)
	}
	to := len(c.by)
	for t, target := range c.targets {
		if among(c.mask(), t) {
			j.appendFinal(&r.rows.Columns[to], columns[target], row)
			r.before.Columns[to].AppendFrom(&c.batch.Columns[changedBy+len(c.by)+t], c.at)
			to++
		}
	}
}

// changed passes over the rows of a step that are changed, with their changes.
func (j *judgement) changed(ctx context.Context, s *judged, take func(c *changeReader, columns []*value.Column, row int, number int64) error) error {
	reader := s.changes.reader()
	return j.eachVerdict(ctx, s, func(v *view, columns []*value.Column, verdicts *value.Batch) error {
		for row, what := range verdicts.Columns[0].Nums {
			if verdict(what) != updated {
				continue
			}
			if err := reader.next(); err != nil {
				return err
			}
			if err := take(reader, columns, row, v.first+int64(row)); err != nil {
				return err
			}
		}
		return nil
	})
}
