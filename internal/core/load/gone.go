package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// gone finds the rows of a step's table that its input no longer has. Every line counts as there, also one that is set
// aside or left out.
type gone struct {
	stays   []*spool.Stream // the keys of all lines, by part
	unknown int64           // lines whose key can't be told
	columns []string        // of rows: what they are removed by, their key, and what other rows point at
	by      int             // how many of columns they are removed by
	rows    *spool.Spool    // the rows among which they are looked for
	asked   []*spool.Stream // the keys of these rows and their numbers, by part
	lost    rowSet          // the numbers of those that are gone
	pointed []string        // the first of the reasons for which they can't be removed
}

func newGone(dir string, parts int) *gone {
	g := &gone{}
	for range parts {
		g.stays = append(g.stays, spool.NewStream(dir, 2))
		g.asked = append(g.asked, spool.NewStream(dir, 3))
	}
	return g
}

// stay takes the keys of lines; a step that removes nothing has a nil gone.
func (g *gone) stay(hashes []hash) error {
	if g == nil {
		return nil
	}
	for _, h := range hashes {
		if h.hi == 0 {
			g.unknown++
			continue
		}
		if err := g.stays[h.part(len(g.stays))].Append(h.hi, h.lo); err != nil {
			return err
		}
	}
	return nil
}

// mayRemoveFrom asks whether this user may remove rows of a step's table, and whether the database understands among which.
func (r *run) mayRemoveFrom(ctx context.Context, s *ladlefile.Step) error {
	if err := r.db.May(ctx, engine.Delete, s.Table, nil); err != nil {
		return err
	}
	among := s.Block.Gone.Among
	if !among.Given() {
		return nil
	}
	err := r.db.Among(ctx, s.Table, "("+among.Value+"\n) AND 1 = 0", s.KeyNames(), func(*value.Batch) error { return nil })
	if err == nil || ctx.Err() != nil {
		return err
	}
	return fault.Because(fault.Wrong, err, fault.Problem{File: r.file.Path, Line: among.Line, Column: among.Column,
		What: fmt.Sprintf("among: %q is no condition on the rows of %s: %s", among.Value, s.Table.Name, fault.ProblemsOf(err)[0].What),
		Do:   "write a condition in the SQL of this database, for example among: kind = 'tug'"})
}

// scope reads the rows of the table among which those that are gone are looked for, and finds them.
func (m *match) scope(ctx context.Context) error {
	g, s := m.step.gone, m.step
	if g == nil {
		return nil
	}
	by := s.findBy()
	g.columns, g.by = slices.Clone(by), len(by)
	for _, c := range append(s.KeyNames(), m.judge.pointedAt(s.Table)...) {
		if !slices.Contains(g.columns, c) {
			g.columns = append(g.columns, c)
		}
	}
	g.rows = spool.New(m.judge.run.dir, engine.Types(s.Table, g.columns))
	condition := s.Block.Gone.Among.Value
	if !s.Block.Gone.Among.Given() {
		condition = "1 = 1"
	}
	if err := m.judge.db.Among(ctx, s.Table, condition, g.columns, func(b *value.Batch) error { return m.ask(ctx, b) }); err != nil {
		return err
	}
	for i := range g.stays {
		if err := g.part(i); err != nil {
			return err
		}
	}
	return nil
}

// ask takes rows of the table. One without a key is none of the file's.
func (m *match) ask(ctx context.Context, b *value.Batch) error {
	g := m.step.gone
	key := make([]*value.Column, len(m.index.columns))
	for i, name := range m.index.columns {
		key[i] = &b.Columns[slices.Index(g.columns, name)]
	}
	hashes, err := m.index.hashes(ctx, m.judge.db, key, nil)
	if err != nil {
		return err
	}
	for row, h := range hashes {
		if h.hi == 0 {
			continue
		}
		if err := g.asked[h.part(len(g.asked))].Append(h.hi, h.lo, uint64(g.rows.Rows()+int64(row))); err != nil {
			return err
		}
	}
	return g.rows.Append(b)
}

func (g *gone) part(i int) error {
	there := &keySet{grow: func(_ int, moved func(func(from, to int))) { moved(func(int, int) {}) }}
	err := eachRecord(g.stays[i], func(w []uint64) error {
		there.insert(hash{w[0], w[1]})
		return nil
	})
	if err != nil {
		return err
	}
	return eachRecord(g.asked[i], func(w []uint64) error {
		if _, stays := there.find(hash{w[0], w[1]}); !stays {
			g.lost.add(int64(w[2]))
		}
		return nil
	})
}

