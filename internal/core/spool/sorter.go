package spool

import (
	"bytes"
	"cmp"
	"container/heap"
	"encoding/binary"
	"errors"
	"io"
	"slices"
)

// Sorter brings records into the order of their keys, byte by byte; those with equal keys keep the order in which they
// were added. What memory should not hold is sorted in pieces, which are on disk until they are merged.
type Sorter struct {
	dir    string
	most   int // bytes that are kept in memory
	held   []byte
	places []sorted
	pieces []*Log
}

// sorted is where a record stands in memory: its key, of which first is what it begins with, then its content.
type sorted struct {
	first           uint64
	start, key, end uint32
}

// sorterBytes is what a sorter usually keeps in memory.
const sorterBytes = 8 << 20

// mostPieces is the number of pieces that are merged at a time.
const mostPieces = 64

// NewSorter returns an empty sorter with its files in dir, which keeps so many bytes in memory; 0 for as many as usual.
func NewSorter(dir string, most int) *Sorter {
	if most == 0 {
		most = sorterBytes
	}
	return &Sorter{dir: dir, most: most}
}

// Add takes a record. It keeps neither slice.
func (s *Sorter) Add(key, content []byte) error {
	const place = 24 // bytes of one
	if len(s.places) > 0 && len(s.held)+len(key)+len(content)+place*len(s.places) > s.most {
		if err := s.flush(); err != nil {
			return err
		}
	}
	start := len(s.held)
	s.held = append(append(s.held, key...), content...)
	var first [8]byte
	copy(first[:], key)
	s.places = append(s.places, sorted{binary.BigEndian.Uint64(first[:]), uint32(start), uint32(start + len(key)),
		uint32(len(s.held))})
	return nil
}

// flush writes what is in memory as a piece.
func (s *Sorter) flush() error {
	s.sort()
	piece := NewLog(s.dir)
	s.pieces = append(s.pieces, piece)
	for _, p := range s.places {
		if err := appendPair(piece, s.held[p.start:p.key], s.held[p.key:p.end]); err != nil {
			return err
		}
	}
	s.held, s.places = s.held[:0], s.places[:0]
	if len(s.pieces) < mostPieces {
		return nil
	}
	merged := NewLog(s.dir)
	err := merge(s.pieces, func(key, content []byte) error { return appendPair(merged, key, content) })
	for _, p := range s.pieces {
		err = errors.Join(err, p.Close())
	}
	s.pieces = []*Log{merged}
	return err
}

// appendPair adds a key and a content as one record.
func appendPair(to *Log, key, content []byte) error {
	record := binary.AppendUvarint(to.Room(), uint64(len(key)))
	return to.Append(append(append(record, key...), content...))
}

func (s *Sorter) sort() {
	slices.SortFunc(s.places, func(a, b sorted) int {
		if a.first != b.first {
			return cmp.Compare(a.first, b.first)
		}
		if c := bytes.Compare(s.held[a.start:a.key], s.held[b.start:b.key]); c != 0 {
			return c
		}
		return cmp.Compare(a.start, b.start)
	})
}

// Each gives take all records in order; what it gets is good until the next one.
func (s *Sorter) Each(take func(key, content []byte) error) error {
	if len(s.pieces) == 0 {
		s.sort()
		for _, p := range s.places {
			if err := take(s.held[p.start:p.key], s.held[p.key:p.end]); err != nil {
				return err
			}
		}
		return nil
	}
	if len(s.places) > 0 {
		if err := s.flush(); err != nil {
			return err
		}
	}
	return merge(s.pieces, take)
}

// Close frees memory and disk.
func (s *Sorter) Close() error {
	var errs []error
	for _, p := range s.pieces {
		errs = append(errs, p.Close())
	}
	s.held, s.places, s.pieces = nil, nil, nil
	return errors.Join(errs...)
}

// merge gives take the records of sorted pieces in order.
func merge(pieces []*Log, take func(key, content []byte) error) error {
	var heads heads
	for i, p := range pieces {
		h := &head{reader: p.Reader(), piece: i}
		switch err := h.next(); err {
		case nil:
			heads = append(heads, h)
		case io.EOF:
		default:
			return err
		}
	}
	heap.Init(&heads)
	for len(heads) > 0 {
		h := heads[0]
		if err := take(h.key, h.content); err != nil {
			return err
		}
		switch err := h.next(); err {
		case nil:
			heap.Fix(&heads, 0)
		case io.EOF:
			heap.Pop(&heads)
		default:
			return err
		}
	}
	return nil
}

// head is the first record of a piece that was not taken yet.
type head struct {
	reader       *LogReader
	piece        int
	key, content []byte
}

func (h *head) next() error {
	record, err := h.reader.Next()
	if err != nil {
		return err
	}
	n, size := binary.Uvarint(record)
	h.key, h.content = record[size:size+int(n)], record[size+int(n):]
	return nil
}

// heads are ordered by their keys, and by their pieces, of which the first has what was added first.
type heads []*head

func (h heads) Len() int { return len(h) }
func (h heads) Less(i, j int) bool {
	if c := bytes.Compare(h[i].key, h[j].key); c != 0 {
		return c < 0
	}
	return h[i].piece < h[j].piece
}
func (h heads) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *heads) Push(x any)   { *h = append(*h, x.(*head)) }
func (h *heads) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
