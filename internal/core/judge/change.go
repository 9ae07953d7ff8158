package judge

import (
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// changes are the rows of a step that are in the table already and differ from the file: as they were, with the columns
// that get another value, and those that differ and are kept.
type changes struct {
	by      []string // by which the rows are found again
	targets []int    // the columns of the step that may change
	also    []string // what indexes must know besides of the rows as they were
	spool   *spool.Spool
	near    engine.Near
}

// The columns of the spool of changes: the targets that change, a bit each, and those that differ and are kept; then
// what the rows are found by, the targets as they were, and the others as they were.
const (
	changedMask = 0
	keptMask    = 1
	masks       = 2
)

func (c *changes) byAt(b int) int     { return masks + b }
func (c *changes) targetAt(t int) int { return masks + len(c.by) + t }
func (c *changes) alsoAt(a int) int   { return masks + len(c.by) + len(c.targets) + a }

// newChanges makes room for the changes of the step; learners are the indexes that must know them.
func newChanges(s *Step, learners []*index, dir string) *changes {
	c := &changes{by: s.FoundBy(), targets: s.Targets()}
	known := append(s.TargetNames(), s.KeyNames()...)
	for _, x := range learners {
		for _, name := range x.Columns {
			if s.Table.Column(name) != nil && !slices.Contains(known, name) {
				c.also, known = append(c.also, name), append(known, name)
			}
		}
	}
	for _, x := range s.constraints {
		for _, name := range x.Columns {
			if !slices.Contains(known, name) {
				c.also, known = append(c.also, name), append(known, name)
			}
		}
	}
	types := append([]value.Type{{Kind: value.Bytes}, {Kind: value.Bytes}}, engine.Types(s.Table, c.reads(s))...)
	c.spool = spool.New(dir, types)
	return c
}

// reads lists the columns that are read of rows that are there.
func (c *changes) reads(s *Step) []string { return slices.Concat(c.by, s.TargetNames(), c.also) }

// read fills b with batch i of the changes, which are those of the lines of a batch of verdicts that change rows or
// differ from them.
func (c *changes) read(i int, d *verdictBatch, b *changedBatch) error {
	b.of = c
	all := make([]int, len(c.spool.Types()))
	for i := range all {
		all[i] = i
	}
	b.lines = b.lines[:0]
	for line := range d.batch.Len() {
		if v := d.verdict(line); v == Updated || v == Differs {
			b.lines = append(b.lines, line)
		}
	}
	return c.spool.Read(i, all, &b.batch)
}

// changedBatch is a batch of changes, and the lines that they belong to.
type changedBatch struct {
	of    *changes
	batch value.Batch
	lines []int

	// while it is made, for each line that was held against the table:
	verdicts  []Verdict
	differing [][]int // the targets for which a line is set aside
}

// Change is what becomes of one row that is there, or how it differs from its line.
type Change struct {
	in *changedBatch
	at int
}

// Mask returns which targets of the step change, as text that is equal for changes of the same columns.
func (c Change) Mask() string { return string(c.in.batch.Columns[changedMask].Bytes(c.at)) }

// Has reports whether target t of the step changes.
func (c Change) Has(t int) bool { return masked(c.in.batch.Columns[changedMask].Bytes(c.at), t) }

// Keeps reports whether target t of the step differs from the line, and is kept.
func (c Change) Keeps(t int) bool { return masked(c.in.batch.Columns[keptMask].Bytes(c.at), t) }

func masked(mask []byte, t int) bool { return mask[t/8]&(1<<(t%8)) != 0 }

// By appends to columns what the row is found by; in state value.New for a row that this load adds.
func (c Change) By(to []value.Column) {
	for b := range c.in.of.by {
		to[b].AppendFrom(&c.in.batch.Columns[c.in.of.byAt(b)], c.at)
	}
}

// Key is what the row is found by.
func (c Change) Key() []*value.Column {
	all := make([]*value.Column, len(c.in.of.by))
	for b := range all {
		key := value.Column{}
		from := &c.in.batch.Columns[c.in.of.byAt(b)]
		key.Kind, key.Scale = from.Kind, from.Scale
		key.AppendFrom(from, c.at)
		all[b] = &key
	}
	return all
}

// IsNew reports whether this load adds the row.
func (c Change) IsNew() bool {
	return len(c.in.of.by) > 0 && c.in.batch.Columns[c.in.of.byAt(0)].States[c.at] == value.New
}

// Before appends to a column what target t holds before the change.
func (c Change) Before(t int, to *value.Column) {
	to.AppendFrom(&c.in.batch.Columns[c.in.of.targetAt(t)], c.at)
}

// existingRow is a line of a batch whose row is in the table.
type existingRow struct {
	line  int
	ref   int64 // its locator, or a NewRow, where the table has a locator
	isNew bool
	write bool // it is completed, whatever the policy of the step says
}

// hold holds lines of a batch against their rows in the table, and keeps those that change. It returns them in the
// order of the lines.
func (c *changes) hold(ctx context.Context, r *round, s *Step, columns []*value.Column, first int64,
	lines []existingRow, rows *existingRows) (*changedBatch, error) {
	if err := rows.read(ctx, r.Database, s.Table, c.by); err != nil {
		return nil, err
	}
	made := &changedBatch{of: c, batch: *value.NewBatch(c.spool.Types())}
	states, room := make([]heldRow, len(lines)), (len(c.targets)+7)/8
	masks := make([]byte, 2*room*len(lines))
	for i, l := range lines {
		mask, kept := masks[:room:room], masks[room:2*room]
		states[i], masks = c.compare(s, columns, heldRow{existingRow: l, mask: mask, kept: kept}, rows, i), masks[2*room:]
	}
	if err := c.constrain(ctx, r, s, columns, first, states, rows); err != nil {
		return nil, err
	}
	for i, h := range states {
		made.verdicts, made.differing = append(made.verdicts, h.verdict), append(made.differing, h.differing)
		if h.verdict == Updated || h.verdict == Differs {
			c.keep(made, h, i, rows)
		}
	}
	if made.batch.Len() == 0 {
		return made, nil
	}
	return made, c.spool.Append(&made.batch)
}

// heldRow is a line that was held against its row.
type heldRow struct {
	existingRow
	verdict    Verdict
	mask, kept []byte
	differing  []int // the columns of the step for which the line is set aside
	at         int   // of the row
	found      bool
}

// compare holds line i against its row; the masks of h are empty.
func (c *changes) compare(s *Step, columns []*value.Column, h heldRow, rows *existingRows, i int) heldRow {
	h.verdict = s.untouched(h.existingRow)
	h.at, h.found = rows.find(i)
	for t, target := range c.targets {
		does := s.OnUpdate(target)
		if h.write {
			does = ladlefile.UpdateThere
		}
		switch c.held(does, s.Policy.Blank, columns[target], h.line, rows.column(len(c.by)+t), h.at, h.found) {
		case cellChanges:
			h.mask[t/8] |= 1 << (t % 8)
			if h.verdict != SetAside {
				h.verdict = Updated
			}
		case cellDiffers:
			h.kept[t/8] |= 1 << (t % 8)
			switch {
			case does == ladlefile.SetAsideThere:
				h.verdict = SetAside
				h.differing = append(h.differing, target)
			case h.verdict != Updated && h.verdict != SetAside:
				h.verdict = Differs
			}
		}
	}
	return h
}

// keep adds a row that changes, or differs from its line, to a batch.
func (c *changes) keep(made *changedBatch, h heldRow, i int, rows *existingRows) {
	made.lines = append(made.lines, h.line)
	made.batch.Columns[changedMask].AppendBytes(h.mask)
	made.batch.Columns[keptMask].AppendBytes(h.kept)
	for b := range c.by {
		if h.found {
			made.batch.Columns[c.byAt(b)].AppendFrom(rows.column(b), h.at)
		} else {
			made.batch.Columns[c.byAt(b)].AppendFrom(&rows.keys.Columns[b], i)
		}
	}
	for k := len(c.by); k < len(rows.batch.Columns); k++ {
		if to := &made.batch.Columns[masks+k]; h.found {
			to.AppendFrom(rows.column(k), h.at)
		} else {
			to.AppendState(value.Null) // this load adds the row, so nothing stands in it yet
		}
	}
}

// constrain sets the lines aside whose rows would break a constraint once they are changed.
func (c *changes) constrain(ctx context.Context, r *round, s *Step, columns []*value.Column, first int64,
	states []heldRow, rows *existingRows) error {
	for _, x := range s.constraints {
		var which, all []int
		changed := value.NewBatch(engine.Types(s.Table, x.Columns))
		for i, h := range states {
			if h.verdict != Updated || !h.found || !slices.ContainsFunc(x.Columns, func(name string) bool {
				return c.changes(s, h, name)
			}) {
				continue
			}
			which, all = append(which, i), append(all, len(which))
			for k, name := range x.Columns {
				from, at := c.changed(s, columns, h, rows, name)
				changed.Columns[k].AppendFrom(from, at)
			}
		}
		broken, err := x.breaks(ctx, r.Database, s.Table, value.Pointers(changed.Columns), all)
		if err != nil {
			return err
		}
		for _, b := range broken {
			h := &states[which[b.Row]]
			h.verdict, h.differing = SetAside, nil
			x.note(first+int64(h.line), b.Why)
			s.spoilt.Add(first + int64(h.line))
		}
	}
	return nil
}

// changes reports whether a column of a row changes.
func (c *changes) changes(s *Step, h heldRow, column string) bool {
	t := slices.Index(s.TargetNames(), column)
	return t >= 0 && masked(h.mask, t)
}

// changed is where a column of a row stands as it will be: in the line or, where it stays, in the row.
func (c *changes) changed(s *Step, columns []*value.Column, h heldRow, rows *existingRows,
	column string) (*value.Column, int) {
	if at := slices.Index(s.Names(), column); at >= 0 && (c.changes(s, h, column) || slices.Contains(s.Key, at)) {
		return columns[at], h.line
	}
	return rows.column(slices.Index(c.reads(s), column)), h.at
}

// keys returns what the rows are found by; columns are not needed where that is the locator.
func (c *changes) keys(s *Step, columns []*value.Column, lines []existingRow) *value.Batch {
	keys := value.NewBatch(engine.Types(s.Table, c.by))
	for _, l := range lines {
		switch {
		case s.Table.Locator == "":
			for i, k := range s.Key {
				keys.Columns[i].AppendFrom(columns[k], l.line)
			}
		case l.isNew:
			keys.Columns[0].AppendNew(l.ref)
		default:
			keys.Columns[0].AppendNum(l.ref)
		}
	}
	return keys
}

// untouched is the verdict for a line that changes nothing and differs in nothing.
func (s *Step) untouched(l existingRow) Verdict {
	if l.write || s.Policy.Updates() {
		return Unchanged
	}
	return Same
}

// comparison is how a cell stands to what is in the table.
type comparison uint8

const (
	cellSame    comparison = iota // or it says nothing
	cellChanges                   // it takes the place of what is there
	cellDiffers                   // and what is there is kept
)

// held holds a cell of the file against what is in the table.
func (c *changes) held(does ladlefile.AlreadyThere, blank ladlefile.Blank, cell *value.Column, line int,
	row *value.Column, at int, found bool) comparison {
	empty := !found || row.States[at] == value.Null
	updates, fills := does == ladlefile.UpdateThere, does == ladlefile.FillBlanksThere
	switch {
	case cell.States[line] == value.Null:
		switch {
		case empty, fills, updates && blank != ladlefile.ClearBlank:
			return cellSame
		case updates:
			return cellChanges
		}
		return cellDiffers
	case cell.States[line] != value.New && found && cell.Same(line, row, at):
		return cellSame
	case updates, fills && empty:
		return cellChanges
	}
	return cellDiffers
}

// existingRows are rows of the table by what they are found by.
type existingRows struct {
	keys   *value.Batch // of the rows that are asked for
	wait   func() error // until they are read
	batch  value.Batch
	places map[keyindex.Hash]int
	asked  []keyindex.Hash // of the keys
}

func (r *existingRows) column(c int) *value.Column { return &r.batch.Columns[c] }

// find is where the row with key i stands.
func (r *existingRows) find(i int) (at int, found bool) {
	at, found = r.places[r.asked[i]]
	return at, found
}

// ask begins to read the rows of lines; those that this load adds are not there yet.
func (c *changes) ask(ctx context.Context, db engine.Reader, s *Step, columns []*value.Column, lines []existingRow) *existingRows {
	rows := &existingRows{keys: c.keys(s, columns, lines)}
	rows.wait = engine.Ahead(db, func(db engine.Reader) error {
		reads := c.reads(s)
		near, err := c.near.Read(ctx, db, s.Table, c.by, rows.keys, reads, &rows.batch)
		if err == nil && !near {
			err = db.Probe(ctx, s.Table, c.by, rows.keys, reads, engine.Collect(&rows.batch, s.Table, reads))
		}
		return err
	})
	return rows
}

// read waits for the rows, which are found by some columns.
func (r *existingRows) read(ctx context.Context, db engine.Reader, t *schema.Table, by []string) error {
	if err := r.wait(); err != nil {
		return err
	}
	compares := keyindex.New(t, by, keyindex.Options{})
	found, err := compares.Hashes(ctx, db, value.Pointers(r.batch.Columns[:len(by)]), nil)
	if err != nil {
		return err
	}
	r.places = make(map[keyindex.Hash]int, len(found))
	for i, h := range found {
		if !h.None() { // else one from among those that were asked for
			r.places[h] = i
		}
	}
	r.asked, err = compares.Hashes(ctx, db, value.Pointers(r.keys.Columns), nil)
	return err
}
