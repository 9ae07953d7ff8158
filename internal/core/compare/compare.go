// Package compare finds what differs between two deliveries of the same rows: lines that came, that went, and that
// changed, cell by cell. [Compare] reads both files, and matches lines that are the same as a whole (same). What is
// left is read once more into spools, and lines of the same key are brought together part by part (match), so that memory
// doesn't grow with the number of lines. Each difference is told in the order of the files (tell).
package compare

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"ladle/internal/core/fault"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Options say how files are compared.
type Options struct {
	Key  []string               // the columns that tell lines apart; whole lines are compared where there are none
	Each func(Difference) error // is given each difference; nil when nobody wants to know
	Dir  string                 // for temporary files
	Span int64                  // the number of lines of a file that are in memory at a time; 0 for the usual one

	// Progress hears of the bytes of a file that are read; nil when nobody listens.
	Progress func(file string, done, of int64)
}

// Comparison is what differs.
type Comparison struct {
	Old      File     `json:"old"`
	New      File     `json:"new"`
	Key      []string `json:"key"`      // none: whole lines were compared
	Columns  []Column `json:"columns"`  // those that both have, in the order of the new file
	Same     int64    `json:"same"`     // lines, also where columns came or went
	Changed  int64    `json:"changed"`  // lines
	Came     int64    `json:"came"`     // lines of the new file alone
	Went     int64    `json:"went"`     // lines of the old file alone
	Repeated int64    `json:"repeated"` // of those, lines that can't be paired, since several that differ have their key

	// Rules is the ladle file that cleaned both files before they were compared; "" for files as they stand.
	Rules string `json:"rules,omitempty"`
}

// File is a file that was compared.
type File struct {
	Name  string   `json:"file"`
	Lines int64    `json:"lines"`
	Odd   int64    `json:"odd_lines"`     // whose cells are too few, too many or unreadable: compared as a whole
	Alone []string `json:"columns_alone"` // columns that the other file doesn't have
}

// Column is a column that both files have.
type Column struct {
	Name    string `json:"column"`
	Changed int64  `json:"changed"` // cells
}

// Alike reports whether nothing differs.
func (c *Comparison) Alike() bool {
	return c.Changed+c.Came+c.Went == 0 && len(c.Old.Alone)+len(c.New.Alone) == 0
}

// What is what became of a line.
type What string

// What becomes of lines.
const (
	Came    What = "came"
	Went    What = "went"
	Changed What = "changed"
)

// Difference is a line that differs.
type Difference struct {
	What    What
	Key     string // the cells of the key; "" without one
	OldLine int64  // 0 for a line that came
	NewLine int64  // 0 for a line that went
	Cells   []Cell // those that changed; all that aren't blank of a line that came or went
}

// Cell is a cell that differs. A blank cell is "".
type Cell struct {
	Column        string
	Before, After string
}

// comparison is a comparison at work.
type comparison struct {
	Options
	made  *Comparison
	sides [2]*side // the old file and the new one
	key   []int    // of the columns that both have
}

const (
	old = iota
	recent
)

// Compare compares two tables of source. An error is a *fault.Fault, or of the context.
func Compare(ctx context.Context, before, after source.Table, o Options) (*Comparison, error) {
	c := &comparison{Options: o, made: &Comparison{Key: slices.Clone(o.Key)}}
	if c.made.Key == nil {
		c.made.Key = []string{}
	}
	c.sides = [2]*side{newSide(before, o.Dir), newSide(after, o.Dir)}
	defer func() {
		for _, s := range c.sides {
			s.close()
		}
	}()
	if err := c.pairColumns(); err != nil {
		return nil, err
	}
	for i, f := range []*File{old: &c.made.Old, recent: &c.made.New} {
		var err error
		if f.Odd, err = c.sides[i].scan(ctx, c.Progress); err != nil {
			return nil, err
		}
		f.Lines = c.sides[i].read
	}
	if err := c.matchSame(ctx); err != nil {
		return nil, err
	}
	if err := c.gather(ctx); err != nil {
		return nil, err
	}
	pairs, err := c.match(ctx)
	if err != nil {
		return nil, err
	}
	defer pairs.close()
	return c.made, c.tell(ctx, pairs)
}

// gather keeps the lines of both files that have no match, side by side.
func (c *comparison) gather(ctx context.Context) error {
	failed := make(chan error, len(c.sides))
	for _, s := range c.sides {
		go func() {
			var err error
			defer func() { failed <- err }()
			defer fault.Recover(&err)
			err = s.gather(ctx, c.key)
		}()
	}
	return errors.Join(<-failed, <-failed)
}

