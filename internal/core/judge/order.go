package judge

import (
	"context"
	"encoding/binary"

	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// ranks finds the places of the lines that a step adds in the order that it asks for, from 0: one for each such line, in
// the order of the file. told has what was decided of all lines. It is nil for a step that asks for no order.
func (r *round) ranks(ctx context.Context, s *Step, told *spool.Stream[lineAnswer]) (*spool.Stream[int64], error) {
	if len(s.InOrderOf) == 0 {
		return nil, nil
	}
	byValue := spool.NewSorter(r.Dir, r.memory())
	defer byValue.Close()
	if err := s.sortAdded(ctx, told, byValue); err != nil {
		return nil, err
	}
	byLine, rank := spool.NewSorter(r.Dir, r.memory()), int64(0)
	defer byLine.Close()
	err := byValue.Each(func(_, line []byte) error {
		place := binary.BigEndian.AppendUint64(nil, uint64(rank))
		rank++
		return byLine.Add(line, place)
	})
	if err != nil {
		return nil, err
	}
	ranks := spool.NewStream[int64](r.Dir)
	err = byLine.Each(func(_, place []byte) error { return ranks.Append(int64(binary.BigEndian.Uint64(place))) })
	return ranks, err
}

// memory is the number of bytes that a sorter keeps, fewer where few keys are to be in memory.
func (r *round) memory() int {
	if r.Resident == resident {
		return 0
	}
	return int(r.Resident) << 5
}

// sortAdded gives a sorter the lines that are added.
func (s *Step) sortAdded(ctx context.Context, told *spool.Stream[lineAnswer], to *spool.Sorter) error {
	answers, err := told.Reader()
	if err != nil {
		return err
	}
	orderer := value.NewOrderer()
	var key, number []byte
	lines := s.lines(ctx, true)
	for lines.Next() {
		for i := range lines.Len() {
			a, err := answers.Next()
			if err != nil {
				return err
			}
			if a.verdict != Added {
				continue
			}
			key = key[:0]
			for _, c := range s.InOrderOf {
				key = orderer.AppendKey(key, lines.Value(c), i)
			}
			number = binary.BigEndian.AppendUint64(number[:0], uint64(lines.Number(i)))
			if err := to.Add(key, number); err != nil {
				return err
			}
		}
	}
	return lines.Err()
}

// Ranks returns the places of the lines that are added, in the order of the file, where the step asks for an order of
// its own; nil elsewhere.
func (s *Step) Ranks() (*spool.StreamReader[int64], error) {
	if s.ranks == nil {
		return nil, nil
	}
	return s.ranks.Reader()
}
