package verify

import (
	"context"

	"ladle/internal/core/changes"
	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// rowPosition is a row by its hash, and where its line stands.
type rowPosition struct {
	row      keyindex.Hash
	position int64
}

// mostInPart is the number of rows that are held against each other at a time.
const mostInPart = 1 << 18

// pairs holds rows that nothing tells apart against those of the table: for each line of the file there must be a row
// with the same values. It goes part by part, each with as many rows as fit into memory.
func (c *comparison) pairs(ctx context.Context) error {
	s := c.step
	c.made.Tally.Same, c.made.Tally.Missing, c.made.Tally.Extra = 0, 0, new(int64)
	parts := int(max(s.Tally.Read, c.judgement.Before[s.Table].Rows)/mostInPart) + 1
	asked, there := spool.Streams[rowPosition]("", parts), spool.Streams[keyindex.Hash]("", parts)
	defer func() {
		for i := range parts {
			asked[i].Close()
			there[i].Close()
		}
	}()
	lines := s.Lines(ctx)
	for lines.Next() {
		for i := range lines.Len() {
			if lines.Verdict(i) != judge.Added {
				continue
			}
			h := keyindex.HashRow(lines.Values(), i)
			if err := asked[h.Part(parts)].Append(rowPosition{h, lines.Position(i)}); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	err := scan(ctx, c.db, s.Table, s.Names(), func(h keyindex.Hash) error { return there[h.Part(parts)].Append(h) })
	for i := 0; i < parts && err == nil; i++ {
		err = c.pair(asked[i], there[i])
	}
	return err
}

func scan(ctx context.Context, db engine.Reader, t *schema.Table, columns []string,
	take func(keyindex.Hash) error) error {
	return db.Scan(ctx, t, columns, func(b *value.Batch) error {
		all := value.Pointers(b.Columns)
		for row := range b.Len() {
			if err := take(keyindex.HashRow(all, row)); err != nil {
				return err
			}
		}
		return nil
	})
}

// pair finds a row of the table for each line of the file.
func (c *comparison) pair(asked *spool.Stream[rowPosition], there *spool.Stream[keyindex.Hash]) error {
	var counts keyindex.Map[int64]
	err := there.Each(func(h *keyindex.Hash) error {
		n, _ := counts.Insert(*h)
		*n++
		*c.made.Tally.Extra++
		return nil
	})
	if err != nil {
		return err
	}
	return asked.Each(func(p *rowPosition) error {
		if n := counts.Find(p.row); n != nil && *n > 0 {
			*n--
			c.made.Tally.Same++
			*c.made.Tally.Extra--
			return nil
		}
		c.made.Tally.Missing++
		at := c.in.Place(c.step.Feed.Number, p.position)
		if len(c.made.Missed) < mostNamed {
			c.made.Missed = append(c.made.Missed, at.Within())
		}
		return c.tell(changes.Record{What: changes.Missing, File: at.File, Line: at.Line})
	})
}
