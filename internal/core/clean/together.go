package clean

import (
	"bytes"
	"slices"

	"ladle/internal/core/source"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// together cleans the texts that a column has in a block all at once. It takes the cells of ASCII that stay texts; others are
// cleaned alone.
type together struct {
	cleanings []Cleaning
	*togetherCells
}

// togetherCells is memory for the cells of one column after the other.
type togetherCells struct {
	cells text.Cells
	fits  []bool // for each row of the block: its cell is one of them
}

// together is such a way for the rule; nil where there is none.
func (r *Rule) together(memory *togetherCells) *together {
	switch {
	case r.BlankIs != nil, r.Recode != nil, r.Rounded, r.Number != nil, r.Dates != nil, r.Truths != nil, r.ShortenTo > 0,
		slices.ContainsFunc(r.Clean, func(c Cleaning) bool { return c.slow }):
		return nil
	}
	return &together{r.Clean, memory}
}

// longestTogether is the length of the cells up to which they are cleaned together.
const longestTogether = 1 << 10

// clean cleans the cells that a field has in the kept rows of a block; false when none can be cleaned together, also because a
// cleaning made them other than ASCII.
func (t *together) clean(b *source.Block, field int, kept []value.State) bool {
	if t.gather(b, field, kept, false); !text.Plain(t.cells.Data) {
		t.gather(b, field, kept, true)
	}
	for i := range t.cleanings {
		c := &t.cleanings[i]
		if c.together != nil {
			c.together(&t.cells)
		} else {
			t.cells.Each(c.Change)
		}
		if t.cells.TooMany() || c.together == nil && !text.Plain(t.cells.Data) {
			return false
		}
	}
	return len(t.cells.Ends) > 0 && bytes.IndexByte(t.cells.Data, 0) < 0
}

// gather takes the cells that fit; mixed says that some are not of ASCII. The error of a spreadsheet starts with a #.
func (t *together) gather(b *source.Block, field int, kept []value.State, mixed bool) {
	t.cells.Reset(b.Size())
	t.fits = slices.Grow(t.fits[:0], b.Rows)[:b.Rows]
	for row := range t.fits {
		cell := b.Field(row, field)
		fits := len(cell) > 0 && len(cell) <= longestTogether && cell[0] != '#' && kept[row] == value.Given && (!mixed || text.Plain(cell))
		if t.fits[row] = fits; fits {
			t.cells.Add(cell)
		}
	}
}

// column cleans the cells of a column in the block, as far as they can be cleaned together, and the others alone.
func (t *together) column(c *cleaner, i, first int) {
	x, to := &c.columns[i], &c.batch.Columns[cells+i]
	field := c.rowCleaner.columns[x.Of].from.field
	all := t.clean(&c.block, field, c.kept)
	if all && t.areValues(x.Type.Length) {
		to.AppendTexts(t.cells.Data, t.cells.Ends)
		return
	}
	from, n := uint32(0), 0
	for row, fits := range t.fits {
		if fits && all {
			end := t.cells.Ends[n]
			made := t.cells.Data[from:end]
			if from, n = end, n+1; isValue(made, x.Type.Length) {
				to.AppendBytes(made)
				continue
			}
		}
		if c.kept[row] != value.Given {
			to.AppendState(c.kept[row])
			continue
		}
		c.closely(to, i, first, row, field)
	}
}

// areValues reports whether all rows of the block have a cell among those that are cleaned, and each has become a value.
func (t *together) areValues(most int) bool {
	if len(t.cells.Ends) < len(t.fits) {
		return false
	}
	from := uint32(0)
	for _, end := range t.cells.Ends {
		if !isValue(t.cells.Data[from:end], most) {
			return false
		}
		from = end
	}
	return true
}

// isValue reports whether a cleaned cell is a value of which there is nothing to say; most is its greatest length, 0 for any.
func isValue(made []byte, most int) bool {
	return len(made) > 0 && (most == 0 || len(made) <= most) && !HasLostDigits(made)
}
