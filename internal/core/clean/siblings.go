package clean

import (
	"context"
	"encoding/binary"
	"slices"

	"ladle/internal/core/formula"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// group is what rows that belong together have in a column.
type group struct {
	cell     cell
	text     string // of the cell, canonical
	position int64
	other    string        // another text, when they don't agree
	place    int64         // where that stands
	clash    *reason.Cause // both, once that is known
}

// groupCell is a cell that was noted for a group.
type groupCell struct {
	fill  *fill
	key   string
	group group
}

// key names the group that a row belongs to; not ok when it belongs to none, because a cell is blank.
func (k *rowCleaner) key(columns []int) (key []byte, bad *cell, ok bool) {
	for _, s := range columns {
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
func (k *rowCleaner) note(f *fill, c *cell) {
	if c.state != value.Given {
		return
	}
	if key, _, ok := k.key(f.same); ok {
		k.found = append(k.found, groupCell{f, string(key), group{cell: c.copied(), text: string(c.written())}})
	}
}

// copied is the cell in memory of its own.
func (c *cell) copied() cell {
	own := *c
	own.raw, own.text = nil, slices.Clone(c.text)
	own.digits.Whole, own.digits.Fraction = slices.Clone(c.digits.Whole), slices.Clone(c.digits.Fraction)
	return own
}

// sibling returns a blank cell the value that all other rows of its group have.
func (k *rowCleaner) sibling(i int, f *fill, to *cell) {
	key, bad, ok := k.key(f.same)
	switch {
	case bad != nil:
		to.bad(bad.blame, bad.why)
	case !ok:
	default:
		g := f.groups[string(key)]
		if g == nil {
			return
		}
		if g.clash != nil {
			to.bad(i, g.clash)
			return
		}
		k.take(i, to, &g.cell)
	}
}

// merge brings cells that were noted together, in the order of the file.
func merge(all []groupCell) {
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

// gatherAll reads the table as often as what depends on other lines asks, and returns what is to be read then: the
// table, or the same once more.
func (r *Recipe) gatherAll(ctx context.Context, t source.Table, told func(int64)) (source.Table, error) {
	var origins []source.Origin
	if r.aboveOf != nil {
		seen, err := r.carry(ctx, t, told)
		if err != nil {
			return nil, err
		}
		origins = seen
	}
	for level := 1; level <= r.levels; level++ {
		var wanted []int
		for _, f := range r.fills {
			if f.level == level {
				f.groups = nil
				wanted = append(append(wanted, f.column), f.same...)
			}
		}
		for _, a := range r.acrossAt(level) {
			wanted = append(wanted, a.columns()...)
			if err := a.begin(t); err != nil {
				return nil, err
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
		for _, a := range r.acrossAt(level) {
			if err := a.end(); err != nil {
				return nil, err
			}
		}
	}
	if origins == nil {
		return t, nil
	}
	return source.Replay(t, origins), nil
}

// gather reads the table once for the groups of a level.
func (r *Recipe) gather(ctx context.Context, t source.Table, order []int, level int, only bool,
	told func(int64)) ([]source.Origin, error) {
	origins := []source.Origin{}
	fields, asked, first := r.file, r.acrossAt(level), 0
	work := func(chunk *source.Chunk) *rowCleaner {
		chunk.Seal()
		k, enough := r.newRowCleaner(order, level), 4096
		k.begin(chunk.Origin)
		k.lines = map[*across][]acrossLine{}
		chunk.KeepPassed = r.aboveOf != nil
		var record source.Record
		for chunk.Next(&record) {
			before := len(k.found)
			k.pass(record.Passed)
			k.found = k.found[:before]
			if record.Dropped {
				continue
			}
			if source.Misshapen(&record, fields) != nil {
				k.unread()
				continue
			}
			k.row(&record)
			if only && !k.keeps() {
				k.found = k.found[:before]
				continue
			}
			for _, a := range asked {
				k.noteAcross(a, k.line, record.Position)
			}
			for i := before; i < len(k.found); i++ {
				k.found[i].group.position = record.Position
			}
			if len(k.found) > enough {
				k.found = firstOnes(k.found)
				enough = max(enough, 2*len(k.found))
			}
		}
		return k
	}
	err := source.Each(ctx, t, work, func(chunk *source.Chunk, k *rowCleaner) error {
		if told != nil {
			told(chunk.Origin.Done)
		}
		origins = append(origins, chunk.Origin)
		merge(k.found)
		for _, a := range asked {
			if err := a.add(placeOf(chunk.Origin), first, k.line+1, k.lines[a]); err != nil {
				return err
			}
		}
		first += k.line + 1
		return nil
	})
	return origins, err
}

// firstOnes leaves out what says nothing new of a group.
func firstOnes(all []groupCell) []groupCell {
	type about struct {
		fill *fill
		key  string
		text string
		form formula.Kind
	}
	seen := make(map[about]bool, len(all))
	return slices.DeleteFunc(all, func(x groupCell) bool {
		a := about{x.fill, x.key, x.group.text, x.group.cell.form}
		was := seen[a]
		seen[a] = true
		return was
	})
}

// clashes notes where groups of a level don't agree.
func (r *Recipe) clashes(t source.Table, level int) {
	for _, f := range r.fills {
		if f.level != level {
			continue
		}
		names := make([]string, len(f.same))
		for i, s := range f.same {
			names[i] = r.columns[s].name
		}
		for _, g := range f.groups {
			if g.place != 0 {
				g.clash = &reason.Cause{Why: reason.Why{Kind: reason.GroupDisagrees, Columns: reason.List(names...)},
					Detail: reason.Detail{Other: source.PlaceOf(t, g.position), Value: g.text,
						Third: source.PlaceOf(t, g.place), Theirs: g.other}}
			}
		}
	}
}
