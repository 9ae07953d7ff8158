package undo

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// mostProblems is the number of rows that are named.
const mostProblems = 20

// do takes chunk by chunk back, the one that was written last first. It reports whether nothing stood in the way.
func (u *undoing) do(ctx context.Context) (bool, error) {
	if err := u.collect(ctx); err != nil {
		return false, err
	}
	standing := false
	for _, short := range u.inOrder() {
		stands, err := u.takeBack(ctx, short)
		standing = standing || stands
		u.tellOf("taking back", short.Rows)
		var refused *engine.OwnRowError
		if errors.As(err, &refused) {
			u.report.Problems = append(u.report.Problems, refused.Error())
			return false, u.refuse(reason.Why{Kind: reason.UndoRejected})
		}
		if err != nil {
			return false, err
		}
		if len(u.report.Problems) >= mostProblems {
			break
		}
	}
	if standing {
		return false, u.refuse(reason.Why{Kind: reason.RowsReferenced, Limit: u.report.Of.ID})
	}
	return true, nil
}

// inOrder puts the chunks into the order in which they are taken back: the last first, but rows that were added to a table one
// after the other in the order in which they were, which is faster, where none of them can refer to another.
func (u *undoing) inOrder() []*logbook.Chunk {
	all := slices.Clone(u.Chunks)
	for first, last := 0, 0; first < len(all); first = last {
		c := all[first]
		for last = first + 1; last < len(all) && all[last].Table == c.Table && all[last].What == c.What; last++ {
		}
		t := u.Schema.Table(c.Table)
		if c.What == logbook.Added && !slices.ContainsFunc(t.Relations, func(r schema.Relation) bool { return r.ParentTable == t }) {
			slices.Reverse(all[first:last])
		}
	}
	return all
}

// collect notes the rows that the run added to tables of which it updated rows too: what it added and then completed is
// removed, not restored.
func (u *undoing) collect(ctx context.Context) error {
	for _, c := range u.Chunks {
		if t := u.Schema.Table(c.Table); c.What == logbook.Was && u.added[t] == nil {
			u.added[t] = &logbook.KeySet{}
		}
	}
	for _, c := range u.Chunks {
		t := u.Schema.Table(c.Table)
		if c.What != logbook.Added || u.added[t] == nil {
			continue
		}
		if err := u.note(ctx, t, c); err != nil {
			return err
		}
	}
	return nil
}

// note notes the rows of a chunk as added.
func (u *undoing) note(ctx context.Context, t *schema.Table, c *logbook.Chunk) error {
	return u.Each(ctx, t, c, func(keys *value.Batch) error {
		u.added[t].Add(t, c.By, keys)
		return nil
	})
}

// takeBack takes a chunk back. It reports whether other rows refer to some of it.
func (u *undoing) takeBack(ctx context.Context, c *logbook.Chunk) (standing bool, err error) {
	t := u.Schema.Table(c.Table)
	each := func(take func(*value.Batch) error) error { return u.Each(ctx, t, c, take) }
	if c.Equal() {
		each = engine.Gathered(each)
	}
	free, err := u.free(ctx, t, c)
	if err != nil {
		return false, err
	}
	err = each(func(rows *value.Batch) error {
		if err := u.list(ctx, t, c, rows); err != nil {
			return err
		}
		switch c.What {
		case logbook.Added:
			stands, err := u.remove(ctx, t, c, rows, free)
			standing = standing || stands
			return err
		case logbook.Was:
			return u.restore(ctx, t, c, rows)
		case logbook.Removed:
			return u.putBack(ctx, t, c, rows)
		}
		return nil
	})
	return standing, err
}

