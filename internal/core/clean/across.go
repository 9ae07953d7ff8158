package clean

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/formula"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// across is a value of formulas that depends on the lines with the same value in a column. The table is read once for
// it, and what it is for each line is kept on disk.
type across struct {
	formula.Across
	level int // the pass over the table in which it is found

	sorted *spool.Sorter // while the table is read: what the line has, by the group and By
	lines  []int         // the number of lines of each chunk
	chunks map[chunkPlace]int
	found  *spool.Spool // then, for each chunk and line, its value; and the position of an unread line, or one of these
	place  func(position int64) reason.Place
}

// In place of the position of a line that can't be read, but is needed.
const (
	allRead   = -1
	ownUnread = -2 // the line itself
)

// acrossLine is what a line has for a value that depends on others.
type acrossLine struct {
	key      []byte // of the group, then of the cell in By
	number   []byte // the cell in By in its canonical text, where it is added up
	line     int    // of the chunk
	position int64
	state    value.State // of the cell in By; Bad, without a group, where that in Of can't be read
}

// acrossState is where a rowCleaner stands in what was found.
type acrossState struct {
	of    *across
	cells value.Batch
	value formula.Value
	why   *reason.Cause // another line can't be read
}

// acrossOf is the number of such a value among those of the recipe; it is added where it is new.
func (m *builder) acrossOf(a formula.Across) int {
	for i, x := range m.across {
		if x.Across == a {
			return i
		}
	}
	m.across = append(m.across, &across{Across: a})
	return len(m.across) - 1
}

// columns are those that the value is made of.
func (a *across) columns() []int {
	if a.By < 0 {
		return []int{a.Of}
	}
	return []int{a.Of, a.By}
}

// acrossIn lists the values across lines that formulas of column i need.
func (r *Recipe) acrossIn(i int) (all []*across) {
	c := &r.columns[i]
	formulas := []*formula.Formula{c.from.formula}
	for _, f := range c.fills {
		formulas = append(formulas, f.formula)
	}
	for _, f := range formulas {
		if f == nil {
			continue
		}
		for _, asked := range f.Across() {
			for _, a := range r.across {
				if a.Across == asked {
					all = append(all, a)
				}
			}
		}
	}
	return all
}

// acrossAt lists the values that are found in a pass over the table.
func (r *Recipe) acrossAt(level int) (all []*across) {
	for _, a := range r.across {
		if a.level == level {
			all = append(all, a)
		}
	}
	return all
}

// begin readies a for a pass over t.
func (a *across) begin(t source.Table) error {
	if err := a.close(); err != nil {
		return err
	}
	a.sorted, a.lines, a.chunks = spool.NewSorter("", 0), nil, map[chunkPlace]int{}
	a.place = func(position int64) reason.Place { return source.PlaceOf(t, position) }
	return nil
}

// noteAcross keeps what a line has for others. Lines that are left out have nothing.
func (k *rowCleaner) noteAcross(a *across, line int, position int64) {
	key, bad, ok := k.key([]int{a.Of})
	if !ok && bad == nil {
		return
	}
	x := acrossLine{line: line, position: position, state: value.Given}
	if bad != nil {
		x.state = value.Bad
	}
	for _, c := range key {
		if x.key = append(x.key, c); c == 0 {
			x.key = append(x.key, 0xff)
		}
	}
	x.key = append(x.key, 0, 0)
	if ok && a.By >= 0 {
		by := &k.cells[a.By]
		if x.state = by.state; by.state == value.Given {
			x.key = by.appendOrder(x.key)
			x.number = by.plain(nil)
		}
	}
	k.lines[a] = append(k.lines[a], x)
}

// appendOrder appends a key by which cells of one form are ordered.
func (c *cell) appendOrder(b []byte) []byte {
	switch c.form {
	case formula.Number:
		return value.AppendNumberKey(b, c.plain(nil))
	case formula.Moment:
		return value.AppendIntKey(b, c.moment.Instant())
	}
	return b
}

// The content of a sorted record: the number of the line, its position, the state of the cell in By, and its number.
const acrossHead = 8 + 8 + 1

