// Package draft writes a ladle file for files and a database that it has never seen: it matches columns with columns,
// by their names and by the values themselves, and says why, and what it isn't sure of.
package draft

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// Draft is a ladle file that is worth editing.
type Draft struct {
	Text    string         `json:"text"`
	Matches []Match        `json:"matches"`
	LeftOut []UnusedColumn `json:"unused_columns"` // columns of files that are not used
	Doubts  []string       `json:"doubts"`         // what a person should look at
	Errors  []string       `json:"obstacles"`      // what must be solved before a load

	Questions []*Question `json:"-"` // by which a person can settle doubts
	lines     []string
}

// Match is a column of a table with what feeds it.
type Match struct {
	Input  string   `json:"input"`
	Block  string   `json:"block"`
	Table  string   `json:"table"`
	Column string   `json:"column"`
	Type   string   `json:"type"`             // of that column, as the database declares it
	From   []string `json:"from_columns"`     // columns of the file
	Sample []string `json:"samples"`          // the first distinct cells of the first of them
	Rule   string   `json:"rule,omitempty"`   // how its cells are read and changed, as the ladle file says it
	Lookup string   `json:"lookup,omitempty"` // the table in which a row is looked up
	By     []string `json:"lookup_by,omitempty"`
	Score  float64  `json:"score"` // from 0 to 1
	Doubt  bool     `json:"uncertain"`
	Why    string   `json:"why"`
}

// UnusedColumn is a column of a file that feeds nothing.
type UnusedColumn struct {
	Input  string `json:"input"`
	Column string `json:"column"`
}

// Make drafts a ladle file for files that were surveyed and the tables of a database; only for those with the given
// names, where there are any.
func Make(ctx context.Context, files []File, s *schema.Schema, db engine.Reader, only ...string) (*Draft, error) {
	m := &matcher{schema: s, guessed: s.Guess(), values: newCatalogue(ctx, db)}
	for _, f := range files {
		t := s.Table(f.Into)
		if f.Into != "" && t == nil {
			return nil, noTable(f.Into, s)
		}
		for _, name := range f.Key {
			if t != nil && t.Column(name) == nil {
				return nil, fault.New(fault.Wrong, fmt.Sprintf("%s has no column %q for its key", t.Name, name),
					fault.DidYouMean(name, t.Names()))
			}
		}
	}
	for _, name := range only {
		t := s.Table(name)
		if t == nil {
			return nil, noTable(name, s)
		}
		m.only = append(m.only, t)
	}
	files, err := m.shapes(ctx, files)
	if err != nil {
		return nil, err
	}
	var all []*file
	for _, f := range files {
		all = append(all, prepare(f, all))
	}
	m.expect(all)
	blocks := m.blocks(all)
	m.bring(blocks)
	for i, b := range blocks { // with what the others bring
		if b.child != nil {
			blocks[i] = m.fitParent(b.child, b.table)
		} else {
			blocks[i] = m.fit(b.file, b.table)
		}
		blocks[i].child, blocks[i].doubt, blocks[i].rival = b.child, b.doubt, b.rival
	}
	if m.err != nil {
		return nil, m.err
	}
	if err := m.prove(ctx, blocks); err != nil {
		return nil, err
	}
	w := &writer{matcher: m, files: all, blocks: blocks}
	d := w.draft()
	return d, m.err
}

func noTable(name string, s *schema.Schema) error {
	return fault.New(fault.Wrong, fmt.Sprintf("the database has no table %q", name), fault.DidYouMean(name, s.Names()))
}

