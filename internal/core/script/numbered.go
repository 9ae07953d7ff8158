package script

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// numbered is a table whose locators the database gives. The script speaks of its rows by numbers: 1, 2 and so on are
// rows that it adds, whose locators follow the last one; -1, -2 and so on are rows that are there, which a temporary
// table has with their locators.
type numbered struct {
	table    *schema.Table
	key      []string    // the columns by which rows that are there are found
	parents  []*numbered // for each of them, the table whose numbers stand in it; nil for values
	keys     string      // the temporary table
	variable string      // the last locator when the script runs
	wanted   bool        // other rows, or later steps, refer to rows that are added
	empty    bool        // no row was there
	joined   bool        // a statement uses keys

	spans []engine.Span   // the locators of the rehearsal
	known map[int64]int64 // in memory, as long as the script is written: some 50 bytes a row that is referred to
	rows  *rows
}

// relate finds out which columns hold locators.
func (s *Script) relate() {
	eachSource(s.judgement.Steps, func(at place, l *plan.Lookup) {
		switch {
		case l == nil || l.Implied || l.Yields.Name != l.Table.Locator:
			s.given[at] = true
		case s.refs[at] == nil:
			s.refs[at] = l.Table
			s.places = append(s.places, at)
		}
	})
	for _, step := range s.judgement.Steps {
		if step.First != nil {
			s.want(s.numbered(step.Table, nil))
		}
	}
	for _, at := range s.places {
		s.want(s.parent(at.table, at.column, nil))
	}
}

func (s *Script) want(n *numbered) {
	if n != nil {
		n.wanted = true
	}
}

// parent is the numbered table to whose rows a column refers, nil where the column holds values.
func (s *Script) parent(t *schema.Table, column string, visiting []*schema.Table) *numbered {
	if column == t.Locator {
		return s.numbered(t, visiting)
	}
	at := place{t, column}
	if p := s.refs[at]; p != nil {
		return s.numbered(p, visiting)
	}
	r := t.Relation(column)
	if s.given[at] || r == nil || r.ParentTable == nil || r.ParentColumns[0] != r.ParentTable.Locator {
		return nil
	}
	return s.numbered(r.ParentTable, visiting)
}

// numbered is t as a numbered table; nil where it has no locators, where a file brings them along, or where it is one of
// those whose keys are looked for just then.
func (s *Script) numbered(t *schema.Table, visiting []*schema.Table) *numbered {
	if n, ok := s.tables[t]; ok {
		return n
	}
	brought := slices.ContainsFunc(s.Plan.Steps, func(p *plan.Step) bool { return p.Table == t && p.FeedsIdentity() })
	if t.Locator == "" || brought || slices.Contains(visiting, t) {
		return nil
	}
	n := &numbered{table: t, known: map[int64]int64{}}
	if b, ok := s.judgement.Before[t]; ok {
		n.empty = b.Exact && b.Rows == 0
	}
	visiting = append(slices.Clone(visiting), t)
	for _, key := range s.candidates(t) {
		parents, ok := s.keyParents(t, key, visiting)
		if ok {
			n.key, n.parents = key, parents
			break
		}
	}
	if n.key == nil {
		n.key, n.parents = []string{t.Locator}, []*numbered{nil}
	}
	s.order = append(s.order, n)
	n.keys, n.variable = fmt.Sprintf("ladle_key_%d", len(s.order)), fmt.Sprintf("ladle_last_%d", len(s.order))
	s.tables[t] = n
	return n
}

// keyParents are the tables whose numbers stand in a key; it is no use where one of them is being looked for.
func (s *Script) keyParents(t *schema.Table, key []string, visiting []*schema.Table) (all []*numbered, ok bool) {
	for _, c := range key {
		if p := s.refs[place{t, c}]; slices.Contains(visiting, p) {
			return nil, false
		}
		if r := t.Relation(c); r != nil && slices.Contains(visiting, r.ParentTable) {
			return nil, false
		}
		all = append(all, s.parent(t, c, visiting))
	}
	return all, true
}

// candidates lists the keys by which rows of t may be found, the best first: those that the database keeps unique, then
// those by which the ladle file recognises rows, or looks them up. None has a column that the load changes.
func (s *Script) candidates(t *schema.Table) (all [][]string) {
	changed := map[string]bool{t.Locator: true}
	var recognised, looked [][]string
	for _, step := range s.Plan.Steps {
		step.Lookups(func(l *plan.Lookup) {
			if l.Table == t && l.Makers == nil {
				looked = append(looked, l.Names())
			}
		})
		if step.Table != t {
			continue
		}
		if len(step.Key) > 0 && step.First == nil {
			recognised = append(recognised, step.KeyNames())
		}
		for _, name := range step.WrittenNames() {
			changed[name] = true
		}
		if g := step.Policy.Gone; g != nil {
			for _, name := range append(plan.MarkNames(g.Mark), plan.MarkNames(g.Back)...) {
				changed[name] = true
			}
		}
	}
	for _, required := range []bool{true, false} {
		for _, k := range t.Keys {
			nullable := slices.ContainsFunc(k.Columns, func(c string) bool { return !t.Column(c).Required })
			if nullable != required {
				all = append(all, k.Columns)
			}
		}
		if required {
			all = append(append(all, recognised...), looked...)
		}
	}
	return slices.DeleteFunc(all, func(key []string) bool {
		return slices.ContainsFunc(key, func(name string) bool {
			c := t.Column(name)
			return changed[name] || c == nil || c.Odd != ""
		})
	})
}

