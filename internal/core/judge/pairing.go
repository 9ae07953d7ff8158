package judge

import (
	"context"
	"slices"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// pairing finds a row for each line of a step that pairs them: each row stands for one line that is equal to it in all
// paired columns.
type pairing struct {
	step    *Step
	columns []int // of the step, that are paired
	there   []*spool.Stream[pairedRow]

	// lines that are left out or set aside, by part: a row that no other line takes stands for them, so it is not gone
	absent []*spool.Stream[keyindex.Hash]
	hashes []keyindex.Hash
}

// pairedRow is a row of the table by the hash of what is paired.
type pairedRow struct {
	hash   keyindex.Hash
	ref    int64 // its locator, where the table has one
	number int64 // among those that could be gone; -1 for others
}

func (r *round) newPairing(s *Step, parts int) *pairing {
	p := &pairing{step: s, columns: s.Paired(), there: spool.Streams[pairedRow](r.Dir, parts)}
	if s.Gone != nil {
		p.absent = spool.Streams[keyindex.Hash](r.Dir, parts)
	}
	return p
}

func (p *pairing) close() {
	closeAll(p.there)
	closeAll(p.absent)
}

// paired picks the paired columns.
func (p *pairing) paired(columns []*value.Column) []*value.Column {
	picked := make([]*value.Column, len(p.columns))
	for i, c := range p.columns {
		picked[i] = columns[c]
	}
	return picked
}

// hash returns the hash of each line of a batch, the zero Hash for one with a cell that can't be read.
func (p *pairing) hash(columns []*value.Column) []keyindex.Hash {
	picked := p.paired(columns)
	p.hashes = p.hashes[:0]
	for line := range picked[0].Len() {
		h := keyindex.HashRow(picked, line)
		for _, c := range picked {
			if c.States[line] == value.Bad {
				h = keyindex.Hash{}
			}
		}
		p.hashes = append(p.hashes, h)
	}
	return p.hashes
}

// leave takes a line that is not loaded.
func (p *pairing) leave(h keyindex.Hash, nothing bool) error {
	if p.absent == nil || nothing {
		return nil
	}
	if h.None() {
		p.step.Gone.Unknown++
		return nil
	}
	return p.absent[h.Part(len(p.absent))].Append(h)
}

// read reads the rows of the table: those that could be gone first, so that lines leave no more of them than there must
// be.
func (p *pairing) read(ctx context.Context, r *round) error {
	s, g := p.step, p.step.Gone
	if g == nil {
		columns := s.RecognisedBy()
		if s.Table.Locator != "" && !slices.Contains(columns, s.Table.Locator) {
			columns = append([]string{s.Table.Locator}, columns...)
		}
		return r.Database.Scan(ctx, s.Table, columns, func(b *value.Batch) error { return p.put(b, columns, -1) })
	}
	if err := r.readyGone(s); err != nil {
		return err
	}
	err := r.Database.Among(ctx, s.Table, scope(s), g.columns, func(b *value.Batch) error {
		if err := p.put(b, g.columns, g.rows.Rows()); err != nil {
			return err
		}
		return g.take(b)
	})
	g.Among = g.rows.Rows()
	if err != nil || !s.Policy.Gone.Where.Given() {
		return err
	}
	return r.Database.Among(ctx, s.Table, "CASE WHEN ("+scope(s)+"\n) THEN 0 ELSE 1 END = 1", g.columns,
		func(b *value.Batch) error { return p.put(b, g.columns, -1) })
}

// put takes rows that consist of columns; first is the number of the first of them, or -1.
func (p *pairing) put(b *value.Batch, columns []string, first int64) error {
	paired := make([]*value.Column, len(p.columns))
	for i, name := range p.step.RecognisedBy() {
		paired[i] = &b.Columns[slices.Index(columns, name)]
	}
	var locator *value.Column
	if at := slices.Index(columns, p.step.Table.Locator); at >= 0 {
		locator = &b.Columns[at]
	}
	for row := range b.Len() {
		made := pairedRow{hash: keyindex.HashRow(paired, row), number: -1}
		if locator != nil {
			made.ref = locator.Nums[row]
		}
		if first >= 0 {
			made.number = first + int64(row)
		}
		if err := p.there[made.hash.Part(len(p.there))].Append(made); err != nil {
			return err
		}
	}
	return nil
}

// equalRows are rows that are equal, in the order of reading: they are taken from the first on.
type equalRows struct{ next, last int32 }

// part answers the questions of part i.
func (p *pairing) part(i int, questions *spool.Stream[question], answers *spool.Stream[answer]) error {
	var rows []pairedRow
	var following []int32 // for each row, the next one that is equal
	var byHash keyindex.Map[equalRows]
	err := p.there[i].Each(func(row *pairedRow) error {
		at := int32(len(rows))
		rows, following = append(rows, *row), append(following, -1)
		if equal, found := byHash.Insert(row.hash); found {
			following[equal.last], equal.last = at, at
		} else {
			*equal = equalRows{at, at}
		}
		return nil
	})
	if err != nil {
		return err
	}
	taken := make([]bool, len(rows))
	take := func(h keyindex.Hash) (row pairedRow, found bool) {
		equal := byHash.Find(h)
		if equal == nil || equal.next < 0 {
			return row, false
		}
		at := equal.next
		equal.next, taken[at] = following[at], true
		return rows[at], true
	}
	err = questions.Each(func(q *question) error {
		row, found := take(q.key)
		if !found {
			return answers.Append(answer{outcome: isNew})
		}
		return answers.Append(answer{outcome: isThere, ref: row.ref})
	})
	if err != nil || p.absent == nil {
		return err
	}
	err = p.absent[i].Each(func(h *keyindex.Hash) error {
		take(*h)
		return nil
	})
	for at, row := range rows {
		if row.number >= 0 {
			p.step.Gone.stand(row.number, taken[at])
		}
	}
	return err
}
