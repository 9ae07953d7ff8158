package logbook

import (
	"context"
	"fmt"
	"slices"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// named is a row that is named among the problems of a Since.
type named struct {
	problem int // its number
	table   *schema.Table
	by      []string
	key     string // its identity by these columns
}

// blame says of the rows that are named which later runs have changed or removed them.
func (b *Book) blame(ctx context.Context, since *Since) error {
	if len(since.named) == 0 {
		return nil
	}
	all, err := List(ctx, b.DB)
	if err != nil {
		return err
	}
	own := slices.IndexFunc(all, func(r *Run) bool { return r.Token == b.token })
	if own < 0 {
		return nil
	}
	for _, r := range slices.Backward(all[:own]) { // the newest stands first
		if r.UndoneBy != 0 {
			continue
		}
		if err := b.blameRun(ctx, since, r); err != nil {
			return err
		}
	}
	return nil
}

// blameRun looks for the rows that are named among those that a later run changed or removed.
func (b *Book) blameRun(ctx context.Context, since *Since, r *Run) error {
	later, err := chunks(ctx, b.DB, r.Token)
	if err != nil {
		return err
	}
	blamed := map[int]bool{}
	for _, c := range later {
		about := slices.DeleteFunc(slices.Clone(since.named), func(n named) bool {
			return blamed[n.problem] || n.table.Name != c.Table || !slices.Equal(n.by, c.By)
		})
		if len(about) == 0 || c.What != Changed && c.What != Removed {
			continue
		}
		full, err := c.load(ctx, b.DB, r.Token)
		if err != nil {
			return err
		}
		err = full.each(about[0].table, func(_ int, rows *value.Batch) error {
			keys := rows.Columns[:len(c.By)]
			for row := range rows.Len() {
				key := value.Identity(keys, row)
				for _, n := range about {
					if n.key == key && !blamed[n.problem] {
						blamed[n.problem] = true
						since.Problems[n.problem] += fmt.Sprintf(", by run %d", r.ID)
					}
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
