// Package clean turns the cells of a file into typed values in a spool, in one pass over the file.
package clean

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"

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
	// Spool has the line of each row in its first column, then a column for each of the wanted ones.
	Spool *spool.Spool
	// Problems has a record for each cell, or whole row, that could not be read, by ascending row: its row in the
	// spool and its Column (WholeRow for a row), then the cell and the reason.
	Problems *spool.Log
	// Origins has, for each batch of the spool, where it stands in the file.
	Origins []source.Origin
}

// WholeRow stands for the column of a problem that concerns all of a row.
const WholeRow = -1

// Lines is the column of the spool that holds the line of each row.
const Lines = 0

// Types are the types of the columns of the spool that Read makes.
func Types(columns []Column) []value.Type {
	types := []value.Type{{Kind: value.Int}}
	for _, c := range columns {
		types = append(types, c.Type)
	}
	return types
}

// part is a chunk of the file on its way to the spool.
type part struct {
	chunk    *source.Chunk
	batch    *value.Batch
	problems []problem
	done     chan struct{}
}

type problem struct {
	row    int
	column int
	cell   string
	why    string
}

// Read reads the file to its end. Chunks are cleaned side by side and spooled in the order of the file; told, when
// not nil, hears of the bytes that are done.
func Read(ctx context.Context, file *source.CSV, columns []Column, dir string, told func(bytes int)) (*Rows, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	rows := &Rows{Spool: spool.New(dir, Types(columns)), Problems: spool.NewLog(dir)}
	workers := runtime.GOMAXPROCS(0)
	todo, ordered := make(chan *part), make(chan *part, 2*workers)
	fields := len(file.Header().Names)
	for range workers {
		go func() {
			for p := range todo {
				p.clean(columns, fields)
				close(p.done)
			}
		}()
	}
	failed := make(chan error, 1)
	go func() {
		defer close(ordered)
		defer close(todo)
		failed <- feed(ctx, file, todo, ordered)
	}()
	for p := range ordered {
		<-p.done
		if err := rows.keep(p); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		if told != nil {
			told(len(p.chunk.Raw))
		}
	}
	if err := <-failed; err != nil {
		return nil, errors.Join(err, rows.Close())
	}
	return rows, nil
}

// feed hands out the chunks of the file.
func feed(ctx context.Context, file *source.CSV, todo, ordered chan<- *part) error {
	for {
		chunk, err := file.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		p := &part{chunk: chunk, done: make(chan struct{})}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case ordered <- p:
		}
		todo <- p
	}
}

func (p *part) clean(columns []Column, fields int) {
	p.batch = value.NewBatch(Types(columns))
	var r source.Record
	for row := 0; p.chunk.Next(&r); row++ {
		p.batch.Columns[Lines].AppendNum(r.Line)
		if why := misshapen(&r, fields); why != "" {
			p.problems = append(p.problems, problem{row, WholeRow, "", why})
			for i := range columns {
				p.batch.Columns[i+1].AppendState(value.Bad)
			}
			continue
		}
		for i, c := range columns {
			cell := r.Fields[c.Field]
			if err := value.Parse(&p.batch.Columns[i+1], c.Type, cell); err != nil {
				p.problems = append(p.problems, problem{row, i, string(cell), err.Error()})
			}
		}
	}
}

func misshapen(r *source.Record, fields int) string {
	switch {
	case r.Problem != "":
		return r.Problem
	case len(r.Fields) < fields:
		return fmt.Sprintf("the line has only %d of %d fields", len(r.Fields), fields)
	case len(r.Fields) > fields:
		return fmt.Sprintf("the line has %d fields, the header %d", len(r.Fields), fields)
	}
	return ""
}

func (rows *Rows) keep(p *part) error {
	if p.batch.Len() == 0 {
		return nil
	}
	first := rows.Spool.Rows()
	for _, x := range p.problems {
		if err := rows.Problems.Append([]int64{first + int64(x.row), int64(x.column)}, []string{x.cell, x.why}); err != nil {
			return err
		}
	}
	rows.Origins = append(rows.Origins, p.chunk.Origin)
	return rows.Spool.Append(p.batch)
}

// Close gives the memory and disk of the rows back.
func (rows *Rows) Close() error { return errors.Join(rows.Spool.Close(), rows.Problems.Close()) }