// pairColumns finds the columns that both files have, and those of the key.
func (c *comparison) pairColumns() error {
	names := [2][]string{c.sides[old].table.Header().Names, c.sides[recent].table.Header().Names}
	c.made.Old = File{Name: c.sides[old].table.Files()[0].Name(), Alone: []string{}}
	c.made.New = File{Name: c.sides[recent].table.Files()[0].Name(), Alone: []string{}}
	pairs := pairNames(names[old], names[recent])
	for i, name := range names[recent] {
		if pairs[i] < 0 {
			c.made.New.Alone = append(c.made.New.Alone, name)
			continue
		}
		c.made.Columns = append(c.made.Columns, Column{Name: name})
		c.sides[old].columns = append(c.sides[old].columns, pairs[i])
		c.sides[recent].columns = append(c.sides[recent].columns, i)
	}
	for j, name := range names[old] {
		if !slices.Contains(pairs, j) {
			c.made.Old.Alone = append(c.made.Old.Alone, name)
		}
	}
	if len(c.made.Columns) == 0 {
		return fault.New(fault.Refused, fmt.Sprintf("%s and %s have no column in common", c.made.Old.Name,
			c.made.New.Name), "check that the first line of both has the names of the columns; --header says which "+
			"line does")
	}
	return c.findKey()
}

// pairNames finds, for each new name, the position of the old one that it is: the same one, before one that differs only
// in case and blanks; names that occur several times are paired in their order. -1 stands for none.
func pairNames(before, after []string) []int {
	pairs := slices.Repeat([]int{-1}, len(after))
	for _, form := range []func(string) string{func(name string) string { return name }, source.FoldName} {
		for i, name := range after {
			for j, o := range before {
				if pairs[i] < 0 && form(o) == form(name) && !slices.Contains(pairs, j) {
					pairs[i] = j
				}
			}
		}
	}
	return pairs
}

// findKey finds the columns of the key among those that both files have.
func (c *comparison) findKey() error {
	var common []string
	for _, column := range c.made.Columns {
		common = append(common, column.Name)
	}
	for k, name := range c.Key {
		i := source.IndexOfName(common, name)
		if i < 0 {
			return c.noColumn(name, common)
		}
		if slices.Contains(common[i+1:], common[i]) {
			return fault.New(fault.Wrong, fmt.Sprintf("there are several columns %q", common[i]),
				"give them names of their own, or choose other columns")
		}
		c.key, c.made.Key[k] = append(c.key, i), common[i]
	}
	if c.key == nil {
		for i := range common {
			c.key = append(c.key, i)
		}
	}
	return nil
}

// noColumn is the error for a column of the key that not both files have.
func (c *comparison) noColumn(name string, common []string) error {
	for _, f := range []File{c.made.Old, c.made.New} {
		if source.IndexOfName(f.Alone, name) >= 0 {
			return fault.New(fault.Wrong, fmt.Sprintf("only %s has the column %q of the key", f.Name, name),
				"give columns that both files have")
		}
	}
	return fault.New(fault.Wrong, fmt.Sprintf("there is no column %q", name), fault.DidYouMean(name, common))
}

// side is a file, and those of its lines that have no match which is the same as a whole.
type side struct {
	table   source.Table
	columns []int // of the file
	dir     string
	chunks  []chunk
	read    int64                        // lines
	hashes  *spool.Stream[keyindex.Hash] // of all lines, as a whole
	apart   spool.RowSet                 // of all lines, those without a match
	rows    *spool.Spool                 // of those, where they stand and the columns that both files have
	entries []*spool.Stream[entry]       // of those, by part of the keys
}

// chunk is where lines of a file stand together.
type chunk struct {
	origin source.Origin
	first  int64
	lines  int
}

// entry is a line in a part.
type entry struct {
	Key, Line keyindex.Hash
	Row       int64 // of the spool
}

// parts is the number of parts of the keys, of which one at a time is in memory.
const parts = 64

func newSide(t source.Table, dir string) *side {
	return &side{table: t, dir: dir, hashes: spool.NewStream[keyindex.Hash](dir), entries: spool.Streams[entry](dir,
		parts)}
}

func (s *side) close() {
	if s.rows != nil {
		s.rows.Close()
	}
	s.hashes.Close()
	for _, e := range s.entries {
		e.Close()
	}
}

// types are those of the columns of a spool: numbers first, then as many texts.
func types(numbers, texts int) []value.Type {
	all := make([]value.Type, numbers+texts)
	for i := range all {
		all[i].Kind = value.Int
		if i >= numbers {
			all[i].Kind = value.Text
		}
	}
	return all
}

