package source

import "bytes"

// Block is records of a chunk of text that follow each other, of which there is nothing to say but where their fields stand:
// each has as many as the table has columns, on one line, and quotes stand around fields only. So whoever wants a column goes
// through it alone, and no Record is made of a line. The memory of a block is the chunk's, and good until the next record or
// block is read.
type Block struct {
	Rows     int
	Position int64 // of the first record; those of the others follow it
	columns  int
	raw      []byte
	ends     []uint32 // where in raw the line above ends, then each field, row by row
	returns  uint32   // carriage returns in the end of a line: 1 or 0
	bounds   []uint32 // of a text with quotes: where each line begins and ends, and behind that each of its fields; else nil
}

// Field is the field of a row and a column, both from 0.
func (b *Block) Field(row, column int) []byte {
	from, to := b.Bounds(row, column)
	return b.raw[from:to]
}

// Bounds is where the field of a row and a column begins and ends in the Raw of the chunk, without its quotes.
func (b *Block) Bounds(row, column int) (from, to uint32) {
	if b.bounds != nil {
		at := 2 * (row*(b.columns+1) + 1 + column)
		return b.bounds[at], b.bounds[at+1]
	}
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
func (b *Block) Size() int {
	_, end := b.lineBounds(b.Rows - 1)
	start, _ := b.lineBounds(0)
	return int(end - start)
}

// Line is a row as it stands in the file, without the end of the line.
func (b *Block) Line(row int) []byte {
	from, to := b.lineBounds(row)
	return b.raw[from:to]
}

func (b *Block) lineBounds(row int) (from, to uint32) {
	if b.bounds != nil {
		at := 2 * row * (b.columns + 1)
		return b.bounds[at], b.bounds[at+1]
	}
	return b.ends[row*b.columns] + 1, b.ends[(row+1)*b.columns] - b.returns
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

// Walk reads the chunk to its end: its blocks are given to block, and the records between them, each read into r, to record,
// in the order of the file.
func (c *Chunk) Walk(r *Record, block func(*Block), record func(*Record)) {
	var b Block
	for {
		for c.Block(&b) {
			block(&b)
		}
		if !c.Next(r) {
			return
		}
		record(r)
	}
}

// takeBlock is Block for the records at l.at.
func (l *lines) takeBlock(b *Block) bool {
	if l.trust(); l.doubts != nil || l.returns || l.width == 0 || !l.odd.isUsual() {
		return false
	}
	most, marks := max(1, min(BlockRows, blockFields/l.width)), l.width
	if l.quotes {
		marks *= 3
	}
	for len(l.all)-l.passed < most*marks && l.more() {
	}
	*b = Block{Position: l.line, columns: l.width, raw: l.raw}
	if l.quotes {
		return l.takeQuoted(b, most)
	}
	if most = min(most, (len(l.all)-l.passed)/l.width); most == 0 {
		return false
	}
	b.ends = l.all[l.passed-1:]
	b.ends[0] = uint32(l.at - 1) // wraps around at the start of the text
	if first := b.ends[l.width]; first > b.ends[0]+1 && l.raw[first-1] == '\r' {
		b.returns = 1
	}
	if l.endLines(b, most); !l.areFields(b) {
		return false
	}
	l.passed += b.Rows * l.width
	l.at = int(b.ends[b.Rows*l.width]) + 1
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
	if b.Rows > 0 && bytes.Count(l.raw[ends[0]+1:ends[len(ends)-1]+1], []byte{'\n'}) == b.Rows {
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

// takeQuoted is takeBlock for a text with quotes.
func (l *lines) takeQuoted(b *Block, most int) bool {
	b.bounds = l.bounds[:0]
	for b.Rows < most {
		bounds, ok := l.quotedLine(b.bounds)
		if !ok {
			break
		}
		b.bounds = bounds
		b.Rows++
	}
	l.bounds = b.bounds
	return b.Rows > 0
}

// quotedLine takes the line at l.at and adds its bounds and those of its fields; not ok, with nothing taken, where it is one
// for Next.
func (l *lines) quotedLine(bounds []uint32) (with []uint32, ok bool) {
	next, from, at := l.passed, uint32(l.at), len(bounds)
	bounds = append(bounds, from, 0)
	ending := byte(0)
	for column := range l.width {
		begin, end, after, ok := l.markedField(next, from)
		if !ok {
			return nil, false
		}
		next, from, ending = after, l.all[after-1]+1, l.raw[l.all[after-1]]
		if ending != l.Delimiter && column < l.width-1 {
			return nil, false
		}
		bounds = append(bounds, begin, end)
	}
	line := bounds[at:]
	line[1] = from - 1
	if line[1] > line[0] && l.raw[line[1]-1] == '\r' {
		line[1]--
	}
	if ending != '\n' || l.width > 1 && int(line[1]-line[0]) < l.width {
		return nil, false
	}
	l.passed, l.at = next, int(from)
	l.line++
	return bounds, true
}

// markedField returns the bounds of the field that begins at from, whose first mark is that with number next, and the number
// of the mark behind the one that ends it; not ok where its quotes are not just around it, or its end is not known yet.
func (l *lines) markedField(next int, from uint32) (begin, end uint32, after int, ok bool) {
	all, raw := l.all, l.raw
	if next == len(all) {
		return 0, 0, 0, false
	}
	at := all[next]
	if raw[at] != l.Quote {
		if end = at; raw[at] == '\n' && end > from && raw[end-1] == '\r' {
			end--
		}
		return from, end, next + 1, true
	}
	for next++; next < len(all) && raw[all[next]] != l.Quote && raw[all[next]] != '\n'; next++ {
	}
	if at != from || next+1 >= len(all) || raw[all[next]] == '\n' {
		return 0, 0, 0, false
	}
	begin, end = at+1, all[next]
	behind := all[next+1] // a quote where that one is doubled, so the line will not do
	return begin, end, next + 2, behind == end+1 || behind == end+2 && raw[behind] == '\n' && raw[end+1] == '\r'
}