// prepare names the input of a file, unlike those before.
func prepare(f File, before []*file) *file {
	base := filepath.Base(f.Path)
	stem, _, _ := strings.Cut(base, ".")
	if f.Path == "-" {
		stem = "input"
	}
	name := strings.Join(schema.Words(stem), "-")
	if f.Survey.Read.Sheet != "" && len(f.Survey.Read.Sheets) > 1 {
		name = strings.Join(append(schema.Words(stem), schema.Words(f.Survey.Read.Sheet)...), "-")
	}
	name = cmp.Or(name, "input")
	first, n := name, 1
	for slices.ContainsFunc(before, func(o *file) bool { return o.input == name }) {
		n++
		name = fmt.Sprintf("%s-%d", first, n)
	}
	made := &file{File: f, input: name}
	for i, c := range f.Survey.Columns {
		from := &column{Column: c, ref: c.Name, texts: f.Survey.Distinct(i)}
		if slices.ContainsFunc(f.Survey.Columns, func(o *survey.Column) bool {
			return o != c &&
				source.FoldName(o.Name) == source.FoldName(c.Name)
		}) {
			from.ref = fmt.Sprintf("column %d", i+1)
		}
		from.texts = slices.DeleteFunc(from.texts, from.isWord)
		from.dates()
		for _, t := range from.texts {
			from.plain = append(from.plain, source.FoldName(t))
		}
		made.columns = append(made.columns, from)
	}
	return made
}

// expect takes into account what files could bring into tables, so that other columns may refer to that.
func (m *matcher) expect(files []*file) {
	var could []*block
	for _, f := range files {
		for _, t := range m.schema.Tables {
			if t.Odd != "" {
				continue
			}
			if b := m.fit(f, t); len(b.missing) == 0 {
				could = append(could, b)
			}
		}
	}
	m.bring(could)
}

// bring has tables hold the keys that blocks bring into them, and no other ones of files.
func (m *matcher) bring(blocks []*block) {
	columns := map[place][]*column{}
	for _, b := range blocks {
		for _, x := range b.fed {
			if x.column != nil && b.table.UniqueOn([]string{x.of.Name}) {
				p := place{b.table, x.of.Name}
				columns[p] = append(columns[p], x.column)
			}
		}
	}
	m.values.bring(columns)
}

// best is the table that a file fits best, with those that it refers to and that the file fills too; nil when it fits
// none.
func (m *matcher) best(f *file) (best *block, filled []*block) {
	const near = 0.5 // between tables that fit about as well
	most, second := 0.5, -100.0
	var other *schema.Table
	if m.only != nil || f.Into != "" {
		most = -100 // a person says so
	}
	for _, t := range m.schema.Tables {
		if t.Odd != "" || m.only != nil && !slices.Contains(m.only, t) || f.Into != "" && f.Into != t.Name {
			continue
		}
		b := m.fit(f, t)
		if len(b.fed) == 0 {
			continue
		}
		parents := m.fillable(b)
		switch worth := b.worth(parents); {
		case worth > most:
			if best != nil {
				second, other = most, best.table
			}
			most, best, filled = worth, b, parents
		case worth > second:
			second, other = worth, t
		}
	}
	if best == nil || m.only != nil || f.Into != "" {
		return best, filled
	}
	switch used := best.used(filled); {
	case second > most-near && !slices.ContainsFunc(filled, func(p *block) bool { return p.table == other }):
		best.rival = other
		best.doubt = fmt.Sprintf("%s fits %s about as well; draft --table says which it is", f.input, other.Name)
	case 2*used < len(f.columns):
		best.doubt = fmt.Sprintf("only %d of %d columns of %s are used; draft --table says which table it is for", used,
			len(f.columns), f.input)
	}
	return best, filled
}

// fillable lists the blocks for tables in which a block finds rows, where the file knows more of them than their keys,
// or where they are empty and a lookup can't add their rows.
func (m *matcher) fillable(b *block) []*block {
	var all []*block
	for _, t := range parents(b) {
		if p := m.fitParent(b, t); len(p.missing) == 0 && len(p.fed) > 0 &&
			(p.knowsMore(b) || m.empty(t) && !p.isName()) {
			all = append(all, p)
		}
	}
	return all
}

// fitParent matches the file of a block with a table in which the block finds rows. A column that feeds the block is
// not left over for it.
func (m *matcher) fitParent(child *block, t *schema.Table) *block {
	p := m.fit(child.file, t)
	p.child = child
	p.fed = slices.DeleteFunc(p.fed, func(x assignment) bool { return x.left && !child.unused(x.column) })
	var names []string
	for _, x := range p.fed {
		names = append(names, x.of.Name)
	}
	p.missing = t.Missing(names)
	return p
}