// scan reads the file, keeps the hash of each line, and returns the number of odd ones.
func (s *side) scan(ctx context.Context, progress func(string, int64, int64)) (odd int64, err error) {
	type scanned struct {
		hashes []keyindex.Hash
		odd    int64
	}
	name, width := s.table.Files()[0].Name(), len(s.table.Header().Names)
	return odd, source.Each(ctx, s.table, func(c *source.Chunk) (made scanned) {
		var buffer []byte
		c.Walk(&source.Record{}, func(b *source.Block) {
			made.hashes = s.hashBlock(made.hashes, b, &buffer)
		}, func(r *source.Record) {
			h, isOdd := s.hash(r, width, &buffer)
			if made.hashes = append(made.hashes, h); isOdd {
				made.odd++
			}
		})
		c.Seal()
		return made
	}, func(c *source.Chunk, made scanned) error {
		s.chunks = append(s.chunks, chunk{c.Origin, s.read, len(made.hashes)})
		s.read += int64(len(made.hashes))
		for _, h := range made.hashes {
			if err := s.hashes.Append(h); err != nil {
				return err
			}
		}
		odd += made.odd
		if progress != nil {
			progress(name, c.Origin.Done, s.table.Size())
		}
		return nil
	})
}

// hashBlock adds the hashes of the lines of a block.
func (s *side) hashBlock(to []keyindex.Hash, of *source.Block, buffer *[]byte) []keyindex.Hash {
	for row := range of.Rows {
		b := (*buffer)[:0]
		for _, from := range s.columns {
			b = appendCell(b, of.Field(row, from))
		}
		*buffer = b
		to = append(to, keyindex.HashOf(b))
	}
	return to
}

// hash is that of a line as a whole. An odd one has another number of cells than there are columns, or cells that can't
// be read; only the same odd line has the same hash, whatever columns the files have in common.
func (s *side) hash(r *source.Record, width int, buffer *[]byte) (h keyindex.Hash, odd bool) {
	if len(r.Faults) > 0 || source.Misshapen(r, width) != nil {
		return oddHash(r.Fields, *buffer), true
	}
	b := (*buffer)[:0]
	for _, from := range s.columns {
		b = appendCell(b, r.Fields[from])
	}
	*buffer = b
	return keyindex.HashOf(b), false
}

// gather reads the lines that have no match once more, and keeps them with their keys.
func (s *side) gather(ctx context.Context, key []int) error {
	s.rows = spool.New(s.dir, types(1, len(s.columns)))
	for _, c := range s.chunks {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !s.apart.Any(c.first, c.lines) {
			continue
		}
		again, err := s.table.Again(c.origin)
		if err != nil {
			return err
		}
		if err := s.take(again, c.first, key); err != nil {
			return err
		}
		again.Release()
	}
	return nil
}

// take keeps the lines of a chunk that have no match.
func (s *side) take(c *source.Chunk, row int64, key []int) (err error) {
	b := value.NewBatch(types(1, len(s.columns)))
	var buffer []byte
	var record source.Record
	isWanted := func() bool {
		row++
		return err == nil && s.apart.Has(row-1)
	}
	c.Walk(&record, func(block *source.Block) {
		for i := range block.Rows {
			if isWanted() {
				block.Record(i, &record)
				err = s.keep(&record, b, key, &buffer)
			}
		}
	}, func(r *source.Record) {
		if isWanted() {
			err = s.keep(r, b, key, &buffer)
		}
	})
	if err = errors.Join(err, c.Err()); err != nil {
		return err
	}
	return s.rows.Append(b)
}

// keep adds a line without a match to b, and its key to those of its part.
func (s *side) keep(r *source.Record, b *value.Batch, key []int, buffer *[]byte) error {
	e := entry{Row: s.rows.Rows() + int64(b.Len())}
	b.Columns[0].AppendNum(r.Position)
	for i, from := range s.columns {
		var cell []byte
		if from < len(r.Fields) {
			cell = r.Fields[from]
		}
		b.Columns[1+i].AppendBytes(cell)
	}
	var odd bool
	if e.Line, odd = s.hash(r, len(s.table.Header().Names), buffer); odd {
		e.Key = e.Line
	} else {
		text := (*buffer)[:0]
		for _, k := range key {
			text = appendCell(text, r.Fields[s.columns[k]])
		}
		*buffer = text
		e.Key = keyindex.HashOf(text)
	}
	return s.entries[e.Key.Part(parts)].Append(e)
}

// oddHash is the hash of an odd line: of all its cells, whatever columns the files have in common.
func oddHash(cells [][]byte, buffer []byte) keyindex.Hash {
	buffer = append(buffer[:0], "odd line"...)
	for _, cell := range cells {
		buffer = appendCell(buffer, cell)
	}
	return keyindex.HashOf(buffer)
}

// appendCell adds a cell such that no other cells give the same bytes.
func appendCell(to, cell []byte) []byte {
	return append(binary.AppendUvarint(to, uint64(len(cell))), cell...)
}
