package judge

import (
	"cmp"
	"slices"
	"strings"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Growth is what lookups add to a table by some of its columns.
type Growth struct {
	Table   *schema.Table
	Columns []string
	Rows    []NewRow  // in the order of the files that name them
	Similar []Similar // those that look like other names, and that a person accepted

	index     *index
	additions []*addition // those of Rows
}

// addition is a row of a lookup table that is added when a line needs it.
type addition struct {
	index  *index
	key    keyindex.Hash
	lookup *lookup // the one that asked for it first
	number int
	needed bool
	lines  int64        // that need it
	first  origin       // the first line that needs it
	values *value.Batch // as that line spells it: one row for the index's columns
}

// origin is a line of an input.
type origin struct {
	feed int
	line int64
}

func (o origin) compare(p origin) int {
	return cmp.Or(cmp.Compare(o.feed, p.feed), cmp.Compare(o.line, p.line))
}

// feedBits is where the number of a feed stands in a number that names a line.
const feedBits = 52

// refOfLine names a line by one number, and lineOf is its inverse.
func refOfLine(feed int, position int64) int64 { return int64(feed)<<feedBits | position }

func lineOf(ref int64) (feed int, position int64) {
	return int(ref >> feedBits), ref & (1<<feedBits - 1)
}

// newName is a name that a lookup would add, whatever the round of judging.
type newName struct {
	index string
	key   keyindex.Hash
}

func (x *index) name(h keyindex.Hash) newName {
	return newName{x.Table.Name + "." + strings.Join(x.Columns, ", "), h}
}

// growths lists what the additions that are needed come to.
func (r *round) growths() []*Growth {
	var all []*Growth
	for _, x := range r.indexes {
		g := &Growth{Table: x.Table, Columns: x.Columns, index: x}
		for i, a := range r.additions {
			if a.number = i; a.needed && a.index == x {
				g.additions = append(g.additions, a)
			}
		}
		if g.additions == nil {
			continue
		}
		slices.SortFunc(g.additions, func(a, b *addition) int { return a.first.compare(b.first) })
		for _, a := range g.additions {
			g.Rows = append(g.Rows, newOfLookup(a.number))
		}
		all = append(all, g)
	}
	return all
}

// Append adds the values of row i to columns, one for each of the growth's.
func (g *Growth) Append(to []value.Column, i int) {
	for c := range g.Columns {
		to[c].AppendFrom(&g.additions[i].values.Columns[c], 0)
	}
}

// Name is row i as people know it.
func (g *Growth) Name(i int) string { return textOf(value.Pointers(g.additions[i].values.Columns), 0) }

// Names lists the first names, at most so many.
func (g *Growth) Names(most int) []string {
	var all []string
	for i := range min(most, len(g.Rows)) {
		all = append(all, g.Name(i))
	}
	return all
}

// NameOf is the name of a row that a lookup adds; "" for one that it doesn't add, since no row needs it.
func (j *Judgement) NameOf(r NewRow) string {
	if !j.additions[r.Number()].needed {
		return ""
	}
	return textOf(value.Pointers(j.additions[r.Number()].values.Columns), 0)
}
