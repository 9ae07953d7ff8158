// Package clean turns the cells of a file into typed values in a spool: each cell goes through the rule of its column,
// new columns are computed, and rows are kept or left out.
package clean

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"sync"

	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Column says as what the cleaned cells of one column of a recipe are read.
type Column struct {
	Of   int
	Type value.Type
}

// cleaner turns chunks of the file into batches, one after the other, in memory that is used again.
type cleaner struct {
	*rowCleaner
	columns  []Column
	alone    []bool      // the columns whose cells nothing else needs, by the columns asked for
	quick    []quick     // of those: a way that reads most cells
	together []*together // of those: a way that cleans most cells of a block at once; nil for none
	memos    []*memo     // of those without one
	counts   []bool      // the columns whose rules are counted there, each once
	effects  effects
	batch    *value.Batch
	block    source.Block
	records  []source.Record // of lines that stand in no block
	kept     []value.State   // of these, or of the lines of the block
	record   source.Record   // a line of the block
	lone     source.Record   // has the cell of the block that is looked at closely, and its place
	apart    bool            // each column that is asked for stands alone
	inBlocks *inColumns      // how what stands together is cleaned in a block; nil where each line is a record
	dropped  []int           // rows of the chunk that a person has dropped
	headers  []int64         // positions of those that repeat the header
	second   []int           // rows that seem to be the header of another table
	now      int             // the row that is cleaned
	problems []problem
}

const mostRecords = source.BlockRows // that are cleaned at a time

type problem struct {
	row    int
	column int
	cell   string
	why    reason.Cause
}

// Read reads the table to its end. Chunks are cleaned side by side and spooled in the order of the files; told, when
// not nil, hears of the bytes of the files that are done. A row that the input leaves out has no values, and false for
// the recipe's condition.
func Read(ctx context.Context, t source.Table, recipe *Recipe, columns []Column, dir string,
	told func(done int64)) (*Rows, error) {
	t, err := recipe.gatherAll(ctx, t, told)
	if err != nil {
		return nil, err
	}
	rows := newRows(recipe, columns, dir)
	cleaners := sync.Pool{New: func() any { return newCleaner(recipe, columns) }}
	work := func(chunk *source.Chunk) *cleaner {
		chunk.Seal()
		c := cleaners.Get().(*cleaner)
		c.chunk(chunk)
		return c
	}
	err = source.Each(ctx, t, work, func(chunk *source.Chunk, c *cleaner) error {
		if told != nil {
			told(chunk.Origin.Done)
		}
		defer cleaners.Put(c)
		return rows.keep(chunk, c)
	})
	if err != nil {
		return nil, errors.Join(err, rows.Close())
	}
	return rows, nil
}

// newCleaner makes a cleaner. What other columns or the condition of the input need is cleaned first; the others alone.
func newCleaner(r *Recipe, columns []Column) *cleaner {
	c := &cleaner{columns: columns, alone: make([]bool, len(columns)), memos: make([]*memo, len(columns)),
		quick: make([]quick, len(columns)), together: make([]*together, len(columns)), batch: value.NewBatch(types(columns)),
		counts: make([]bool, len(columns)), effects: newEffects(len(r.columns)),
		records: make([]source.Record, mostRecords), kept: make([]value.State, mostRecords),
		lone: source.Record{Fields: make([][]byte, r.file)}}
	var first []int
	if r.only >= 0 {
		first = append(first, r.only)
	}
	needed := r.neededBy(columns)
	var memory togetherCells
	for i, x := range columns {
		if c.alone[i] = !needed[x.Of] && r.columns[x.Of].isAlone(); !c.alone[i] {
			first = append(first, x.Of)
			continue
		}
		c.counts[i] = slices.IndexFunc(columns, func(o Column) bool { return o.Of == x.Of }) == i
		rule := &r.columns[x.Of].rule
		if c.quick[i] = rule.quick(); rule.Rounded {
			c.quick[i] = c.quickRounded(i, rule)
		}
		if rule.Clean != nil || c.quick[i] == nil && !r.columns[x.Of].bare {
			c.memos[i] = newMemo()
		}
		if x.Type.IsPlainText() {
			c.together[i] = rule.together(&memory)
		}
	}
	c.rowCleaner = r.newRowCleaner(r.closure(first), 0)
	c.apart = len(c.order) == 0 && c.from == nil && c.known == nil
	c.inBlocks = c.rowCleaner.inColumns()
	return c
}

// isAlone reports whether a cell of the column depends on the same cell of the file, and on nothing else.
func (c *column) isAlone() bool {
	return c.from.field >= 0 && c.fills == nil
}

// neededBy returns which columns others need, for columns that are asked for.
func (r *Recipe) neededBy(columns []Column) []bool {
	needed := make([]bool, len(r.columns))
	var all []int
	if r.only >= 0 {
		all, needed[r.only] = append(all, r.only), true
	}
	for _, c := range columns {
		all = append(all, c.Of)
	}
	for _, i := range r.closure(all) {
		for _, n := range r.needs(i) {
			needed[n] = true
		}
	}
	return needed
}

