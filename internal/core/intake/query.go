package intake

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"

	"github.com/cespare/xxhash/v2"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/source"
)

// answer is what a query returned, in short: equal for the same rows, in whatever order.
type answer struct {
	rows int64
	sums [2]uint64
}

// add adds a row of a part, and returns memory for the next.
func (a *answer) add(part int, row [][]byte, memory []byte) []byte {
	b := append(memory[:0], byte(part), byte(part>>8))
	for _, c := range row {
		if c == nil {
			b = append(b, 0)
			continue
		}
		b = append(binary.AppendUvarint(append(b, 1), uint64(len(c))), c...)
	}
	sum := xxhash.Sum64(b)
	a.rows, a.sums[0] = a.rows+1, a.sums[0]+sum
	a.sums[1] += bits.RotateLeft64(sum*0x9e3779b97f4a7c15, 29) ^ sum
	return b
}

// question is a query of an input, and what its rows are called.
type question struct {
	query string
	file  source.File
}

// Databases are those from which inputs of a ladle file come.
type Databases struct {
	Path   string                     // of the ladle file
	Loaded engine.Database            // the one that is loaded into; nil where there is none
	Others map[string]engine.Database // by the names that inputs give them
}

// Rows returns the rows of an input that comes from a database. They are read and kept.
func (d Databases) Rows(ctx context.Context, i *ladlefile.Input) (source.Table, error) {
	t, _, _, err := d.rows(ctx, i)
	return t, err
}

// rows is Rows, with what was asked and what was answered in short.
func (d Databases) rows(ctx context.Context, i *ladlefile.Input) (source.Table, *answer, []question, error) {
	from := d.Loaded
	if i.Database.Given() {
		if from = d.Others[i.Database.Value]; from == nil {
			return nil, nil, nil, d.wrong(i.Database, fmt.Sprintf("no database is called %q", i.Database.Value),
				fmt.Sprintf("give its URL with --other-db %s=URL", i.Database.Value))
		}
	}
	if from == nil {
		return nil, nil, nil, d.wrong(i.Name, fmt.Sprintf("the input %s comes from a database, and none is named",
			i.Name.Value), "name it with --db")
	}
	questions, err := d.questions(ctx, i, from)
	if err != nil {
		return nil, nil, nil, err
	}
	read := &answer{}
	var parts []source.RowPart
	var memory []byte
	for n, q := range questions {
		if err := from.Foresee(ctx, q.query); err != nil {
			return nil, nil, nil, d.ofQuery(i, err)
		}
		parts = append(parts, source.RowPart{File: q.file, Each: func(take func([]string, [][]byte) error) error {
			return from.Ask(ctx, q.query, func(columns []string, row [][]byte) error {
				if row != nil {
					memory = read.add(n, row, memory)
				}
				return take(columns, row)
			})
		}})
	}
	t, err := source.Rows(parts...)
	if err != nil {
		return nil, nil, nil, d.ofQuery(i, err)
	}
	return t, read, questions, nil
}

// openRows runs the queries of an input and keeps their rows.
func (in *Intake) openRows(ctx context.Context, i *ladlefile.Input, db engine.Database) (source.Table, error) {
	t, read, questions, err := Databases{in.File.Path, db, in.options.Others}.rows(ctx, i)
	if err == nil && !i.Database.Given() {
		in.answers[i], in.asked[i] = read, questions
	}
	return t, err
}

// questions are the queries of an input: its own, or one for each of its tables.
func (d Databases) questions(ctx context.Context, i *ladlefile.Input, from engine.Database) (all []question, err error) {
	if i.Query.Given() {
		return []question{{i.Query.Value, source.File{Path: i.Origin(), Query: true}}}, nil
	}
	s, err := from.Schema(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range i.Tables {
		found := s.Called(name.Value)
		if len(found) != 1 {
			return nil, d.wrong(name, fmt.Sprintf("there is no table %q", name.Value),
				fault.DidYouMean(name.Value, s.Names()))
		}
		all = append(all, question{from.SelectAll(found[0]), source.File{Path: "table " + found[0].Name, Query: true,
			Table: found[0].Name}})
	}
	return all, nil
}

func (d Databases) wrong(at ladlefile.Text, what, do string) error {
	return fault.At(fault.Wrong, fault.Problem{File: d.Path, Line: at.Line, Column: at.Column, What: what,
		Do: do})
}

// ofQuery says of which input a query can't be run.
func (d Databases) ofQuery(i *ladlefile.Input, err error) error {
	var f *fault.Fault
	if !errors.As(err, &f) || f.Class != fault.Wrong {
		return err
	}
	p := fault.ProblemsOf(err)[0]
	at := i.Query
	if i.Tables != nil {
		at = i.Tables[0]
	}
	return d.wrong(at, fmt.Sprintf("the query of the input %s can't be run: %s", i.Name.Value, p.What), p.Do)
}

// SameRows reports whether the queries on the database that is loaded into still return, as a transaction sees it, the
// rows that were read; if not, the input whose query doesn't.
func (in *Intake) SameRows(ctx context.Context, db engine.Reader) (input string, same bool, err error) {
	for _, i := range in.File.Inputs {
		read := in.answers[i]
		if read == nil {
			continue
		}
		now, memory := answer{}, []byte(nil)
		for n, q := range in.asked[i] {
			err := db.Ask(ctx, q.query, engine.OnlyRows(func(_ []string, row [][]byte) error {
				memory = now.add(n, row, memory)
				return nil
			}))
			if err != nil {
				return i.Name.Value, false, err
			}
		}
		if now != *read {
			return i.Name.Value, false, nil
		}
	}
	return "", true, nil
}
