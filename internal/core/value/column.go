package value

import (
	"encoding/binary"
	"math"
	"slices"
)

// State says what stands in one slot of a column.
type State uint8

const (
	Null  State = iota // no value
	Given              // a value
	Bad                // a cell that could not be read as a value; the problem is told elsewhere
	New                // the number of a row that is yet to be given its id
)

// Column is a vector of values of one kind, one slot a row. The zero Column is an empty column of text.
// Kinds that fit 64 bits stand in Nums, the others one behind the other in Data, each ending at its Ends.
type Column struct {
	Kind   Kind
	Scale  int
	States []State
	Nums   []int64
	Ends   []uint32
	Data   []byte
}

// NewColumn returns an empty column for values of t.
func NewColumn(t Type) Column { return Column{Kind: t.Kind, Scale: t.Scale} }

// Wide tells the columns whose values are held as bytes; those of others fit 64 bits.
func (c *Column) Wide() bool { return c.Kind.wide() }

// Len is the number of slots.
func (c *Column) Len() int { return len(c.States) }

// Reset empties the column and keeps its memory.
func (c *Column) Reset() {
	c.States, c.Nums, c.Ends, c.Data = c.States[:0], c.Nums[:0], c.Ends[:0], c.Data[:0]
}

// AppendNum adds a value of a kind that fits 64 bits.
func (c *Column) AppendNum(n int64) {
	c.States = append(c.States, Given)
	c.Nums = append(c.Nums, n)
}

// AppendFloat adds a value to a column of kind Float.
func (c *Column) AppendFloat(f float64) { c.AppendNum(int64(math.Float64bits(f))) }

// AppendBytes adds a value of a kind that is held as bytes.
func (c *Column) AppendBytes(b []byte) {
	c.States = append(c.States, Given)
	c.Data = append(c.Data, b...)
	c.Ends = append(c.Ends, uint32(len(c.Data)))
}

// AppendTexts adds values that stand one behind the other in data, each up to one of ends.
func (c *Column) AppendTexts(data []byte, ends []uint32) {
	before := uint32(len(c.Data))
	c.Data = append(c.Data, data...)
	for _, end := range ends {
		c.States = append(c.States, Given)
		c.Ends = append(c.Ends, before+end)
	}
}

// AppendState adds a slot without a value of its own: Null or Bad.
func (c *Column) AppendState(s State) {
	c.States = append(c.States, s)
	if c.Kind.wide() {
		c.Ends = append(c.Ends, uint32(len(c.Data)))
	} else {
		c.Nums = append(c.Nums, 0)
	}
}

// AppendNew adds the number of a row that has no id yet; the column is of a kind that fits 64 bits.
func (c *Column) AppendNew(n int64) {
	c.States = append(c.States, New)
	c.Nums = append(c.Nums, n)
}

// AppendFrom adds slot i of o, a column of the same kind.
func (c *Column) AppendFrom(o *Column, i int) {
	if !c.Kind.wide() {
		c.States = append(c.States, o.States[i])
		c.Nums = append(c.Nums, o.Nums[i])
		return
	}
	c.States = append(c.States, o.States[i])
	c.Data = append(c.Data, o.Bytes(i)...)
	c.Ends = append(c.Ends, uint32(len(c.Data)))
}

// Bytes is the value in slot i of a kind that is held as bytes. It stands in the column's own memory.
func (c *Column) Bytes(i int) []byte {
	start := uint32(0)
	if i > 0 {
		start = c.Ends[i-1]
	}
	return c.Data[start:c.Ends[i]]
}

// Float is the value in slot i of a column of kind Float.
func (c *Column) Float(i int) float64 { return math.Float64frombits(uint64(c.Nums[i])) }

// True reports whether slot i of a column of kind Bool holds true.
func (c *Column) True(i int) bool { return c.States[i] == Given && c.Nums[i] != 0 }

