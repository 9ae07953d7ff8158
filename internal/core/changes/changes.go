// Package changes lists what a load does, or would do, to each row: [Each] goes through a judgement, and a [File] keeps
// what it finds as CSV or as a workbook.
package changes

import (
	"context"

	"ladle/internal/core/judge"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
)

// Record is what becomes of one cell, or, without a column, of one row.
type Record struct {
	Table  string
	What   What
	Key    string // of the row, with names in place of ids
	Column string
	Before *string // what the row holds; nil for NULL, or for a row that is added
	After  *string // what it will hold; or, where it differs and is kept, what the line says
	File   string  // "" for a row that is removed or marked
	Line   int64
}

// What becomes of a cell or row.
type What string

const (
	Added   What = "added"
	Changed What = "changed"
	Differs What = "differs, kept"
	Removed What = "removed"

	// of a comparison that changes nothing
	Missing   What = "missing" // there is no row for the line
	Different What = "differs" // Before is what the row holds, After what the line says
	Extra     What = "extra"   // the input does not have the row
)

// Each gives take a record for each cell of the rows that are added, for each cell that changes or differs and is kept,
// and for each row that is removed or marked. place says where a line of a feed stands.
func Each(ctx context.Context, j *judge.Judgement, place func(feed int, position int64) reason.Place,
	take func(Record) error) error {
	for _, g := range j.Growths {
		for i := range g.Rows {
			name := g.Name(i)
			if err := take(Record{Table: g.Table.Name, What: Added, Key: name, After: &name}); err != nil {
				return err
			}
		}
	}
	for _, s := range j.Steps {
		if err := step(ctx, j, s, place, take); err != nil {
			return err
		}
		if err := gone(s, take); err != nil {
			return err
		}
	}
	return nil
}

// gone gives the records of rows that are removed or marked.
func gone(s *judge.Step, take func(Record) error) error {
	if s.Gone.Removed() > 0 {
		return s.EachGone(func(key string) error {
			return take(Record{Table: s.Table.Name, What: Removed, Key: key})
		})
	}
	for _, m := range s.Gone.Markings() {
		err := m.EachCell(func(key, column string, before, after *string) error {
			return take(Record{Table: s.Table.Name, What: Changed, Key: key, Column: column, Before: before, After: after})
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func step(ctx context.Context, j *judge.Judgement, s *judge.Step, place func(int, int64) reason.Place,
	take func(Record) error) error {
	if s.Tally.Added+s.Tally.Updated+s.Tally.Differs == 0 {
		return nil
	}
	lines := s.Lines(ctx, s.LookedUpCells()...)
	for lines.Next() {
		for i := range lines.Len() {
			row := report.Row{Judgement: j, Step: s, Lines: lines, I: i}
			records := of(row)
			if records == nil {
				continue
			}
			at := place(s.Feed.Number, lines.Position(i))
			for _, r := range records {
				r.Table, r.File, r.Line = s.Table.Name, at.File, at.Line
				if err := take(r); err != nil {
					return err
				}
			}
		}
	}
	return lines.Err()
}

// of are the records of one line.
func of(row report.Row) (all []Record) {
	s := row.Step
	switch row.Lines.Verdict(row.I) {
	case judge.Added:
		for c, name := range s.Names() {
			all = append(all, Record{What: Added, Key: row.Key(), Column: name, After: row.Cell(c)})
		}
	case judge.Updated, judge.Differs:
		change := row.Lines.Change(row.I)
		for t, target := range s.Targets() {
			what := Changed
			if change.Keeps(t) {
				what = Differs
			} else if !change.Has(t) {
				continue
			}
			all = append(all, Record{What: what, Key: row.Name(), Column: s.Columns[target].Column.Name,
				Before: row.Before(t), After: row.Cell(target)})
		}
	}
	return all
}
