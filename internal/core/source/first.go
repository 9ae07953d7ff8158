package source

import "io"

// First returns the first n records of t.
func First(t Table, n int64) Table { return &first{Table: t, left: n} }

type first struct {
	Table
	left int64
}

// Next reads each chunk twice: how many records it has decides whether there is another one.
func (f *first) Next() (*Chunk, error) {
	if f.left == 0 {
		return nil, io.EOF
	}
	chunk, err := f.Table.Next()
	if err != nil {
		return nil, err
	}
	again, err := f.Table.Again(chunk.Seal())
	if err != nil {
		return nil, err
	}
	chunk.Origin.most = f.left
	for r := (Record{}); f.left > 0 && again.read(&r); {
		f.left--
	}
	return chunk, again.Err()
}

// Behind is the table of which the first records are read.
func (f *first) Behind() Table { return f.Table }
