// Package clean turns the cells of a file into typed values in a spool: each cell goes through the rule of its column,
// new columns are computed, and rows are kept or left out.
package clean

import (
	"context"
	"errors"

	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Column says as what the cleaned cells of one column of a recipe are read.
type Column struct {
	Of   int
	Type value.Type
}

// Rows is what a pass over a file leaves behind.
type Rows struct {
	// Spool has the position of each row (see source.Record) in its first column, then a column for each of the wanted ones.
	Spool *spool.Spool
	// Problems has a record for each cell, or whole row, that could not be read, by ascending row: its row in the
	// spool and its column in the recipe (WholeRow for a row), then the cell and the reason.
	Problems *spool.Log
	// Origins has, for each batch of the spool, where it stands in the file.
	Origins []source.Origin
}

// WholeRow stands for the column of a problem that concerns all of a row.
const WholeRow = -1

// Lines is the column of the spool that holds the position of each row.
const Lines = 0

// Types are the types of the columns of the spool that Read makes.
func Types(columns []Column) []value.Type {
	types := []value.Type{{Kind: value.Int}}
	for _, c := range columns {
		types = append(types, c.Type)
	}
	return types
}

// cleaned is what becomes of a chunk of the file.
type cleaned struct {
	batch    *value.Batch
	problems []problem
}

type problem struct {
	row    int
	column int
	cell   string
	why    string
}

// Read reads the table to its end. Chunks are cleaned side by side and spooled in the order of the files; told, when
// not nil, hears of the bytes of the files that are done. A row that the input leaves out has no values, and false for
// the recipe's condition.
func Read(ctx context.Context, t source.Table, recipe *Recipe, columns []Column, dir string, told func(done int64)) (*Rows, error) {
	t, err := recipe.gatherAll(ctx, t, told)
	if err != nil {
		return nil, err
	}
	rows := &Rows{Spool: spool.New(dir, Types(columns)), Problems: spool.NewLog(dir)}
	order := recipe.closure(recipe.wanted(columns))
	work := func(chunk *source.Chunk) *cleaned {
		chunk.Seal()
		return cleanChunk(chunk, recipe.newCook(order, 0), columns)
	}
	err = source.Each(ctx, t, work, func(chunk *source.Chunk, c *cleaned) error {
		if told != nil {
			told(chunk.Origin.Done)
		}
		return rows.keep(chunk, c)
	})
	if err != nil {
		return nil, errors.Join(err, rows.Close())
	}
	return rows, nil
}

// wanted lists the columns of the recipe that are asked for.
func (r *Recipe) wanted(columns []Column) (all []int) {
	for _, c := range columns {
		all = append(all, c.Of)
	}
	if r.only >= 0 {
		all = append(all, r.only)
	}
	return all
}

func cleanChunk(chunk *source.Chunk, k *cook, columns []Column) *cleaned {
	p := &cleaned{batch: value.NewBatch(Types(columns))}
	var r source.Record
	row := 0
	tell := func(blame int, raw []byte, why string) {
		p.problems = append(p.problems, problem{row, blame, string(raw), why})
	}
	for ; chunk.Next(&r); row++ {
		p.batch.Columns[Lines].AppendNum(r.Position)
		if why := source.Misshapen(&r, k.file); why != "" {
			tell(WholeRow, nil, why)
			p.pad(columns, -1, value.Bad)
			continue
		}
		k.row(&r)
		if !k.keeps() {
			p.pad(columns, k.only, value.Null)
			continue
		}
		for i, c := range columns {
			k.put(&p.batch.Columns[i+1], c.Type, c.Of, tell)
		}
	}
	return p
}

// pad adds a row without values; false for the condition only.
func (p *cleaned) pad(columns []Column, only int, s value.State) {
	for i, c := range columns {
		if to := &p.batch.Columns[i+1]; c.Of == only {
			to.AppendNum(0)
		} else {
			to.AppendState(s)
		}
	}
}

func (rows *Rows) keep(chunk *source.Chunk, p *cleaned) error {
	if p.batch.Len() == 0 {
		return nil
	}
	first := rows.Spool.Rows()
	for _, x := range p.problems {
		if err := rows.Problems.Append([]int64{first + int64(x.row), int64(x.column)}, []string{x.cell, x.why}); err != nil {
			return err
		}
	}
	rows.Origins = append(rows.Origins, chunk.Origin)
	return rows.Spool.Append(p.batch)
}

// Close gives the memory and disk of the rows back.
func (rows *Rows) Close() error { return errors.Join(rows.Spool.Close(), rows.Problems.Close()) }
