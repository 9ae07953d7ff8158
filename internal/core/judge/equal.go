package judge

import (
	"context"

	"ladle/internal/core/engine"
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

// Pairs holds the lines that a step without a key adds against the rows that are there: each row stands for one line
// with the same values. It gives alone the positions of the lines that no row stands for, and returns how many have one,
// and how many rows stand for none. It goes part by part, each with as many rows as fit into memory.
func (j *Judgement) Pairs(ctx context.Context, db engine.Reader, s *Step, alone func(position int64) error) (same,
	extra int64, err error) {
	if j.Before[s.Table].Rows <= mostInPart {
		return pairFew(ctx, db, s, alone)
	}
	parts := int(max(s.Tally.Read, j.Before[s.Table].Rows)/mostInPart) + 1
	asked, there := spool.Streams[rowPosition]("", parts), spool.Streams[keyindex.Hash]("", parts)
	defer closeAll(asked)
	defer closeAll(there)
	lines := s.Lines(ctx)
	for lines.Next() {
		for i := range lines.Len() {
			if lines.Verdict(i) != Added {
				continue
			}
			h := keyindex.HashRow(lines.Values(), i)
			if err := asked[h.Part(parts)].Append(rowPosition{h, lines.Position(i)}); err != nil {
				return 0, 0, err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return 0, 0, err
	}
	err = hashes(ctx, db, s.Table, s.Names(), func(h keyindex.Hash) error { return there[h.Part(parts)].Append(h) })
	for i := 0; i < parts && err == nil; i++ {
		var n, left int64
		n, left, err = pair(asked[i], there[i], alone)
		same, extra = same+n, extra+left
	}
	return same, extra, err
}

// pairFew is Pairs for few rows: they are kept in memory, and the lines are held against them as they come.
func pairFew(ctx context.Context, db engine.Reader, s *Step, alone func(int64) error) (same, extra int64, err error) {
	var counts keyindex.Map[int64]
	err = hashes(ctx, db, s.Table, s.Names(), func(h keyindex.Hash) error {
		n, _ := counts.Insert(h)
		*n++
		extra++
		return nil
	})
	if err != nil {
		return 0, 0, err
	}
	lines := s.Lines(ctx)
	for lines.Next() {
		for i := range lines.Len() {
			if lines.Verdict(i) != Added {
				continue
			}
			if n := counts.Find(keyindex.HashRow(lines.Values(), i)); n != nil && *n > 0 {
				*n--
				same++
				extra--
			} else if err := alone(lines.Position(i)); err != nil {
				return 0, 0, err
			}
		}
	}
	return same, extra, lines.Err()
}

// hashes gives take the hash of each row of a table.
func hashes(ctx context.Context, db engine.Reader, t *schema.Table, columns []string,
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

// pair finds a row of the table for each line of a part.
func pair(asked *spool.Stream[rowPosition], there *spool.Stream[keyindex.Hash], alone func(int64) error) (same,
	extra int64, err error) {
	var counts keyindex.Map[int64]
	err = there.Each(func(h *keyindex.Hash) error {
		n, _ := counts.Insert(*h)
		*n++
		extra++
		return nil
	})
	if err != nil {
		return 0, 0, err
	}
	err = asked.Each(func(p *rowPosition) error {
		if n := counts.Find(p.row); n != nil && *n > 0 {
			*n--
			same++
			extra--
			return nil
		}
		return alone(p.position)
	})
	return same, extra, err
}
