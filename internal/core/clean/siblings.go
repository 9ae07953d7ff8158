package clean

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"

	"ladle/internal/core/formula"
	"ladle/internal/core/source"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// group is what rows that belong together have in a column.
type group struct {
	cell     cell
	text     string // of the cell, canonical
	position int64
	other    string // another text, when they don't agree
	place    int64  // where that stands
	clash    string // both, in words
}

// found is a cell that was noted for a group.
type found struct {
	fill  *fill
	key   string
	group group
}

// key names the group that a row belongs to; not ok when it belongs to none, because a cell is blank.
func (k *cook) key(f *fill) (key []byte, bad *cell, ok bool) {
	for _, s := range f.same {
		c := &k.cells[s]
		switch c.state {
		case value.Bad:
			return nil, c, false
		case value.Null:
			return nil, nil, false
		}
		at := len(key)
		key = append(key, 0, 0, 0, 0, byte(c.form))
		key = c.plain(key)
		binary.LittleEndian.PutUint32(key[at:], uint32(len(key)-at-5))
	}
	return key, nil, true
}

// note keeps a cell for its group; the row's position is set later.
func (k *cook) note(f *fill, c *cell) {
	if c.state != value.Given {
		return
	}
	if key, _, ok := k.key(f); ok {
		k.found = append(k.found, found{f, string(key), group{cell: c.copied(), text: string(c.written())}})
	}
}

// copied is the cell in memory of its own.
func (c *cell) copied() cell {
	own := *c
	own.raw, own.text = nil, slices.Clone(c.text)
	own.digits.Whole, own.digits.Fraction = slices.Clone(c.digits.Whole), slices.Clone(c.digits.Fraction)
	return own
}

// sibling gives a blank cell the value that all other rows of its group have.
func (k *cook) sibling(i int, f *fill, to *cell) {
	key, bad, ok := k.key(f)
	switch {
	case bad != nil:
		to.bad(bad.blame, bad.why)
	case !ok:
	default:
		g := f.groups[string(key)]
		if g == nil {
			return
		}
		if g.clash != "" {
			to.bad(i, "is blank, and "+g.clash)
			return
		}
		k.take(i, to, &g.cell)
	}
}

// merge brings cells that were noted together, in the order of the file.
func merge(all []found) {
	for _, x := range all {
		if x.fill.groups == nil {
			x.fill.groups = map[string]*group{}
		}
		g := x.fill.groups[x.key]
		switch {
		case g == nil:
			own := x.group
			x.fill.groups[x.key] = &own
		case g.place == 0 && (g.text != x.group.text || g.cell.form != x.group.cell.form):
			g.other, g.place = x.group.text, x.group.position
		}
	}
}

// gatherAll reads the table as often as same_for asks, and gives what is to be read then: the table, or the same once more.
func (r *Recipe) gatherAll(ctx context.Context, t source.Table, told func(int64)) (source.Table, error) {
	var origins []source.Origin
	for level := 1; level <= r.levels; level++ {
		var wanted []int
		for _, f := range r.fills {
			if f.level == level {
				f.groups = nil
				wanted = append(append(wanted, f.column), f.same...)
			}
		}
		left := r.only >= 0 && r.columns[r.only].from.level < level
		if left {
			wanted = append(wanted, r.only)
		}
		from := t
		if origins != nil {
			from = source.Replay(t, origins)
		}
		seen, err := r.gather(ctx, from, r.closure(wanted), level, left, told)
		if err != nil {
			return nil, err
		}
		origins = seen
		r.clashes(t, level)
	}
	if r.levels == 0 {
		return t, nil
	}
	return source.Replay(t, origins), nil
}

// gather reads the table once for the groups of a level.
func (r *Recipe) gather(ctx context.Context, t source.Table, order []int, level int, only bool, told func(int64)) ([]source.Origin, error) {
	origins := []source.Origin{}
	fields := r.file
	work := func(chunk *source.Chunk) []found {
		chunk.Seal()
		k, enough := r.newCook(order, level), 4096
		var record source.Record
		for chunk.Next(&record) {
			if source.Misshapen(&record, fields) != "" {
				continue
			}
			before := len(k.found)
			k.row(&record)
			if only && !k.keeps() {
				k.found = k.found[:before]
			}
			for i := before; i < len(k.found); i++ {
				k.found[i].group.position = record.Position
			}
			if len(k.found) > enough {
				k.found = firstOnes(k.found)
				enough = max(enough, 2*len(k.found))
			}
		}
		return k.found
	}
	err := source.Each(ctx, t, work, func(chunk *source.Chunk, all []found) error {
		if told != nil {
			told(chunk.Origin.Done)
		}
		origins = append(origins, chunk.Origin)
		merge(all)
		return nil
	})
	return origins, err
}

// firstOnes leaves out what says nothing new of a group.
func firstOnes(all []found) []found {
	type about struct {
		fill *fill
		key  string
		text string
		form formula.Kind
	}
	seen := make(map[about]bool, len(all))
	return slices.DeleteFunc(all, func(x found) bool {
		a := about{x.fill, x.key, x.group.text, x.group.cell.form}
		was := seen[a]
		seen[a] = true
		return was
	})
}

// clashes puts into words where groups of a level don't agree.
func (r *Recipe) clashes(t source.Table, level int) {
	for _, f := range r.fills {
		if f.level != level {
			continue
		}
		names := ""
		for i, s := range f.same {
			if i > 0 {
				names += ", "
			}
			names += r.columns[s].name
		}
		for _, g := range f.groups {
			if g.place != 0 {
				here, there := source.SpotOf(t, g.position), source.SpotOf(t, g.place)
				one, other := here.Words(), there.Words()
				if here.File != there.File {
					one, other = here.Short(), there.Short()
				}
				g.clash = fmt.Sprintf("rows with the same %s don't agree: %s has %q, %s %q", names, one, shown(g.text), other, shown(g.other))
			}
		}
	}
}

// shown is a value in messages, which stay readable when it is long.
func shown(value string) []byte { return text.Shortened([]byte(value), 80) }
