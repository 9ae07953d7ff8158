// Package source reads files into records whose cells know where they stand.
package source

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/maphash"
	"io"
	"os"
	"unicode/utf8"

	"ladle/internal/core/fault"
)

const (
	chunkSize = 256 << 10 // bytes that are read and cleaned in one go
	maxRecord = 16 << 20  // bytes of the longest record
)

// CSV reads a file of comma-separated values (RFC 4180, in UTF-8, with or without a byte-order mark) in chunks of
// whole records. Lines end with CRLF or LF. Empty lines are passed over, except in a file of one column.
type CSV struct {
	path   string
	file   *os.File
	sum    hash.Hash
	seed   maphash.Seed
	rest   []byte // read, but not given out yet
	offset int64  // where rest starts in the file
	line   int64  // the line on which rest starts
	ended  bool
	header Header
}

// Header is the record with the names of the columns.
type Header struct {
	Names  []string // as they stand in the file, without outer blanks
	Line   int64
	Starts []int // for each name, the position in characters at which its field starts
}

// OpenCSV opens the file at path and reads its header: the record that starts on line headerLine, from 1.
func OpenCSV(path string, headerLine int) (*CSV, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, unreadable(path, err)
	}
	c := &CSV{path: path, file: file, sum: sha256.New(), seed: maphash.MakeSeed(), line: 1}
	if err := c.start(headerLine); err != nil {
		file.Close()
		return nil, err
	}
	return c, nil
}

func unreadable(path string, err error) error {
	p := fault.Problem{File: path, What: "the file can't be read: " + reason(err), Do: "check the path and its rights"}
	if errors.Is(err, os.ErrNotExist) {
		p.What, p.Do = "there is no such file", "check the path; paths in a ladle file are relative to it"
	}
	return fault.Because(fault.Failed, err, p)
}

// reason is the last part of an error of the operating system, without the path.
func reason(err error) string {
	var path *os.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// start reads up to the header and through it.
func (c *CSV) start(headerLine int) error {
	if err := c.fill(); err != nil {
		return err
	}
	if c.ended && len(c.rest) == 0 {
		return c.refuse(0, "the file is empty", "it needs at least a line with the names of the columns")
	}
	if bytes.HasPrefix(c.rest, []byte("PK\x03\x04")) {
		return c.refuse(0, "this is a workbook or a zip archive, not a CSV file", "save the sheet as CSV (UTF-8)")
	}
	if bom := []byte("\xef\xbb\xbf"); bytes.HasPrefix(c.rest, bom) {
		c.advance(len(bom), 0)
	}
	for c.line < int64(headerLine) {
		end := bytes.IndexByte(c.rest, '\n')
		if end < 0 {
			return c.refuse(0, fmt.Sprintf("the header should be on line %d, but the file has only %d", headerLine, c.line),
				"correct header: in the ladle file")
		}
		c.advance(end+1, 1)
	}
	return c.readHeader()
}

func (c *CSV) readHeader() error {
	var r Record
	chunk := Chunk{Raw: c.rest, Line: c.line}
	if !chunk.Next(&r) {
		return c.refuse(c.line, "there is no header here", "correct header: in the ladle file")
	}
	switch {
	case r.open:
		return c.unclosed(&r)
	case r.Problem != "":
		return c.refuse(r.Line, "the header can't be read: "+r.Problem, "correct the line")
	case !utf8.Valid(r.Raw):
		return c.refuse(r.Line, "the header is not valid UTF-8", "save the file as UTF-8")
	}
	c.header = Header{Line: r.Line}
	at := 1
	for _, f := range r.Fields {
		c.header.Names = append(c.header.Names, string(bytes.TrimSpace(f)))
		c.header.Starts = append(c.header.Starts, at)
		at += utf8.RuneCount(f) + 1
	}
	c.advance(chunk.at, int(chunk.Line-c.line))
	return c.judgeHeader()
}

// judgeHeader refuses names by which a column couldn't be told from another one.
func (c *CSV) judgeHeader() error {
	var problems []fault.Problem
	seen := map[string]int{}
	for i, name := range c.header.Names {
		p := fault.Problem{File: c.path, Line: int(c.header.Line), Column: c.header.Starts[i]}
		first, doubled := seen[Plain(name)]
		switch {
		case name == "":
			p.What = fmt.Sprintf("column %d has no name", i+1)
			p.Do = "give it one, or take the column out of the file"
		case doubled:
			p.What = fmt.Sprintf("columns %d and %d are both named %q", first+1, i+1, name)
			p.Do = "rename one of them"
		default:
			seen[Plain(name)] = i
			continue
		}
		problems = append(problems, p)
	}
	if problems != nil {
		return fault.At(fault.Refused, problems...)
	}
	return nil
}

// Plain is the form of a header by which it is looked up: lower case, outer blanks gone, runs of blanks one blank.
func Plain(name string) string {
	return string(bytes.ToLower(bytes.Join(bytes.Fields([]byte(name)), []byte(" "))))
}

func (c *CSV) refuse(line int64, what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: c.path, Line: int(line), What: what, Do: do})
}

