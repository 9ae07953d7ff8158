package survey

import (
	"cmp"
	"context"
	"math"
	"slices"

	"ladle/internal/core/spool"
)

const (
	sampleRows   = 20_000 // rows by which keys and parents are looked for
	sampleWork   = 20_000_000
	fewRepeats   = 0.02 // of the rows, that a near-key may not tell apart
	fewRows      = 3    // that are few in a short file too
	mostSingles  = 12
	combined     = 10 // columns that are tried in pairs and triples
	mostPairs    = 3
	mostTriples  = 2
	passKeys     = 4 << 20 // keys that are compared in one go
	keyPartition = 256
)

// sample is the hashes of the first rows, by column.
type sample struct {
	rows    int
	columns [][]uint64
	blank   uint64 // the hash of an empty cell
	most    []int  // what mostOf found, by column; 0 where it was not asked
}

// sampleSize is the number of rows by which a table of so many columns is judged.
func sampleSize(columns int) int { return max(50, min(sampleRows, sampleWork/(columns*columns))) }

// newSample takes the rows of the first passes.
func newSample(passes []*pass, columns int) *sample {
	s := &sample{columns: make([][]uint64, columns), blank: hashOf(nil)}
	most := sampleSize(columns)
	for _, p := range passes {
		n := min(p.rows, most-s.rows)
		for i := range columns {
			t := &p.tallies[i]
			for _, id := range t.ids[:n] {
				s.columns[i] = append(s.columns[i], t.entries[id].hash)
			}
		}
		s.rows += n
	}
	return s
}

// differing counts the different hashes and the blank ones.
func (s *sample) differing(hashes []uint64) (distinct, blanks int) {
	seen := make(map[uint64]struct{}, len(hashes))
	for _, h := range hashes {
		if h == s.blank {
			blanks++
			continue
		}
		seen[h] = struct{}{}
	}
	return len(seen), blanks
}

// nearKey reports whether so few of the rows repeat that the columns should be a key.
func nearKey(repeats, rows int) bool {
	return float64(repeats) <= fewRepeats*float64(rows) || repeats <= fewRows && 6*repeats < rows
}

// rowKey is the hash of a row, and where it stands.
type rowKey struct {
	hash     uint64
	position int64
}

// candidate is columns that could be a key, with the hash and position of each row.
type candidate struct {
	columns []int
	keys    *spool.Stream[rowKey]
	blanks  int64 // rows with a blank in one of the columns
}

// candidates finds what could be a key: columns that tell nearly all of the first rows apart, and the pairs and
// triples of other columns that tell all of them apart.
func (s *sample) candidates() []*candidate {
	if s.rows < 2 {
		return nil
	}
	var all []*candidate
	type column struct{ number, distinct int }
	var others []column
	for i, hashes := range s.columns {
		distinct, blanks := s.differing(hashes)
		given := len(hashes) - blanks
		switch {
		case given > 0 && nearKey(given-distinct, given) && 2*given > len(hashes):
			if len(all) < mostSingles {
				all = append(all, &candidate{columns: []int{i}})
			}
			if distinct < given {
				others = append(others, column{i, distinct})
			}
		case distinct > 1 && (blanks*100 <= len(hashes) || blanks <= fewRows):
			others = append(others, column{i, distinct})
		}
	}
	slices.SortStableFunc(others, func(a, b column) int { return cmp.Compare(b.distinct, a.distinct) })
	others = others[:min(len(others), combined)]
	slices.SortFunc(others, func(a, b column) int { return cmp.Compare(a.number, b.number) })
	if s.rows < 10 {
		return all
	}
	var pairs, triples []*candidate
	for i, a := range others {
		for j := i + 1; j < len(others); j++ {
			pair := []int{a.number, others[j].number}
			if a.distinct*others[j].distinct >= s.rows && s.unique(pair) && len(pairs) < mostPairs {
				pairs = append(pairs, &candidate{columns: pair})
			}
		}
	}
	for i := range others {
		for j := i + 1; j < len(others) && len(pairs) == 0; j++ {
			for k := j + 1; k < len(others) && len(triples) < mostTriples; k++ {
				triple := []int{others[i].number, others[j].number, others[k].number}
				if s.unique(triple) {
					triples = append(triples, &candidate{columns: triple})
				}
			}
		}
	}
	return append(append(all, pairs...), triples...)
}

