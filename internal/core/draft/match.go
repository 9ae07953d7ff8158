package draft

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// File is a file that a draft is made for.
type File struct {
	Path   string // as the ladle file is to name it
	Survey *survey.Input
	Asked  source.ReadOptions // how it was said to be read
}

// file is a file at work.
type file struct {
	File
	input   string // the name of the input
	columns []*column
}

// column is a column of a file.
type column struct {
	*survey.Column
	ref   string   // as the ladle file names it
	texts []string // different cells, the first of them
	plain []string // the same, in the form in which they are compared

	patterns []string // how its dates are written, where that is in several ways
	unsure   bool     // another pattern reads as many of them
	others   int      // different cells that none of patterns reads
}

// sample is a few of the different cells of the column.
func (c *column) sample() []string {
	const most, longest = 2, 24
	all := []string{}
	for _, t := range c.texts[:min(len(c.texts), most)] {
		if r := []rune(t); len(r) > longest {
			t = string(r[:longest]) + "…"
		}
		all = append(all, t)
	}
	return all
}

// assignment is a column of a table with what feeds it: a column of the file, or the lookup of a row of another table.
type assignment struct {
	guess
	of     *schema.Column
	column *column
	lookup *lookup
	rival  *column // another column of the file that fits as well
	points *place  // the key that its values are those of, where the database doesn't declare it
}

// lookup is how the row of another table is found.
type lookup struct {
	table *schema.Table
	by    []assignment
	named bool // that there is a relation is known from names alone
	loose bool // the column by which it is found is not unique
}

// uses reports whether a source reads a column of the file.
func (f assignment) uses(c *column) bool {
	if f.lookup == nil {
		return f.column == c
	}
	return slices.ContainsFunc(f.lookup.by, func(by assignment) bool { return by.uses(c) })
}

// exact is 1 where the column of the file is called exactly like that of the table.
func (f assignment) exact() int {
	if f.column != nil && f.column.Name == f.of.Name {
		return 1
	}
	return 0
}

// single is the column of the file by which alone a row is found, else nil.
func (f assignment) single() *column {
	if f.lookup != nil && len(f.lookup.by) == 1 {
		return f.lookup.by[0].column
	}
	return nil
}

// block is rows of a file as rows of a table.
type block struct {
	child   *block // of a parent that is filled from its child's file: the child
	file    *file
	table   *schema.Table
	fed     []assignment
	missing []string // columns that must have a value and that nothing feeds
}

// matcher matches files with tables.
type matcher struct {
	schema  *schema.Schema
	guessed []schema.LikelyRelation
	values  *catalogue
	only    []*schema.Table // that blocks are made for; nil for all
	err     error           // the first one of the database
}

// compatible reports whether cells of a type of a survey can be values of a column.
func compatible(cells string, c *schema.Column) bool {
	number := cells == "whole number" || cells == "decimal number"
	switch c.Type.Kind {
	case value.Text:
		return true
	case value.Int:
		return cells == "whole number" || cells == "blank"
	case value.Fixed, value.Decimal, value.Float:
		return number || cells == "blank"
	case value.Bool:
		return cells == "yes/no" || cells == "whole number" || cells == "blank"
	case value.Date:
		return cells == "date" || cells == "blank"
	case value.DateTime:
		return cells == "date" || cells == "date and time" || cells == "blank"
	case value.Time:
		return cells == "time" || cells == "blank"
	}
	return cells == "blank"
}

// direct returns how likely a column of the file feeds a column of a table itself.
func (m *matcher) direct(t *schema.Table, c *schema.Column, from *column) guess {
	if c.Generated || c.Odd != "" {
		return guess{}
	}
	g := byName(from.Name, t, c.Name)
	if !compatible(from.Type, c) {
		return unfit(g, c, from)
	}
	if t.UniqueOn([]string{c.Name}) && c.Type.Kind == value.Text {
		if values := m.byValue(question{place{t, c.Name}, from, false}); g.Score < sure {
			g = g.and(values)
		}
	}
	return g
}

