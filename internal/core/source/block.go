package source

import "bytes"

// Block is records of a chunk of text that follow each other, of which there is nothing to say but where their fields end:
// each has as many fields as the table has columns, and no quotes. So whoever wants a column goes through it alone, and no
// Record is made of a line. The memory of a block is the chunk's, and
// good until the next record or block is read.
type Block struct {
	Rows     int
	Position int64 // of the first record; those of the others follow it
	columns  int
	raw      []byte
	ends     []uint32 // where in raw the line above ends, then each field, row by row
	returns  uint32   // carriage returns in the end of a line: 1 or 0
}

// Field is the field of a row and a column, both from 0.
func (b *Block) Field(row, column int) []byte {
	from, to := b.Bounds(row, column)
	return b.raw[from:to]
}

// Bounds is where the field of a row and a column begins and ends in the Raw of the chunk.
func (b *Block) Bounds(row, column int) (from, to uint32) {
	at := row*b.columns + column
	from, to = b.ends[at]+1, b.ends[at+1]
	if column == b.columns-1 {
		to -= b.returns
	}
	return from, to
}

// Fields is the number of all fields.
func (b *Block) Fields() int { return b.Rows * b.columns }

// Size is the bytes of all rows.
func (b *Block) Size() int { return int(b.ends[b.Rows*b.columns] - b.ends[0]) }

// Line is a row as it stands in the file, without the end of the line.
func (b *Block) Line(row int) []byte {
	return b.raw[b.ends[row*b.columns]+1 : b.ends[(row+1)*b.columns]-b.returns]
}

// Record makes the record of a row.
func (b *Block) Record(row int, r *Record) {
	r.reset()
	r.Gap, r.Position, r.Raw = false, b.Position+int64(row), b.Line(row)
	for column := range b.columns {
		r.Fields = append(r.Fields, b.Field(row, column))
	}
}

const (
	BlockRows   = 256     // of a block at most, so that its text stays next to the processor
	blockFields = 1 << 14 // the same for wide rows
)

// Block reads the next records of the chunk into b as far as they make a block. It is false, and nothing is read, when the
// next one doesn't: that is for Next.
func (c *Chunk) Block(b *Block) bool {
	l, ok := c.rows.(*lines)
	if !ok || c.wanted != nil || c.maps != nil || c.expansions != nil || c.Origin.most > 0 || !l.takeBlock(b) {
		return false
	}
	b.Position |= int64(c.Origin.File) << lineBits
	c.Counts.Records += int64(b.Rows)
	c.parts = 0
	return true
}

// Walk reads the chunk to its end: its blocks are given to block, and the records between them to record, in the order of
// the file. Both are used again.
func (c *Chunk) Walk(block func(*Block), record func(*Record)) {
	var b Block
	var r Record
	for {
		for c.Block(&b) {
			block(&b)
		}
		if !c.Next(&r) {
			return
		}
		record(&r)
	}
}

// takeBlock is Block for the records at l.at.
func (l *lines) takeBlock(b *Block) bool {
	if l.trust(); l.doubts != nil || l.returns || l.width == 0 || l.odd != nil && (l.odd.slow() || l.odd.comment != nil) {
		return false
	}
	most := max(1, min(BlockRows, blockFields/l.width))
	for len(l.all)-l.passed < most*l.width && l.more() {
	}
	if most = min(most, (len(l.all)-l.passed)/l.width); most == 0 {
		return false
	}
	ends := l.all[l.passed-1:]
	ends[0] = uint32(l.at - 1) // wraps around at the start of the text
	*b = Block{Position: l.line, columns: l.width, raw: l.raw, ends: ends}
	if first := ends[l.width]; first > ends[0]+1 && l.raw[first-1] == '\r' {
		b.returns = 1
	}
	if l.endLines(b, most); !l.areFields(b) {
		return false
	}
	l.passed += b.Rows * l.width
	l.at = int(ends[b.Rows*l.width]) + 1
	l.line += int64(b.Rows)
	return true
}

// endLines takes rows, up to most of them, as far as the last mark of each is the same end of a line, and they hold something.
func (l *lines) endLines(b *Block, most int) {
	start := b.ends[0] + 1
	for b.Rows < most {
		end := b.ends[(b.Rows+1)*l.width]
		if l.raw[end] != '\n' || (end > start && l.raw[end-1] == '\r') != (b.returns == 1) ||
			l.width > 1 && int(end-start-b.returns) < l.width {
			return
		}
		start = end + 1
		b.Rows++
	}
}

// areFields reports whether b has rows whose other marks are delimiters, and leaves it these.
func (l *lines) areFields(b *Block) bool {
	ends := b.ends[:b.Rows*l.width+1]
	if b.Rows > 0 && !l.quotes && bytes.Count(l.raw[ends[0]+1:ends[len(ends)-1]+1], []byte{'\n'}) == b.Rows {
		return true
	}
	for row := range b.Rows {
		for _, at := range ends[row*l.width+1 : (row+1)*l.width] {
			if l.raw[at] != l.Delimiter {
				b.Rows = row
				return row > 0
			}
		}
	}
	return b.Rows > 0
}
