package script

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
	"ladle/internal/core/write"
)

// group is rows of one part that are written in the same way.
type group struct {
	part    write.Part
	table   *schema.Table
	columns []string
	by      int // of the fields, those that find a row
	rows    *rows
	drop    int   // 1 where the first column is not written
	there   int64 // rows that were there
	counts  int64 // rows in all
}

// same reports whether rows of a part belong to the group.
func (g *group) same(p write.Part, t *schema.Table, by, columns []string) bool {
	return g != nil && g.part.Does == p.Does && g.part.Step == p.Step && g.part.Growth == p.Growth && g.table == t &&
		g.by == len(by) && slices.Equal(g.columns, columns)
}

// close ends the open group.
func (s *Script) close() error {
	g := s.group
	if s.group = nil; g == nil {
		return nil
	}
	if err := g.rows.end(); err != nil {
		return err
	}
	switch g.part.Does {
	case write.Adds:
		s.closeAdded(g)
	case write.Removes:
		s.closeRemoved(g)
	default:
		s.closeChanged(g)
	}
	return nil
}

// newRoom is a name for a temporary table.
func (s *Script) newRoom() string {
	s.rooms++
	return fmt.Sprintf("ladle_rows_%d", s.rooms)
}

// Insert writes the rows down, and hands them on.
func (s *Script) Insert(ctx context.Context, t *schema.Table, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	if !s.group.same(s.part, t, nil, columns) {
		if err := s.close(); err != nil {
			return nil, err
		}
		s.openAdded(t, columns)
	}
	if err := s.addRows(ctx, rows); err != nil {
		return nil, err
	}
	return s.Tx.Insert(ctx, t, columns, rows)
}

func (s *Script) openAdded(t *schema.Table, columns []string) {
	g := &group{part: s.part, table: t, columns: columns}
	s.group = g
	if n := s.numbered(t, nil); n != nil && columns[0] == t.Locator {
		if t.Column(t.Locator) == nil && !n.wanted && len(columns) > 1 {
			g.drop = 1 // a hidden number that nothing refers to
		} else {
			n.wanted = true
		}
	}
	room := ""
	var fields []field
	for _, name := range columns[g.drop:] {
		p := s.parent(t, name, nil)
		if p != nil && name != t.Locator && !p.empty {
			room = "?" // rows that are there may be among those referred to
		}
		fields = append(fields, field{name: name, of: name, parent: p, added: name == t.Locator})
	}
	fmt.Fprintln(s.body)
	say(s.body, "%s", s.title(g))
	if room != "" {
		room = s.newRoom()
		fields = append(fields, field{name: "ladle_n"})
	}
	g.rows = s.newRows(s.body, t, room, fields)
	if room != "" {
		put(s.body, s.Dialect.Room(room, t, g.rows.roomFields()))
	}
}

// addRows writes rows of the open group.
func (s *Script) addRows(ctx context.Context, b *value.Batch) error {
	g := s.group
	columns := slices.Clone(b.Columns[g.drop:])
	if g.rows.room != "" {
		order := value.Column{Kind: value.Int}
		for i := range b.Len() {
			order.AppendNum(g.counts + int64(i))
		}
		columns = append(columns, order)
	}
	g.counts += int64(b.Len())
	return g.rows.add(ctx, columns, s.lines())
}

// lines tells from which lines the rows are that come next.
func (s *Script) lines() func(first, last int) (string, error) {
	if s.part.Lines == nil {
		return nil
	}
	return func(first, last int) (string, error) { return linesOf(s.Place, s.part, first, last) }
}

// linesOf names the lines from which some of the rows of a part are.
func linesOf(place func(feed int, line int64) (reason.Place, error), p write.Part, first, last int) (string, error) {
	feed := p.Step.Feed.Number
	from, err := place(feed, p.Lines[first])
	if err != nil {
		return "", err
	}
	to, err := place(feed, p.Lines[last])
	switch {
	case err != nil:
		return "", err
	case from.File != to.File:
		return fmt.Sprintf("%s, %s to %s, %s", from.File, from.Words(), to.File, to.Words()), nil
	case from.Line == to.Line:
		return from.File + ", " + from.Words(), nil
	}
	word, line, _ := strings.Cut(from.Words(), " ")
	return fmt.Sprintf("%s, %ss %s to %d", from.File, word, line, to.Line), nil
}