// free reports whether the rows of a chunk may be removed without a look at what refers to each: they are added rows that
// nothing refers to, or the database keeps those that something does. All of a chunk is asked about at once, since a server may
// pass over all rows that the transaction has removed each time it is asked.
func (u *undoing) free(ctx context.Context, t *schema.Table, c *logbook.Chunk) (bool, error) {
	if c.What != logbook.Added {
		return false, nil
	}
	rows := 0
	for _, p := range u.Schema.PointingAt(t) {
		if keeps, err := u.keeps(ctx, p); keeps || err != nil {
			if err != nil {
				return false, err
			}
			continue
		}
		if !c.Run() || !slices.Equal(c.By, p.ParentColumns) || !p.Child.Indexed(p.Columns) ||
			p.Child.Column(p.Columns[0]).Type.Kind != value.Int {
			return false, nil
		}
		err := u.tx.Between(ctx, p.Child, p.Columns[0], c.First, c.First+c.Rows-1, p.Columns, func(b *value.Batch) error {
			rows += b.Len()
			return nil
		})
		if err != nil || rows > 0 {
			return false, err
		}
	}
	return true, nil
}

// keeps reports whether the database keeps rows that a relation refers to.
func (u *undoing) keeps(ctx context.Context, p schema.Link) (keeps bool, err error) {
	keeper, able := u.tx.(engine.Keeper)
	if !able {
		return false, nil
	}
	keeps, asked := u.keeping[p.Relation]
	if !asked {
		keeps, err = keeper.Keeps(ctx, p.Child, p.Relation)
		u.keeping[p.Relation] = keeps
	}
	return keeps, err
}

// remove removes rows that the run added, but those that other rows refer to; free where these need not be looked for first.
func (u *undoing) remove(ctx context.Context, t *schema.Table, c *logbook.Chunk, keys *value.Batch, free bool) (standing bool,
	err error) {
	if free {
		refused := u.removeAll(ctx, t, c, keys)
		if !errors.As(refused, new(*engine.OwnRowError)) {
			return false, refused
		}
		if standing, err = u.standing(ctx, t, c.By, keys); !standing && err == nil {
			err = refused
		}
	} else if standing, err = u.standing(ctx, t, c.By, keys); !standing && err == nil {
		return false, u.removeAll(ctx, t, c, keys)
	}
	for row := range keys.Len() { // what these refer to is not to blame as well
		u.kept[t.Name+"\x00"+value.Identity(keys.Columns, row)] = true
	}
	return standing, err
}

// removeAll removes rows; it is an OwnRowError where one of them stays.
func (u *undoing) removeAll(ctx context.Context, t *schema.Table, c *logbook.Chunk, keys *value.Batch) error {
	n, err := u.tx.Remove(ctx, t, c.By, keys)
	if err == nil && n != int64(keys.Len()) {
		err = &engine.OwnRowError{Table: t.Name, What: "let rows go",
			Why: fmt.Sprintf("of %d rows to be removed, it removed %d", keys.Len(), n)}
	}
	u.of(t.Name).Removed += n
	return err
}

// standing looks for rows that refer to those with the given keys.
func (u *undoing) standing(ctx context.Context, t *schema.Table, by []string, keys *value.Batch) (found bool,
	err error) {
	for _, p := range u.Schema.PointingAt(t) {
		parents := keys
		if !slices.Equal(by, p.ParentColumns) {
			parents = &value.Batch{}
			take := engine.Collect(parents, t, p.ParentColumns)
			if by == nil {
				err = take(keys.Pick(t.Kept(), p.ParentColumns))
			} else {
				err = u.Rows(ctx, t, by, keys, p.ParentColumns, take)
			}
			if err != nil {
				return false, err
			}
		}
		known := knownBy(p.Child)
		err := u.referring(ctx, t, p, parents, append(slices.Clone(p.Columns), known...),
			func(b *value.Batch) error {
				self := &value.Batch{Columns: b.Columns[len(p.Columns):]}
				for row := range b.Len() {
					found = true
					if u.kept[p.Child.Name+"\x00"+value.Identity(self.Columns, row)] {
						continue
					}
					if len(u.report.Problems) < mostProblems {
						u.report.Problems = append(u.report.Problems,
							fmt.Sprintf("%s %s refers to a row of %s: %s", p.Child.Name,
								logbook.Words(known, self, row), t.Name, logbook.Words(p.Columns, b, row)))
					}
				}
				return nil
			})
		if err != nil {
			return false, err
		}
	}
	return found, nil
}

