package spool

import (
	"bufio"
	"encoding/binary"
	"io"
)

// Log is a sequence of records of a few numbers and texts, written once and then read from its start.
type Log struct {
	file  file
	count int64
	room  []byte
}

// NewLog gives an empty log with its file in dir.
func NewLog(dir string) *Log { return &Log{file: file{dir: dir}} }

// Len is the number of records.
func (l *Log) Len() int64 { return l.count }

// Append adds a record.
func (l *Log) Append(numbers []int64, texts []string) error {
	b := l.room[:0]
	for _, n := range numbers {
		b = binary.AppendVarint(b, n)
	}
	for _, t := range texts {
		b = append(binary.AppendUvarint(b, uint64(len(t))), t...)
	}
	l.room = b
	l.count++
	_, err := l.file.Write(b)
	return err
}

// Reader reads a log from its start.
func (l *Log) Reader() *LogReader {
	return &LogReader{left: l.count, in: bufio.NewReaderSize(io.NewSectionReader(&l.file, 0, l.file.end()), 64<<10)}
}

// Close gives the log's memory and disk back.
func (l *Log) Close() error { return l.file.Close() }

// LogReader reads the records of a log in the order of their writing.
type LogReader struct {
	in   *bufio.Reader
	left int64
}

// Next fills numbers and texts from the next record, which must have been written with as many of each; false at
// the end.
func (r *LogReader) Next(numbers []int64, texts []string) (bool, error) {
	if r.left == 0 {
		return false, nil
	}
	r.left--
	for i := range numbers {
		n, err := binary.ReadVarint(r.in)
		if err != nil {
			return false, err
		}
		numbers[i] = n
	}
	for i := range texts {
		n, err := binary.ReadUvarint(r.in)
		if err != nil {
			return false, err
		}
		text := make([]byte, n)
		if _, err := io.ReadFull(r.in, text); err != nil {
			return false, err
		}
		texts[i] = string(text)
	}
	return true, nil
}
