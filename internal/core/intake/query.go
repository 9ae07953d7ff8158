package intake

import (
	"context"
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

// add adds a row.
func (a *answer) add(row []*string) {
	h := xxhash.New()
	for _, c := range row {
		if c == nil {
			h.Write([]byte{0}) // a hash takes everything
			continue
		}
		h.Write([]byte{1})
		h.WriteString(*c)
		h.Write([]byte{2})
	}
	sum := h.Sum64()
	a.rows, a.sums[0] = a.rows+1, a.sums[0]+sum
	a.sums[1] += bits.RotateLeft64(sum*0x9e3779b97f4a7c15, 29) ^ sum
}

// openQuery runs the query of an input and keeps its rows.
func (in *Intake) openQuery(ctx context.Context, i *ladlefile.Input, db engine.Database) (source.Table, error) {
	from := db
	if i.Database.Given() {
		if from = in.options.Others[i.Database.Value]; from == nil {
			return nil, in.wrong(i.Database, fmt.Sprintf("no database is called %q", i.Database.Value),
				fmt.Sprintf("give its URL with --other-db %s=URL", i.Database.Value))
		}
	}
	if err := from.Foresee(ctx, i.Query.Value); err != nil {
		return nil, in.ofQuery(i, err)
	}
	read := &answer{}
	t, err := source.Rows(i.Origin(), func(take func([]string, []*string) error) error {
		return from.Ask(ctx, i.Query.Value, func(columns []string, row []*string) error {
			if row != nil {
				read.add(row)
			}
			return take(columns, row)
		})
	})
	if err != nil {
		return nil, in.ofQuery(i, err)
	}
	if !i.Database.Given() {
		in.answers[i] = read
	}
	return t, nil
}

func (in *Intake) wrong(at ladlefile.Text, what, do string) error {
	return fault.At(fault.Wrong, fault.Problem{File: in.File.Path, Line: at.Line, Column: at.Column, What: what, Do: do})
}

// ofQuery says of which input a query can't be run.
func (in *Intake) ofQuery(i *ladlefile.Input, err error) error {
	var f *fault.Fault
	if !errors.As(err, &f) || f.Class != fault.Wrong {
		return err
	}
	p := fault.ProblemsOf(err)[0]
	return in.wrong(i.Query, fmt.Sprintf("the query of the input %s can't be run: %s", i.Name.Value, p.What), p.Do)
}

// SameRows reports whether the queries on the database that is loaded into still return, as a transaction sees it, the
// rows that were read; if not, the input whose query doesn't.
func (in *Intake) SameRows(ctx context.Context, db engine.Reader) (input string, same bool, err error) {
	for _, i := range in.File.Inputs {
		read := in.answers[i]
		if read == nil {
			continue
		}
		now := answer{}
		err := db.Ask(ctx, i.Query.Value, func(_ []string, row []*string) error {
			if row != nil {
				now.add(row)
			}
			return nil
		})
		if err != nil || now != *read {
			return i.Name.Value, false, err
		}
	}
	return "", true, nil
}
