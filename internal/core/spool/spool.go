// Package spool keeps what a load has learnt of its rows until it is needed: batches of typed columns, and logs of
// small records. What is large stands on disk, so memory doesn't grow with the number of rows.
package spool

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"

	"ladle/internal/core/value"
)

// Spool is a sequence of batches, written once and then read as often as needed, whole or by column.
// Reading is safe for several readers at a time once the writing is over.
type Spool struct {
	file    file
	batches []place
	types   []value.Type
	rows    int64
}

// place is where a batch stands: its first row, its number of rows, and the offsets of its columns.
type place struct {
	first   int64
	rows    int
	columns []int64
}

// headSize is the number of bytes before the parts of a column: three sizes, whether its states are all the same, and which.
const headSize = 3*4 + 2

// New returns an empty spool for batches of the given types, with its file in dir (the system's folder for
// temporary files when empty).
func New(dir string, types []value.Type) *Spool {
	return &Spool{file: file{dir: dir}, types: types}
}

// Rows is the number of rows in all batches.
func (s *Spool) Rows() int64 { return s.rows }

// Size is the number of bytes that it holds.
func (s *Spool) Size() int64 { return s.file.end() }

// Batches is the number of batches.
func (s *Spool) Batches() int { return len(s.batches) }

// Types are the types of the columns.
func (s *Spool) Types() []value.Type { return s.types }

// First is the number, from 0, of the first row of batch i.
func (s *Spool) First(i int) int64 { return s.batches[i].first }

// Len is the number of rows of batch i.
func (s *Spool) Len(i int) int { return s.batches[i].rows }

// Holding is the number of the batch that has the given row.
func (s *Spool) Holding(row int64) int {
	at, found := slices.BinarySearchFunc(s.batches, row, func(p place,
		row int64) int {
		return cmp.Compare(p.first, row)
	})
	if found {
		return at
	}
	return at - 1
}

// Append adds a batch.
func (s *Spool) Append(b *value.Batch) error {
	p := place{first: s.rows, rows: b.Len(), columns: make([]int64, len(b.Columns))}
	for i := range b.Columns {
		p.columns[i] = s.file.end()
		if err := s.write(&b.Columns[i]); err != nil {
			return err
		}
	}
	s.batches = append(s.batches, p)
	s.rows += int64(p.rows)
	return nil
}

// write writes a column. States that are all the same, as most are, stand before its parts only.
func (s *Spool) write(c *value.Column) error {
	var head [headSize]byte
	binary.LittleEndian.PutUint32(head[0:], uint32(len(c.Nums)))
	binary.LittleEndian.PutUint32(head[4:], uint32(len(c.Ends)))
	binary.LittleEndian.PutUint32(head[8:], uint32(len(c.Data)))
	states := octets(c.States)
	if len(states) > 0 && bytes.Count(states, states[:1]) == len(states) {
		head[12], head[13], states = 1, states[0], nil
	}
	for _, part := range [][]byte{head[:], states, octets(c.Nums), octets(c.Ends), c.Data} {
		if _, err := s.file.Write(part); err != nil {
			return err
		}
	}
	return nil
}

// Read fills b with the wanted columns of batch i. The other columns of b stay empty.
func (s *Spool) Read(i int, want []int, b *value.Batch) error {
	if len(b.Columns) != len(s.types) {
		*b = *value.NewBatch(s.types)
	}
	p := s.batches[i]
	for _, w := range want {
		if err := s.read(&b.Columns[w], p.columns[w], p.rows); err != nil {
			return fmt.Errorf("row %d and following: %w", p.first+1, err)
		}
	}
	return nil
}

// Each gives take each batch, with all of its columns; it is good until take is back.
func (s *Spool) Each(take func(*value.Batch) error) error {
	all := make([]int, len(s.types))
	for i := range all {
		all[i] = i
	}
	var b value.Batch
	for i := range s.batches {
		if err := s.Read(i, all, &b); err != nil {
			return err
		}
		if err := take(&b); err != nil {
			return err
		}
	}
	return nil
}

func (s *Spool) read(c *value.Column, at int64, rows int) error {
	var head [headSize]byte
	if _, err := s.file.ReadAt(head[:], at); err != nil {
		return err
	}
	c.States = sized(c.States, rows)
	c.Nums = sized(c.Nums, int(binary.LittleEndian.Uint32(head[0:])))
	c.Ends = sized(c.Ends, int(binary.LittleEndian.Uint32(head[4:])))
	c.Data = sized(c.Data, int(binary.LittleEndian.Uint32(head[8:])))
	states := octets(c.States)
	if head[12] == 1 {
		for i := range states {
			states[i] = head[13]
		}
		states = nil
	}
	at += headSize
	for _, part := range [][]byte{states, octets(c.Nums), octets(c.Ends), c.Data} {
		if len(part) == 0 {
			continue
		}
		if _, err := s.file.ReadAt(part, at); err != nil {
			return err
		}
		at += int64(len(part))
	}
	return nil
}

// Close frees the spool's memory and disk.
func (s *Spool) Close() error { return s.file.Close() }
