package setaside

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
	"ladle/internal/core/whole"
)

// Lines are the lines of an input that are set aside, and why.
type Lines struct {
	Input    string
	Table    source.Table // the input, with corrected lines in it
	Original source.Table // the same without
	Read     Chunks
	Set      spool.RowSet // which of the lines that were read
	Logs     []Log
}

// Chunks are lines as they were read, chunk by chunk.
type Chunks interface {
	Batches() int
	Span(i int) (first int64, n int) // the number of the first line of chunk i, and how many it has
	Origin(i int) source.Origin
}

// Log is problems of lines, and what their columns stand for.
type Log struct {
	Problems *spool.Problems
	Column   func(column int) Column
}

// Column is what a column of a log stands for.
type Column struct {
	Name   string       // as it is called in the input; "" for the whole line
	Field  int          // of the record that alone feeds it, or -1
	Step   *plan.Step   // where it is a column of a step
	Lookup *plan.Lookup // where its value is looked up
	Target string       // the column of the table, where it is one of a step
}

// FromCells is the log of what could not be read of the cells of an input, whose columns are those of a recipe.
func FromCells(problems *spool.Problems, names func(column int) string, fields func(column int) int) Log {
	return Log{problems, func(c int) Column {
		if c == spool.WholeLine {
			return Column{Field: -1}
		}
		return Column{Name: names(c), Field: fields(c)}
	}}
}

// FromStep is a log of a step.
func FromStep(problems *spool.Problems, s *plan.Step) Log {
	return Log{problems, func(c int) Column {
		if c == spool.WholeLine {
			return Column{Step: s, Field: -1}
		}
		a := s.Columns[c]
		column := Column{Step: s, Target: a.Column.Name, Name: a.Source.Label(), Lookup: a.Source.Lookup, Field: -1}
		from := a.Source
		for from.Lookup != nil && len(from.Lookup.By) == 1 {
			from = from.Lookup.By[0].Source
		}
		if from.Lookup == nil && from.Constant == nil {
			column.Name, column.Field = from.Label(), s.Feed.Recipe.Field(s.Feed.Columns[from.Cell].Of)
		}
		return column
	}}
}