// unfit is the guess for a column of the file that has the name of another one but cells that can't be its values as they
// stand: a doubt if most of them look like numbers, dates or times.
func unfit(g guess, c *schema.Column, from *column) guess {
	const named, doubtful = 0.9, 0.6
	few := from.texts[:min(len(from.texts), fewTexts)]
	if g.Score < named || c.Identity || c.Type.Kind == value.Bool ||
		from.Type != "text" && from.Type != "decimal number" {
		return guess{}
	}
	read := value.NewColumn(c.Type)
	digits, not, first := 0, 0, ""
	for _, t := range few {
		t = strings.TrimSpace(t)
		if strings.ContainsAny(t, "0123456789") {
			digits++
		}
		if value.Parse(&read, c.Type, []byte(t)) != nil {
			if not++; not == 1 {
				first = t
			}
		}
	}
	if not == 0 || 2*digits <= len(few) {
		return guess{}
	}
	return guess{doubtful, fmt.Sprintf("%s; %d of %d distinct values can't be read as %s as they stand, such as %q",
		g.Why, not, len(few), c.Declared, first)}
}

func (m *matcher) byValue(q question) guess {
	g, err := m.values.byValue(q)
	m.err = cmp.Or(m.err, err)
	return g
}

// ids returns how likely numbers of the file are ids of the table that a column refers to. A file has numbers of its own,
// so this stays a doubt; where the table has none of them, they aren't.
func (m *matcher) ids(t *schema.Table, c *schema.Column, from *column, g guess) guess {
	const named, doubtful = 0.9, 0.65
	if from.Type != "whole number" || g.Score <= named {
		return guess{}
	}
	parent, key, _ := m.relation(t, c)
	if parent == nil {
		return guess{min(g.Score, doubtful), g.Why + "; the numbers of the file are taken for ids"}
	}
	asked := question{place{parent, key}, from, false}
	n, err := m.values.shared(asked)
	if m.err = cmp.Or(m.err, err); n == 0 && m.values.sizes[parent] > 0 {
		return guess{}
	}
	return guess{min(g.Score, doubtful), fmt.Sprintf("%s; the numbers of the file are taken for ids of %s, which has %d of %d of them",
		g.Why, parent.Name, n, min(len(from.texts), fewTexts))}
}

// pointAt has a column that is named like a foreign key point at that key if its values are there. Ids stay a doubt.
func (m *matcher) pointAt(t *schema.Table, x *assignment) {
	const doubtful = 0.65
	parent, key, _ := m.relation(t, x.of)
	if parent == nil || parent.Odd != "" || len(x.column.texts) == 0 {
		return
	}
	at := place{parent, key}
	there := m.byValue(question{at, x.column, true})
	switch {
	case there.Score > 0:
		x.points, x.Score = &at, m.uncertain(x.Score, question{at, x.column, true})
		x.Why += "; " + there.Why + ", for which the database declares no foreign key"
	case !m.filled(at):
		return
	default:
		x.Why += fmt.Sprintf("; it is named like a foreign key, but few or none of its values are in %s.%s",
			parent.Name, key)
	}
	if x.points == nil || x.of.Type.Kind == value.Int {
		x.Score = min(x.Score, doubtful)
	}
}

// uncertain keeps a score below 1 while values are missing.
func (m *matcher) uncertain(score float64, q question) float64 {
	const most = 0.99
	if n, known := m.values.told[q]; known && n < min(len(q.from.texts), fewTexts) {
		return min(score, most)
	}
	return score
}

// relation is the relation of a single column of t: declared, or told by its name.
func (m *matcher) relation(t *schema.Table, c *schema.Column) (parent *schema.Table, key string, named bool) {
	if r := t.Relation(c.Name); r != nil {
		if r.ParentTable == nil || len(r.ParentColumns) != 1 {
			return nil, "", false
		}
		return r.ParentTable, r.ParentColumns[0], false
	}
	for _, g := range m.guessed {
		if g.Child == t && g.Column == c.Name {
			return g.Parent, g.Key, true
		}
	}
	return nil, "", false
}

const deepest = 3 // finds inside of finds

