package clean

import (
	"bytes"
	"hash/maphash"

	"ladle/internal/core/value"
)

// memo remembers what cells of a column became, since values repeat. It forgets what another cell takes the slot of,
// and rests when too little repeats. It holds no pointers, so the garbage collector passes it by.
type memo struct {
	resting int // how many cells it is not asked for
	asked   int
	hits    int
	slots   []memoSlot
	texts   []byte // cells, and behind each what it became where that is a text
}

func newMemo() *memo { return &memo{slots: make([]memoSlot, memoSlots)} }

type memoSlot struct {
	hash   uint32 // not 0
	at     uint32 // of the cell in texts
	length uint16 // of the cell
	result uint16 // of the text that it became
	state  value.State
	stored byte // as what a workbook stores the cell
	did    deeds
	num    int64
}

const (
	memoSlots = 1 << 14
	memoTexts = 1 << 20
	longest   = 1 << 10 // cell that is remembered
	sample    = 1 << 11 // cells, of which one in four must be known
	rest      = 1 << 17
)

var memoSeed = maphash.MakeSeed()

// find returns the slot for a cell, and whether the cell is remembered in it; nil while the memo rests.
func (m *memo) find(cell []byte, stored byte) (slot *memoSlot, hash uint32, known bool) {
	if m.resting > 0 {
		m.resting--
		return nil, 0, false
	}
	if m.asked++; m.asked == sample {
		if m.hits < sample/4 {
			m.resting = rest
		}
		m.asked, m.hits = 0, 0
	}
	wide := maphash.Bytes(memoSeed, cell)
	hash = uint32(wide>>32) | 1
	at := wide % memoSlots
	for _, i := range [2]uint64{at, at ^ 1} { // both are in one line of the processor's cache
		if slot = &m.slots[i]; slot.hash == hash && int(slot.length) == len(cell) && slot.stored == stored &&
			bytes.Equal(m.texts[slot.at:int(slot.at)+len(cell)], cell) {
			m.hits++
			return slot, hash, true
		}
	}
	if first := &m.slots[at]; first.hash == 0 || hash&2 != 0 {
		slot = first
	}
	return slot, hash, false
}

// put adds what a slot remembers to a column.
func (m *memo) put(to *value.Column, s *memoSlot) {
	switch {
	case s.state != value.Given:
		to.AppendState(s.state)
	case to.Wide():
		start := int(s.at) + int(s.length)
		to.AppendBytes(m.texts[start : start+int(s.result)])
	default:
		to.AppendNum(s.num)
	}
}

// keep remembers what a cell became: the last slot of a column.
func (m *memo) keep(slot *memoSlot, hash uint32, cell []byte, stored byte, did deeds, from *value.Column) {
	last := from.Len() - 1
	if len(cell) > longest || from.States[last] == value.Bad {
		return
	}
	made := memoSlot{hash: hash, length: uint16(len(cell)), state: from.States[last], stored: stored,
		did: did}
	var result []byte
	if made.state == value.Given {
		if from.Wide() {
			result = from.Bytes(last)
		} else {
			made.num = from.Nums[last]
		}
	}
	if len(result) > longest {
		return
	}
	if len(m.texts)+len(cell)+len(result) > memoTexts {
		m.texts = m.texts[:0]
		clear(m.slots)
	}
	made.at, made.result = uint32(len(m.texts)), uint16(len(result))
	m.texts = append(append(m.texts, cell...), result...)
	*slot = made
}
