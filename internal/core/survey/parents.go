package survey

import (
	"cmp"
	"slices"
)

const (
	mostDetermined = 48      // pairs of columns that are followed through all rows
	mostParents    = 1 << 17 // values of a determining column that are held
	mostCompared   = 256     // columns that are held against each other, the first ones
	byChance       = 5       // contradictions that columns without a bond would have, for it to be one
)

// determinant is a column that could decide others: each value of it always comes with the same values of theirs.
type determinant struct {
	column int
	others []dependent
	known  []bool   // for each value whether it was met
	held   []uint64 // for each value the hashes of the others
	met    int      // values
	full   bool
	ids    []int32 // room: for each entry of a pass, where its value stands in held
	fine   []int32 // room: for each entry, the entry of one of the others that was found to be right
}

// dependent is a column that another one decides.
type dependent struct {
	column    int
	usual     map[uint64]uint64 // by the value of the one that decides, the value that most of the first rows have
	against   places            // rows that contradict
	abandoned bool
}

// determinants finds, in the first rows, columns that repeat and decide others.
func (s *sample) determinants() []*determinant {
	var all []*determinant
	pairs := 0
	for a, hashes := range s.columns[:min(len(s.columns), mostCompared)] {
		distinct, blanks := s.differing(hashes)
		given := s.rows - blanks
		if distinct < 2 || 2*distinct > given || pairs >= mostDetermined {
			continue
		}
		first := s.firsts(hashes)
		d := &determinant{column: a}
		for b := range s.columns[:min(len(s.columns), mostCompared)] {
			if b == a || pairs+len(d.others) >= mostDetermined {
				continue
			}
			if usual, ok := s.decides(hashes, first, b, given-distinct); ok {
				d.others = append(d.others, dependent{column: b, usual: usual})
			}
		}
		if d.others != nil {
			pairs += len(d.others)
			all = append(all, d)
		}
	}
	return all
}

// firsts returns for each row the first one with the same value; -1 for blank ones.
func (s *sample) firsts(hashes []uint64) []int32 {
	rows := map[uint64]int32{}
	first := make([]int32, len(hashes))
	for row, h := range hashes {
		if h == s.blank {
			first[row] = -1
			continue
		}
		at, seen := rows[h]
		if !seen {
			at = int32(row)
			rows[h] = at
		}
		first[row] = at
	}
	return first
}

// decides reports whether rows with the same value of a column, of which repeats come again, have the same of b, but
// for few, although b differs so much that this is not by chance. usual has what most rows with a value have of b.
func (s *sample) decides(hashes []uint64, first []int32, b, repeats int) (usual map[uint64]uint64, ok bool) {
	others := s.columns[b]
	against, hopeless := 0, repeats/4
	for row, at := range first {
		if at >= 0 && others[row] != others[at] {
			if against++; against > hopeless {
				return nil, false
			}
		}
	}
	usual = map[uint64]uint64{}
	if against == 0 {
		for row, at := range first {
			if int(at) == row {
				usual[hashes[row]] = others[row]
			}
		}
	} else {
		against = s.outvoted(hashes, first, others, usual)
	}
	return usual, against <= repeats/50 && float64(repeats)*(1-float64(s.mostOf(b))/float64(s.rows)) >= byChance
}

// outvoted fills usual with what most rows with a value of a column have of others, and counts those that have something else.
func (s *sample) outvoted(hashes []uint64, first []int32, others []uint64, usual map[uint64]uint64) (against int) {
	counts := map[[2]uint64]int{}
	for row, at := range first {
		if at < 0 {
			continue
		}
		pair := [2]uint64{hashes[row], others[row]}
		counts[pair]++
		if before, met := usual[pair[0]]; !met || counts[pair] > counts[[2]uint64{pair[0], before}] {
			usual[pair[0]] = pair[1]
		}
	}
	for row, at := range first {
		if at >= 0 && others[row] != usual[hashes[row]] {
			against++
		}
	}
	return against
}

