package survey

import (
	"cmp"
	"maps"
	"slices"
)

const fewSpots = 5 // places that are told of what is odd

// places are the first places of something, and how often it came.
type places struct {
	count int64
	first []place
}

// place is a place and the cell there.
type place struct {
	position int64
	cell     string
}

func (s *places) add(n int64, position int64, cell []byte) {
	s.count += n
	if len(s.first) < fewSpots || position < s.first[len(s.first)-1].position {
		s.first = append(s.first, place{position, shorten(string(cell))})
		s.trim()
	}
}

func (s *places) merge(o *places) {
	s.count += o.count
	s.first = append(s.first, o.first...)
	s.trim()
}

func (s *places) trim() {
	slices.SortFunc(s.first, func(a, b place) int { return cmp.Compare(a.position, b.position) })
	s.first = s.first[:min(len(s.first), fewSpots)]
}

func shorten(cell string) string {
	const most = 60
	if len(cell) <= most {
		return cell
	}
	if r := []rune(cell); len(r) > most {
		return string(r[:most]) + "…"
	}
	return cell
}

// mergeSpots keeps at most so many kinds.
func mergeSpots[K cmp.Ordered](to, from map[K]*places, most int) {
	for _, k := range slices.Sorted(maps.Keys(from)) {
		switch mine := to[k]; {
		case mine != nil:
			mine.merge(from[k])
		case len(to) < most:
			to[k] = from[k]
		}
	}
}

// second is the first record after a gap whose cells don't fit the columns.
func (r *reading) second(columns []*Column) *SecondTable {
	for _, s := range r.seconds {
		unlike := s.broken || !s.filled[len(s.filled)-1]
		for i, c := range columns {
			unlike = unlike || s.filled[i] && (c.Type != typeText && c.Type != typeBlank || r.values[i].digits())
		}
		if unlike {
			return &SecondTable{r.place(s.position, -1, s.why), r.records - s.number}
		}
	}
	return nil
}