func (s *Script) closeAdded(g *group) {
	if g.rows.room == "" {
		return
	}
	values := make([]string, len(g.rows.fields)-1)
	for i := range values {
		values[i] = g.rows.value(i)
	}
	names := g.rows.names()
	put(s.body, fmt.Sprintf("%s SELECT %s FROM %s ORDER BY s.%s", s.Dialect.Insert(g.table, names[:len(values)]),
		strings.Join(values, ", "), g.rows.from(nil), s.Dialect.Column("ladle_n")))
}

// Update writes down what rows are found by, what stands in the columns, and what they are given.
func (s *Script) Update(ctx context.Context, t *schema.Table, by, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	if !s.group.same(s.part, t, by, columns) {
		if err := s.close(); err != nil {
			return nil, err
		}
		s.openChanged(t, by, columns)
	}
	keys := &value.Batch{Columns: rows.Columns[:len(by)]}
	before, err := s.readAll(ctx, t, by, keys, columns)
	if err != nil {
		return nil, err
	}
	g := s.group
	n := s.parent(t, by[0], nil)
	for i := range keys.Len() {
		if n == nil || by[0] != t.Locator || n.number(keys.Columns[0].Nums[i]) <= 0 {
			g.there++
		}
	}
	err = g.rows.add(ctx, slices.Concat(keys.Columns, before.Columns, rows.Columns[len(by):]), s.lines())
	if err != nil {
		return nil, err
	}
	return s.Tx.Update(ctx, t, by, columns, rows)
}

// readAll reads columns of rows, all of which must be there.
func (s *Script) readAll(ctx context.Context, t *schema.Table, by []string, keys *value.Batch,
	columns []string) (*value.Batch, error) {
	into := &value.Batch{}
	if err := s.Tx.ReadBack(ctx, t, by, keys, columns, into); err != nil {
		return nil, err
	}
	if into.Len() != keys.Len() && s.Unrehearsed {
		return nil, fault.New(fault.Refused, "the load changes rows of "+t.Name+" that it adds itself, and a script that isn't "+
			"rehearsed can't", "leave out --unrehearsed")
	}
	if into.Len() != keys.Len() {
		return nil, fault.New(fault.Failed, fmt.Sprintf("%s of %s are to be updated or removed, and %s can be read",
			reason.Plural(int64(keys.Len()), "row"), t.Name, reason.Count(int64(into.Len()))), "use a user who can see them")
	}
	return into, nil
}

func (s *Script) openChanged(t *schema.Table, by, columns []string) {
	for _, c := range columns {
		s.emptied[place{t, c}] = s.emptied[place{t, c}] || s.part.Does == write.Empties
	}
	g := &group{part: s.part, table: t, columns: columns, by: len(by)}
	s.group = g
	var fields []field
	add := func(kind string, names []string) {
		for i, name := range names {
			fields = append(fields, field{name: fmt.Sprintf("%s_%d", kind, i+1), of: name, parent: s.parent(t, name, nil)})
		}
	}
	add("by", by)
	add("old", columns)
	add("new", columns)
	g.rows = s.newRows(s.staged, t, s.newRoom(), fields)
	fmt.Fprintln(s.staged)
	say(s.staged, "%s: the key, then the old and the new values of %s.", s.title(g), strings.Join(columns, ", "))
	put(s.staged, s.Dialect.Room(g.rows.room, t, g.rows.roomFields()))
}

func (s *Script) closeChanged(g *group) {
	r, n := g.rows, len(g.columns)
	if g.there > 0 {
		guard := engine.Guard{Unless: fmt.Sprintf("(SELECT COUNT(*) FROM %s JOIN %s ON %s WHERE %s) <> %d", r.from(nil),
			s.Dialect.Table(g.table), r.matches(0, g.by), r.same(g.by, n), g.there),
			Says: fmt.Sprintf("rows of %s that this script updates have been changed since it was written (%s)", g.table.Name,
				strings.Join(g.columns, ", "))}
		if g.table.Locator == "" && g.part.Step.First != nil { // some of the rows may be new
			putLines(s.body, s.Dialect.Stop([]engine.Guard{guard}))
		} else {
			s.guards = append(s.guards, guard)
		}
	}
	values := make([]string, n)
	for i := range values {
		values[i] = r.value(g.by + n + i)
	}
	fmt.Fprintln(s.body)
	say(s.body, "%s", s.title(g))
	put(s.body, s.Dialect.Update(g.table, g.columns, values, engine.Joined{From: r.from(nil),
		On: r.found(0, g.by, r.value)}))
}

