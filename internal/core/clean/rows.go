package clean

import (
	"errors"

	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Rows is what a pass over a file leaves behind: its lines, cleaned.
type Rows struct {
	// Problems are the cells, or whole lines, that could not be read. Their columns are those of the recipe.
	Problems *spool.Problems

	// Dropped are the lines that a person has dropped. They have no values.
	Dropped spool.RowSet

	// Headers are the first lines that repeat the header, by the positions of their records.
	Headers []int64

	// Second is the line that seems to be the header of another table below this one; nil for none.
	Second *SecondTable

	// LostDigits has for each column the first cell that looks like a number without its last digits.
	LostDigits []LostDigits

	spool   *spool.Spool // the position of each line, then a column for each of the wanted ones
	origins []source.Origin
	effects effects
}

// SecondTable is where another table seems to begin: a line, by the position of its record and its number among the
// lines, from 0.
type SecondTable struct {
	Position, Row int64
}

// The columns of the spool of Rows.
const (
	position = iota
	cells
)

// newRows returns Rows without a line.
func newRows(r *Recipe, columns []Column, dir string) *Rows {
	return &Rows{spool: spool.New(dir, types(columns)), Problems: spool.NewProblems(dir),
		effects: newEffects(len(r.columns))}
}

// types are the types of the columns of the spool.
func types(columns []Column) []value.Type {
	types := []value.Type{position: {Kind: value.Int}}
	for _, c := range columns {
		types = append(types, c.Type)
	}
	return types
}

// Len is the number of lines.
func (r *Rows) Len() int64 { return r.spool.Rows() }

// Size is about the number of bytes of their cells.
func (r *Rows) Size() int64 { return r.spool.Size() }

// Batches is the number of batches in which the lines are kept, one for each chunk of the file that has any.
func (r *Rows) Batches() int { return r.spool.Batches() }

// Origin is where batch i stands in the file.
func (r *Rows) Origin(i int) source.Origin { return r.origins[i] }

// Span returns the number, from 0, of the first line of batch i, and how many it has.
func (r *Rows) Span(i int) (first int64, n int) { return r.spool.First(i), r.spool.Len(i) }

// Holding is the number of the batch that has the given line.
func (r *Rows) Holding(line int64) int { return r.spool.Holding(line) }

// Read fills b with the lines of batch i: their positions and the wanted cells, by their numbers among the columns that
// were asked for. Other cells stay empty.
func (r *Rows) Read(i int, wanted []int, b *Batch) error {
	b.First, b.n = r.Span(i)
	b.want = append(b.want[:0], position)
	for _, c := range wanted {
		b.want = append(b.want, cells+c)
	}
	return r.spool.Read(i, b.want, &b.columns)
}

// Close frees the memory and disk of the rows.
func (r *Rows) Close() error { return errors.Join(r.spool.Close(), r.Problems.Close()) }

// Batch is lines that stand together in a file. Its memory is used again by the next Read into it.
type Batch struct {
	First   int64 // the number of its first line
	n       int
	columns value.Batch
	want    []int
}

// Len is the number of lines.
func (b *Batch) Len() int { return b.n }

// Position is that of the record of line i; see source.Record.
func (b *Batch) Position(i int) int64 { return b.columns.Columns[position].Nums[i] }

// Cell holds one of the cells of each line.
func (b *Batch) Cell(c int) *value.Column { return &b.columns.Columns[cells+c] }