// removed is the number of rows that are removed.
func (g *gone) removed() int64 {
	if g == nil {
		return 0
	}
	return g.lost.len()
}

// each gives the first columns of the rows that are removed, in batches.
func (g *gone) each(columns int, take func(*value.Batch) error) error {
	want, rows := make([]int, columns), &value.Batch{}
	for i := range want {
		want[i] = i
	}
	for i := range g.rows.Batches() {
		first := g.rows.First(i)
		if !g.lost.any(first, g.rows.Len(i)) {
			continue
		}
		if err := g.rows.Read(i, want, rows); err != nil {
			return err
		}
		lost := value.NewBatch(g.rows.Types()[:columns])
		for row := range g.rows.Len(i) {
			if g.lost.has(first + int64(row)) {
				for c := range want {
					lost.Columns[c].AppendFrom(&rows.Columns[c], row)
				}
			}
		}
		if err := take(lost); err != nil {
			return err
		}
	}
	return nil
}

// keys names the first rows that are removed, by their keys.
func (g *gone) keys(s *judged, most int) (names []string) {
	if g == nil {
		return nil
	}
	_ = g.each(len(g.columns), func(b *value.Batch) error { // what can't be read is told where it is removed
		key := make([]*value.Column, 0, len(s.Key))
		for _, name := range s.KeyNames() {
			key = append(key, &b.Columns[slices.Index(g.columns, name)])
		}
		for row := 0; row < b.Len() && len(names) < most; row++ {
			names = append(names, words(key, row))
		}
		return nil
	})
	return names
}

// pointing lists the relations by which rows point at those of t, those that only finds make among them.
func (j *judgement) pointing(t *schema.Table) []schema.Link {
	all := j.run.plan.Schema.PointingAt(t)
	for _, s := range j.steps {
		for _, r := range s.undeclared() {
			if r.ParentTable == t {
				all = append(all, schema.Link{Child: s.Table, Relation: &r})
			}
		}
	}
	return all
}

// pointedAt lists the columns of t by which other rows point at it.
func (j *judgement) pointedAt(t *schema.Table) (columns []string) {
	for _, p := range j.pointing(t) {
		columns = append(columns, p.ParentColumns...)
	}
	return columns
}

// pointed looks for rows that stay and point at one that would be removed.
func (j *judgement) pointed(ctx context.Context) error {
	for _, s := range j.steps {
		if s.gone.removed() == 0 {
			continue
		}
		for _, p := range j.pointing(s.Table) {
			if err := j.pointingAt(ctx, s, p); err != nil {
				return err
			}
		}
	}
	return nil
}

// pointingAt looks for rows that point at removed rows of s by the relation p.
func (j *judgement) pointingAt(ctx context.Context, s *judged, p schema.Link) error {
	going, err := j.goingFrom(p.Child)
	if err != nil {
		return err
	}
	columns := slices.Clone(p.Columns)
	if going != nil {
		columns = append(columns, going.by...)
	}
	return s.gone.each(len(s.gone.columns), func(b *value.Batch) error {
		keys := &value.Batch{}
		for _, c := range p.ParentColumns {
			keys.Columns = append(keys.Columns, b.Columns[slices.Index(s.gone.columns, c)])
		}
		return j.db.Probe(ctx, p.Child, p.Columns, keys, columns, func(found *value.Batch) error {
			for row := range found.Len() {
				if going != nil && going.rows[value.Identity(found.Columns[len(p.Columns):], row)] {
					continue
				}
				if len(s.gone.pointed) < shownRows {
					s.gone.pointed = append(s.gone.pointed, fmt.Sprintf("a row of %s points at the row of %s with %s %s", p.Child.Name, s.Table.Name,
						strings.Join(p.ParentColumns, ", "), words(value.Pointers(found.Columns[:len(p.Columns)]), row)))
				}
			}
			return nil
		})
	})
}

// going is the rows that are removed from a table.
type going struct {
	by   []string
	rows map[string]bool
}

