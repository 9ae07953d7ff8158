package propose

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/reason"
	"ladle/internal/core/survey"
)

// key gives a table its keys: a column of whole numbers that tells all lines apart is the primary key; else the rows
// get numbers, and what tells the lines apart is unique.
func (m *maker) key(t *Table) {
	found := t.natural()
	switch {
	case found == nil:
		m.number(t)
		t.Columns[0].doubt("no column, and no few of them, tell the lines apart: a file that is loaded twice adds its rows twice")
		return
	case !m.keyed(t, found):
		m.number(t)
		t.Columns[0].because("each line becomes a row, as was said")
		return
	}
	all := "all lines"
	if found.Repeats > 0 {
		all = "the lines"
	}
	if c := t.column(found.Columns[0]); len(found.Columns) == 1 && c.Type.Kind.whole() {
		c.Primary, c.Required = true, true
		c.because("tells " + all + " apart")
		return
	}
	m.number(t)
	var names []string
	for _, header := range found.Columns {
		c := t.column(header)
		c.Required = true
		names = append(names, c.Name)
		others := ""
		if len(found.Columns) > 1 {
			others = " with " + strings.Join(without(found.Columns, header), ", ")
		}
		c.because("tells " + all + " apart" + others)
	}
	t.Unique = append(t.Unique, names)
}

// keyed reports whether the table has a key where lines have that of an earlier one: equal ones are loaded once, and
// others are set aside.
func (m *maker) keyed(t *Table, k *survey.Key) bool {
	if k.Repeats == 0 {
		return true
	}
	repeat := "repeat"
	if k.Repeats == 1 {
		repeat = "repeats"
	}
	place := ""
	if len(k.First) > 0 {
		place = fmt.Sprintf("; the first is line %d, with that of line %d", k.First[0].Line, k.First[0].Earlier)
	}
	why := fmt.Sprintf("%s %s the key of an earlier one%s", reason.Plural(k.Repeats, "line"), repeat, place)
	names := strings.Join(k.Columns, ", ")
	return m.settle(t, t.column(k.Columns[0]), why,
		Choice{names + " is the key: equal lines are loaded once, others set aside",
			asProposed}, Choice{"there is no key: each line becomes a row", noKey}) != noKey
}

func without(all []string, one string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(s string) bool { return s == one })
}

// whole reports whether values are whole numbers.
func (k Kind) whole() bool { return k == Integer || k == BigInt }

// natural is the key of the file that tells its lines apart; nil where there is none. One that tells all of them apart
// goes before others, one of fewer columns before one of more, and the first in the file before the next.
func (t *Table) natural() (best *survey.Key) {
	for i := range t.input.Keys {
		k := &t.input.Keys[i]
		if k.Blanks > 0 || slices.ContainsFunc(k.Columns, func(h string) bool {
			c := t.column(h)
			return c == nil || len(k.Columns) == 1 && !c.Type.Kind.whole() && c.Type.Kind != Text
		}) {
			continue
		}
		better := best == nil || k.Repeats == 0 && best.Repeats > 0 ||
			(k.Repeats == 0) == (best.Repeats == 0) && len(k.Columns) < len(best.Columns)
		if better {
			best = k
		}
	}
	return best
}

// number gives the rows of a table numbers.
func (m *maker) number(t *Table) {
	name := "id"
	if m.TableIDs {
		name = t.Name + "_id"
	}
	name = free(name, func(n string) bool {
		return slices.ContainsFunc(t.Columns, func(c *Column) bool { return c.Name == n })
	})
	t.Columns = slices.Insert(t.Columns, 0, &Column{Name: name, Type: Type{Kind: Integer}, Required: true, Primary: true,
		number: true, Why: "a number for each row"})
	if m.BigIDs {
		t.Columns[0].Type.Kind = BigInt
		t.Columns[0].because("as large as those of the tables that are there")
	}
}

// primary is the column of the primary key.
func (t *Table) primary() *Column {
	for _, c := range t.Columns {
		if c.Primary {
			return c
		}
	}
	return nil
}

