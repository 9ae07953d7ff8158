package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// lookup is how the row of another table is found.
type lookup struct {
	table *schema.Table
	by    []assignment
	named bool // that there is a relation is known from names alone
	loose bool // the column by which it is found is not unique
}

const deepest = 3 // finds inside of finds

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

// ids returns how likely numbers of the file are ids of the table that a column refers to. A file has numbers of its
// own, so this stays a doubt; where the table has none of them, they aren't.
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
	return guess{min(g.Score, doubtful), fmt.Sprintf("%s; the numbers of the file are taken for ids of %s, which "+
		"has %d of %d of them", g.Why, parent.Name, n, min(len(from.texts), fewTexts))}
}

// pointAt has a column that is named like a foreign key point at that key if its values are there. Ids stay a doubt.
func (m *matcher) pointAt(t *schema.Table, x *assignment) {
	const doubtful = 0.65
	parent, key, _ := m.relation(t, x.of)
	if parent == nil || parent.Odd != "" || len(x.column.texts) == 0 {
		return
	}
	at := place{parent, key}
	asked := question{at, x.column, true}
	there := m.byValue(asked)
	switch {
	case there.Score > 0:
		x.points, x.Score = &at, m.uncertain(x.Score, asked)
		x.Why += "; " + there.Why + ", for which the database declares no foreign key"
	case !m.filled(at):
		return
	default:
		x.Why += fmt.Sprintf("; it is named like a foreign key, but only %d of %d distinct values are in %s.%s",
			m.values.told[asked], min(len(x.column.texts), fewTexts), parent.Name, key)
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
	const most = 0.75  // the score of a match, less than that of a key
	const enough = 0.8 // the share of values that the table has
	for i := range parent.Columns {
		key := &parent.Columns[i]
		if key.Type.Kind != value.Text || key.Odd != "" || parent.UniqueOn([]string{key.Name}) {
			continue
		}
		for _, x := range m.byOne(f, t, c, parent, key) {
			from := x.lookup.by[0].column
			told := m.values.told[question{place{parent, key.Name}, from, true}]
			if few := min(len(from.texts), fewTexts); float64(told) >= enough*float64(few) {
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
			g.Why = fmt.Sprintf("%s, but 0 of %d distinct values are in %s.%s", g.Why, min(len(from.texts), fewTexts),
				parent.Name, key.Name)
		}
		if !m.filled(asked.place) && meansOther(f, from, parent, key) {
			g.Score *= 0.55
		}
		g.Score = m.uncertain(g.Score, asked)
		if g.Score >= likely {
			all = append(all, assignment{guess: g, of: c, column: nil, lookup: &lookup{table: parent,
				by: []assignment{{guess: g, of: key, column: from}}}})
		}
	}
	return all
}

// meansOther reports whether names say that a column of the file is another column of parent than the key, and that the
// key is in another column of the file.
func meansOther(f *file, from *column, parent *schema.Table, key *schema.Column) bool {
	named := byName(from.Name, parent, key.Name).Score
	return slices.ContainsFunc(f.columns, func(o *column) bool {
		return o != from && byName(o.Name, parent, key.Name).Score > max(named, sure)
	}) && slices.ContainsFunc(parent.Columns, func(o schema.Column) bool {
		return o.Type.Kind == value.Text && byName(from.Name, parent, o.Name).Score > max(named, sure)
	})
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
		if !ok || part.column != nil && whole.uses(part.column) { // one column isn't two parts of a key
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