func (c *CSV) unclosed(r *Record) error {
	return fault.At(fault.Refused, fault.Problem{File: c.path, Line: int(r.quoteLine), Column: r.quoteColumn,
		What: "the quote that opens here is never closed, so the rest of the file can't be told apart",
		Do:   "close it, or double it where it is part of the text"})
}

func (c *CSV) advance(n int, lines int) {
	c.rest = c.rest[n:]
	c.offset += int64(n)
	c.line += int64(lines)
}

// fill reads on until rest holds a chunk, or the file ends.
func (c *CSV) fill() error {
	if c.ended || len(c.rest) >= chunkSize {
		return nil
	}
	return c.more(chunkSize)
}

// more appends n bytes of the file to rest.
func (c *CSV) more(n int) error {
	held := len(c.rest)
	room := make([]byte, held+n)
	copy(room, c.rest)
	got, err := io.ReadFull(c.file, room[held:])
	c.rest = room[:held+got]
	c.sum.Write(room[held : held+got])
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		c.ended = true
		return nil
	}
	if err != nil {
		return unreadable(c.path, err)
	}
	return nil
}

// Header is the header of the file.
func (c *CSV) Header() Header { return c.header }

// Path is the file, as it was given.
func (c *CSV) Path() string { return c.path }

// Next gives the next chunk; io.EOF at the end of the file.
func (c *CSV) Next() (*Chunk, error) {
	if err := c.fill(); err != nil {
		return nil, err
	}
	for {
		if len(c.rest) == 0 {
			return nil, io.EOF
		}
		end, open := wholeRecords(c.rest, c.ended)
		if open != nil {
			open.quoteLine += c.line
			return nil, c.unclosed(open)
		}
		if end > 0 {
			return c.cut(end), nil
		}
		if len(c.rest) > maxRecord {
			return nil, c.refuse(c.line, "the record that starts here is longer than 16 MB",
				"perhaps a quote in it is never closed")
		}
		if err := c.more(max(chunkSize, len(c.rest))); err != nil {
			return nil, err
		}
	}
}

func (c *CSV) cut(end int) *Chunk {
	raw := c.rest[:end:end]
	chunk := &Chunk{Raw: raw, Line: c.line, Origin: Origin{Offset: c.offset, Length: end, Line: c.line},
		single: len(c.header.Names) == 1}
	chunk.Origin.sum = maphash.Bytes(c.seed, raw)
	c.advance(end, bytes.Count(raw, []byte{'\n'}))
	return chunk
}

// Again reads the chunk with origin o a second time. It is an error when the file has changed since.
func (c *CSV) Again(o Origin) (*Chunk, error) {
	raw := make([]byte, o.Length)
	if _, err := c.file.ReadAt(raw, o.Offset); err != nil && err != io.EOF {
		return nil, unreadable(c.path, err)
	}
	if maphash.Bytes(c.seed, raw) != o.sum {
		return nil, fault.At(fault.Failed, fault.Problem{File: c.path,
			What: "the file was changed while it was being loaded", Do: "load it again"})
	}
	return &Chunk{Raw: raw, Line: o.Line, Origin: o, single: len(c.header.Names) == 1}, nil
}

// Sum is the SHA-256 of the bytes read so far, in hexadecimal; of the whole file once Next gave io.EOF.
func (c *CSV) Sum() string { return hex.EncodeToString(c.sum.Sum(nil)) }

// Close closes the file.
func (c *CSV) Close() error { return c.file.Close() }
