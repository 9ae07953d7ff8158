package spool

import (
	"bufio"
	"encoding/binary"
	"io"
)

// Log is a sequence of records of any length, written once and then read from its start.
type Log struct {
	file  file
	count int64
	buf   []byte
}

// NewLog returns an empty log with its file in dir.
func NewLog(dir string) *Log { return &Log{file: file{dir: dir}} }

// Len is the number of records.
func (l *Log) Len() int64 { return l.count }

// Room returns memory, of no length, in which the next record may be made.
func (l *Log) Room() []byte { return l.buf[:0] }

// Append adds a record, and keeps its memory for Room.
func (l *Log) Append(record []byte) error {
	var size [binary.MaxVarintLen64]byte
	if _, err := l.file.Write(binary.AppendUvarint(size[:0], uint64(len(record)))); err != nil {
		return err
	}
	l.buf = record
	l.count++
	_, err := l.file.Write(record)
	return err
}

// Reader reads the log from its start.
func (l *Log) Reader() *LogReader {
	return &LogReader{left: l.count, in: bufio.NewReaderSize(io.NewSectionReader(&l.file, 0, l.file.end()), 64<<10)}
}

// Close frees the log's memory and disk.
func (l *Log) Close() error { return l.file.Close() }

// LogReader reads the records of a log in the order of their writing.
type LogReader struct {
	in   *bufio.Reader
	left int64
	buf  []byte
}

// Next returns the next record, good until the one after it; io.EOF at the end.
func (r *LogReader) Next() ([]byte, error) {
	if r.left == 0 {
		return nil, io.EOF
	}
	r.left--
	n, err := binary.ReadUvarint(r.in)
	if err != nil {
		return nil, err
	}
	r.buf = sized(r.buf, int(n))
	_, err = io.ReadFull(r.in, r.buf)
	return r.buf, err
}
