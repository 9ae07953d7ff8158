package compare

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"

	"ladle/internal/core/keyindex"
	"ladle/internal/core/spool"
)

// The number of lines of each file that are looked at together, and of those without a match that wait for one further
// down. Deliveries mostly have their lines in the same order; where they don't, lines are matched by their keys.
const (
	window  = 1 << 15
	waiting = 2 // windows
)

// lineHash is a line and its hash.
type lineHash struct {
	hash keyindex.Hash
	row  int64
}

// ahead are lines of a file without a match.
type ahead struct {
	from  *spool.StreamReader[keyindex.Hash]
	next  int64
	lines []lineHash
	apart *spool.RowSet
}

// matchSame matches lines that are the same as a whole and stand about as far from the start of both files.
func (c *comparison) matchSame(ctx context.Context) error {
	var both [2]ahead
	for i, s := range c.sides {
		from, err := s.hashes.Reader()
		if err != nil {
			return err
		}
		both[i] = ahead{from: from, apart: &s.apart}
	}
	size := cmp.Or(c.Span, window)
	for more := true; more; {
		if err := ctx.Err(); err != nil {
			return err
		}
		more = false
		for i := range both {
			goesOn, err := both[i].read(size)
			if err != nil {
				return err
			}
			more = more || goesOn
		}
		c.made.Same += takeSame(&both[old], &both[recent])
		for i := range both {
			if !more || int64(len(both[i].lines)) > waiting*size {
				both[i].giveUp()
			}
		}
	}
	return nil
}

// read takes the next lines. It reports whether there are more.
func (a *ahead) read(size int64) (more bool, err error) {
	for range size {
		h, err := a.from.Next()
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		a.lines = append(a.lines, lineHash{*h, a.next})
		a.next++
	}
	return true, nil
}

// giveUp says that the lines have no match here.
func (a *ahead) giveUp() {
	for _, l := range a.lines {
		a.apart.Add(l.row)
	}
	a.lines = a.lines[:0]
}

// takeSame takes lines that are the same out of both, and returns their number: those at the same place first, which
// costs next to nothing.
func takeSame(before, after *ahead) (same int64) {
	n := 0
	least := min(len(before.lines), len(after.lines))
	for i := range least {
		if before.lines[i].hash == after.lines[i].hash {
			same++
			continue
		}
		before.lines[n], after.lines[n] = before.lines[i], after.lines[i]
		n++
	}
	before.lines = slices.Delete(before.lines, n, least)
	after.lines = slices.Delete(after.lines, n, least)
	if n == 0 && min(len(before.lines), len(after.lines)) == 0 {
		return same
	}
	there := keyindex.Map[int32]{} // how often a line has no match
	there.Grow(int64(len(before.lines)))
	for _, l := range before.lines {
		n, _ := there.Insert(l.hash)
		*n++
	}
	left := after.lines[:0]
	for _, l := range after.lines {
		n := there.Find(l.hash)
		if n == nil || *n == 0 {
			left = append(left, l)
			continue
		}
		*n--
		same++
	}
	after.lines = left
	left = before.lines[:0]
	for _, l := range before.lines {
		if n := there.Find(l.hash); *n > 0 {
			*n--
			left = append(left, l)
		}
	}
	before.lines = left
	return same
}
