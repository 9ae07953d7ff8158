package clean

import (
	"context"

	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// aboves are the values that blank cells take from the lines above: for each column of if_blank: above the last one
// that is not blank.
type aboves []cell

// notSeen says of a column of aboves that no cell was seen yet that is not blank.
const notSeen value.State = 0xff

// chunkPlace tells a chunk from others of its input.
type chunkPlace struct {
	file         int
	offset, line int64
}

func placeOf(o source.Origin) chunkPlace { return chunkPlace{o.File, o.Offset, o.Line} }

var aboveUnread = &reason.Cause{Why: reason.Why{Kind: reason.AboveUnread}}

// begin starts a chunk: what stands above it is what the lines before it left.
func (k *rowCleaner) begin(o source.Origin) {
	k.beginAcross(o)
	if k.aboveOf == nil {
		return
	}
	k.above = append(k.above[:0], k.carried[placeOf(o)]...)
	for len(k.above) < len(k.aboveOf) {
		k.above = append(k.above, cell{state: notSeen})
	}
}

// unread notes a line that can't be read: what the cells below it would take is not known.
func (k *rowCleaner) unread() {
	for i := range k.above {
		k.above[i] = cell{state: value.Bad, why: aboveUnread}
	}
}

// pass goes over lines that make no row, for what stands in them above others.
func (k *rowCleaner) pass(all []source.Record) {
	k.passing = true
	defer func() { k.passing = false }()
	for i := range all {
		if len(all[i].Fields) == k.file {
			k.row(&all[i])
		}
	}
}

// noteAbove keeps a cell for the lines below, unless it has its value from elsewhere.
func (k *rowCleaner) noteAbove(c *column, own *cell) {
	switch {
	case own.state == value.Bad:
		k.above[c.above-1] = cell{state: value.Bad, why: aboveUnread}
	case own.state == value.Given && !own.did.includes(Filled) && !own.did.includes(Defaulted):
		k.above[c.above-1] = own.copied()
	}
}

// fromAbove gives a blank cell the value above it.
func (k *rowCleaner) fromAbove(i int, c *column, to *cell) {
	switch a := &k.above[c.above-1]; a.state {
	case value.Given:
		k.take(i, to, a)
	case value.Bad:
		to.bad(i, a.why)
	}
}

// carry reads the table once, for what stands above each of its chunks, and returns the origins of the chunks.
func (r *Recipe) carry(ctx context.Context, t source.Table, told func(int64)) ([]source.Origin, error) {
	r.carried = nil // as long as workers read it
	carried, now := map[chunkPlace]aboves{}, aboves{}
	for range r.aboveOf {
		now = append(now, cell{state: notSeen})
	}
	order := r.closure(r.aboveOf)
	origins := []source.Origin{}
	work := func(chunk *source.Chunk) aboves {
		chunk.Seal()
		chunk.KeepPassed = true
		k := r.newRowCleaner(order, 0)
		k.begin(source.Origin{File: -1})
		var record source.Record
		for chunk.Next(&record) {
			k.pass(record.Passed)
			switch {
			case record.Dropped:
			case source.Misshapen(&record, r.file) != nil:
				k.unread()
			default:
				k.row(&record)
			}
		}
		k.pass(chunk.Passed())
		return k.above
	}
	err := source.Each(ctx, t, work, func(chunk *source.Chunk, left aboves) error {
		if told != nil {
			told(chunk.Origin.Done)
		}
		origins = append(origins, chunk.Origin)
		carried[placeOf(chunk.Origin)] = now
		next := append(aboves{}, now...)
		for i := range left {
			if left[i].state != notSeen {
				next[i] = left[i]
			}
		}
		now = next
		return nil
	})
	r.carried = carried
	return origins, err
}