// mostOf is the number of rows that have the most frequent value of column b.
func (s *sample) mostOf(b int) int {
	if s.most == nil {
		s.most = make([]int, len(s.columns))
	}
	if s.most[b] == 0 {
		counts := map[uint64]int{}
		for _, h := range s.columns[b] {
			counts[h]++
			s.most[b] = max(s.most[b], counts[h])
		}
	}
	return s.most[b]
}

// add follows the column through a pass.
func (d *determinant) add(p *pass, blank uint64) {
	if d.full {
		return
	}
	t := &p.tallies[d.column]
	d.ids = d.ids[:0]
	for row, id := range t.ids {
		if int(id) == len(d.ids) { // the first row with this entry
			d.ids = append(d.ids, d.place(&t.entries[id], blank, p, row))
		}
	}
	for i := range d.others {
		if !d.others[i].abandoned {
			d.follow(i, p)
		}
	}
}

// follow holds one of the others against what each value was found to decide.
func (d *determinant) follow(i int, p *pass) {
	o, n := &d.others[i], len(d.others)
	t, u := &p.tallies[d.column], &p.tallies[o.column]
	fine := d.fine[:0]
	for _, at := range d.ids {
		if at < 0 {
			at = nowhere
		} else {
			at = unseen
		}
		fine = append(fine, at)
	}
	d.fine = fine
	others := u.ids[:len(t.ids)]
	for row, id := range t.ids {
		other := others[row]
		switch was := fine[id]; {
		case was == other || was == nowhere:
		case u.entries[other].hash == d.held[int(d.ids[id])*n+i]:
			fine[id] = other
		default:
			o.against.add(1, p.positions[row], t.text(&t.entries[id]))
		}
	}
}

// What stands for the entry of the other that was found to be right, where there is none.
const (
	unseen  = -1 // yet
	nowhere = -2 // the value is not held
)

// place returns where a value is held; or nowhere. A value that is new takes what most
// of the first rows have, or what stands in the row.
func (d *determinant) place(e *entry, blank uint64, p *pass, row int) int32 {
	if e.hash == blank {
		return nowhere
	}
	if e.id < 0 || e.id >= mostParents {
		d.full = true
		return nowhere
	}
	n := len(d.others)
	for int(e.id) >= len(d.known) {
		d.known = append(d.known, make([]bool, len(d.known)+256)...)
		d.held = append(d.held, make([]uint64, n*len(d.known)-len(d.held))...)
	}
	if !d.known[e.id] {
		d.known[e.id] = true
		d.met++
		for i := range d.others {
			u := &p.tallies[d.others[i].column]
			usual, known := d.others[i].usual[e.hash]
			if !known {
				usual = u.entries[u.ids[row]].hash
			}
			d.held[int(e.id)*n+i] = usual
		}
	}
	return e.id
}

// settle drops what turned out not to hold for the rows.
func (d *determinant) settle(rows int64) {
	for i := range d.others {
		o := &d.others[i]
		o.abandoned = o.abandoned || o.against.count > rows/50+fewSpots
	}
}

// parents are what was found to hold, without what follows from it.
func parents(all []*determinant) []*determinant {
	for _, d := range all {
		d.others = slices.DeleteFunc(d.others, func(o dependent) bool { return o.abandoned })
	}
	var kept []*determinant
	for _, d := range all {
		if len(d.others) == 0 || d.full {
			continue
		}
		follows := slices.ContainsFunc(all, func(o *determinant) bool { return o != d && o.covers(d) })
		if !follows {
			kept = append(kept, d)
		}
	}
	slices.SortStableFunc(kept, func(a, b *determinant) int { return cmp.Compare(len(b.others), len(a.others)) })
	return kept
}

// covers reports whether all that e decides is decided by d, which decides e too and is not much finer.
func (d *determinant) covers(e *determinant) bool {
	has := func(column int) bool {
		return column == d.column || slices.ContainsFunc(d.others, func(o dependent) bool { return o.column == column })
	}
	if !has(e.column) || 2*e.met <= d.met {
		return false
	}
	for _, o := range e.others {
		if !has(o.column) {
			return false
		}
	}
	mutual := slices.ContainsFunc(e.others, func(o dependent) bool { return o.column == d.column })
	return !mutual || d.column < e.column
}
