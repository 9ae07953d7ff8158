package compare

import (
	"cmp"
	"context"
	"slices"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/spool"
)

// pairs is which lines differ, and which of them belong together.
type pairs struct {
	came, went spool.RowSet
	changed    [2]spool.RowSet
	span       int64
	byOld      []*spool.Stream[pair] // by the old line, span lines to a stream
}

// pair is a line of the old file and the one of the new file that has its key.
type pair struct{ Old, New int64 }

func (p *pairs) close() {
	for _, s := range p.byOld {
		s.Close()
	}
}

// usualSpan is the least number of lines to a stream, and mostStreams the number of streams that makes it larger.
const (
	usualSpan   = 1 << 16
	mostStreams = 256
)

// match brings the lines of one key together.
func (c *comparison) match(ctx context.Context) (*pairs, error) {
	lines := max(c.sides[old].rows.Rows(), c.sides[recent].rows.Rows())
	p := &pairs{span: c.Span}
	if p.span == 0 {
		p.span = max(usualSpan, lines/mostStreams+1)
	}
	p.byOld = spool.Streams[pair](c.Dir, int(lines/p.span)+1)
	var both [2][]entry
	for part := range parts {
		if err := ctx.Err(); err != nil {
			p.close()
			return nil, err
		}
		err := c.load(part, &both)
		if err == nil {
			err = c.matchPart(both[old], both[recent], p)
		}
		if err != nil {
			p.close()
			return nil, err
		}
	}
	return p, nil
}

// load brings a part of both files into memory, in the order of the keys.
func (c *comparison) load(part int, both *[2][]entry) error {
	for i, s := range c.sides {
		both[i] = both[i][:0]
		err := s.entries[part].Each(func(e *entry) error {
			both[i] = append(both[i], *e)
			return nil
		})
		if err != nil {
			return err
		}
		slices.SortFunc(both[i], func(a, b entry) int {
			return cmp.Or(compareHashes(a.Key, b.Key), compareHashes(a.Line, b.Line), cmp.Compare(a.Row, b.Row))
		})
	}
	return nil
}

// matchPart goes through a part key by key.
func (c *comparison) matchPart(before, after []entry, p *pairs) error {
	for len(before)+len(after) > 0 {
		least := before
		if len(before) == 0 || len(after) > 0 && compareHashes(after[0].Key, before[0].Key) < 0 {
			least = after
		}
		key := least[0].Key
		there, here := run(before, key), run(after, key)
		if err := c.matchKey(there, here, p); err != nil {
			return err
		}
		before, after = before[len(there):], after[len(here):]
	}
	return nil
}

// run is the entries at the start that have a key.
func run(all []entry, key keyindex.Hash) []entry {
	n := 0
	for n < len(all) && all[n].Key == key {
		n++
	}
	return all[:n]
}

// matchKey matches lines of one key, in the order of their hashes: those that are the same as a whole, then those that
// are left, if they are one in each file.
func (c *comparison) matchKey(before, after []entry, p *pairs) error {
	var went, came []entry
	for len(before)+len(after) > 0 {
		order := 1
		switch {
		case len(after) == 0:
			order = -1
		case len(before) > 0:
			order = compareHashes(before[0].Line, after[0].Line)
		}
		switch {
		case order < 0:
			went, before = append(went, before[0]), before[1:]
		case order > 0:
			came, after = append(came, after[0]), after[1:]
		default:
			c.made.Same++
			before, after = before[1:], after[1:]
		}
	}
	if len(went) == 1 && len(came) == 1 {
		c.made.Changed++
		a, b := went[0].Row, came[0].Row
		p.changed[old].Add(a)
		p.changed[recent].Add(b)
		return p.byOld[a/p.span].Append(pair{a, b})
	}
	c.made.Went += int64(len(went))
	c.made.Came += int64(len(came))
	if len(went) > 0 && len(came) > 0 {
		c.made.Repeated += int64(len(went) + len(came))
	}
	for _, e := range went {
		p.went.Add(e.Row)
	}
	for _, e := range came {
		p.came.Add(e.Row)
	}
	return nil
}

func compareHashes(a, b keyindex.Hash) int {
	return cmp.Or(cmp.Compare(a.Hi, b.Hi), cmp.Compare(a.Lo, b.Lo))
}
