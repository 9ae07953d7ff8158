package engine

import (
	"sync"

	"ladle/internal/core/ahead"
	"ladle/internal/core/value"
)

// A driver hands over at most so many rows, or about so many bytes of them, at a time.
const (
	blockRows  = 512
	blockBytes = 256 << 10
)

// Stream brings the rows that a driver fetches to sink, in batches for columns of kinds. While sink works on some rows, the
// next ones are fetched, in a goroutine of its own: fetch calls give for each row, whose cells are good until give is back,
// and nil where they are NULL; read reads a cell into a column. Stream is back only when fetch is, so that the connection is
// free then; before, sink must ask nothing of it.
func Stream(kinds []value.Type, fetch func(give func(row [][]byte) error) error,
	read func(to *value.Column, column int, cell []byte), sink func(*value.Batch) error) error {
	batch := value.NewBatch(kinds)
	flush := func() error {
		defer batch.Reset()
		return sink(batch)
	}
	free := sync.Pool{New: func() any { return &block{} }}
	err := ahead.Of(func(give func(*block) error) error {
		next := free.Get().(*block)
		err := fetch(func(row [][]byte) error {
			if !next.add(row) {
				return nil
			}
			full := next
			next = free.Get().(*block)
			return give(full)
		})
		if err != nil || next.rows == 0 {
			return err
		}
		return give(next)
	}, func(b *block) error {
		for row := range b.rows {
			for i := range kinds {
				read(&batch.Columns[i], i, b.cell(row*len(kinds)+i))
			}
			if batch.Len() < BatchRows {
				continue
			}
			if err := flush(); err != nil {
				return err
			}
		}
		b.rows, b.data, b.cells = 0, b.data[:0], b.cells[:0]
		free.Put(b)
		return nil
	})
	if err != nil || batch.Len() == 0 {
		return err
	}
	return flush()
}

// block is some rows as a driver gives them.
type block struct {
	rows  int
	data  []byte
	cells []place
}

// place is where a cell ends in the data of its block.
type place struct {
	end  uint32
	null bool
}

// add adds a row, and reports whether the block is full.
func (b *block) add(row [][]byte) bool {
	for _, cell := range row {
		b.data = append(b.data, cell...)
		b.cells = append(b.cells, place{uint32(len(b.data)), cell == nil})
	}
	b.rows++
	return b.rows == blockRows || len(b.data) >= blockBytes
}

// cell is cell i of all of the block's; nil for NULL.
func (b *block) cell(i int) []byte {
	p := b.cells[i]
	if p.null {
		return nil
	}
	start := uint32(0)
	if i > 0 {
		start = b.cells[i-1].end
	}
	return b.data[start:p.end:p.end]
}
