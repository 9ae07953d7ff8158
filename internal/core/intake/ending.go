package intake

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/value"
)

// second says that another table seems to stand below.
func (in *Intake) second(feed int) []string {
	rows, t := in.Rows[feed], in.Tables[feed]
	if rows.Second == nil || in.options.First > 0 {
		return nil
	}
	do := in.footer(feed, rows.Len()-rows.Second.Row)
	if t.Formats()[0].Format != "text" {
		do = "range: with the cells of this one"
	} else if len(t.Files()) > 1 {
		do = "only: with a condition that they don't meet"
	}
	return []string{fmt.Sprintf("%s seems to be the header of another table: it comes after a blank line, and its cells don't "+
		"fit; it and the lines below are read like others. To leave them out: %s",
		source.PlaceOf(t, rows.Second.Position).Short(), do)}
}

// footer is the key that leaves lines out, besides those that are left out already.
func (in *Intake) footer(feed int, lines int64) string {
	return fmt.Sprintf("footer_lines: %d", int64(in.Plan.Feeds[feed].Input.Asked.Footer)+lines)
}

// ending is what the last lines of a feed seem to be, where they are no rows: totals of those above, or notes.
func (in *Intake) ending(feed int) ([]string, error) {
	rows, t := in.Rows[feed], in.Tables[feed]
	if rows.Len() < enoughAbove || in.options.First > 0 {
		return nil, nil
	}
	last, err := lastLines(t, rows)
	if err != nil {
		return nil, err
	}
	columns := len(t.Header().Names)
	footer, says := 0, ""
	for i := len(last) - 1; i >= 0; i-- {
		why, err := in.seems(feed, columns, &last[i], i == len(last)-1)
		if err != nil {
			return nil, err
		}
		if why == "" {
			break
		}
		footer, says = footer+1, fmt.Sprintf("%s: %s", source.PlaceOf(t, last[i].Position).Short(), why)
	}
	if footer == 0 || in.leftOut(feed) {
		return nil, nil
	}
	if footer > 1 {
		says += fmt.Sprintf(", and %d more behind it", footer-1)
	}
	do := in.footer(feed, int64(footer))
	if t.Files()[0].Sheet != "" || t.Formats()[0].Format != "text" || len(t.Files()) > 1 || source.IsExpanded(t) {
		do = "only: with a condition that it doesn't meet"
	}
	return []string{says + "; it is read like others. To leave it out: " + do}, nil
}

const (
	enoughAbove = 3 // lines, to say something of the last
	mostFooter  = 5 // lines that are looked at
)

// lastLines are the last lines of a table that can be read.
func lastLines(t source.Table, rows *clean.Rows) (last []source.Record, err error) {
	chunk, err := t.Again(rows.Origin(rows.Batches() - 1))
	if err != nil {
		return nil, err
	}
	_, lines := rows.Span(rows.Batches() - 1)
	for seen := 1; ; seen++ {
		r := source.Record{Keep: true}
		if !chunk.Next(&r) {
			return last, chunk.Err()
		}
		if seen <= lines-mostFooter {
			continue
		}
		r.Fields = bytesOf(r.Fields)
		if last = append(last, r); len(last) > mostFooter {
			last = last[1:]
		}
	}
}

// bytesOf are fields in memory of their own.
func bytesOf(fields [][]byte) (own [][]byte) {
	for _, f := range fields {
		own = append(own, bytes.Clone(f))
	}
	return own
}

// seems is what a line seems to be besides a row; "" for a row.
func (in *Intake) seems(feed, columns int, r *source.Record, isLast bool) (string, error) {
	if r.Problem != nil || r.Dropped || columns < 2 {
		return "", nil
	}
	filled, text := 0, ""
	for _, f := range r.Fields {
		if f = bytes.TrimSpace(f); len(f) > 0 {
			filled, text = filled+1, string(f)
		}
	}
	const words = 3
	switch word, total := survey.TotalWord(r); {
	case total:
		return fmt.Sprintf("%q seems to sum up the lines above", word), nil
	case filled == 1 && columns > 2 && len(strings.Fields(text)) >= words:
		return fmt.Sprintf("%q seems to be a note", text), nil
	case isLast && filled > 0 && filled < columns:
		sums, err := in.sums(feed)
		if sums && err == nil {
			return "its numbers are the sums of those above", nil
		}
		return "", err
	}
	return "", nil
}

// leftOut reports whether the input leaves its last line out.
func (in *Intake) leftOut(feed int) bool {
	f, rows := in.Plan.Feeds[feed], in.Rows[feed]
	for i, c := range f.Columns {
		if c.Of != f.Recipe.Only() {
			continue
		}
		var b clean.Batch
		if rows.Read(rows.Batches()-1, []int{i}, &b) != nil || b.Len() == 0 {
			return false
		}
		return !b.Cell(i).True(b.Len() - 1)
	}
	return false
}

// sums reports whether all numbers of the last line are the sums of those above.
func (in *Intake) sums(feed int) (bool, error) {
	f, rows := in.Plan.Feeds[feed], in.Rows[feed]
	var numbers []int
	for i, c := range f.Columns {
		if k := c.Type.Kind; c.Of != f.Recipe.Only() && (k == value.Int || k == value.Decimal) {
			numbers = append(numbers, i)
		}
	}
	if numbers == nil {
		return false, nil
	}
	above, last := make([]check.Sum, len(numbers)), make([]check.Sum, len(numbers))
	var b clean.Batch
	for i := range rows.Batches() {
		if err := rows.Read(i, numbers, &b); err != nil {
			return false, err
		}
		for n, c := range numbers {
			column := *b.Cell(c)
			if i < rows.Batches()-1 {
				above[n].Add(&column)
				continue
			}
			end := b.Len() - 1
			above[n].Add(part(&column, 0, end))
			last[n].Add(part(&column, end, end+1))
		}
	}
	agree := 0
	for n := range numbers {
		want, many := above[n].Total()
		is, one := last[n].Total()
		if one == 0 {
			continue
		}
		if is != want || many < enoughAbove-1 || is == "0" {
			return false, nil
		}
		agree++
	}
	return agree > 0, nil
}

// part is a column with the values from one line to before another.
func part(c *value.Column, from, to int) *value.Column {
	own := *c
	own.States = slices.Clone(c.States)
	for i := range own.States {
		if i < from || i >= to {
			own.States[i] = value.Null
		}
	}
	return &own
}
