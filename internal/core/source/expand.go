package source

import "bytes"

// Expansion makes several records of one.
type Expansion interface {
	// Take is given a record of the table behind. Its memory is good until Next gives false.
	Take(r *Record, c *Counts)
	// Next makes the next record of the one that was taken; false when there is none left. The record must not change
	// its memory.
	Next(r *Record) bool
	// Passed makes a record of one from which Next made none: what is copied of it, and blanks.
	Passed(of, r *Record)
}

// Expand returns t with several records, or none, in the place of each, under another header. copied has for each
// column of the header the column of t of which it is a copy, or -1. An expansion is made for each chunk.
func Expand(t Table, header Header, copied []int, each func() Expansion) Table {
	return &expandedTable{t, header, copied, each}
}

// IsExpanded reports whether a record of t need not be one line of its file.
func IsExpanded(t Table) bool {
	_, expanded := bare(t).(*expandedTable)
	return expanded
}

type expandedTable struct {
	Table
	header Header
	copied []int
	each   func() Expansion
}

func (e *expandedTable) Header() Header { return e.header }

func (e *expandedTable) Next() (*Chunk, error) { return e.add(e.Table.Next()) }

func (e *expandedTable) Again(o Origin) (*Chunk, error) { return e.add(e.Table.Again(o)) }

func (e *expandedTable) add(c *Chunk, err error) (*Chunk, error) {
	if err == nil {
		c.expansions = append(c.expansions, &expansion{each: e.each()})
	}
	return c, err
}

// expansion is an Expansion at work in a chunk.
type expansion struct {
	each   Expansion
	base   Record
	taken  bool // the base has made no record so far
	passed []Record
}

// expanded reads the next record behind the first n expansions.
func (c *Chunk) expanded(n int, r *Record) bool {
	if n == 0 {
		return c.read(r)
	}
	e := c.expansions[n-1]
	r.back()
	for !e.each.Next(r) {
		if e.taken {
			e.pass(c, &e.base)
		}
		e.base.Keep, e.taken = r.Keep, false
		if !c.expanded(n-1, &e.base) {
			if n > 1 {
				e.passAll(c, c.expansions[n-2].passed)
			}
			return false
		}
		e.passAll(c, e.base.Passed)
		e.taken = true
		e.each.Take(&e.base, &c.Counts)
	}
	r.Passed, e.passed, e.taken = e.passed, nil, false
	return true
}

// pass notes a record that makes none.
func (e *expansion) pass(c *Chunk, of *Record) {
	if !c.KeepPassed {
		return
	}
	made := Record{}
	e.each.Passed(of, &made)
	for i, f := range made.Fields {
		made.Fields[i] = bytes.Clone(f)
	}
	e.passed = append(e.passed, made)
}

func (e *expansion) passAll(c *Chunk, all []Record) {
	for i := range all {
		e.pass(c, &all[i])
	}
}

// Passed are the records behind the last one that made none; see KeepPassed. Next must have given false.
func (c *Chunk) Passed() []Record {
	if len(c.expansions) == 0 {
		return nil
	}
	return c.expansions[len(c.expansions)-1].passed
}