// add takes the lines of a chunk.
func (a *across) add(place chunkPlace, first int, lines int, all []acrossLine) error {
	a.chunks[place] = len(a.lines)
	a.lines = append(a.lines, lines)
	var content []byte
	for _, x := range all {
		content = binary.BigEndian.AppendUint64(content[:0], uint64(first+x.line))
		content = binary.BigEndian.AppendUint64(content, uint64(x.position))
		content = append(append(content, byte(x.state)), x.number...)
		if err := a.sorted.Add(x.key, content); err != nil {
			return err
		}
	}
	return nil
}

// acrossGroup is what is known of the lines with the same value, once all are known.
type acrossGroup struct {
	count  int64
	sum    apd.Decimal
	unread int64 // the position of the first line whose cell in By can't be read, or -1
}

// groupOf is the part of a key that names the group.
func groupOf(key []byte) []byte {
	for i := 0; i+1 < len(key); i++ {
		if key[i] != 0 {
			continue
		}
		if key[i+1] == 0 {
			return key[:i]
		}
		i++
	}
	return key
}

// end finds the value for each line.
func (a *across) end() error {
	groups := spool.NewLog("")
	defer groups.Close()
	if err := a.sumUp(groups); err != nil {
		return err
	}
	byLine := spool.NewSorter("", 0)
	defer byLine.Close()
	if err := a.tellLines(groups, byLine); err != nil {
		return err
	}
	a.found = spool.New("", []value.Type{{Kind: value.Decimal}, {Kind: value.Int}})
	w := acrossWriter{of: a, batch: value.NewBatch(a.found.Types())}
	err := byLine.Each(func(line, content []byte) error {
		return w.put(int64(binary.BigEndian.Uint64(line)), int64(binary.BigEndian.Uint64(content)), content[8:])
	})
	if err != nil {
		return err
	}
	err = w.fill(-1)
	err = errors.Join(err, a.sorted.Close())
	a.sorted = nil
	return err
}

// sumUp adds to a log what each group comes to, in the order of the groups.
func (a *across) sumUp(to *spool.Log) error {
	var now []byte
	g, any := acrossGroup{unread: allRead}, false
	put := func() error {
		text := g.sum.Text('f')
		record := binary.BigEndian.AppendUint64(to.Room(), uint64(g.count))
		record = binary.BigEndian.AppendUint64(record, uint64(g.unread))
		return to.Append(append(record, text...))
	}
	err := a.sorted.Each(func(key, content []byte) error {
		if group := groupOf(key); !any || string(group) != string(now) {
			if any {
				if err := put(); err != nil {
					return err
				}
			}
			now, g, any = append(now[:0], group...), acrossGroup{unread: allRead}, true
		}
		switch value.State(content[16]) {
		case value.Given:
			g.count++
			if a.Function == formula.SumSame {
				return g.add(content[acrossHead:])
			}
		case value.Bad:
			if position := int64(binary.BigEndian.Uint64(content[8:])); g.unread < 0 || position < g.unread {
				g.unread = position
			}
		}
		return nil
	})
	if err != nil || !any {
		return err
	}
	return put()
}

// exactSum is wide enough for any sum of numbers that cells can hold.
var exactSum = apd.BaseContext.WithPrecision(10_000)

func (g *acrossGroup) add(number []byte) error {
	var d apd.Decimal
	if _, _, err := d.SetString(string(number)); err != nil {
		return fmt.Errorf("adding up %q: %w", number, err)
	}
	_, err := exactSum.Add(&g.sum, &g.sum, &d)
	return err
}

// tellLines gives a sorter, by line, what the value is for each line of the groups: the position of an unread line, or
// -1, and the value's text, none for a blank.
func (a *across) tellLines(groups *spool.Log, to *spool.Sorter) error {
	reader := groups.Reader()
	var now, text []byte
	var count, unread, rank int64
	any := false
	return a.sorted.Each(func(key, content []byte) error {
		if group := groupOf(key); !any || string(group) != string(now) {
			record, err := reader.Next()
			if err != nil {
				return err
			}
			count, unread = int64(binary.BigEndian.Uint64(record)), int64(binary.BigEndian.Uint64(record[8:]))
			text = append(text[:0], record[16:]...)
			now, rank, any = append(now[:0], group...), 0, true
		}
		other := unread
		if value.State(content[16]) == value.Bad {
			other = ownUnread
		}
		found := binary.BigEndian.AppendUint64(nil, uint64(other))
		switch given := value.State(content[16]) == value.Given; {
		case a.Function == formula.CountSame:
			found = fmt.Append(found, count)
		case a.Function == formula.SumSame:
			found = append(found, text...)
		case given:
			rank++
			found = fmt.Append(found, rank)
		}
		return to.Add(content[:8], found)
	})
}