// Reserve keeps in mind which locators are those of new rows.
func (s *Script) Reserve(ctx context.Context, t *schema.Table, n, past int64) ([]engine.Span, error) {
	spans, err := s.Tx.Reserve(ctx, t, n, past)
	if at := s.numbered(t, nil); at != nil {
		at.spans = append(at.spans, spans...)
	}
	return spans, err
}

// added is the number of rows that get locators.
func (n *numbered) added() (sum int64) {
	for _, span := range n.spans {
		sum += span.Count
	}
	return sum
}

// number is the number of a locator; 0 for a row that is there and not known.
func (n *numbered) number(locator int64) int64 {
	past := int64(0)
	for _, span := range n.spans {
		if at := span.Place(locator); at >= 0 {
			return past + at + 1
		}
		past += span.Count
	}
	return n.known[locator]
}

// learn gets to know the rows that are there with the locators in a column.
func (s *Script) learn(ctx context.Context, n *numbered, c *value.Column) error {
	var news []int64
	for i, state := range c.States {
		if state == value.Given && n.number(c.Nums[i]) == 0 {
			news = append(news, c.Nums[i])
		}
	}
	slices.Sort(news)
	for chunk := range slices.Chunk(slices.Compact(news), engine.BatchRows) {
		if err := s.learnRows(ctx, n, chunk); err != nil {
			return err
		}
	}
	return nil
}

func (s *Script) learnRows(ctx context.Context, n *numbered, locators []int64) error {
	keys := &value.Batch{Columns: []value.Column{{Kind: value.Int}}}
	for _, l := range locators {
		keys.Columns[0].AppendNum(l)
	}
	into, by := &value.Batch{}, []string{n.table.Locator}
	if err := s.Tx.ReadBack(ctx, n.table, by, keys, append(by, n.key...), into); err != nil {
		return err
	}
	if into.Len() != len(locators) {
		return fault.New(fault.Failed, fmt.Sprintf("rows refer to %s of %s, of which %s can be read, so that they can't be "+
			"named in a script", reason.Plural(int64(len(locators)), "row"), n.table.Name, reason.Count(int64(into.Len()))),
			"restore the missing rows, or use a user who can see them")
	}
	for _, l := range into.Columns[0].Nums {
		n.known[l] = -int64(len(n.known) + 1)
	}
	if n.rows == nil {
		sheet, err := s.newSheet(n.keys)
		if err != nil {
			return err
		}
		fields := []field{{name: "n"}}
		for i, c := range n.key {
			fields = append(fields, field{name: fmt.Sprintf("key_%d", i+1), of: c, parent: n.parents[i]})
			if n.parents[i] != nil {
				n.parents[i].joined = true
			}
		}
		n.rows = s.newRows(sheet, n.table, n.keys+"_rows", fields)
	}
	numbers := value.Column{Kind: value.Int}
	for _, l := range into.Columns[0].Nums {
		numbers.AppendNum(n.known[l])
	}
	return n.rows.add(ctx, append([]value.Column{numbers}, into.Columns[1:]...), nil)
}

// putKeys makes the temporary tables that have the locators of rows that are there, and returns the guards for them.
func (s *Script) putKeys(to io.Writer) (guards []engine.Guard, err error) {
	for _, n := range s.order {
		if n.rows == nil && !n.joined {
			continue
		}
		fmt.Fprintln(to)
		say(to, "Rows of %s that are there, by %s.", n.table.Name, strings.Join(n.key, ", "))
		put(to, s.Dialect.Room(n.keys, n.table, []engine.RoomField{{Name: "n"}, {Name: "id"}}))
		if n.rows == nil {
			continue
		}
		if err := n.rows.end(); err != nil {
			return nil, err
		}
		put(to, s.Dialect.Room(n.rows.room, n.table, n.rows.roomFields()))
		if err := n.rows.to.copyTo(to); err != nil {
			return nil, err
		}
		put(to, fmt.Sprintf("INSERT INTO %s SELECT s.n, %s.%s FROM %s JOIN %s ON %s", n.keys,
			s.Dialect.Table(n.table), s.Dialect.Column(n.table.Locator), n.rows.from(nil), s.Dialect.Table(n.table),
			n.rows.matches(1, len(n.key))))
		putLines(to, s.Dialect.Ready(n.keys, []string{"n"}))
		guards = append(guards, engine.Guard{Unless: fmt.Sprintf("(SELECT COUNT(*) FROM %s) <> %d", n.keys,
			len(n.known)), Says: n.missing()})
	}
	return guards, nil
}

// missing is what the script says where not each of the rows that it refers to is there once.
func (n *numbered) missing() string {
	by := strings.Join(n.key, ", ")
	if len(n.known) == 1 {
		return fmt.Sprintf("the row of %s to which this script refers by %s is missing, or has a duplicate", n.table.Name, by)
	}
	return fmt.Sprintf("of the %s of %s to which this script refers by %s, one or more are missing, or have a duplicate",
		reason.Plural(int64(len(n.known)), "row"), n.table.Name, by)
}

// numbers sets the variables of the tables that get rows whose locators the script must know.
func (s *Script) numbers(ctx context.Context) (all []string, err error) {
	for _, n := range s.order {
		if !n.wanted || n.added() == 0 {
			continue
		}
		statements, err := s.Dialect.Numbers(ctx, n.variable, n.table, n.added())
		if err != nil {
			return nil, err
		}
		all = append(all, statements...)
	}
	return all, nil
}