// finds lists the ways in which a column that refers to another table is found, by columns of the file.
func (m *matcher) finds(f *file, t *schema.Table, c *schema.Column, depth int) []assignment {
	parent, key, named := m.relation(t, c)
	if parent == nil || depth == 0 || parent.Odd != "" {
		return nil
	}
	var all []assignment
	for _, k := range parent.Keys {
		if one := parent.Column(k.Columns[0]); len(k.Columns) == 1 && one.Type.Kind == value.Int &&
			(one.Name == key || one.Identity) {
			continue // an id, which files don't know
		}
		if len(k.Columns) == 1 {
			all = append(all, m.byOne(f, t, c, parent, parent.Column(k.Columns[0]))...)
		} else if g, ok := m.bySeveral(f, t, c, parent, k.Columns, depth); ok {
			all = append(all, g)
		}
	}
	all = append(all, m.byText(f, t, c, parent)...)
	for i := range all {
		all[i].lookup.named = named
	}
	return all
}

// byText lists the columns of the file by whose values a row of parent can be found although they are not unique there.
func (m *matcher) byText(f *file, t *schema.Table, c *schema.Column, parent *schema.Table) (all []assignment) {
	const most, holds = 0.75, 0.8 // the score of a match, less than that of a key, and the share of values that the table has
	for i := range parent.Columns {
		key := &parent.Columns[i]
		if key.Type.Kind != value.Text || key.Odd != "" || parent.UniqueOn([]string{key.Name}) {
			continue
		}
		for _, x := range m.byOne(f, t, c, parent, key) {
			from := x.lookup.by[0].column
			told := m.values.told[question{place{parent, key.Name}, from, true}]
			if few := min(len(from.texts), fewTexts); float64(told) >= holds*float64(few) {
				x.Score, x.lookup.loose = min(x.Score, most), true
				all = append(all, x)
			}
		}
	}
	return all
}

// byOne lists the columns of the file by which alone a row of parent can be found.
func (m *matcher) byOne(f *file, t *schema.Table, c *schema.Column, parent *schema.Table,
	key *schema.Column) []assignment {
	var all []assignment
	for _, from := range f.columns {
		if !compatible(from.Type, key) || len(from.texts) == 0 {
			continue
		}
		name := better(asRelation(from.Name, t, c.Name, parent), byName(from.Name, parent, key.Name))
		if len(words(from.Name)) == 1 && slices.Contains(general, words(from.Name)[0]) &&
			asRelation(from.Name, t, c.Name, parent).Score == 0 {
			name = guess{} // every table has a name
		}
		asked := question{place{parent, key.Name}, from, true}
		g := name.and(m.byValue(asked))
		if m.values.told[asked] == 0 && m.filled(asked.place) {
			g.Score *= 0.55 // the table has other values
		}
		g.Score = m.uncertain(g.Score, asked)
		if g.Score >= likely {
			all = append(all, assignment{guess: g, of: c, column: nil, lookup: &lookup{table: parent,
				by: []assignment{{guess: g, of: key, column: from}}}})
		}
	}
	return all
}

// filled reports whether the table has enough values, of its own or of another file, to hold others against them.
func (m *matcher) filled(p place) bool { return len(m.values.there[p])+len(m.values.comes[p]) >= 3 }

// asRelation returns how likely a column of the file is meant for a column that refers to another table, by the names.
func asRelation(file string, t *schema.Table, column string, parent *schema.Table) guess {
	f, c := words(file), words(column)
	if n := len(c); n > 1 && slices.Contains([]string{"id", "no", "code", "ref"}, c[n-1]) {
		c = c[:n-1]
	}
	if slices.Equal(f, c) {
		return guess{0.95, "named like " + t.Name + "." + column}
	}
	if p := words(parent.Name); slices.Equal(without(f, p), without(c, p)) {
		return guess{0.9, "named like " + t.Name + "." + column + ", but for the name of " + parent.Name}
	}
	return guess{}
}