// unique reports whether columns tell the first rows apart, all but very few.
func (s *sample) unique(columns []int) bool {
	const nearlyUnique = 0.995
	few := s.rows - int(math.Ceil(nearlyUnique*float64(s.rows)))
	seen := make(map[uint64]struct{}, s.rows)
	for row := range s.rows {
		h := uint64(0)
		for _, c := range columns {
			h = joined(h, s.columns[c][row])
		}
		if _, repeats := seen[h]; repeats {
			if few--; few < 0 {
				return false
			}
		}
		seen[h] = struct{}{}
	}
	return true
}

// joined is the hash of a row whose columns so far have the hash before.
func joined(before, hash uint64) uint64 {
	before = (before ^ hash) * 0x9e3779b97f4a7c15
	return before ^ before>>29
}

// add notes the keys of a pass.
func (c *candidate) add(p *pass, blank uint64, dir string) error {
	if c.keys == nil {
		c.keys = spool.NewStream[rowKey](dir)
	}
	for row := range p.rows {
		h, isBlank := uint64(0), false
		for _, column := range c.columns {
			t := &p.tallies[column]
			cell := t.entries[t.ids[row]].hash
			isBlank = isBlank || cell == blank
			if len(c.columns) == 1 {
				h = cell
			} else {
				h = joined(h, cell)
			}
		}
		if isBlank {
			c.blanks++
			continue
		}
		if err := c.keys.Append(rowKey{h, p.positions[row]}); err != nil {
			return err
		}
	}
	return nil
}

// repeat is a row whose key stands in an earlier one.
type repeat struct{ position, earlier int64 }

// repeats finds the rows whose key came before: how many, and the first of them.
func (c *candidate) repeats(ctx context.Context) (count int64, first []repeat, err error) {
	passes := uint64(c.keys.Len()/passKeys + 1)
	for n := range passes {
		if err := ctx.Err(); err != nil {
			return 0, nil, err
		}
		parts, err := c.partition(n, passes)
		if err != nil {
			return 0, nil, err
		}
		var table []uint64
		for _, keys := range parts {
			table = repeatsIn(keys, table, func(r repeat) {
				count++
				if len(first) < fewSpots || r.position < first[len(first)-1].position {
					first = append(first, r)
					slices.SortFunc(first, func(a, b repeat) int { return cmp.Compare(a.position, b.position) })
					first = first[:min(len(first), fewSpots)]
				}
			})
		}
	}
	return count, first, nil
}

// partition reads the keys that belong to pass n, in parts that fit a processor's cache.
func (c *candidate) partition(n, passes uint64) (parts [keyPartition][]uint64, err error) {
	buf := int(c.keys.Len())*2/keyPartition/int(passes)*9/8 + 16
	err = c.keys.Each(func(key *rowKey) error {
		if key.hash>>32%passes != n {
			return nil
		}
		at := key.hash % keyPartition
		if parts[at] == nil {
			parts[at] = make([]uint64, 0, buf)
		}
		parts[at] = append(parts[at], key.hash, uint64(key.position))
		return nil
	})
	return parts, err
}

// repeatsIn finds the keys that stand twice among keys: pairs of hash and position. The table is used again.
func repeatsIn(keys, table []uint64, tell func(repeat)) []uint64 {
	size := 64
	for size < len(keys) {
		size *= 2
	}
	if len(table) < 2*size {
		table = make([]uint64, 2*size)
	} else {
		table = table[:2*size]
		clear(table)
	}
	mask := uint64(size - 1)
	for i := 0; i < len(keys); i += 2 {
		hash, position := keys[i], keys[i+1]
		for at := hash >> 8 & mask; ; at = (at + 1) & mask {
			if table[2*at+1] == 0 {
				table[2*at], table[2*at+1] = hash, position
				break
			}
			if table[2*at] == hash {
				tell(repeat{int64(position), int64(table[2*at+1])})
				break
			}
		}
	}
	return table
}

func (c *candidate) close() {
	if c.keys != nil {
		_ = c.keys.Close() // a temporary file without a name
	}
}
