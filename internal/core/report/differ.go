package report

import (
	"context"
	"fmt"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// Difference is a cell of a line that differs from the row with the line's key, where the row is kept as it is.
type Difference struct {
	File    string  `json:"file"`
	Line    int64   `json:"line"`
	Place   string  `json:"-"` // both, in short
	Key     string  `json:"key"`
	Column  string  `json:"column"`
	InFile  *string `json:"in_file"`
	InTable *string `json:"in_table"`
}

// Overruled is a line that lost against another one with the same key.
type Overruled struct {
	File    string   `json:"file"`
	Line    int64    `json:"line"`
	Place   string   `json:"-"`
	By      string   `json:"by"`      // the other line; "" where an earlier block has written the row
	Columns []string `json:"columns"` // in which they differ
	Takes   bool     `json:"takes"`   // the line stands for the key, and takes Columns from By and others
}

// LeftBlank is a cell that a lookup found no row for, or several, and left blank.
type LeftBlank struct {
	Column string `json:"column"` // of the table
	Cell   string `json:"cell"`   // "" for all others together, where there are too many
	Reason string `json:"reason"` // not found, or several
	Target string `json:"target"` // what was looked up
	Lines  int64  `json:"lines"`
}

// leftBlank lists the most frequent cells that lookups of a step left blank, and counts all of them.
func leftBlank(s *judge.Step) (all []LeftBlank, lines int64) {
	s.EachLeftBlank(func(b judge.LeftBlank, n int64) {
		lines += n
		if len(all) == mostDifferences {
			return
		}
		l := s.Columns[b.Column].Source.Lookup
		x := LeftBlank{Column: s.Columns[b.Column].Column.Name, Cell: reason.Shorten(b.Cell), Reason: "not found",
			Target: l.Table.Name + "." + strings.Join(l.Names(), ", "), Lines: n}
		if b.Several {
			x.Reason = "several"
		}
		all = append(all, x)
	})
	return all, lines
}

// mostSearched is the number of rows of a table that are looked through for few lines: up to so many for each line.
const mostSearched = 10

// alreadyThere is the number of rows that a step without a key adds although the table has rows with the same values;
// -1 where the table is too large to look.
func alreadyThere(ctx context.Context, db engine.Reader, j *judge.Judgement, s *judge.Step) (int64, error) {
	rows := j.Before[s.Table].Rows
	switch {
	case s.Recognises() || s.First != nil || s.Tally.Added == 0 || rows == 0:
		return 0, nil
	case rows > 1_000_000 && rows > mostSearched*s.Tally.Added:
		return -1, nil
	}
	same, _, err := j.Pairs(ctx, db, s, func(int64) error { return nil })
	return same, err
}

// Compare puts the first cells of each step into the report that differ from rows which are kept, and the first lines
// that lost against others. place says where a line of a feed stands.
func (r *Report) Compare(ctx context.Context, db engine.Reader, j *judge.Judgement, place func(feed int,
	position int64) reason.Place) error {
	for i, s := range j.Steps {
		differ, err := differences(ctx, j, s, place)
		if err != nil {
			return err
		}
		if r.Steps[i].Equal, err = alreadyThere(ctx, db, j, s); err != nil {
			return err
		}
		r.Steps[i].Differences = differ
		r.Steps[i].LeftBlank, r.Steps[i].Unfound = leftBlank(s)
		for _, o := range s.Overruled {
			by := ""
			if o.By.Line > 0 {
				by = o.By.Short()
			}
			r.Steps[i].Overruled = append(r.Steps[i].Overruled, Overruled{File: o.Line.File, Line: o.Line.Line,
				Place: o.Line.Short(), By: by, Columns: o.Columns,
				Takes: o.Takes})
		}
	}
	return nil
}

func differences(ctx context.Context, j *judge.Judgement, s *judge.Step,
	place func(int, int64) reason.Place) (all []Difference, err error) {
	if s.Tally.Differs == 0 {
		return nil, nil
	}
	lines := s.Lines(ctx, s.LookedUpCells()...)
	for lines.Next() {
		for i := range lines.Len() {
			if lines.Verdict(i) != judge.Differs {
				continue
			}
			at := place(s.Feed.Number, lines.Position(i))
			for _, d := range (Row{j, s, lines, i}).Kept() {
				d.File, d.Line, d.Place = at.File, at.Line, at.Short()
				if all = append(all, d); len(all) == mostDifferences {
					return all, nil
				}
			}
		}
	}
	return all, lines.Err()
}

// Kept lists the cells of the row that differ from the line and are kept.
func (r Row) Kept() (all []Difference) {
	change := r.Lines.Change(r.I)
	for t, target := range r.Step.Targets() {
		if change.Keeps(t) {
			all = append(all, Difference{Key: r.Name(), Column: r.Step.Columns[target].Column.Name,
				InFile:  r.Cell(target),
				InTable: r.Before(t)})
		}
	}
	return all
}

// Before is what target t of the step holds in the row that is there; nil for NULL.
func (r Row) Before(t int) *string {
	before := value.NewColumn(r.Step.Columns[r.Step.Targets()[t]].Column.Type)
	r.Lines.Change(r.I).Before(t, &before)
	if before.States[0] == value.Null {
		return nil
	}
	text := before.Text(0)
	return &text
}

// Name names a row that is there: by its key, or, in a second half, by what it is found by.
func (r Row) Name() string {
	if r.Step.First == nil {
		return r.Key()
	}
	by := r.Step.FoundBy()
	parts := make([]string, len(by))
	for i, k := range r.Lines.Change(r.I).Key() {
		parts[i] = fmt.Sprintf("%s %s", by[i], k.Text(0))
	}
	return strings.Join(parts, ", ")
}