// blocks finds the blocks of all files.
func (m *matcher) blocks(files []*file) []*block {
	var all, filled []*block
	mains := map[*schema.Table]bool{}
	for _, f := range files {
		if b, parents := m.best(f); b != nil {
			all, filled = append(all, b), append(filled, parents...)
			mains[b.table] = true
		}
	}
	for _, b := range filled {
		if !mains[b.table] { // a file of its own knows best
			all = append(all, b)
		}
	}
	return all
}

// parents lists the tables in which a block finds rows.
func parents(b *block) []*schema.Table {
	var all []*schema.Table
	var visit func(assignment)
	visit = func(x assignment) {
		if x.lookup == nil {
			return
		}
		if x.lookup.table != b.table && !slices.Contains(all, x.lookup.table) {
			all = append(all, x.lookup.table)
		}
		for _, by := range x.lookup.by {
			visit(by)
		}
	}
	for _, x := range b.fed {
		visit(x)
	}
	return all
}

// knowsMore reports whether the file has columns for the parent b that its child leaves unused.
func (b *block) knowsMore(child *block) bool {
	return slices.ContainsFunc(b.fed, func(x assignment) bool {
		for _, c := range b.file.columns {
			if x.uses(c) && child.unused(c) && x.Score >= sure && !b.table.UniqueOn([]string{x.of.Name}) {
				return true
			}
		}
		return false
	})
}

// empty reports whether a table has no rows, and no file brings any.
func (m *matcher) empty(t *schema.Table) bool {
	size, err := m.values.size(t)
	m.err = cmp.Or(m.err, err)
	for p := range m.values.comes {
		if p.table == t {
			return false
		}
	}
	return size == 0
}

// isName reports whether the table needs nothing but one unique column, so that a lookup can add its rows.
func (b *block) isName() bool {
	return isNames(b.table) && b.table.Identity() != nil && slices.ContainsFunc(b.fed, func(x assignment) bool {
		return b.table.UniqueOn([]string{x.of.Name}) && len(b.table.Missing([]string{x.of.Name})) == 0
	})
}

// undecided says why a column of a parent may differ between lines with the same key; "" where the file shows none that
// do, or is too short to tell.
func (b *block) undecided(x assignment) string {
	from := cmp.Or(x.column, x.single())
	key, _, _ := b.key()
	if b.child == nil || from == nil || len(key) != 1 || key[0] == x.of.Name {
		return ""
	}
	for _, k := range b.fed {
		by := cmp.Or(k.column, k.single())
		if k.of.Name != key[0] || by == nil {
			continue
		}
		for _, p := range b.file.Survey.Parents {
			if p.Column != by.Name {
				continue
			}
			at := slices.IndexFunc(p.Decides, func(d survey.Decision) bool { return d.Column == from.Name })
			switch {
			case at < 0:
				return fmt.Sprintf("it differs between lines with the same %s", by.Name)
			case p.Decides[at].Against.Count > 0:
				return fmt.Sprintf("%d lines differ from others with the same %s%s",
					p.Decides[at].Against.Count, by.Name, onLine(p.Decides[at].Against, ", the first is line %d"))
			}
		}
	}
	return ""
}

// key is the key of a block: a unique constraint whose columns are all fed, else columns that tell the rows of the file
// apart; none when there are none.
func (b *block) key() (columns []string, why string, certain bool) {
	if b.file.Key != nil && b.child == nil {
		return b.file.Key, "as you said", true
	}
	for _, k := range slices.Backward(b.table.Keys) { // ids last
		if !slices.ContainsFunc(k.Columns, func(c string) bool { return !b.feeds(c) }) {
			return k.Columns, "a unique constraint", true
		}
	}
	for _, k := range b.file.Survey.Keys {
		var fed []string
		for _, name := range k.Columns {
			for _, x := range b.fed {
				if from := cmp.Or(x.column, x.single()); from != nil && from.Name == name && k.Repeats == 0 &&
					x.of.Type.Kind != value.Float {
					fed = append(fed, x.of.Name)
				}
			}
		}
		if len(fed) == len(k.Columns) {
			return fed, "no unique key of the table is filled; these columns identify the lines of the file", false
		}
	}
	return nil, "no columns identify the rows, so every line is added", false
}
