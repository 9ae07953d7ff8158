package formula

import (
	"ladle/internal/core/text"
)

// Block computes a formula for the rows of a block at once, a part of the formula after the other: what each costs a row is
// little then. Rows with anything that is not plain are left to a Machine. It is not for several goroutines.
type Block struct {
	formula *Formula
	rows    int
	cells   []*Vector
	asked   [Provenances]*Vector
	parts   []piece
	nothing Vector // where something is asked for that is not known
}

// piece is the memory of a part of the formula.
type piece struct {
	arguments []*Vector
	taken     []Vector // arguments of another kind, as that which is taken
	result    Vector
	call      call   // of a row, where the function has no other way
	texts     []byte // of the results
	one       []byte // a text that is made
}

// Together reports whether a Block can compute the formula.
func (f *Formula) Together() bool { return f.result.together != nil }

// NewBlock makes a Block for a formula over so many columns, which must be one for it.
func NewBlock(f *Formula, columns int) *Block {
	return &Block{formula: f, cells: make([]*Vector, columns), parts: make([]piece, f.parts)}
}

// Set gives column i of the rows its cells, which are of the kind of the column. The block holds on to v.
func (b *Block) Set(i int, v *Vector) { b.cells[i] = v }

// SetProvenance sets what the formula is told. The block holds on to v.
func (b *Block) SetProvenance(p Provenance, v *Vector) { b.asked[p] = v }

// Run computes the formula for so many rows, of which the cells were set. The values are good until the next Run, or until
// those that were set change.
func (b *Block) Run(rows int) *Vector {
	b.rows = rows
	return b.formula.result.together(b)
}

// Quotient is what Run did not compute for a row since the formula is a division that does not come out even: the quotient,
// rounded to digits behind the point, halves away from zero. It is false where that is not so, or not plain.
func (b *Block) Quotient(row, places int) (Scaled, bool) {
	if !b.formula.divides || places < 0 {
		return Scaled{}, false
	}
	arguments := b.parts[len(b.parts)-1].arguments
	x, y := arguments[0], arguments[1]
	if x.States[row] != Given || y.States[row] != Given {
		return Scaled{}, false
	}
	return x.Numbers[row].overRounded(y.Numbers[row], places)
}

// told is what the block was told of, if it was: else each row says that it is not known.
func (b *Block) told(p Provenance, kind Kind) *Vector {
	if v := b.asked[p]; v != nil {
		return v
	}
	b.nothing.Reset(kind, b.rows)
	return b.nothing.leave()
}

// part is a new part of the formula, by its number.
func (b *builder) part() int {
	b.formula.parts++
	return b.formula.parts - 1
}

// constant is a node that always has the same value.
func (b *builder) constant(v *Value) node {
	made := node{alone: func(*Machine) (*Value, error) { return v, nil }}
	if _, few := scaled(&v.Number); v.Kind == Number && !few {
		return made
	}
	number := b.part()
	made.together = func(m *Block) *Vector {
		r := &m.parts[number].result
		if len(r.States) < m.rows {
			r.Fill(v, m.rows)
		}
		return r
	}
	return made
}

// callingTogether is calling for a block; nil where an argument has no such way.
func callingTogether(number int, f function, takes []Kind, gives Kind, arguments []node) func(*Block) *Vector {
	for _, a := range arguments {
		if a.together == nil {
			return nil
		}
	}
	do := f.together
	if do == nil {
		do = func(p *piece) *Vector { return p.each(f.do) }
	}
	return func(m *Block) *Vector {
		p := &m.parts[number]
		if p.arguments == nil {
			p.arguments, p.taken = make([]*Vector, len(arguments)), make([]Vector, len(arguments))
		}
		p.result.Reset(gives, m.rows)
		states := p.result.States
		for i, a := range arguments {
			v := a.together(m).as(takes[i], &p.taken[i])
			p.arguments[i] = v
			for row, s := range v.States[:m.rows] {
				if s == Alone || s == Blank && !f.blanks {
					states[row] = max(states[row], s)
				}
			}
		}
		p.texts = p.texts[:0]
		return do(p)
	}
}

// each computes the rows one after the other.
func (p *piece) each(do func(*call) (*Value, error)) *Vector {
	c := &p.call
	if c.arguments == nil {
		c.taken = make([]Value, len(p.arguments))
		for i := range c.taken {
			c.arguments = append(c.arguments, &c.taken[i])
		}
	}
	for row, s := range p.result.States {
		if s != Given {
			continue
		}
		for i, a := range p.arguments {
			a.Value(row, &c.taken[i])
			c.arguments[i] = &c.taken[i]
		}
		v, err := do(c)
		switch {
		case err != nil:
			p.result.States[row] = Alone
		case v.Kind == Text && !v.Blank:
			p.write(row, append(p.texts, v.Text...))
		default:
			p.result.set(row, v)
		}
	}
	return &p.result
}

// write sets the text of a row to what stands behind the others in made, which is the memory of them all, with it.
func (p *piece) write(row int, made []byte) {
	from := len(p.texts)
	p.texts = made
	p.put(row, text.Of(made[from:]))
}

// put sets the text of a row; one without a character is blank.
func (p *piece) put(row int, s string) {
	if s == "" {
		p.result.States[row] = Blank
	}
	p.result.Texts[row] = s
}

// chooseTogether is choose() for a block; nil where one of its nodes has no such way.
func (b *builder) chooseTogether(nodes [3]node, kind Kind) func(*Block) *Vector {
	for _, n := range nodes {
		if n.together == nil {
			return nil
		}
	}
	number := b.part()
	return func(m *Block) *Vector {
		r := &m.parts[number].result
		r.Reset(kind, m.rows)
		condition, one, other := nodes[0].together(m), nodes[1].together(m), nodes[2].together(m)
		for row := range r.States {
			switch s := condition.States[row]; {
			case s != Given:
				r.States[row] = s
			case condition.Truths[row]:
				r.Take(row, one)
			default:
				r.Take(row, other)
			}
		}
		return r
	}
}