// bySeveral finds a row of parent by a key of several columns.
func (m *matcher) bySeveral(f *file, t *schema.Table, c *schema.Column, parent *schema.Table, key []string,
	depth int) (assignment, bool) {
	whole := assignment{guess: guess{Score: 1}, of: c, lookup: &lookup{table: parent}}
	back := false
	for _, name := range key {
		of := parent.Column(name)
		grand, _, _ := m.relation(parent, of)
		back = back || grand == t
		part, ok := m.part(f, parent, of, depth)
		if !ok {
			part, ok = m.asked(f, t, c, parent, of)
		}
		if !ok {
			return assignment{}, false
		}
		whole.lookup.by = append(whole.lookup.by, part)
		whole.Score = min(whole.Score, part.Score)
	}
	if back { // the rows of parent refer to t themselves: only a column that is named so means one of them
		named, ok := m.asked(f, t, c, parent, nil)
		if !ok {
			return assignment{}, false
		}
		for i := range whole.lookup.by {
			if by := &whole.lookup.by[i]; by.lookup == nil && compatible(named.column.Type, by.of) {
				by.column, by.guess = named.column, named.guess
			}
		}
		if !whole.uses(named.column) {
			return assignment{}, false
		}
	}
	whole.Score *= 0.97
	whole.Why = "a row of " + parent.Name + " is identified by " + strings.Join(key, " and ")
	return whole, true
}

// part finds what feeds one column of a key.
func (m *matcher) part(f *file, parent *schema.Table, of *schema.Column, depth int) (assignment, bool) {
	var best assignment
	for _, g := range m.finds(f, parent, of, depth-1) {
		if g.Score > best.Score {
			best = g
		}
	}
	for _, from := range f.columns {
		if g := m.direct(parent, of, from); g.Score > best.Score {
			best = assignment{guess: g, of: of, column: from}
		}
	}
	return best, best.Score >= likely
}

// asked finds the column of the file that is named like a relation, for a column of of's type.
func (m *matcher) asked(f *file, t *schema.Table, c *schema.Column, parent *schema.Table,
	of *schema.Column) (assignment, bool) {
	for _, from := range f.columns {
		if g := asRelation(from.Name, t, c.Name, parent); g.Score > 0 &&
			(of == nil || compatible(from.Type, of) && of.Type.Kind != value.Int) {
			return assignment{guess: g, of: of, column: from}, true
		}
	}
	return assignment{}, false
}

// fit matches the file with a table: each column of the table gets the likeliest source that no other one has.
func (m *matcher) fit(f *file, t *schema.Table) *block {
	b := &block{file: f, table: t}
	var all []assignment
	for i := range t.Columns {
		c := &t.Columns[i]
		for _, from := range f.columns {
			x := assignment{guess: m.direct(t, c, from), of: c, column: from}
			if t.Relation(c.Name) != nil {
				x.guess = m.ids(t, c, from, x.guess)
			} else if x.Score >= likely {
				m.pointAt(t, &x)
			}
			if x.Score >= likely {
				all = append(all, x)
			}
		}
		all = append(all, m.finds(f, t, c, deepest)...)
	}
	slices.SortStableFunc(all, func(a, b assignment) int {
		return cmp.Or(cmp.Compare(b.Score, a.Score), cmp.Compare(b.exact(), a.exact()))
	})
	for _, x := range all {
		if !b.feeds(x.of.Name) && !b.taken(x) {
			b.fed = append(b.fed, x)
		}
	}
	b.byType()
	b.byDifference()
	b.rivals(all)
	slices.SortFunc(b.fed, func(a, c assignment) int {
		return cmp.Compare(slices.Index(t.Names(), a.of.Name), slices.Index(t.Names(), c.of.Name))
	})
	var names []string
	for _, x := range b.fed {
		names = append(names, x.of.Name)
	}
	b.missing = t.Missing(names)
	return b
}

// rivals notes columns of the file that fit as well as those that were chosen, and are not used for anything likelier.
func (b *block) rivals(all []assignment) {
	const near = 0.03 // between scores that are about the same
	for i := range b.fed {
		x := &b.fed[i]
		for _, o := range all {
			column := cmp.Or(o.column, o.single())
			if o.of == x.of && column != nil && !x.uses(column) && o.Score >= x.Score-near &&
				o.exact() >= x.exact() && b.bestOf(column) <= min(o.Score, valuesAlone) {
				x.rival = column
				break
			}
		}
	}
}