func (j *judgement) goingFrom(t *schema.Table) (*going, error) {
	var g *going
	for _, s := range j.steps {
		if s.Table != t || s.gone.removed() == 0 {
			continue
		}
		if g == nil {
			g = &going{s.gone.columns[:s.gone.by], map[string]bool{}}
		}
		err := s.gone.each(s.gone.by, func(b *value.Batch) error {
			for row := range b.Len() {
				g.rows[value.Identity(b.Columns, row)] = true
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return g, nil
}

// mayRemove says why the rows that are gone can't be removed; "" when they can.
func (r *run) mayRemove(j *judgement) string {
	for _, s := range j.steps {
		n := s.gone.removed()
		switch {
		case n == 0:
		case s.gone.unknown > 0:
			return fmt.Sprintf("it can't be told which rows of %s are gone: the key of %d lines can't be read or found", s.Table.Name, s.gone.unknown)
		case s.gone.pointed != nil:
			return fmt.Sprintf("rows of %s are gone from the file, but can't be removed: %s", s.Table.Name, strings.Join(s.gone.pointed, "; "))
		case s.Block.Gone.Most.Passed(n, s.gone.rows.Rows()):
			return fmt.Sprintf("%d of %d rows of %s are gone from the file, and gone_from_file: allows to remove %s", n, s.gone.rows.Rows(), s.Table.Name, s.Block.Gone.Most)
		case !r.Removal && r.Ask == nil && !r.Try:
			return fmt.Sprintf("%d rows of %s are gone from the file, and nobody is asked whether to remove them; --allow-removal removes them", n, s.Table.Name)
		}
	}
	return ""
}

// remove removes what is gone, children before the rows that they point at; where these go round in a circle, the column
// that closes it is emptied first.
func (j *judgement) remove(ctx context.Context, tx engine.Tx) error {
	for _, s := range j.steps {
		if s.gone.removed() == 0 {
			continue
		}
		for _, column := range j.circular(s) {
			if err := j.empty(ctx, tx, s, column); err != nil {
				return err
			}
		}
	}
	for _, s := range slices.Backward(j.steps) {
		if s.gone.removed() == 0 {
			continue
		}
		by := s.gone.columns[:s.gone.by]
		err := s.gone.each(s.gone.by, func(keys *value.Batch) error {
			if err := j.noteRemoved(ctx, s.Table, by, keys); err != nil {
				return err
			}
			n, err := tx.Remove(ctx, s.Table, by, keys)
			if err == nil && n != int64(keys.Len()) {
				err = &engine.Refused{Table: s.Table.Name, What: "let rows go", Why: fmt.Sprintf("of %d that were to be removed it removed %d", keys.Len(), n)}
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// circular lists the columns by which rows that are removed point at others that are removed with them or before them.
func (j *judgement) circular(s *judged) (columns []string) {
	for _, o := range j.steps[s.number:] {
		if o.gone.removed() == 0 {
			continue
		}
		for _, r := range s.Table.Declared() {
			at := slices.IndexFunc(r.Columns, func(c string) bool { return !s.Table.Column(c).Required })
			if r.ParentTable == o.Table && at >= 0 && !slices.Contains(columns, r.Columns[at]) {
				columns = append(columns, r.Columns[at])
			}
		}
	}
	return columns
}

// empty makes a column of the rows that are removed NULL.
func (j *judgement) empty(ctx context.Context, tx engine.Tx, s *judged, column string) error {
	g, t := s.gone, s.Table
	return g.each(g.by, func(keys *value.Batch) error {
		if err := j.noteEmptied(ctx, t, g.columns[:g.by], column, keys); err != nil {
			return err
		}
		nothing := value.NewColumn(t.Column(column).Type)
		for range keys.Len() {
			nothing.AppendState(value.Null)
		}
		rows := &value.Batch{Columns: append(slices.Clone(keys.Columns), nothing)}
		refused, err := tx.Update(ctx, t, g.columns[:g.by], []string{column}, rows)
		if err == nil && len(refused) > 0 {
			err = &engine.Refused{Table: t.Name, What: "let a row go", Why: refused[0].Why}
		}
		return err
	})
}

// removals lists what was removed, for the checks.
func (j *judgement) removals() []check.Removal {
	var all []check.Removal
	for _, s := range j.steps {
		if n := s.gone.removed(); n > 0 {
			all = append(all, check.Removal{Table: s.Table, By: s.gone.columns[:s.gone.by], Rows: n,
				Keys: func(take func(*value.Batch) error) error { return s.gone.each(s.gone.by, take) }})
		}
	}
	return all
}

func (g *gone) close() {
	if g == nil {
		return
	}
	for i := range g.stays {
		g.stays[i].Close()
		g.asked[i].Close()
	}
	if g.rows != nil {
		g.rows.Close()
	}
}