// acrossWriter puts what was found into batches, one for each chunk.
type acrossWriter struct {
	of    *across
	batch *value.Batch
	next  int64 // the number of the next line
	chunk int
}

// put adds what was found for a line.
func (w *acrossWriter) put(line, unread int64, text []byte) error {
	if err := w.fill(line); err != nil {
		return err
	}
	if len(text) > 0 {
		w.batch.Columns[0].AppendBytes(text)
	} else {
		w.batch.Columns[0].AppendState(value.Null)
	}
	w.batch.Columns[1].AppendNum(unread)
	w.next++
	return nil
}

// fill goes on to a line, or to the end for -1: nothing was found for the lines before it.
func (w *acrossWriter) fill(line int64) error {
	for w.chunk < len(w.of.lines) {
		if w.batch.Len() == w.of.lines[w.chunk] {
			if err := w.of.found.Append(w.batch); err != nil {
				return err
			}
			w.batch.Reset()
			w.chunk++
			continue
		}
		if w.next == line {
			return nil
		}
		w.batch.Columns[0].AppendState(value.Null)
		w.batch.Columns[1].AppendNum(allRead)
		w.next++
	}
	return nil
}

func (a *across) close() error {
	var err error
	if a.sorted != nil {
		err = a.sorted.Close()
	}
	if a.found != nil {
		err = errors.Join(err, a.found.Close())
	}
	a.sorted, a.found = nil, nil
	return err
}

// Close frees what was found of lines for others. They are temporary files without a name, of which nothing is left.
func (r *Recipe) Close() {
	for _, a := range r.across {
		_ = a.close()
	}
}

// beginAcross readies what was found for the lines of a chunk.
func (k *rowCleaner) beginAcross(o source.Origin) {
	k.line = -1
	for i := range k.known {
		x := &k.known[i]
		if at, there := x.of.chunks[placeOf(o)]; !there || x.of.found == nil {
			x.cells = value.Batch{}
		} else if err := x.of.found.Read(at, []int{0, 1}, &x.cells); err != nil {
			x.cells, x.why = value.Batch{}, reason.Fault(reason.Unreadable, err.Error())
		}
	}
}

// tellAcross hands formulas what was found for the next line.
func (k *rowCleaner) tellAcross() {
	k.line++
	for i := range k.known {
		x := &k.known[i]
		x.value.Kind, x.value.Blank, x.value.Bad = formula.Number, true, x.cells.Len() == 0 && x.why != nil
		if k.line >= x.cells.Len() {
			continue
		}
		x.why = nil
		if other := x.cells.Columns[1].Nums[k.line]; other == ownUnread {
			x.value.Bad = true // its cells tell
			continue
		} else if other != allRead {
			x.value.Bad = true
			x.why = &reason.Cause{Why: reason.Why{Kind: reason.SameUnread, Columns: reason.List(k.columns[x.of.Of].name),
				Text: k.columns[x.of.By].name}, Detail: reason.Detail{Other: x.of.place(other)}}
			continue
		}
		if c := &x.cells.Columns[0]; c.States[k.line] == value.Given {
			if d, err := value.ScanNumber(c.Bytes(k.line)); err == nil {
				x.value.SetNumber(d)
			}
		}
	}
}

// unknownAcross is why a formula needs a line that can't be read; nil where it doesn't.
func (k *rowCleaner) unknownAcross(f *formula.Formula) *reason.Cause {
	for _, asked := range f.Across() {
		for i := range k.known {
			if x := &k.known[i]; x.of.Across == asked && x.why != nil {
				return x.why
			}
		}
	}
	return nil
}