// referring reads the rows that refer to those of t with the given keys: to a run of numbers in one go.
func (u *undoing) referring(ctx context.Context, t *schema.Table, p schema.Link, parents *value.Batch, columns []string,
	take func(*value.Batch) error) error {
	types := engine.Types(p.Child, p.Columns)
	if first, last, run := engine.Run(t, p.ParentColumns, parents); run && p.Child.Indexed(p.Columns) && types[0].Kind == value.Int {
		return u.tx.Between(ctx, p.Child, p.Columns[0], first, last, columns, take)
	}
	return u.tx.Probe(ctx, p.Child, p.Columns, parents.As(types), columns, take)
}

// knownBy lists the columns by which people know a row of t.
func knownBy(t *schema.Table) []string {
	switch {
	case t.Locator != "":
		return []string{t.Locator}
	case len(t.Keys) > 0:
		return t.Keys[0].Columns
	}
	return t.Kept()
}

// restore returns cells the values that they had.
func (u *undoing) restore(ctx context.Context, t *schema.Table, c *logbook.Chunk, rows *value.Batch) error {
	if err := whole(c, rows); err != nil {
		return err
	}
	refused, err := u.tx.Update(ctx, t, c.By, c.Columns, rows)
	if err == nil && len(refused) > 0 {
		err = &engine.OwnRowError{Table: t.Name, What: "take old values", Why: refused[0].Why}
	}
	if c.Turn > 0 { // else these are cells of rows that are put back
		u.of(t.Name).Restored += int64(u.staying(t, c, rows).Len())
	}
	return err
}

// staying leaves out rows that the run added.
func (u *undoing) staying(t *schema.Table, c *logbook.Chunk, rows *value.Batch) *value.Batch {
	keys := rows.Columns[:len(c.By)]
	return rows.Some(0, rows.Len(), func(row int) bool { return !u.added[t].Has(keys, row) })
}

// putBack adds rows that the run removed.
func (u *undoing) putBack(ctx context.Context, t *schema.Table, c *logbook.Chunk, rows *value.Batch) error {
	if err := whole(c, rows); err != nil {
		return err
	}
	columns, batch := insertable(c, rows)
	refused, err := u.tx.Insert(ctx, t, columns, batch)
	if err == nil && len(refused) > 0 {
		err = &engine.OwnRowError{Table: t.Name, What: "take a row back", Why: refused[0].Why}
	}
	u.of(t.Name).PutBack += int64(rows.Len())
	return err
}

// insertable returns the rows of a chunk as they are sent: a hidden row number that finds them goes before their
// columns.
func insertable(c *logbook.Chunk, rows *value.Batch) ([]string, *value.Batch) {
	columns, batch := c.Columns, &value.Batch{Columns: rows.Columns[len(c.By):]}
	if len(c.By) == 1 && !slices.Contains(columns, c.By[0]) {
		columns, batch = append(slices.Clone(c.By), columns...), rows
	}
	return columns, batch
}

// whole refuses values that could not be read when they were kept, or that the columns don't take any more.
func whole(c *logbook.Chunk, rows *value.Batch) error {
	for i := range c.Columns {
		if row := slices.Index(rows.Columns[len(c.By)+i].States, value.Bad); row >= 0 {
			return &engine.OwnRowError{Table: c.Table, What: "take old values",
				Why: fmt.Sprintf("the logbook's value of %s for the row with %s does not fit the column", c.Columns[i],
					logbook.Words(c.By, rows, row))}
		}
	}
	return nil
}
