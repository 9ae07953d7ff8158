package clean

import (
	"iter"
	"math/bits"
	"slices"

	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Deed is what a part of a rule does to a cell that it changes.
type Deed uint8

const (
	Blanked Deed = iota
	Recoded
	OthersBlanked
	Filled
	Defaulted
	Rounded
	Shortened
	kinds // of deeds
)

// String is the key of the ladle file that does it.
func (d Deed) String() string {
	return [kinds]string{"blank_is", "recode", "recode_others", "if_blank", "default", "round", "shorten_to"}[d]
}

// deeds are what was done to a cell, a bit each.
type deeds uint8

func (all deeds) with(d Deed) deeds    { return all | 1<<d }
func (all deeds) includes(d Deed) bool { return all&(1<<d) != 0 }

// each goes through them in their order.
func (all deeds) each() iter.Seq[Deed] {
	return func(yield func(Deed) bool) {
		for ; all != 0; all &= all - 1 {
			if !yield(Deed(bits.TrailingZeros8(uint8(all)))) {
				return
			}
		}
	}
}

// Effect is what part of a rule did to a column, in the lines that the input keeps. Cells that are bad in the end
// don't count.
type Effect struct {
	Column int // of the recipe
	Deed   Deed
	Cells  int64
	First  []Change // the first that differ from each other, in the order of the file
}

// Change is a cell that a rule changed.
type Change struct {
	Position int64   // of its record
	Before   string  // as it stands in the file; "" too for a column that the file doesn't have
	After    *string // in its canonical text, once the whole rule is done; nil for blank
}

const mostChanges = 3 // of an effect

// effects are those of each column and deed.
type effects []Effect

func newEffects(columns int) effects {
	all := make(effects, columns*int(kinds))
	for i := range all {
		all[i].Column, all[i].Deed = i/int(kinds), Deed(i%int(kinds))
	}
	return all
}

func (all effects) of(column int, d Deed) *Effect { return &all[column*int(kinds)+int(d)] }

func (all effects) reset() {
	for i := range all {
		all[i].Cells, all[i].First = 0, nil
	}
}

// shows reports whether a cell need not be looked at again to be shown.
func (e *Effect) shows(cell []byte) bool {
	return len(e.First) == mostChanges ||
		slices.ContainsFunc(e.First, func(c Change) bool { return c.Before == string(cell) })
}

// note counts what was done to a cell of a record.
func (all effects) note(column int, c *cell, r *source.Record) {
	for d := range c.did.each() {
		e := all.of(column, d)
		e.Cells++
		if e.shows(c.raw) {
			continue
		}
		made := Change{Position: r.Position, Before: string(c.raw)}
		if c.state == value.Given {
			text := string(c.written())
			made.After = &text
		}
		e.First = append(e.First, made)
	}
}

// again counts what was done to a cell like one before; false, with nothing counted, when the cell is one to show.
func (all effects) again(column int, did deeds, cell []byte) bool {
	known := all.known(column, did, cell)
	if known {
		all.count(column, did)
	}
	return known
}

// known reports whether a cell to which something was done need not be looked at again to be shown.
func (all effects) known(column int, did deeds, cell []byte) bool {
	for d := range did.each() {
		if !all.of(column, d).shows(cell) {
			return false
		}
	}
	return true
}

// count counts what was done to a cell that is known.
func (all effects) count(column int, did deeds) {
	for d := range did.each() {
		all.of(column, d).Cells++
	}
}

// add adds what was done to later cells.
func (all effects) add(later effects) {
	for i := range later {
		e := &all[i]
		e.Cells += later[i].Cells
		for _, c := range later[i].First {
			if !e.shows([]byte(c.Before)) {
				e.First = append(e.First, c)
			}
		}
	}
}

// Effects are what the rules did, by column and deed.
func (r *Rows) Effects() []Effect {
	var all []Effect
	for _, e := range r.effects {
		if e.Cells > 0 {
			all = append(all, e)
		}
	}
	return all
}
