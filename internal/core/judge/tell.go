package judge

import (
	"context"

	"ladle/internal/core/clean"
	"ladle/internal/core/reason"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// tell logs why a line is set aside that is good by itself.
func (d *decision) tell(ctx context.Context, line int64, a answer) error {
	s := d.step
	why := reason.Why{Table: s.Table.Name, Columns: reason.List(s.KeyNames()...)}
	switch a.outcome {
	case isNew:
		why.Kind = reason.NotThere
	case isMany:
		why.Kind = reason.SeveralThere
	case isGap:
		return d.tellGaps(line)
	case isAlike:
		return d.tellAlike(line, d.declined[a.other])
	case isBroken:
		return d.breaks(line, d.log)
	case isPassed: // the first half has told
		return nil
	default:
		c, err := d.contradiction(ctx, line, a.other)
		if err != nil {
			return err
		}
		switch a.side {
		case alone:
			c.Kind, c.Limit = reason.OddLine, a.crowd
		case among:
			c.Kind, c.Limit = reason.AgainstOdd, a.crowd
		}
		return d.log.Append(spool.Problem{Row: line, Column: spool.WholeLine, Why: c})
	}
	return d.log.Append(spool.Problem{Row: line, Column: spool.WholeLine, Why: reason.Because(why)})
}

// differ logs that a line is set aside because its row has other values in some columns of the step.
func (d *decision) differ(number int64, lines *Lines, line int, columns []int) error {
	s := d.step
	var labels []string
	for _, c := range columns {
		labels = append(labels, s.Columns[c].Source.Label())
	}
	why := reason.Why{Kind: reason.AlreadyThere, Table: s.Table.Name,
		Columns: reason.List(s.Recognised().KeyNames()...),
		List:    reason.List(labels...)}
	return d.held.Append(spool.Problem{Row: number, Column: spool.WholeLine, Why: reason.Because(why)})
}

// tellAlike logs that the key of a line looks too much like another name to be added.
func (d *decision) tellAlike(line int64, why reason.Cause) error {
	b, in, err := d.stored(line)
	if err != nil {
		return err
	}
	key := d.step.Key[0]
	return d.log.Append(spool.Problem{Row: line, Column: key, Cell: d.step.asWritten(key, b, in), Why: why})
}

// breaks logs that the row of a line would break a CHECK constraint.
func (d *decision) breaks(line int64, log *spool.Problems) error {
	b, in, err := d.stored(line)
	if err != nil {
		return err
	}
	return log.Append(spool.Problem{Row: line, Column: spool.WholeLine,
		Why: d.step.broken(line, b.columns(d.step), in)})
}

// mostOverruled is the number of overruled lines of a step that are named.
const mostOverruled = 20

// overrule keeps what an overruled line lost against.
func (d *decision) overrule(ctx context.Context, line int64, a lineAnswer) error {
	s := d.step
	if len(s.Overruled) == mostOverruled {
		return nil
	}
	mine, i, err := d.stored(line)
	if err != nil {
		return err
	}
	o := Overruling{Line: d.Place(s.Feed.Number, mine.lines.Position(i))}
	switch {
	case a.verdict != Overruled: // it takes values of others
		o.Takes = true
		o.By, o.Columns, err = d.taken(line)
		if err != nil {
			return err
		}
	case a.other != line:
		c, err := d.contradiction(ctx, line, a.other)
		if err != nil {
			return err
		}
		o.By, o.Columns = c.Other, c.List.All()
	}
	s.Overruled = append(s.Overruled, o)
	return nil
}

// taken says from where a merged line takes values first, and in which columns it takes any.
func (d *decision) taken(line int64) (from reason.Place, columns []string, err error) {
	s := d.step
	donors, _, at, err := s.merges.read(s.merges.among(line, 1)[0])
	if err != nil {
		return from, nil, err
	}
	for c := range donors {
		donor := donors[c].Nums[at]
		if donor == line {
			continue
		}
		if columns = append(columns, s.Columns[c].Source.Label()); from.Line > 0 {
			continue
		}
		theirs, i, err := d.stored(donor)
		if err != nil {
			return from, nil, err
		}
		from = d.Place(s.Feed.Number, theirs.lines.Position(i))
	}
	return from, columns, nil
}

// Overruling is a line that lost against another one with the same key.
type Overruling struct {
	Line    reason.Place
	By      reason.Place // without a line where an earlier block has written the row
	Columns []string     // the columns in which they differ
	Takes   bool         // it was not taken as a whole, but stands for the key, with Columns taken from By and others
}

// tellGaps logs which values a line lacks whose row is not in the table.
func (d *decision) tellGaps(line int64) error {
	b, in, err := d.stored(line)
	if err != nil {
		return err
	}
	for i, c := range b.columns(d.step) {
		if c == nil || c.States[in] != value.Null || !d.step.Columns[i].Column.Required {
			continue
		}
		if err := d.log.Append(spool.Problem{Row: line, Column: i,
			Why: d.step.blank(reason.BlankInNew, i)}); err != nil {
			return err
		}
	}
	return nil
}

// contradiction is the cause for a line that differs from another one with the same key.
func (d *decision) contradiction(ctx context.Context, line, other int64) (reason.Cause, error) {
	s := d.step
	c := reason.Because(reason.Why{Kind: reason.Contradiction, Table: s.Table.Name,
		Columns: reason.List(s.KeyNames()...)})
	mine, i, err := d.stored(line)
	if err != nil {
		return c, err
	}
	theirs, k, err := d.stored(other)
	if err != nil {
		return c, err
	}
	var differ []string
	odd := -1 // the column in which they differ, where it is one
	others, slot := theirs.columns(s), k
	if merged := s.merges.among(other, 1); len(merged) > 0 {
		_, values, at, err := s.merges.read(merged[0])
		if err != nil {
			return c, err
		}
		others, slot = value.Pointers(values), at
	}
	for at, own := range mine.columns(s) {
		if own != nil && !own.Same(i, others[at], slot) {
			differ, odd = append(differ, s.Columns[at].Source.Label()), at
		}
	}
	for _, later := range s.Later {
		for _, cell := range cellsOf([]*evaluator{d.evaluator(later.Source, s.Table)}) {
			if !mine.lines.Cell(cell).Same(i, theirs.lines.Cell(cell), k) {
				differ = append(differ, later.Source.Label())
				break
			}
		}
	}
	if len(differ) == 1 && odd >= 0 {
		c.Value, c.Theirs = s.asWritten(odd, mine, i), s.asWritten(odd, theirs, k)
	}
	c.List = reason.List(differ...)
	c.Other = d.Place(s.Feed.Number, theirs.lines.Position(k))
	return c, ctx.Err()
}

// storedBatch is a batch that was read for one line of it.
type storedBatch struct {
	number int
	lines  clean.Batch
	found  findingBatch
}

// columns returns the columns of a step; nil for constants.
func (b *storedBatch) columns(s *Step) []*value.Column {
	columns := make([]*value.Column, len(s.sources))
	for i, e := range s.sources {
		switch {
		case e.lookup != nil:
			columns[i] = b.found.column(i)
		case e.of.Constant == nil:
			columns[i] = b.lines.Cell(e.of.Cell)
		}
	}
	return columns
}

// mostStored is the number of batches that are kept for lines that contradict each other.
const mostStored = 32

// asWritten is what a line has for a column of the step, by name where one is looked up.
func (s *Step) asWritten(c int, b *storedBatch, i int) string {
	column := b.columns(s)[c]
	if cell := s.cellBehind(c); cell >= 0 {
		column = b.lines.Cell(cell)
	}
	if column.States[i] != value.Given {
		return ""
	}
	return reason.Shorten(column.Text(i))
}

// reader reads lines of a step one by one. The batches read last are kept.
type reader struct {
	from    *Step
	batches []*storedBatch
}

// stored reads the batch that has a line, and returns the line's number in it.
func (d *reader) stored(line int64) (*storedBatch, int, error) {
	s := d.from
	number := s.rows.Holding(line)
	first, _ := s.rows.Span(number)
	in := int(line - first)
	for _, b := range d.batches {
		if b.number == number {
			return b, in, nil
		}
	}
	b := &storedBatch{number: number}
	if err := s.rows.Read(number, append(cellsOf(s.sources), s.later...), &b.lines); err != nil {
		return nil, 0, err
	}
	all := make([]int, len(s.sources))
	for i := range all {
		all[i] = i
	}
	if err := s.findings.read(number, &b.found, all...); err != nil {
		return nil, 0, err
	}
	if d.batches = append(d.batches, b); len(d.batches) > mostStored {
		d.batches = d.batches[1:]
	}
	return b, in, nil
}