// Each reads the chunks of the input that have lines set aside a second time, and returns each such line with its
// reasons.
func (l *Lines) Each(take func(r *source.Record, reasons []ColumnReason) error) error {
	reasons, err := l.reasons()
	if err != nil {
		return err
	}
	var record source.Record
	for i := range l.Read.Batches() {
		first, n := l.Read.Span(i)
		if !l.Set.Any(first, n) {
			continue
		}
		chunk, err := l.Table.Again(l.Read.Origin(i))
		if err != nil {
			return err
		}
		for line := first; chunk.Next(&record); line++ {
			if !l.Set.Has(line) {
				continue
			}
			why, err := reasons.of(line, l.Table, &record)
			if err == nil {
				err = take(&record, why)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Write writes the lines with their reasons to a set-aside file at path, behind a title that says what became of the
// others, and adds the reasons to groups. The file is there whole or not at all; one of an earlier run that a person
// has edited is moved out of the way, to moved. take, when not nil, is shown each line. A path that ends in Workbook
// makes a workbook.
func (l *Lines) Write(path, others string, groups *Groups, take func(Line)) (moved string, err error) {
	sum, err := l.Original.Sum()
	if err != nil {
		return "", err
	}
	d, title := source.DialectOf(l.Table), title(l.Set.Len(), FileNames(l.Table), sum, others)
	if isWorkbook(path) {
		return l.writeSheet(path, title, groups, take)
	}
	return placeFile(path, title, d, func(out io.Writer) error {
		if _, err := io.WriteString(out, head(d, l.Table.Header())); err != nil {
			return err
		}
		return l.each(groups, func(r *source.Record, line Line) error {
			if take != nil {
				take(line)
			}
			_, err := io.WriteString(out, l.line(d, r, line.Reasons))
			return err
		})
	})
}

// Explain adds the reasons of all lines to groups.
func (l *Lines) Explain(groups *Groups) error {
	return l.each(groups, func(*source.Record, Line) error { return nil })
}

// Line is a line that is set aside.
type Line struct {
	Place   reason.Place
	Reasons []string // in words
}

func (l *Lines) each(groups *Groups, take func(*source.Record, Line) error) error {
	return l.Each(func(r *source.Record, reasons []ColumnReason) error {
		line := Line{Place: source.PlaceOf(l.Table, r.Position)}
		for _, x := range reasons {
			groups.Add(l.Input, x)
			line.Reasons = append(line.Reasons, x.Words())
		}
		return take(r, line)
	})
}

// line is a line of a set-aside file: the place of a record, what is wrong with it, and the record as it stands in its
// file, but for texts that a spreadsheet would run.
func (l *Lines) line(d source.Dialect, r *source.Record, reasons []string) string {
	record := d.Record(l.Table, r)
	if r.Problem == nil && slices.ContainsFunc(r.Fields, func(f []byte) bool { return len(value.Guarded(f)) != len(f) }) {
		cells := make([]string, len(r.Fields))
		for i, f := range r.Fields {
			cells[i] = string(value.Guarded(f))
		}
		record = d.Line(cells...)
	}
	return d.Line(spotOf(r).in(l.Table), string(value.Guarded([]byte(strings.Join(reasons, " | "))))) +
		string(d.Delimiter) + record + "\r\n"
}

// ColumnReason is a reason, and what the column that it is about stands for.
type ColumnReason struct {
	reason.Reason
	Of Column
}

// reasons brings the problems of all logs together by line.
type reasons []*logReader

// logReader reads one log, one problem ahead.
type logReader struct {
	in    *spool.ProblemReader
	of    func(int) Column
	next  spool.Problem
	ended bool
}

func (r *logReader) advance() error {
	var err error
	if r.next, err = r.in.Next(); err == io.EOF {
		r.ended = true
		return nil
	}
	return err
}

func (l *Lines) reasons() (reasons, error) {
	var all reasons
	for _, log := range l.Logs {
		r := &logReader{in: log.Problems.Reader(), of: log.Column}
		if err := r.advance(); err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, nil
}

// of lists the reasons of a line, a record of t, each once; lines are asked for in ascending order.
func (all reasons) of(line int64, t source.Table, record *source.Record) ([]ColumnReason, error) {
	var found []ColumnReason
	for _, r := range all {
		for !r.ended && r.next.Row <= line {
			if r.next.Row == line {
				x := ColumnReason{Of: r.of(r.next.Column)}
				x.Place, x.Column, x.Content, x.Cause = source.PlaceOf(t, record.Position), x.Of.Name, r.next.Cell, r.next.Why
				if x.Of.Field >= 0 {
					x.Cell = source.CellOf(t, record, x.Of.Field)
				}
				if !slices.ContainsFunc(found, func(o ColumnReason) bool { return o.Reason == x.Reason }) {
					found = append(found, x)
				}
			}
			if err := r.advance(); err != nil {
				return nil, err
			}
		}
	}
	return found, nil
}

// placeFile writes a set-aside file under a title in the dialect d.
func placeFile(path, title string, d source.Dialect, write func(io.Writer) error) (moved string, err error) {
	f, err := whole.Create(path)
	if err != nil {
		return "", err
	}
	defer f.Discard()
	titled := func(sum []byte) string { return d.Line(fmt.Sprintf("%s (%s %x)", title, sumMark, sum[:8])) + "\r\n" }
	out, sum := bufio.NewWriterSize(f, 64<<10), sha256.New()
	if _, err := out.WriteString(titled(make([]byte, sha256.Size))); err != nil {
		return "", err
	}
	if err := errors.Join(write(io.MultiWriter(out, sum)), out.Flush()); err != nil {
		return "", err
	}
	if _, err := f.WriteAt([]byte(titled(sum.Sum(nil))), 0); err != nil { // over the one that was written
		return "", err
	}
	if err := f.Finish(); err != nil {
		return "", err
	}
	if moved, err = saveEdited(path); err != nil {
		return "", err
	}
	return moved, f.Place()
}