// chunk cleans the rows of a chunk, some at a time.
func (c *cleaner) chunk(chunk *source.Chunk) {
	c.batch.Reset()
	c.effects.reset()
	c.dropped, c.headers, c.second = c.dropped[:0], c.headers[:0], c.second[:0]
	c.problems = c.problems[:0]
	c.short = map[int]string{}
	c.begin(chunk.Origin)
	chunk.KeepPassed = c.aboveOf != nil
	for i := range c.records { // all of a block must be good at a time
		c.records[i] = source.Record{Keep: true}
	}
	for first, more := 0, true; more; {
		n, inBlock := 0, chunk.Block(&c.block)
		for ; more && !inBlock && n < len(c.records); inBlock = more && chunk.Block(&c.block) {
			if more = chunk.Next(&c.records[n]); more {
				n++
			}
		}
		c.cleanRecords(first, n)
		if first += n; inBlock {
			c.cleanBlock(first)
			first += c.block.Rows
		}
	}
	slices.SortStableFunc(c.problems, func(a, b problem) int { return cmp.Compare(a.row, b.row) })
	c.second = slices.DeleteFunc(c.second, func(row int) bool {
		_, found := slices.BinarySearchFunc(c.problems, row, func(p problem, row int) int { return cmp.Compare(p.row, row) })
		return !found
	})
}

func (c *cleaner) tell(blame int, raw []byte, why reason.Cause) {
	c.problems = append(c.problems, problem{c.now, blame, string(raw), why})
}

// cleanRecords cleans n rows, of which the first has the given number: first what stands together, then each column that
// stands alone from the first row to the last, since the memory that it needs is at hand then.
func (c *cleaner) cleanRecords(first, n int) {
	for row := range n {
		c.now = first + row
		c.kept[row] = c.wholeRecord(&c.records[row])
	}
	for i := range c.columns {
		if c.alone[i] {
			c.column(i, first, n)
		}
	}
}

// column cleans the cells of a column that stands alone. Most are cleaned the quick way, where there is one: those that are
// given, that the reader has no doubts about, and that a workbook doesn't store in a way of its own.
func (c *cleaner) column(i, first, n int) {
	x, to, quickly := &c.columns[i], &c.batch.Columns[cells+i], c.quick[i]
	from := &c.rowCleaner.columns[x.Of]
	field, asStored := from.from.field, from.rule.Clean == nil
	for row := range n {
		if c.kept[row] != value.Given {
			to.AppendState(c.kept[row])
			continue
		}
		r := &c.records[row]
		cell := r.Fields[field]
		if quickly != nil && len(cell) > 0 && len(r.Faults) == 0 && (r.Stored == nil || !asStored) && quickly(to, &x.Type, cell) {
			continue
		}
		c.now = first + row
		c.singleCell(to, i, r)
	}
}

// cleanBlock is cleanRecords for the block. A record is made of a line only where it must be seen as a whole.
func (c *cleaner) cleanBlock(first int) {
	if c.inBlocks != nil {
		c.inBlocks.clean(c)
	}
	for row := range c.block.Rows {
		c.now = first + row
		mayBeHeader := len(c.headers) < mostHeaders && c.isName(0, c.block.Field(row, 0))
		if c.apart && !mayBeHeader {
			c.batch.Columns[position].AppendNum(c.block.Position + int64(row))
			c.kept[row] = value.Given
			continue
		}
		if c.inBlocks != nil && !mayBeHeader && c.inBlocks.row(c, row) {
			continue
		}
		c.block.Record(row, &c.record)
		c.kept[row] = c.wholeRecord(&c.record)
	}
	for i := range c.columns {
		switch {
		case !c.alone[i]:
		case c.together[i] != nil:
			c.together[i].column(c, i, first)
		default:
			c.columnOfBlock(i, first)
		}
	}
}

// columnOfBlock is column for the block.
func (c *cleaner) columnOfBlock(i, first int) {
	x, to, quickly := &c.columns[i], &c.batch.Columns[cells+i], c.quick[i]
	field := c.rowCleaner.columns[x.Of].from.field
	for row, kept := range c.kept[:c.block.Rows] {
		if kept != value.Given {
			to.AppendState(kept)
			continue
		}
		if quickly != nil {
			if cell := c.block.Field(row, field); len(cell) > 0 && quickly(to, &x.Type, cell) {
				continue
			}
		}
		c.closely(to, i, first, row, field)
	}
}

// closely cleans a single cell of the block.
func (c *cleaner) closely(to *value.Column, i, first, row, field int) {
	c.now = first + row
	c.lone.Position, c.lone.Fields[field] = c.block.Position+int64(row), c.block.Field(row, field)
	c.singleCell(to, i, &c.lone)
}

