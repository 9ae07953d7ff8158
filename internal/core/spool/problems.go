package spool

import (
	"encoding/binary"

	"ladle/internal/core/reason"
)

// WholeLine stands for the column of a problem that concerns all of a line.
const WholeLine = -1

// Problem is why a cell, or a whole line, can't be used.
type Problem struct {
	Row    int64 // of a spool
	Column int   // as the writer of the problems numbers its columns, or WholeLine
	Cell   string
	Why    reason.Cause
}

// Problems is a sequence of problems, written once by ascending row and then read from its start.
type Problems struct{ log *Log }

// NewProblems returns an empty sequence with its file in dir.
func NewProblems(dir string) *Problems { return &Problems{NewLog(dir)} }

// Len is the number of problems.
func (p *Problems) Len() int64 { return p.log.Len() }

// Append adds a problem.
func (p *Problems) Append(x Problem) error {
	b := binary.AppendVarint(p.log.Room(), x.Row)
	b = binary.AppendVarint(b, int64(x.Column))
	b = append(binary.AppendUvarint(b, uint64(len(x.Cell))), x.Cell...)
	return p.log.Append(x.Why.Append(b))
}

// Reader reads the problems from their start.
func (p *Problems) Reader() *ProblemReader { return &ProblemReader{p.log.Reader()} }

// Close frees memory and disk.
func (p *Problems) Close() error { return p.log.Close() }

// ProblemReader reads problems in the order of their writing.
type ProblemReader struct{ log *LogReader }

// Next returns the next problem; io.EOF at the end.
func (r *ProblemReader) Next() (x Problem, err error) {
	b, err := r.log.Next()
	if err != nil {
		return x, err
	}
	row, n := binary.Varint(b)
	column, m := binary.Varint(b[n:])
	length, k := binary.Uvarint(b[n+m:])
	text := b[n+m+k:]
	x.Row, x.Column, x.Cell = row, int(column), string(text[:length])
	x.Why, _, err = reason.Read(text[length:])
	return x, err
}