// Remove writes down the rows that go, whole but for what was emptied in them before.
func (s *Script) Remove(ctx context.Context, t *schema.Table, by []string, keys *value.Batch) (int64, error) {
	kept := slices.DeleteFunc(t.Kept(), func(c string) bool { return s.emptied[place{t, c}] })
	if !s.group.same(s.part, t, by, kept) {
		if err := s.close(); err != nil {
			return 0, err
		}
		if by == nil && s.Dialect.DeleteEqual(t, "room", kept) == nil {
			return 0, fault.New(fault.Refused, "nothing tells the rows of "+t.Name+" apart, and a script for this database can't "+
				"remove single ones of them", "load in place of writing a script, or give the table a key")
		}
		s.openRemoved(t, by, kept)
	}
	columns := keys.Columns
	if by != nil {
		rows, err := s.readAll(ctx, t, by, keys, kept)
		if err != nil {
			return 0, err
		}
		columns = slices.Concat(keys.Columns[:len(by)], rows.Columns)
	}
	s.group.there += int64(keys.Len())
	if err := s.group.rows.add(ctx, columns, nil); err != nil {
		return 0, err
	}
	return s.Tx.Remove(ctx, t, by, keys)
}

func (s *Script) openRemoved(t *schema.Table, by, kept []string) {
	g := &group{part: s.part, table: t, columns: kept, by: len(by)}
	s.group = g
	var fields []field
	for i, name := range by {
		fields = append(fields, field{name: fmt.Sprintf("by_%d", i+1), of: name, parent: s.parent(t, name, nil)})
	}
	for _, name := range kept {
		f := field{name: name, of: name}
		if by != nil {
			f.parent = s.parent(t, name, nil)
		}
		fields = append(fields, f)
	}
	g.rows = s.newRows(s.staged, t, s.newRoom(), fields)
	fmt.Fprintln(s.staged)
	say(s.staged, "%s, with their values.", s.title(g))
	put(s.staged, s.Dialect.Room(g.rows.room, t, g.rows.roomFields()))
}

func (s *Script) closeRemoved(g *group) {
	r := g.rows
	fmt.Fprintln(s.body)
	say(s.body, "%s", s.title(g))
	says := fmt.Sprintf("rows of %s that this script removes have been changed since it was written", g.table.Name)
	if g.by == 0 {
		putLines(s.body, s.Dialect.DeleteEqual(g.table, r.room, g.columns))
		return // the count of rows shows whether each was there
	}
	s.guards = append(s.guards, engine.Guard{Unless: fmt.Sprintf("(SELECT COUNT(*) FROM %s JOIN %s ON %s WHERE %s) <> %d",
		r.from(nil), s.Dialect.Table(g.table), r.matches(0, g.by), r.same(g.by, len(g.columns)), g.there), Says: says})
	by := make([]int, g.by)
	for i := range by {
		by[i] = i
	}
	put(s.body, s.Dialect.Delete(g.table, engine.Joined{From: r.from(by), On: r.matches(0, g.by)}))
}

// title says what is done with the rows of a group, and by which block.
func (s *Script) title(g *group) string {
	does := map[write.Action]string{write.Adds: "added to", write.Changes: "updated in", write.Marks: "marked in",
		write.Removes: "removed from", write.Empties: "made ready for their removal in"}[g.part.Does]
	if g.part.Step == nil {
		return fmt.Sprintf("Rows %s %s, for lookups by %s", does, g.table.Name, strings.Join(g.part.Growth.Columns, ", "))
	}
	return fmt.Sprintf("Rows %s %s by the block %s", does, g.table.Name, g.part.Step.Name)
}
