package formula

import (
	"ladle/internal/core/value"
)

// node computes a part of a formula: alone for the row of a machine, together for those of a block; nil where each must be
// computed alone. What it gives is good until the machine, or the block, runs again.
type node struct {
	alone    func(*Machine) (*Value, error)
	together func(*Block) *Vector
}

// Machine runs formulas over rows, one after the other.
type Machine struct {
	cells  []*Value
	asked  [Provenances]*Value
	across map[Across]*Value
	calls  []call
}

// call is the memory of an operator or function for its arguments and its result.
type call struct {
	arguments []*Value
	taken     []Value // arguments of another kind, as that which is taken
	result    Value
	text      []byte // of the result
}

// NewMachine makes a machine for formulas over so many columns.
func NewMachine(columns int) *Machine {
	return &Machine{cells: make([]*Value, columns), across: map[Across]*Value{}}
}

// Set gives column i of the row its cell. The machine holds on to v.
func (m *Machine) Set(i int, v *Value) { m.cells[i] = v }

// Run computes f for the row whose cells were set. The value is good until the next Run. Its error is ErrCell or a
// NoResult.
func (m *Machine) Run(f *Formula) (*Value, error) {
	if more := f.calls - len(m.calls); more > 0 {
		m.calls = append(m.calls, make([]call, more)...)
	}
	v, err := f.result.alone(m)
	if err == nil && v.Bad {
		err = ErrCell
	}
	if err != nil {
		return nil, err
	}
	return v, nil
}

// told is a value that the machine was told of, if it was.
func told(v *Value) (*Value, error) {
	if v == nil {
		return nil, NoResult("what the formula asks for is not known here")
	}
	return v, nil
}

// calling is a node that calls f, as the call of a formula with that number, for arguments of the given kinds.
func calling(number int, f function, takes []Kind, gives Kind, arguments []node) func(*Machine) (*Value, error) {
	blank := &Value{Kind: gives, Blank: true}
	return func(m *Machine) (*Value, error) {
		c := &m.calls[number]
		if len(c.arguments) != len(arguments) {
			c.arguments, c.taken = make([]*Value, len(arguments)), make([]Value, len(arguments))
		}
		for i, a := range arguments {
			v, err := a.alone(m)
			if err != nil {
				return nil, err
			}
			c.arguments[i] = v
		}
		blanks := false
		for i, v := range c.arguments {
			if v.Bad || v.Kind != takes[i] && takes[i] != Any {
				var err error
				if v, err = v.as(takes[i], &c.taken[i]); err != nil {
					return nil, err
				}
				c.arguments[i] = v
			}
			blanks = blanks || v.Blank
		}
		if blanks && !f.blanks {
			return blank, nil
		}
		return f.do(c)
	}
}

// number is the result, which is to become a number.
func (c *call) number() *Value {
	c.result.Kind, c.result.Blank = Number, false
	return &c.result
}

func (c *call) whole(n int64) *Value {
	r := c.number()
	r.Number.SetInt64(n)
	return r
}

func (c *call) moment(m value.Moment) *Value {
	c.result.Kind, c.result.Moment, c.result.Blank = Moment, m, false
	return &c.result
}

func (c *call) truth(t bool) *Value { return c.truthOrBlank(t, false) }

func (c *call) truthOrBlank(t, blank bool) *Value {
	c.result.Kind, c.result.Truth, c.result.Blank = Truth, t, blank
	return &c.result
}

func (c *call) written(s string) *Value {
	c.result.Kind, c.result.Text, c.result.Blank = Text, s, s == ""
	return &c.result
}