// AppendIdentity adds to b an encoding of slot i that is equal for equal slots of columns of one kind, and only
// for those. No encoding is the start of another, so several can stand behind each other.
func (c *Column) AppendIdentity(b []byte, i int) []byte {
	state := c.States[i]
	b = append(b, byte(state))
	switch {
	case state == Null || state == Bad:
		return b
	case c.Kind.wide():
		v := c.Bytes(i)
		b = binary.LittleEndian.AppendUint32(b, uint32(len(v)))
		return append(b, v...)
	}
	return binary.LittleEndian.AppendUint64(b, uint64(c.Nums[i]))
}

// Identity is an encoding of row i of columns that is equal for equal rows, and only for those.
func Identity(columns []Column, i int) string {
	var b []byte
	for c := range columns {
		b = columns[c].AppendIdentity(b, i)
	}
	return string(b)
}

// Pointers returns the columns one by one.
func Pointers(columns []Column) []*Column {
	all := make([]*Column, len(columns))
	for i := range columns {
		all[i] = &columns[i]
	}
	return all
}

// Same reports whether slot i of c and slot j of o, columns of one kind, hold exactly the same.
func (c *Column) Same(i int, o *Column, j int) bool {
	if c.States[i] != o.States[j] {
		return false
	}
	if c.States[i] == Null || c.States[i] == Bad {
		return true
	}
	if c.Kind.wide() {
		return string(c.Bytes(i)) == string(o.Bytes(j))
	}
	return c.Nums[i] == o.Nums[j]
}

// Batch is a number of rows as columns of one length.
type Batch struct {
	Columns []Column
}

// NewBatch returns an empty batch for values of the given types.
func NewBatch(types []Type) *Batch {
	b := &Batch{Columns: make([]Column, len(types))}
	for i, t := range types {
		b.Columns[i] = NewColumn(t)
	}
	return b
}

// Len is the number of rows.
func (b *Batch) Len() int {
	if len(b.Columns) == 0 {
		return 0
	}
	return b.Columns[0].Len()
}

// Pick returns the wanted columns of b, which has those of names; they share their memory.
func (b *Batch) Pick(names, wanted []string) *Batch {
	picked := &Batch{Columns: make([]Column, len(wanted))}
	for i, name := range wanted {
		picked.Columns[i] = b.Columns[slices.Index(names, name)]
	}
	return picked
}

// Size is about the number of bytes of the values.
func (b *Batch) Size() (n int) {
	for i := range b.Columns {
		c := &b.Columns[i]
		n += len(c.States) + 8*len(c.Nums) + 4*len(c.Ends) + len(c.Data)
	}
	return n
}

// Clone returns a copy with memory of its own.
func (b *Batch) Clone() *Batch {
	clone := &Batch{Columns: slices.Clone(b.Columns)}
	for i := range clone.Columns {
		c := &clone.Columns[i]
		c.States, c.Nums, c.Ends, c.Data = slices.Clone(c.States), slices.Clone(c.Nums), slices.Clone(c.Ends), slices.Clone(c.Data)
	}
	return clone
}

// As returns the rows with the values of each column read as those of a type, where they are of another: what is no such value
// is Bad.
func (b *Batch) As(types []Type) *Batch {
	out := &Batch{Columns: slices.Clone(b.Columns)}
	for i, t := range types {
		c := &b.Columns[i]
		if c.Kind == t.Kind && c.Scale == t.Scale {
			continue
		}
		out.Columns[i] = NewColumn(t)
		for row := range c.Len() {
			_ = Parse(&out.Columns[i], t, c.AppendText(nil, row)) // adds Bad where it gives an error
		}
	}
	return out
}

// Some returns a copy of the rows from start to end, or of those of them that keep says.
func (b *Batch) Some(start, end int, keep func(row int) bool) *Batch {
	some := &Batch{Columns: make([]Column, len(b.Columns))}
	for i := range b.Columns {
		some.Columns[i] = Column{Kind: b.Columns[i].Kind, Scale: b.Columns[i].Scale}
		for row := start; row < end; row++ {
			if keep == nil || keep(row) {
				some.Columns[i].AppendFrom(&b.Columns[i], row)
			}
		}
	}
	return some
}

// Reset empties the batch and keeps its memory.
func (b *Batch) Reset() {
	for i := range b.Columns {
		b.Columns[i].Reset()
	}
}