func (b *block) feeds(column string) bool {
	return slices.ContainsFunc(b.fed, func(x assignment) bool { return x.of.Name == column })
}

// taken reports whether all columns that x reads feed something likelier already.
func (b *block) taken(x assignment) bool {
	for _, c := range b.file.columns {
		if x.uses(c) && !slices.ContainsFunc(b.fed, func(o assignment) bool { return o.uses(c) }) {
			return false
		}
	}
	return true
}

// byType feeds a date, or a time, that is required, from the only column of the file that is left and has such.
func (b *block) byType() {
	for i := range b.table.Columns {
		c := &b.table.Columns[i]
		if b.feeds(c.Name) || !c.Required || c.Generated || c.Identity || c.Type.Kind != value.Date &&
			c.Type.Kind != value.DateTime && c.Type.Kind != value.Time {
			continue
		}
		var left []*column
		for _, from := range b.file.columns {
			if from.Type != "blank" && compatible(from.Type, c) && b.unused(from) {
				left = append(left, from)
			}
		}
		others := slices.ContainsFunc(b.table.Columns, func(o schema.Column) bool {
			return o.Name != c.Name && o.Type.Kind == c.Type.Kind && !b.feeds(o.Name)
		})
		if len(left) == 1 && !others {
			b.fed = append(b.fed, assignment{guess: guess{likely, "the only " + left[0].Type + " that is left"}, of: c,
				column: left[0]})
		}
	}
}

// byDifference feeds a key of texts that is required from the only column of the file that is left and whose values are all
// different.
func (b *block) byDifference() {
	if !slices.ContainsFunc(b.fed, func(x assignment) bool { return x.lookup == nil && x.Score >= sure }) {
		return // nothing says that the rows are of this table
	}
	var left []*column
	for _, k := range b.file.Survey.Keys {
		for _, from := range b.file.columns {
			if len(k.Columns) == 1 && k.Columns[0] == from.Name && k.Repeats == 0 && from.Type == "text" &&
				b.unused(from) {
				left = append(left, from)
			}
		}
	}
	var keys []*schema.Column
	for i := range b.table.Columns {
		if c := &b.table.Columns[i]; c.Required && c.Type.Kind == value.Text && b.table.UniqueOn([]string{c.Name}) &&
			b.table.Relation(c.Name) == nil && !c.Generated && !b.feeds(c.Name) {
			keys = append(keys, c)
		}
	}
	if len(left) == 1 && len(keys) == 1 {
		why := "the only column left whose values are all different, as those of a key are"
		b.fed = append(b.fed, assignment{guess: guess{likely, why}, of: keys[0], column: left[0]})
	}
}

func (b *block) unused(c *column) bool {
	return !slices.ContainsFunc(b.fed, func(x assignment) bool { return x.uses(c) })
}

// worth says how well the file fits the table: what of the file it uses, together with the blocks that fill tables it
// refers to, less what is missing.
func (b *block) worth(parents []*block) float64 {
	worth := -1.2 * float64(len(b.missing))
	for _, c := range b.file.columns {
		best := b.bestOf(c)
		for _, p := range parents {
			best = max(best, p.bestOf(c))
		}
		worth += best
	}
	base := filepath.Base(b.file.Path)
	name, table := words(strings.TrimSuffix(base, filepath.Ext(base))), words(b.table.Name)
	switch {
	case slices.Equal(name, table):
		worth += 1.5
	case len(table) > 0 && slices.Contains(name, table[len(table)-1]), len(name) > 0 &&
		slices.Contains(table, name[len(name)-1]):
		worth += 0.5
	}
	return worth
}

// bestOf is the score of the likeliest use of a column of the file.
func (b *block) bestOf(c *column) (best float64) {
	for _, x := range b.fed {
		if x.uses(c) {
			best = max(best, x.Score)
		}
	}
	return best
}

// each visits all sources of a block, those inside of finds too.
func (b *block) each(visit func(assignment)) {
	var inside func(assignment)
	inside = func(x assignment) {
		visit(x)
		if x.lookup != nil {
			for _, by := range x.lookup.by {
				inside(by)
			}
		}
	}
	for _, x := range b.fed {
		inside(x)
	}
}
