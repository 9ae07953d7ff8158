package spool

import (
	"io"
	"unsafe"
)

// Stream is a sequence of records of one type, written once and then read from its start. A record is a struct of
// whole numbers and of such structs: it is kept as it stands in memory, so it must have no pointers.
type Stream[T any] struct {
	file  file
	count int64
	buf   []T
}

// streamBytes is the size of what a stream holds back before it writes, and reads at once.
const streamBytes = 32 << 10

func (s *Stream[T]) most() int {
	var record T
	return streamBytes / int(unsafe.Sizeof(record))
}

// NewStream returns an empty stream with its file in dir.
func NewStream[T any](dir string) *Stream[T] { return &Stream[T]{file: file{dir: dir}} }

// Streams returns n empty streams.
func Streams[T any](dir string, n int) []*Stream[T] {
	all := make([]*Stream[T], n)
	for i := range all {
		all[i] = NewStream[T](dir)
	}
	return all
}

// Append adds a record.
func (s *Stream[T]) Append(record T) error {
	s.buf = append(s.buf, record)
	s.count++
	if len(s.buf) < s.most() {
		return nil
	}
	return s.flush()
}

func (s *Stream[T]) flush() error {
	_, err := s.file.Write(octets(s.buf))
	s.buf = s.buf[:0]
	return err
}

// Len is the number of records.
func (s *Stream[T]) Len() int64 { return s.count }

// Reader reads the stream from its start. What is appended later is not read.
func (s *Stream[T]) Reader() (*StreamReader[T], error) {
	if err := s.flush(); err != nil {
		return nil, err
	}
	return &StreamReader[T]{of: s, end: s.file.end()}, nil
}

// Each calls take with each record, good until the next, and stops at its error.
func (s *Stream[T]) Each(take func(*T) error) error {
	r, err := s.Reader()
	if err != nil {
		return err
	}
	for {
		record, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = take(record)
		}
		if err != nil {
			return err
		}
	}
}

// Close frees the stream's memory and disk.
func (s *Stream[T]) Close() error {
	s.buf = nil
	return s.file.Close()
}

// StreamReader reads the records of a stream in the order of their writing.
type StreamReader[T any] struct {
	of      *Stream[T]
	at, end int64
	buf     []T
	unread  []T
}

// Next returns the next record, good until the one after it; io.EOF at the end.
func (r *StreamReader[T]) Next() (*T, error) {
	if len(r.unread) == 0 {
		var record T
		size := int64(unsafe.Sizeof(record))
		n := min(int64(r.of.most()), (r.end-r.at)/size)
		if n <= 0 {
			return nil, io.EOF
		}
		r.buf = sized(r.buf, int(n))
		if _, err := r.of.file.ReadAt(octets(r.buf), r.at); err != nil {
			return nil, err
		}
		r.at += n * size
		r.unread = r.buf
	}
	record := &r.unread[0]
	r.unread = r.unread[1:]
	return record, nil
}
