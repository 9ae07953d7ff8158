package source

import (
	"encoding/binary"
	"errors"
	"hash/maphash"
	"io"
)

// Stream opens rows that stand in no file as a table that is read once, while they come: the rows are given on a
// goroutine of their own, and nothing of them is kept. Close ends that, and returns when it is over.
func Stream(p RowPart) (Table, error) {
	t := &stream{file: p.File, chunks: make(chan *Chunk, 2), named: make(chan struct{}), stop: make(chan struct{}),
		free: make(chan []byte, 4), seed: maphash.MakeSeed()}
	go t.run(p)
	<-t.named
	if t.header.Names == nil {
		<-t.chunks // closed, once err is there
		if t.err == nil {
			t.err = errors.New(p.File.Name() + " has no columns")
		}
		return nil, t.err
	}
	return t, nil
}

// streamChunk is the size at which a chunk of a stream is given on, in bytes.
const streamChunk = 1 << 18

// stream is a table of rows as they come. In a chunk, each cell has its length before it, plus 1; 0 is a blank one.
type stream struct {
	file   File
	header Header
	named  chan struct{} // closed once the header is known, or never will be
	chunks chan *Chunk
	free   chan []byte
	stop   chan struct{}
	err    error // of the rows; it is there once chunks is closed
	seed   maphash.Seed

	buf   []byte
	first int64 // the number of the first row in buf
	rows  int64
}

// errStreamClosed ends rows that nobody reads to their end.
var errStreamClosed = errors.New("the rows are not read to their end")

// run brings the rows into chunks.
func (t *stream) run(p RowPart) {
	defer close(t.chunks)
	known := false
	t.err = p.Each(func(columns []string, row [][]byte) error {
		if row == nil && !known {
			known, t.header.Names = true, columns
			close(t.named)
		}
		if row == nil {
			return nil
		}
		return t.take(row)
	})
	if !known {
		close(t.named)
	}
	if t.err == nil && len(t.buf) > 0 {
		t.err = t.send()
	}
}

func (t *stream) take(row [][]byte) error {
	if t.rows++; len(t.buf) == 0 {
		t.first = t.rows
	}
	for _, cell := range row {
		if cell == nil {
			t.buf = append(t.buf, 0)
			continue
		}
		t.buf = append(binary.AppendUvarint(t.buf, uint64(len(cell))+1), cell...)
	}
	if len(t.buf) < streamChunk {
		return nil
	}
	return t.send()
}

// send gives the chunk on.
func (t *stream) send() error {
	c := &Chunk{Raw: t.buf, Origin: Origin{Line: t.first, Length: len(t.buf)}, seed: t.seed, buf: t.buf, free: t.free,
		rows: &streamRows{columns: len(t.header.Names), row: t.first}}
	select {
	case t.buf = <-t.free:
		t.buf = t.buf[:0]
	default:
		t.buf = make([]byte, 0, streamChunk+streamChunk/4)
	}
	select {
	case t.chunks <- c:
		return nil
	case <-t.stop:
		return errStreamClosed
	}
}

// streamRows reads the rows of a chunk.
type streamRows struct {
	columns int
	row     int64
	at      int
}

func (s *streamRows) next(c *Chunk, r *Record) bool {
	if s.at >= len(c.Raw) {
		return false
	}
	for range s.columns {
		length, n := binary.Uvarint(c.Raw[s.at:])
		s.at += n
		end := s.at + max(int(length)-1, 0)
		r.Fields = append(r.Fields, c.Raw[s.at:end])
		s.at = end
	}
	r.Position, r.Raw, r.Stored = s.row, nil, nil
	s.row++
	return true
}

func (t *stream) Header() Header { return t.header }

func (t *stream) Next() (*Chunk, error) {
	if c, more := <-t.chunks; more {
		return c, nil
	}
	if t.err != nil {
		return nil, t.err
	}
	return nil, io.EOF
}

// Again is an error: nothing is kept of the rows.
func (t *stream) Again(Origin) (*Chunk, error) {
	return nil, errors.New(t.file.Name() + " can be read once")
}

func (t *stream) Files() []File        { return []File{t.file} }
func (t *stream) Formats() []Format    { return []Format{{File: t.file, Format: formatRows}} }
func (t *stream) Sum() (string, error) { return "", errors.New(t.file.Name() + " is no file") }
func (t *stream) Size() int64          { return 0 }
func (t *stream) count(*Chunk)         {}

// Close ends the rows.
func (t *stream) Close() error {
	close(t.stop)
	for range t.chunks {
		continue
	}
	return nil
}
