package propose

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// There is a table of the database that columns of files may refer to.
type There struct {
	Table   string
	Primary string // the column of its primary key
	Type    Type   // of that
	As      string // the same, as it was declared: a foreign key must have just that
	Key     string // the column by which people know its rows
	Values  map[string]bool
}

const (
	mostThere   = 100_000 // rows of a table whose keys are read
	fewestThere = 2       // distinct values that a column must have in it
)

// Known reads the keys of the tables of a database by which people know their rows: of those that have one column of
// texts as a key, a primary key of one column, names that need no quotes, and not too many rows.
func Known(ctx context.Context, db engine.Reader, s *schema.Schema) (all []There, err error) {
	for _, t := range s.Tables {
		key, primary := t.KnownBy(), primaryOf(t)
		if t.Odd != "" || len(key) != 1 || primary == nil || t.Column(key[0]).Type.Kind != value.Text ||
			!isPlain(t.Name, key[0], primary.Name) {
			continue
		}
		rows, _, err := db.Count(ctx, t)
		if err != nil {
			return nil, err
		}
		if rows > mostThere {
			continue
		}
		x := There{Table: t.Name, Primary: primary.Name, Type: typeThere(primary.Type), As: primary.Declared, Key: key[0],
			Values: map[string]bool{}}
		err = db.Scan(ctx, t, key, func(b *value.Batch) error {
			for row, state := range b.Columns[0].States {
				if state == value.Given {
					x.Values[b.Columns[0].Text(row)] = true
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		all = append(all, x)
	}
	return all, nil
}

// Style is how the tables of a database are made, which those beside them follow.
type Style struct {
	BigIDs   bool // generated numbers are of 64 bits
	TableIDs bool // they are called after their table, berth_id, and not id
}

// StyleOf is the style in which all tables agree that have generated numbers.
func StyleOf(s *schema.Schema) Style {
	found := 0
	style := Style{true, true}
	for _, t := range s.Tables {
		c := t.Identity()
		if c == nil {
			continue
		}
		found++
		style.BigIDs = style.BigIDs && strings.HasPrefix(strings.ToLower(c.Declared), "bigint")
		_, table, qualified := strings.Cut(t.Name, ".")
		if !qualified {
			table = t.Name
		}
		style.TableIDs = style.TableIDs && strings.EqualFold(c.Name, table+"_id")
	}
	if found == 0 {
		return Style{}
	}
	return style
}

// isPlain reports whether names need no quotes.
func isPlain(names ...string) bool {
	return !slices.ContainsFunc(names, func(n string) bool { return plain(n, "") != n })
}

// primaryOf is the column of a primary key of one column; nil where there is none.
func primaryOf(t *schema.Table) *schema.Column {
	for _, k := range t.Keys {
		if k.Primary && len(k.Columns) == 1 {
			return t.Column(k.Columns[0])
		}
	}
	return t.Identity()
}

// typeThere is the type of a column that is there.
func typeThere(t value.Type) Type {
	switch {
	case t.Kind == value.Text:
		return Type{Kind: Text, Length: t.Length}
	case t.Kind == value.Int && t.Most > 0 && t.Most < 1<<31:
		return Type{Kind: Integer}
	}
	return Type{Kind: BigInt}
}

// knownThere makes columns refer to tables that are there and have all of their values.
func (m *maker) knownThere(t *Table) {
	for _, c := range t.Columns {
		if c.number || c.Primary || c.Refers != nil || c.Type.Kind != Text || t.alone(c.Name) {
			continue
		}
		texts, all := t.texts(c)
		if len(texts) < fewestThere {
			continue
		}
		x, shared, missing := m.closest(texts)
		if x == nil || 2*shared <= len(texts) {
			continue
		}
		values := reason.Plural(int64(len(texts)), "distinct value")
		switch {
		case shared < len(texts):
			if !m.refersAnyway(t, c, fmt.Sprintf("%d of its %s are in %s.%s, but not %q: no foreign key", shared, values,
				x.Table,
				x.Key, missing), x.Table+"."+x.Key) {
				continue
			}
		case all:
			c.because(fmt.Sprintf("its %s are in %s.%s", values, x.Table, x.Key))
		default:
			c.doubt(fmt.Sprintf("the %s that come first are in %s.%s; the others weren't compared", values, x.Table, x.Key))
		}
		m.referThere(t, c, x)
	}
}

// closest is the table whose keys have the most of some texts, how many those are, and the first that it lacks.
func (m *maker) closest(texts []string) (x *There, shared int, missing string) {
	for i := range m.There {
		n, lacks := 0, ""
		for _, text := range texts {
			if m.There[i].Values[text] {
				n++
			} else if lacks == "" {
				lacks = text
			}
		}
		if n > shared {
			x, shared, missing = &m.There[i], n, lacks
		}
	}
	return x, shared, missing
}

// alone reports whether a column is a unique key by itself.
func (t *Table) alone(name string) bool {
	return slices.ContainsFunc(t.Unique, func(u []string) bool { return slices.Equal(u, []string{name}) })
}

// texts are the different texts of a column, the first some thousand of them, and whether those are all.
func (t *Table) texts(c *Column) (texts []string, all bool) {
	for i, from := range t.input.Columns {
		if from.Number != c.of {
			continue
		}
		distinct := t.input.Distinct(i)
		all = int64(len(distinct)) >= from.Distinct
		seen := map[string]bool{}
		for _, text := range distinct {
			text = strings.TrimSpace(text)
			if !seen[text] && !slices.ContainsFunc(from.Words, func(w survey.Oddity) bool { return w.What == text }) {
				texts = append(texts, text)
			}
			seen[text] = true
		}
	}
	return texts, all
}

// referThere makes a column refer to a table that is there.
func (m *maker) referThere(t *Table, c *Column, x *There) {
	c.Refers, c.Among, c.Type, c.as = &Target{x.Table, x.Primary}, nil, x.Type, x.As
	if x.Primary == x.Key {
		return
	}
	c.there = true
	t.rename(c, x.Table+"_id")
}

// Scratch is a script for a scratch database of SQLite with the proposed tables and, in short, those that are there and
// that they refer to.
func (p *Proposal) Scratch(there []There) string {
	var b strings.Builder
	for _, x := range there {
		columns := x.Primary + " INTEGER PRIMARY KEY, " + x.Key + " TEXT NOT NULL UNIQUE"
		if x.Primary == x.Key {
			columns = x.Key + " TEXT PRIMARY KEY"
		}
		fmt.Fprintf(&b, "CREATE TABLE %s (%s);\n", x.Table, columns)
		for text := range x.Values {
			fmt.Fprintf(&b, "INSERT INTO %s (%s) VALUES (%s);\n", x.Table, x.Key, SQLite.literal(text))
		}
	}
	return b.String() + p.SQL(SQLite)
}