// wholeRecord cleans the cells of a record that others need, or that need others, and tells what the others are: Given
// when they must be cleaned too.
func (c *cleaner) wholeRecord(r *source.Record) value.State {
	c.batch.Columns[position].AppendNum(r.Position)
	c.pass(r.Passed)
	if r.Gap && r.MayBeginTable() {
		c.second = append(c.second, c.now)
	}
	if r.Dropped {
		c.dropped = append(c.dropped, c.now)
		c.pad(c.only, value.Null)
		return value.Null
	}
	if why := source.Misshapen(r, c.file); why != nil {
		c.tell(spool.WholeLine, nil, *why)
		c.unread()
		c.pad(-1, value.Bad)
		return value.Bad
	}
	c.rowCleaner.row(r)
	if len(c.headers) < mostHeaders && c.isHeader(r) && c.keeps() {
		c.headers = append(c.headers, r.Position)
	}
	if !c.whole && !c.keeps() {
		c.pad(c.only, value.Null)
		return value.Null
	}
	for _, i := range c.order {
		if done := &c.cells[i]; done.did != 0 && done.state != value.Bad {
			c.effects.note(i, done, r)
		}
	}
	for i := range c.columns {
		if x := &c.columns[i]; !c.alone[i] {
			c.put(&c.batch.Columns[cells+i], x.Type, x.Of, c.tell)
		}
	}
	return value.Given
}

// mostHeaders is how many lines that repeat the header are noted of a chunk.
const mostHeaders = 3

// isHeader reports whether a record repeats the header, as at the top of a printed page.
func (r *Recipe) isHeader(record *source.Record) bool {
	for i := range r.file {
		if !r.isName(i, record.Fields[i]) {
			return false
		}
	}
	return r.file > 1
}

// isName reports whether a cell is the name of its column.
func (r *Recipe) isName(field int, cell []byte) bool {
	name := r.columns[field].name
	if len(cell) > 0 && len(name) > 0 && cell[0] != name[0] && '!' <= cell[0] && cell[0] <= '~' {
		return false // as most cells show by their first character
	}
	return string(bytes.TrimSpace(cell)) == name
}

// singleCell cleans a cell that nothing else needs, unless it is remembered.
func (c *cleaner) singleCell(to *value.Column, i int, r *source.Record) {
	x, m := &c.columns[i], c.memos[i]
	if m == nil || len(r.Faults) > 0 {
		c.cleanCell(to, i, r)
		return
	}
	field := c.rowCleaner.columns[x.Of].from.field
	cell, stored := r.Fields[field], byte(0)
	if r.Stored != nil {
		stored = byte(r.Stored[field])
	}
	slot, hash, known := m.find(cell, stored)
	if known && (slot.did == 0 || c.effects.again(x.Of, slot.did, cell)) {
		m.put(to, slot)
		return
	}
	did := c.cleanCell(to, i, r)
	if slot != nil && !known {
		m.keep(slot, hash, cell, stored, did, to)
	}
}

// cleanCell cleans a cell that nothing else needs, and returns what is to be counted of it.
func (c *cleaner) cleanCell(to *value.Column, i int, r *source.Record) deeds {
	x := &c.columns[i]
	c.cell(x.Of, &c.rowCleaner.columns[x.Of], r)
	c.put(to, x.Type, x.Of, c.tell)
	done := &c.cells[x.Of]
	if done.did == 0 || done.state == value.Bad || !c.counts[i] {
		return 0
	}
	c.effects.note(x.Of, done, r)
	return done.did
}

// pad adds a row without values to the columns that stand together; false for the condition only.
func (c *cleaner) pad(only int, s value.State) {
	for i := range c.columns {
		switch to := &c.batch.Columns[cells+i]; {
		case c.alone[i]:
		case c.columns[i].Of == only:
			to.AppendNum(0)
		default:
			to.AppendState(s)
		}
	}
}

func (rows *Rows) keep(chunk *source.Chunk, p *cleaner) error {
	if p.batch.Len() == 0 {
		return nil
	}
	first := rows.spool.Rows()
	for _, x := range p.problems {
		if err := rows.Problems.Append(spool.Problem{Row: first + int64(x.row), Column: x.column, Cell: x.cell,
			Why: x.why}); err != nil {
			return err
		}
	}
	rows.Headers = append(rows.Headers, p.headers[:min(len(p.headers), max(0, mostHeaders-len(rows.Headers)))]...)
	if len(p.second) > 0 && rows.Second == nil {
		row := p.second[0]
		rows.Second = &SecondTable{p.batch.Columns[position].Nums[row], first + int64(row)}
	}
	for _, i := range slices.Sorted(maps.Keys(p.short)) {
		if !slices.ContainsFunc(rows.LostDigits, func(s LostDigits) bool { return s.Column == i }) {
			rows.LostDigits = append(rows.LostDigits, LostDigits{i, p.short[i]})
		}
	}
	for _, row := range p.dropped {
		rows.Dropped.Add(first + int64(row))
	}
	rows.effects.add(p.effects)
	rows.origins = append(rows.origins, chunk.Origin)
	return rows.spool.Append(p.batch)
}
