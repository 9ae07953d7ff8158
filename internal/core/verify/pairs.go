package verify

import (
	"context"

	"ladle/internal/core/changes"
)

// pairs holds rows that nothing tells apart against those of the table: for each line of the file there must be a row
// with the same values.
func (c *comparison) pairs(ctx context.Context) error {
	tally := &c.made.Tally
	tally.Missing = 0
	same, extra, err := c.judgement.Pairs(ctx, c.db, c.step, func(position int64) error {
		tally.Missing++
		at := c.in.Place(c.step.Feed.Number, position)
		if len(c.made.Missed) < mostNamed {
			c.made.Missed = append(c.made.Missed, at.Within())
		}
		return c.tell(changes.Record{What: changes.Missing, File: at.File, Line: at.Line})
	})
	tally.Same, tally.Extra = same, &extra
	return err
}
