package load

import (
	"context"
	"slices"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/write"
)

// trust tells the transaction which relations are followed before the commit. A careful one follows them itself, so that it
// finds the rows to which something else gives other parents than they were sent with.
func (r *run) trust(ctx context.Context, tx engine.Tx, w *write.Writer, careful bool) error {
	t, able := tx.(engine.Truster)
	r.trusted = false
	if !able || careful {
		return nil
	}
	in := w.Proof(ctx)
	in.Level = r.Level
	r.trusted = true
	return t.Trust(ctx, in.Followed())
}

// mistrusts is engine.ErrCareful where added rows refer to rows that do not exist, and the database may not have looked for them.
func (r *run) mistrusts(results []check.Result) error {
	if r.trusted && slices.ContainsFunc(results, func(c check.Result) bool { return c.Check == "relations" && !c.OK }) {
		r.trusted = false
		return engine.ErrCareful
	}
	return nil
}
