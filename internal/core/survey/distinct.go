package survey

import (
	"cmp"
	"slices"
	"strings"

	"github.com/axiomhq/hyperloglog"
	"github.com/cespare/xxhash/v2"
)

// hashOf stands for a cell: 64 bits, the same in every run and file.
func hashOf(cell []byte) uint64 { return xxhash.Sum64(cell) }

// tally is the distinct cells of one column in one chunk.
type tally struct {
	slots   []int32 // by hash: the number of an entry, from 1; a power of two of them
	entries []entry
	arena   []byte  // the texts of the entries
	ids     []int32 // for each row the number of its entry
}

// entry is a cell and how often it came.
type entry struct {
	hash   uint64
	at     uint32
	length uint32
	count  int32
	stored uint8
	id     int32 // the number of its value in all rows, from 0; -1 where that is not known
	first  int64 // the position of the first of them
}

// reset makes the tally ready for a chunk of so many rows; slots are memory for it, and what it needs of that, or more,
// is given back.
func (t *tally) reset(slots []int32, rows int) []int32 {
	size := 16
	for size < 2*rows {
		size *= 2
	}
	if cap(slots) < size {
		slots = make([]int32, size)
	} else {
		slots = slots[:size]
		clear(slots)
	}
	t.slots, t.entries, t.arena, t.ids = slots, t.entries[:0], t.arena[:0], t.ids[:0]
	return slots
}

// grow doubles the slots when they are half full.
func (t *tally) grow() {
	t.slots = make([]int32, 2*len(t.slots))
	for i, e := range t.entries {
		at := int(e.hash) & (len(t.slots) - 1)
		for t.slots[at] != 0 {
			at = (at + 1) & (len(t.slots) - 1)
		}
		t.slots[at] = int32(i + 1)
	}
}

// add counts a cell.
func (t *tally) add(cell []byte, stored uint8, position int64) {
	h := hashOf(cell)
	mask := len(t.slots) - 1
	for at := int(h) & mask; ; at = (at + 1) & mask {
		n := t.slots[at]
		if n == 0 {
			t.slots[at] = int32(len(t.entries) + 1)
			t.ids = append(t.ids, int32(len(t.entries)))
			t.entries = append(t.entries, entry{hash: h, at: uint32(len(t.arena)), length: uint32(len(cell)), count: 1,
				stored: stored, first: position})
			t.arena = append(t.arena, cell...)
			if 2*len(t.entries) > len(t.slots) {
				t.grow()
			}
			return
		}
		if e := &t.entries[n-1]; e.hash == h && e.stored == stored {
			e.count++
			t.ids = append(t.ids, n-1)
			return
		}
	}
}

func (t *tally) text(e *entry) []byte { return t.arena[e.at : e.at+e.length] }

// values is the distinct cells of a column over all rows: exact up to a bound, then an estimate, and a sample by hash
// that is the same in all columns, so that columns of several files can be compared.
type values struct {
	bound    int // distinct cells that are counted exactly
	texts    int // of them, the cells whose text is kept
	slots    []slot
	used     int
	ids      int32
	kept     []value
	bytes    int
	overflow bool
	early    []uint64            // a bit for each value that is kept, by its hash: most others have none
	level    uint                // of the sample: it has the hashes whose lowest bits are 0
	sketch   *hyperloglog.Sketch // of all hashes, once there are more than the bound
}

type slot struct {
	hash uint64
	kept int32 // the number of the value whose text is kept, from 1; 0 for others
	id   int32 // the number of the value, from 0
}

// value is a cell whose text is kept.
type value struct {
	text  string
	count int64
	first int64
}

const (
	mostDistinct = 1 << 16 // distinct cells of a column that are counted exactly, in a file of few columns
	mostTexts    = 1 << 13 // distinct cells whose text is kept
	textRoom     = 1 << 20 // bytes of them
	earlyBits    = 1 << 17
	smallTable   = 1 << 12 // distinct cells, of which fewer are found quickly anyway
	slotBudget   = 1 << 20 // distinct cells of all columns
)

func newValues(columns int) *values {
	bound := mostDistinct
	for bound > 64 && bound*columns > slotBudget {
		bound /= 2
	}
	return &values{bound: bound, texts: min(bound/2, mostTexts), slots: make([]slot, 8)}
}

