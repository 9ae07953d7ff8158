// Package clean turns the cells of a file into typed values in a spool, in one pass over the file.
package clean

import (
	"context"
	"errors"

	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Column says as what the cells of one column of the file are read.
type Column struct {
	Field int // the position of the column in the file, from 0
	Type  value.Type
}

// Rows is what a pass over a file leaves behind.
type Rows struct {
	// Spool has the position of each row (see source.Record) in its first column, then a column for each of the wanted ones.
	Spool *spool.Spool
	// Problems has a record for each cell, or whole row, that could not be read, by ascending row: its row in the
	// spool and its Column (WholeRow for a row), then the cell and the reason.
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
// not nil, hears of the bytes of the files that are done.
func Read(ctx context.Context, t source.Table, columns []Column, dir string, told func(done int64)) (*Rows, error) {
	rows := &Rows{Spool: spool.New(dir, Types(columns)), Problems: spool.NewLog(dir)}
	fields := len(t.Header().Names)
	work := func(chunk *source.Chunk) *cleaned {
		chunk.Seal()
		return cleanChunk(chunk, columns, fields)
	}
	err := source.Each(ctx, t, work, func(chunk *source.Chunk, c *cleaned) error {
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

func cleanChunk(chunk *source.Chunk, columns []Column, fields int) *cleaned {
	p := &cleaned{batch: value.NewBatch(Types(columns))}
	var r source.Record
	for row := 0; chunk.Next(&r); row++ {
		p.batch.Columns[Lines].AppendNum(r.Position)
		if why := source.Misshapen(&r, fields); why != "" {
			p.problems = append(p.problems, problem{row, WholeRow, "", why})
			for i := range columns {
				p.batch.Columns[i+1].AppendState(value.Bad)
			}
			continue
		}
		for i, c := range columns {
			cell := r.Fields[c.Field]
			if err := parse(&p.batch.Columns[i+1], c, &r); err != nil {
				p.problems = append(p.problems, problem{row, i, string(cell), err.Error()})
			}
		}
	}
	return p
}

// parse adds the cell of a column to the batch.
func parse(to *value.Column, c Column, r *source.Record) error {
	for _, f := range r.Faults {
		if f.Field == c.Field {
			to.AppendState(value.Bad)
			return errors.New(f.Why)
		}
	}
	return value.Parse(to, c.Type, r.Fields[c.Field])
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
