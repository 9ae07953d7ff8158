package keyindex

import (
	"hash/maphash"
	"math/bits"

	"ladle/internal/core/value"
)

// Hash stands for a key. It is wide enough, and seeded anew in each run, to be taken for the key itself: among 10^9
// keys two have the same hash with a chance of 10^-20. The zero Hash is that of a row without a key.
type Hash struct{ Hi, Lo uint64 }

var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// HashOf returns the hash of a key, which is never the zero Hash.
func HashOf(key []byte) Hash {
	return Hash{maphash.Bytes(seeds[0], key) | 1, maphash.Bytes(seeds[1], key)}
}

// contentSeed is that of the hashes of contents.
var contentSeed = maphash.MakeSeed()

// ContentOf is a hash of what stands in a row or line, seeded anew in each run, which is never 0. Rows and lines of one key are
// compared by it: two that differ have the same one with a chance of 10^-19.
func ContentOf(row []byte) uint64 { return max(1, maphash.Bytes(contentSeed, row)) }

// HashRow returns the hash of row i of columns, all of its states included.
func HashRow(columns []*value.Column, i int) Hash {
	var buf [256]byte
	all := buf[:0]
	for _, c := range columns {
		all = c.AppendIdentity(all, i)
	}
	return HashOf(all)
}

// None reports whether there is no key.
func (h Hash) None() bool { return h.Hi == 0 }

// Part is which of n partitions the hash belongs to.
func (h Hash) Part(n int) int {
	high, _ := bits.Mul64(h.Lo, uint64(n))
	return int(high)
}

// Map is a compact map from hashes to values: open addressing with linear probing. The zero Map is empty.
type Map[V any] struct {
	slots  []Hash // a zero Hash marks a free one
	values []V
	used   int
}

// Set is a Map of nothing.
type Set = Map[struct{}]

// Len is the number of keys.
func (m *Map[V]) Len() int { return m.used }

// Find returns what is kept of h; nil when h is not in the map. It is good until the next Insert.
func (m *Map[V]) Find(h Hash) *V {
	if len(m.slots) == 0 {
		return nil
	}
	if slot, found := m.probe(h); found {
		return &m.values[slot]
	}
	return nil
}

// Insert returns what is kept of h, and whether it was in the map before; else it is a zero value now.
func (m *Map[V]) Insert(h Hash) (v *V, found bool) {
	if m.used >= len(m.slots)*7/10 {
		m.resize(max(1024, len(m.slots)*2))
	}
	slot, found := m.probe(h)
	if !found {
		m.slots[slot] = h
		m.used++
	}
	return &m.values[slot], found
}

// Each calls visit for each key, in no order.
func (m *Map[V]) Each(visit func(h Hash, v *V)) {
	for slot, h := range m.slots {
		if !h.None() {
			visit(h, &m.values[slot])
		}
	}
}

// Grow makes room for n keys.
func (m *Map[V]) Grow(n int64) {
	if want := int(n*10/7) + 1024; want > len(m.slots) {
		m.resize(want)
	}
}

// Clear empties the map and frees its memory.
func (m *Map[V]) Clear() { *m = Map[V]{} }

func (m *Map[V]) probe(h Hash) (slot int, found bool) {
	high, _ := bits.Mul64(h.Hi, uint64(len(m.slots)))
	for slot := int(high); ; slot++ {
		if slot == len(m.slots) {
			slot = 0
		}
		if m.slots[slot] == h {
			return slot, true
		}
		if m.slots[slot].None() {
			return slot, false
		}
	}
}

func (m *Map[V]) resize(slots int) {
	old, values := m.slots, m.values
	m.slots, m.values = make([]Hash, slots), make([]V, slots)
	for from, h := range old {
		if !h.None() {
			to, _ := m.probe(h)
			m.slots[to], m.values[to] = h, values[from]
		}
	}
}