// add takes what a chunk has of the column.
func (v *values) add(t *tally) {
	for i := range t.entries {
		e := &t.entries[i]
		if v.sketch != nil {
			v.sketch.InsertHash(mixed(e.hash))
		}
		e.id = -1
		if v.early != nil && e.hash&(1<<v.level-1) != 0 && v.early[e.hash>>40%earlyBits/64]>>(e.hash>>40%64)&1 == 0 {
			continue // neither in the sample nor kept
		}
		s := v.find(e.hash)
		switch {
		case s.hash == e.hash:
			e.id = s.id
			if s.kept > 0 {
				v.kept[s.kept-1].count += int64(e.count)
			}
		case e.hash&(1<<v.level-1) == 0:
			v.insert(s, t, e)
		}
	}
}

// find returns the slot of a hash, or the free one that it would take. The hash 0 is never free: see insert.
func (v *values) find(hash uint64) *slot {
	mask := len(v.slots) - 1
	for at := int(hash>>20) & mask; ; at = (at + 1) & mask {
		if s := &v.slots[at]; s.hash == hash || s.hash == 0 {
			return s
		}
	}
}

func (v *values) insert(s *slot, t *tally, e *entry) {
	s.hash, s.kept, s.id = e.hash, 0, v.ids
	e.id = v.ids
	v.ids++
	v.used++
	if !v.overflow && len(v.kept) < v.texts && v.bytes < textRoom {
		text := t.text(e)
		v.kept = append(v.kept, value{string(text), int64(e.count), e.first})
		v.bytes += len(text)
		s.kept = int32(len(v.kept))
	} else {
		v.overflow = true
	}
	switch {
	case v.used > v.bound:
		v.thin()
	case 2*v.used > len(v.slots):
		v.rehash(2 * len(v.slots))
	}
}

// thin makes the sample half as large, and from the first time on counts by the sketch.
func (v *values) thin() {
	if v.sketch == nil {
		v.sketch = hyperloglog.New14()
		for _, s := range v.slots {
			if s.hash != 0 {
				v.sketch.InsertHash(mixed(s.hash))
			}
		}
	}
	v.level++
	v.rehash(len(v.slots))
	if v.bound < smallTable {
		return
	}
	v.early = make([]uint64, earlyBits/64)
	for _, s := range v.slots {
		if s.kept > 0 {
			v.early[s.hash>>40%earlyBits/64] |= 1 << (s.hash >> 40 % 64)
		}
	}
}

// mixed spreads the bits of a hash anew: the sample takes the lowest, the sketch all.
func mixed(hash uint64) uint64 {
	hash ^= hash >> 33
	hash *= 0xff51afd7ed558ccd
	return hash ^ hash>>33
}

// rehash keeps what belongs to the sample in n slots.
func (v *values) rehash(n int) {
	old := v.slots
	v.slots, v.used = make([]slot, n), 0
	for _, s := range old {
		if s.hash != 0 && (s.hash&(1<<v.level-1) == 0 || s.kept > 0) {
			*v.find(s.hash) = s
			v.used++
		}
	}
}

// distinct is the number of distinct cells, and whether it is exact.
func (v *values) distinct() (int64, bool) {
	if v.sketch == nil {
		return int64(v.used), true
	}
	return int64(v.sketch.Estimate()), false
}

// frequent lists the n cells that came most often; of cells that came equally often the earlier one.
func (v *values) frequent(n int) []value {
	sorted := slices.Clone(v.kept)
	slices.SortFunc(sorted, func(a, b value) int {
		return cmp.Or(cmp.Compare(b.count, a.count),
			cmp.Compare(a.first, b.first))
	})
	return sorted[:min(n, len(sorted))]
}

// within counts the cells of the sample that other has too.
func (v *values) within(other *values) (shared, all int) {
	level := max(v.level, other.level)
	for _, s := range v.slots {
		if s.hash == 0 || s.hash&(1<<level-1) != 0 {
			continue
		}
		all++
		if other.find(s.hash).hash == s.hash {
			shared++
		}
	}
	return shared, all
}

// digits reports whether most cells, of those whose text is kept, have a digit.
func (v *values) digits() bool {
	n := 0
	for _, k := range v.kept {
		if strings.ContainsAny(k.text, "0123456789") {
			n++
		}
	}
	return 2*n > len(v.kept)
}

// missing lists the first n cells, of those whose text is kept, that other doesn't have.
func (v *values) missing(other *values, n int) []string {
	var lost []string
	for _, k := range v.kept {
		h := hashOf([]byte(k.text))
		if len(lost) < n && k.text != "" && h&(1<<other.level-1) == 0 && other.find(h).hash != h {
			lost = append(lost, k.text)
		}
	}
	return lost
}
