package load

import (
	"hash/maphash"
	"math/bits"
)

// hash stands for a key. It is wide enough, and seeded anew in each run, to be taken for the key itself: among
// 10^9 keys two have the same hash with a chance of 10^-20.
type hash struct{ hi, lo uint64 }

var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

func hashOf(key []byte) hash {
	return hash{maphash.Bytes(seeds[0], key) | 1, maphash.Bytes(seeds[1], key)} // hi is never 0, which marks a free slot
}

// part is which of n partitions the hash belongs to.
func (h hash) part(n int) int {
	high, _ := bits.Mul64(h.lo, uint64(n))
	return int(high)
}

// keySet is a compact set of hashes: open addressing with linear probing. Slots hold what is known of each key in
// slices beside it, made by grow.
type keySet struct {
	slots []hash
	used  int
	grow  func(slots int, moved func(move func(from, to int))) // lays the slices beside it anew
}

// find gives the slot of h.
func (k *keySet) find(h hash) (int, bool) {
	if len(k.slots) == 0 {
		return 0, false
	}
	slot, found := k.probe(h)
	return slot, found
}

func (k *keySet) probe(h hash) (int, bool) {
	high, _ := bits.Mul64(h.hi, uint64(len(k.slots)))
	for slot := int(high); ; slot++ {
		if slot == len(k.slots) {
			slot = 0
		}
		if k.slots[slot] == h {
			return slot, true
		}
		if k.slots[slot].hi == 0 {
			return slot, false
		}
	}
}

// insert gives the slot of h, and whether it was there before.
func (k *keySet) insert(h hash) (int, bool) {
	if k.used >= len(k.slots)*7/10 {
		k.resize(max(1024, len(k.slots)*2))
	}
	slot, found := k.probe(h)
	if !found {
		k.slots[slot] = h
		k.used++
	}
	return slot, found
}

// room makes room for n keys.
func (k *keySet) room(n int64) {
	if want := int(n*10/7) + 1024; want > len(k.slots) {
		k.resize(want)
	}
}

func (k *keySet) resize(slots int) {
	old := k.slots
	k.slots = make([]hash, slots)
	k.grow(slots, func(move func(from, to int)) {
		for from, h := range old {
			if h.hi != 0 {
				to, _ := k.probe(h)
				k.slots[to] = h
				move(from, to)
			}
		}
	})
}
