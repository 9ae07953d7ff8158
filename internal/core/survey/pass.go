package survey

import (
	"strings"
	"sync"

	"ladle/internal/core/source"
)

// pass is what was seen in a chunk.
type pass struct {
	rows      int // records whose fields can be trusted
	positions []int64
	tallies   []tally
	broken    []trouble
	totals    []trouble
	faults    []fault
	held      *passRoom
}

// trouble is a record, and what is odd with it.
type trouble struct {
	position int64
	why      string
}

// fault is a cell that can't be trusted.
type fault struct {
	column int
	trouble
}

// passRoom is memory that a later chunk uses again.
type passRoom struct {
	tallies   []tally
	positions []int64
	cells     [][]byte // row by row
	stored    []source.Stored
	slots     []int32
}

var rooms = sync.Pool{New: func() any { return &passRoom{} }}

// readThrough reads a chunk of a table with as many columns as all has stats. Its records are read first, then each
// column is gone through by itself, so that what belongs to it stays near.
func readThrough(c *source.Chunk, all []*stats) *pass {
	columns := len(all)
	room := rooms.Get().(*passRoom)
	for len(room.tallies) < columns {
		room.tallies = append(room.tallies, tally{})
	}
	room.positions, room.cells, room.stored = room.positions[:0], room.cells[:0], room.stored[:0]
	p := &pass{tallies: room.tallies[:columns], held: room}
	r := source.Record{Keep: true}
	for c.Next(&r) {
		p.record(&r, columns)
	}
	p.rows, p.positions = len(room.positions), room.positions
	for i := range p.tallies {
		t := &p.tallies[i]
		room.slots = t.reset(room.slots, p.rows)
		for row, position := range p.positions {
			at := row*columns + i
			stored := source.StoredBlank
			if len(room.stored) > 0 {
				stored = room.stored[at]
			}
			t.add(room.cells[at], uint8(stored), position)
		}
		room.slots, t.slots = t.slots, nil
		all[i].add(t)
	}
	clear(room.cells)
	return p
}

func (p *pass) record(r *source.Record, columns int) {
	if why := source.Misshapen(r, columns); why != "" {
		p.broken = append(p.broken, trouble{r.Position, why})
		return
	}
	p.held.positions = append(p.held.positions, r.Position)
	p.held.cells = append(p.held.cells, r.Fields...)
	if r.Stored != nil {
		p.held.stored = append(p.held.stored, r.Stored...)
	}
	for _, f := range r.Faults {
		p.held.cells[len(p.held.cells)-columns+f.Field] = nil
		p.faults = append(p.faults, fault{f.Field, trouble{r.Position, strings.TrimSpace(string(r.Fields[f.Field]) + " " + f.Why)}})
	}
	if word, ok := totalWord(r); ok {
		p.totals = append(p.totals, trouble{r.Position, word})
	}
}

// done gives the memory of the pass back.
func (p *pass) done() {
	rooms.Put(p.held)
	p.tallies, p.positions = nil, nil
}

// totalWords start rows that sum up others.
var totalWords = map[string]bool{"total": true, "totals": true, "subtotal": true, "sub-total": true, "grand": true, "sum": true, "summe": true, "gesamt": true, "gesamtsumme": true,
	"totaal": true, "totale": true, "suma": true, "razem": true, "итого": true, "всего": true, "合計": true}

// totalWord gives the first word of a record when that says that it sums up others.
func totalWord(r *source.Record) (string, bool) {
	for _, f := range r.Fields {
		if len(f) == 0 {
			continue
		}
		if c := f[0] | 0x20; c != 't' && c != 's' && c != 'g' && c != 'r' && f[0] < 0x80 || len(f) > 40 {
			return "", false
		}
		end := 0
		for end < len(f) && f[end] != ' ' && f[end] != ':' {
			end++
		}
		return string(f), totalWords[source.Plain(string(f[:end]))]
	}
	return "", false
}
