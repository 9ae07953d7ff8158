package script

import (
	"context"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// unwritten is the transaction of a script that is not rehearsed: rows are written down, and nowhere else.
type unwritten struct{ engine.Tx }

func (unwritten) Insert(context.Context, *schema.Table, []string, *value.Batch) ([]engine.Rejection, error) {
	return nil, nil
}

func (unwritten) Update(context.Context, *schema.Table, []string, []string, *value.Batch) ([]engine.Rejection, error) {
	return nil, nil
}

func (unwritten) Remove(_ context.Context, _ *schema.Table, _ []string, keys *value.Batch) (int64, error) {
	return int64(keys.Len()), nil
}

// grows is by how many rows the script makes t longer, as it was judged.
func (s *Script) grows(t *schema.Table) (n int64) {
	for _, g := range s.judgement.Growths {
		if g.Table == t {
			n += int64(len(g.Rows))
		}
	}
	for _, step := range s.judgement.Steps {
		if step.Table == t {
			n += step.Tally.Added - step.Gone.Removed()
		}
	}
	return n
}

// worse is the comparison of what is wrong when the script has run with what was: where it was not rehearsed, it is compared
// with what was wrong before, of which the script may put something right.
func (s *Script) worse() string {
	if s.Unrehearsed {
		return ">"
	}
	return "<>"
}
