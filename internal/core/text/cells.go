package text

import (
	"bytes"
	"encoding/binary"
)

// Cells are cells of ASCII that are changed together, one behind the other in one memory: what each costs by itself is saved
// then, and letters are turned eight at a time.
type Cells struct {
	Data []byte
	Ends []uint32 // of each cell in Data
	made []byte   // where cells are written that become longer
	one  []byte   // where a single one is
}

// mostTogether is how many bytes cells may become together.
const mostTogether = 1 << 20

// Reset takes all cells away, and makes room for n bytes.
func (c *Cells) Reset(n int) {
	if cap(c.Data) < cap(c.made) {
		c.Data, c.made = c.made, c.Data
	}
	if cap(c.Data) < n+wide {
		c.Data = make([]byte, n+wide)
	}
	c.Data, c.Ends = c.Data[:0], c.Ends[:0]
}

// wide is how many bytes are copied at once of each cell, since most have no more.
const wide = 16

// Add adds a cell for which Reset has made room. What stands behind it, within its capacity, is read as well.
func (c *Cells) Add(cell []byte) {
	n := len(c.Data)
	to := c.Data[n:cap(c.Data)]
	if c.Data = c.Data[:n+len(cell)]; cap(cell) >= wide {
		*(*[wide]byte)(to) = *(*[wide]byte)(cell[:wide])
		if len(cell) > wide {
			copy(to[wide:], cell[wide:])
		}
	} else {
		copy(to, cell)
	}
	c.Ends = append(c.Ends, uint32(n+len(cell)))
}

// TooMany reports whether the cells have become more than are changed together. They can't be used then.
func (c *Cells) TooMany() bool { return len(c.Data) > mostTogether }

// Each changes each cell by change, which returns a part of it, or what it writes to the memory of to.
func (c *Cells) Each(change func(to, cell []byte) []byte) {
	made, from := c.made[:0], uint32(0)
	for i, end := range c.Ends {
		text := change(c.one[:0], c.Data[from:end])
		if made = append(made, text...); len(made) > mostTogether {
			break
		}
		if !Inside(text, c.Data[from:end]) {
			c.one = text
		}
		c.Ends[i], from = uint32(len(made)), end
	}
	c.Data, c.made = made, c.Data
}

// Upper is Upper for all cells.
func (c *Cells) Upper() { turn(c.Data, 'a', 'z') }

// Lower is Lower for all cells.
func (c *Cells) Lower() { turn(c.Data, 'A', 'Z') }

// Title is Title for all cells.
func (c *Cells) Title() {
	apostrophes, from := bytes.IndexByte(c.Data, '\'') >= 0, uint32(0)
	if !apostrophes {
		titleAll(c.Data)
	}
	for _, end := range c.Ends {
		switch cell := c.Data[from:end]; {
		case apostrophes:
			titled(cell)
		case len(cell) > 0:
			cell[0] &^= capital[cell[0]] // the cell before it may end within a word
		}
		from = end
	}
}

// titleAll begins each word of a text of ASCII without apostrophes with a capital and goes on with small letters.
func titleAll(data []byte) {
	inside := uint64(0) // the last character before is of a word
	for ; len(data) >= 8; data = data[8:] {
		word := binary.LittleEndian.Uint64(data)
		small := word | amid(word, 'A', 'Z')>>2
		letters := amid(small, 'a', 'z')
		words := letters | amid(word, '0', '9')
		binary.LittleEndian.PutUint64(data, small&^((letters&^(words<<8|inside))>>2))
		inside = words >> 56
	}
	for i, b := range data {
		letter := amid(uint64(b|0x20), 'a', 'z') & 0x80
		data[i] = b | byte(letter>>2)
		if inside == 0 {
			data[i] &^= byte(letter >> 2)
		}
		inside = letter | amid(uint64(b), '0', '9')&0x80
	}
}

// capital has the bit for each letter of ASCII by which small ones differ from capitals.
var capital = func() (bits [256]byte) {
	for c := range 26 {
		bits['a'+c], bits['A'+c] = 0x20, 0x20
	}
	return bits
}()

// Trim is Trim for all cells.
func (c *Cells) Trim() {
	from, n := uint32(0), uint32(0)
	for i, end := range c.Ends {
		start, stop := from, end
		for start < stop && c.Data[start] <= ' ' && blankSet[c.Data[start]] == 1 {
			start++
		}
		for start < stop && c.Data[stop-1] <= ' ' && blankSet[c.Data[stop-1]] == 1 {
			stop--
		}
		n += c.move(n, start, stop)
		c.Ends[i], from = n, end
	}
	c.Data = c.Data[:n]
}

