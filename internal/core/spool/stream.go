package spool

import "io"

// Stream is a sequence of records of a fixed number of 64-bit words, written once and then read from its start.
type Stream struct {
	file  file
	width int
	room  []uint64
}

// streamRoom is the number of words that a stream holds back before it writes them, and reads at once.
const streamRoom = 4096

// NewStream gives an empty stream of records of width words with its file in dir.
func NewStream(dir string, width int) *Stream {
	return &Stream{file: file{dir: dir}, width: width}
}

// Append adds a record.
func (s *Stream) Append(words ...uint64) error {
	s.room = append(s.room, words...)
	if len(s.room) < streamRoom {
		return nil
	}
	return s.flush()
}

func (s *Stream) flush() error {
	_, err := s.file.Write(octets(s.room))
	s.room = s.room[:0]
	return err
}

// Len is the number of records.
func (s *Stream) Len() int64 { return (s.file.end()/8 + int64(len(s.room))) / int64(s.width) }

// Reader reads the stream from its start. What is appended later may not be read.
func (s *Stream) Reader() (*StreamReader, error) {
	if err := s.flush(); err != nil {
		return nil, err
	}
	return &StreamReader{of: s, end: s.file.end()}, nil
}

// Close gives the stream's memory and disk back.
func (s *Stream) Close() error {
	s.room = nil
	return s.file.Close()
}

// StreamReader reads the records of a stream in the order of their writing.
type StreamReader struct {
	of      *Stream
	at, end int64
	room    []uint64
	unread  []uint64
}

// Next gives the next record, good until the one after it; io.EOF at the end.
func (r *StreamReader) Next() ([]uint64, error) {
	width := r.of.width
	if len(r.unread) == 0 {
		n := min(int64(streamRoom/width*width*8), r.end-r.at)
		if n <= 0 {
			return nil, io.EOF
		}
		r.room = sized(r.room, int(n/8))
		if _, err := r.of.file.ReadAt(octets(r.room), r.at); err != nil {
			return nil, err
		}
		r.at += n
		r.unread = r.room
	}
	record := r.unread[:width]
	r.unread = r.unread[width:]
	return record, nil
}
