package survey

import (
	"bytes"
	"math"
	"strings"
	"sync"

	"ladle/internal/core/source"
)

// pass is what was seen in a chunk.
type pass struct {
	rows      int // records whose fields can be trusted
	positions []int64
	tallies   []tally
	broken    []oddRecord
	records   int // of all, with those that are broken
	totals    []oddRecord
	seconds   []second
	faults    []faultyCell
	held      *passBuffers
}

// oddRecord is a record, and what is odd with it.
type oddRecord struct {
	position int64
	why      string
}

// second is a record that may be the header of another table.
type second struct {
	oddRecord
	number int64 // of the record, from 0
	filled []bool
	broken bool
}

// faultyCell is a cell that can't be trusted.
type faultyCell struct {
	column int
	oddRecord
}

// passBuffers is memory that a later chunk uses again.
type passBuffers struct {
	tallies   []tally
	positions []int64
	cells     []span   // row by row
	apart     [][]byte // the cells of records that stand in no block
	stored    []source.Stored
	slots     []int32
}

// span is where a cell of a block begins and ends in the Raw of its chunk; of another record, its number in apart, and inApart.
type span struct{ from, to uint32 }

const inApart = math.MaxUint32

// text is the cell at a span of a chunk.
func (b *passBuffers) text(raw []byte, s span) []byte {
	if s.to == inApart {
		return b.apart[s.from]
	}
	return raw[s.from:s.to]
}

var passBufferPool = sync.Pool{New: func() any { return &passBuffers{} }}

// readThrough reads a chunk of a table with as many columns as all has stats. Its records are read first, then each
// column is gone through by itself, so that what belongs to it stays near.
func readThrough(c *source.Chunk, all []*stats) *pass {
	columns := len(all)
	buf := passBufferPool.Get().(*passBuffers)
	for len(buf.tallies) < columns {
		buf.tallies = append(buf.tallies, tally{})
	}
	buf.positions, buf.cells, buf.apart, buf.stored = buf.positions[:0], buf.cells[:0], buf.apart[:0], buf.stored[:0]
	p := &pass{tallies: buf.tallies[:columns], held: buf}
	c.Walk(&source.Record{Keep: true}, func(b *source.Block) { p.block(b, columns) },
		func(r *source.Record) { p.record(r, columns) })
	p.rows, p.positions = len(buf.positions), buf.positions
	for i := range p.tallies {
		t := &p.tallies[i]
		buf.slots = t.reset(buf.slots, p.rows)
		for row, position := range p.positions {
			at := row*columns + i
			stored := source.StoredBlank
			if len(buf.stored) > 0 {
				stored = buf.stored[at]
			}
			t.add(buf.text(c.Raw, buf.cells[at]), uint8(stored), position)
		}
		buf.slots, t.slots = t.slots, nil
		all[i].add(t)
	}
	clear(buf.apart)
	return p
}

// block takes the records of a block.
func (p *pass) block(b *source.Block, columns int) {
	p.records += b.Rows
	for row := range b.Rows {
		position := b.Position + int64(row)
		p.held.positions = append(p.held.positions, position)
		decided := false
		for column := range columns {
			from, to := b.Bounds(row, column)
			p.held.cells = append(p.held.cells, span{from, to})
			if !decided && from < to {
				decided = true
				if cell := b.Field(row, column); isTotal(cell) {
					p.totals = append(p.totals, oddRecord{position, string(cell)})
				}
			}
		}
	}
}

func (p *pass) record(r *source.Record, columns int) {
	p.records++
	if r.Gap && r.MayBeginTable() && len(p.seconds) < fewSpots {
		p.seconds = append(p.seconds, newSecond(r, int64(p.records-1), columns))
	}
	if why := source.Misshapen(r, columns); why != nil {
		p.broken = append(p.broken, oddRecord{r.Position, why.Words()})
		return
	}
	p.held.positions = append(p.held.positions, r.Position)
	for i := range r.Fields {
		p.held.cells = append(p.held.cells, span{uint32(len(p.held.apart) + i), inApart})
	}
	p.held.apart = append(p.held.apart, r.Fields...)
	if r.Stored != nil {
		p.held.stored = append(p.held.stored, r.Stored...)
	}
	for _, f := range r.Faults {
		p.held.cells[len(p.held.cells)-columns+f.Field] = span{}
		p.faults = append(p.faults, faultyCell{f.Field, oddRecord{r.Position,
			strings.TrimSpace(string(r.Fields[f.Field]) + " " + f.Why.Words())}})
	}
	if word, ok := TotalWord(r); ok {
		p.totals = append(p.totals, oddRecord{r.Position, word})
	}
}

func newSecond(r *source.Record, number int64, columns int) second {
	s := second{oddRecord: oddRecord{position: r.Position}, number: number, filled: make([]bool, columns),
		broken: source.Misshapen(r, columns) != nil}
	for i, f := range r.Fields {
		if f = bytes.TrimSpace(f); len(f) == 0 {
			continue
		}
		if s.why == "" {
			s.why = string(f)
		}
		if i < columns {
			s.filled[i] = true
		}
	}
	return s
}

// done gives the memory of the pass back.
func (p *pass) done() {
	passBufferPool.Put(p.held)
	p.tallies, p.positions = nil, nil
}

// totalWords start rows that sum up others.
var totalWords = map[string]bool{"total": true, "totals": true, "subtotal": true, "sub-total": true, "grand": true,
	"sum": true, "summe": true, "gesamt": true, "gesamtsumme": true,
	"totaal": true, "totale": true, "suma": true, "razem": true, "итого": true, "всего": true, "合計": true}

// TotalWord returns the first cell of a record that isn't blank, when its first word says that the record sums up
// others.
func TotalWord(r *source.Record) (string, bool) {
	for _, f := range r.Fields {
		if len(f) == 0 {
			continue
		}
		if !isTotal(f) {
			break
		}
		return string(f), true
	}
	return "", false
}

// isTotal reports whether the first word of a cell, which isn't empty, says that it stands before a sum.
func isTotal(cell []byte) bool {
	if c := cell[0] | 0x20; c != 't' && c != 's' && c != 'g' && c != 'r' && cell[0] < 0x80 || len(cell) > 40 {
		return false
	}
	end := 0
	for end < len(cell) && cell[end] != ' ' && cell[end] != ':' {
		end++
	}
	return totalWords[source.FoldName(string(cell[:end]))]
}