// move moves a part of the cells forward to to, and returns its length.
func (c *Cells) move(to, start, stop uint32) uint32 {
	if to != start {
		copy(c.Data[to:], c.Data[start:stop])
	}
	return stop - start
}

// Squeeze is Squeeze for all cells.
func (c *Cells) Squeeze() {
	from, n := uint32(0), uint32(0)
	for i, end := range c.Ends {
		if isSqueezed(c.Data[from:end]) {
			n += c.move(n, from, end)
		} else {
			n += uint32(squeeze(c.Data[n:], c.Data[from:end]))
		}
		c.Ends[i], from = n, end
	}
	c.Data = c.Data[:n]
}

// isSqueezed reports whether Squeeze certainly changes nothing in a cell of ASCII.
func isSqueezed(cell []byte) bool {
	before := uint64(0x80) // the last character before is a blank, or the cell begins
	for ; len(cell) >= 8; cell = cell[8:] {
		word := binary.LittleEndian.Uint64(cell)
		blanks := amid(word, 0, ' ')
		if blanks&(blanks<<8|before) != 0 || amid(word, 0, ' '-1) != 0 {
			return false
		}
		before = blanks >> 56
	}
	for _, b := range cell {
		switch {
		case b > ' ':
			before = 0
		case b < ' ' || before != 0:
			return false
		default:
			before = 1
		}
	}
	return before == 0
}

// squeeze writes a cell of ASCII to to with one blank for each run of them, and none at its ends; to may begin in it, or
// before it.
func squeeze(to, cell []byte) (n int) {
	before := uint8(1) // no blank at the start
	for _, b := range cell {
		blank := blankSet[b]
		to[n] = b&(blank-1) | ' '&-blank
		n += int(1 - blank&before)
		before = blank
	}
	if n > 0 && before == 1 {
		n--
	}
	return n
}

// Digits is Digits for all cells.
func (c *Cells) Digits() { c.pick(&digitSet, 1) }

// pick is picked for all cells.
func (c *Cells) pick(s *set, in uint8) {
	from, n := uint32(0), uint32(0)
	for i, end := range c.Ends {
		n += uint32(pick(c.Data[n:], c.Data[from:end], s, in))
		c.Ends[i], from = n, end
	}
	c.Data = c.Data[:n]
}

// Letters is Letters for all cells.
func (c *Cells) Letters() { c.pick(&letterSet, 1) }

// AddPrefix puts a text of ASCII before each cell that doesn't start with it, unless it is blank.
func (c *Cells) AddPrefix(prefix []byte) {
	made, from := c.made[:0], uint32(0)
	for i, end := range c.Ends {
		if cell := c.Data[from:end]; len(cell) > 0 {
			if !bytes.HasPrefix(cell, prefix) {
				made = append(made, prefix...)
			}
			made = append(made, cell...)
		}
		if c.Ends[i], from = uint32(len(made)), end; len(made) > mostTogether {
			break
		}
	}
	c.Data, c.made = made, c.Data
}

// DropPrefix takes a text off the start of each cell that has it there.
func (c *Cells) DropPrefix(prefix []byte) {
	from, n := uint32(0), uint32(0)
	for i, end := range c.Ends {
		if bytes.HasPrefix(c.Data[from:end], prefix) {
			from += uint32(len(prefix))
		}
		n += c.move(n, from, end)
		c.Ends[i], from = n, end
	}
	c.Data = c.Data[:n]
}

// Replace puts a text of ASCII in the place of another one, which is not blank, wherever that stands.
func (c *Cells) Replace(old, new []byte) {
	at := c.index(old, 0)
	if at < 0 {
		return
	}
	made, from := c.made[:0], 0
	for i, end := range c.Ends {
		for at >= 0 && at+len(old) <= int(end) && len(made) <= mostTogether {
			made = append(append(made, c.Data[from:at]...), new...)
			from = at + len(old)
			at = c.index(old, from)
		}
		if made = append(made, c.Data[from:end]...); len(made) > mostTogether {
			break
		}
		if from = int(end); at >= 0 && at < from { // half in this cell, half in the next
			at = c.index(old, from)
		}
		c.Ends[i] = uint32(len(made))
	}
	c.Data, c.made = made, c.Data
}

// index is where a text stands in Data from a place on, or -1.
func (c *Cells) index(text []byte, from int) int {
	at := bytes.Index(c.Data[from:], text)
	if at < 0 {
		return -1
	}
	return from + at
}