// relate makes a column refer to the table of the file whose key its values are.
func (m *maker) relate(r survey.Relation) {
	child, parent := m.named(r.Input), m.named(r.Parent)
	if child == nil || parent == nil {
		return
	}
	c, key := child.column(r.Column), parent.column(r.Key)
	if c == nil || key == nil || c.Refers != nil || c.Primary {
		return
	}
	unique := key.Primary || slices.ContainsFunc(parent.Unique, func(u []string) bool {
		return slices.Equal(u,
			[]string{key.Name})
	})
	of := parent.From
	if child == parent {
		of = "the same file"
	}
	says := fmt.Sprintf("its %s are in %s of %s", reason.Plural(int64(r.Values), "value"), r.Key, of)
	switch {
	case !unique:
		return
	case len(r.Missing) > 0:
		if !m.refersAnyway(child, c, fmt.Sprintf("%d of its %s are in %s of %s, but not %q: no foreign key", r.Shared,
			reason.Plural(int64(r.Values), "value"), r.Key, of, r.Missing[0]), r.Key+" of "+of) {
			return
		}
	default:
		c.because(says)
	}
	m.refer(child, c, parent)
}

// refersAnyway reports whether a column refers to keys that lack some of its values.
func (m *maker) refersAnyway(t *Table, c *Column, why, keys string) bool {
	anyway := m.settle(t, c, why, Choice{"no foreign key", asProposed},
		Choice{"a foreign key to " + keys + ": lines with other values will be set aside", refers}) == refers
	if anyway {
		c.because("refers to " + keys + ", as was said")
	}
	return anyway
}

// refer makes a column hold the primary key of another table.
func (m *maker) refer(child *Table, c *Column, parent *Table) {
	p := parent.primary()
	c.Refers, c.Type, c.Among = &Target{parent.Name, p.Name}, p.Type, nil
	if !p.number {
		return
	}
	if child == parent {
		child.rename(c, c.Name+"_id")
		return
	}
	child.rename(c, parent.Name+"_id")
}

// rename gives a column another name, in keys too, with a number where it is taken.
func (t *Table) rename(c *Column, name string) {
	old := c.Name
	c.Name = free(plain(name, "id"), func(n string) bool {
		return slices.ContainsFunc(t.Columns, func(o *Column) bool { return o != c && o.Name == n })
	})
	for _, u := range t.Unique {
		for i := range u {
			if u[i] == old {
				u[i] = c.Name
			}
		}
	}
}

// named is the table of a file.
func (m *maker) named(input string) *Table {
	for _, in := range m.survey.Inputs {
		if in.Read.Name() == input {
			return m.of[in]
		}
	}
	return nil
}

// split makes tables of columns that decide others in a file.
func (m *maker) split(t *Table) {
	const fewest = 2 // lines of each value, on average
	for _, p := range t.input.Parents {
		key := t.column(p.Column)
		if key == nil || key.Refers != nil || key.Primary || key.Type.Kind != Text && !key.Type.Kind.whole() ||
			p.Distinct*fewest > t.input.Rows {
			continue
		}
		var moved []*Column
		for _, d := range p.Decides {
			c := t.column(d.Column)
			if c == nil || c.Refers != nil || d.Against.Count > 0 || t.unique(c.Name) {
				continue
			}
			moved = append(moved, c)
		}
		if len(moved) == 0 || m.owned(t, p.Column) {
			continue
		}
		m.parent(t, key, moved, p)
	}
}

// owned reports whether a file of its own has the values of a column as its key.
func (m *maker) owned(t *Table, header string) bool {
	return slices.ContainsFunc(m.survey.Relations, func(r survey.Relation) bool {
		return r.Input == t.From && r.Column == header && len(r.Missing) == 0
	})
}

// unique reports whether a column is part of a unique key.
func (t *Table) unique(name string) bool {
	return slices.ContainsFunc(t.Unique, func(u []string) bool { return slices.Contains(u, name) })
}

// parent makes a table of a column and those that it decides.
func (m *maker) parent(t *Table, key *Column, moved []*Column, p survey.Parent) {
	var headers []string
	for _, c := range moved {
		headers = append(headers, c.Header)
	}
	made := &Table{From: t.From, input: t.input, made: true, Why: fmt.Sprintf("from %s: %s decides %s", t.From, p.Column,
		strings.Join(headers, ", "))}
	made.Name = m.tableName(key.Name)
	own := *key
	own.Required = true
	made.Columns = append([]*Column{&own}, moved...)
	m.number(made)
	made.Unique = [][]string{{own.Name}}
	m.made.Tables = append(m.made.Tables, made)
	t.Columns = slices.DeleteFunc(t.Columns, func(c *Column) bool { return slices.Contains(moved, c) })
	key.Why = fmt.Sprintf("%s in %s", reason.Plural(p.Distinct, "distinct value"), reason.Plural(t.input.Rows, "line"))
	m.refer(t, key, made)
}
