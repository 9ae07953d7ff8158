package check

import (
	"context"
	"fmt"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// Earlier is what was found in tables before anything was written.
type Earlier struct {
	orphans map[*schema.Table][]string     // warnings of rows that refer to nothing
	prints  map[*schema.Table]*fingerprint // of the tables that get rows which nothing will tell apart
	holds   map[*schema.Table]bool         // whether the rows of such a table are those that they must be now
}

func newEarlier() *Earlier {
	return &Earlier{map[*schema.Table][]string{}, map[*schema.Table]*fingerprint{}, map[*schema.Table]bool{}}
}

func (e *Earlier) warnings(t *schema.Table) []string {
	if e == nil {
		return nil
	}
	return e.orphans[t]
}

func (e *Earlier) print(t *schema.Table) *fingerprint {
	if e == nil {
		return nil
	}
	return e.prints[t]
}

// olderRows is the number of rows up to which a table is searched for orphans that were there before.
const olderRows = 100_000

// LookBefore looks at the tables that are about to grow, before anything is written: it counts the rows that refer to
// nothing, unless the tables are large, and reads those whose new rows nothing will tell apart.
func LookBefore(ctx context.Context, tx engine.Reader, in Input) (*Earlier, error) {
	e := newEarlier()
	for _, w := range in.Work {
		if w.Added == 0 {
			continue
		}
		if in.Before[w.Table].Rows <= olderRows && e.orphans[w.Table] == nil {
			if err := e.countOrphans(ctx, tx, w); err != nil {
				return nil, err
			}
		}
	}
	return e, e.printAll(ctx, tx, in)
}

// countOrphans adds a warning for each relation by which rows refer to nothing.
func (e *Earlier) countOrphans(ctx context.Context, tx engine.Reader, w Work) error {
	for _, r := range w.Points {
		n, err := tx.Orphans(ctx, w.Table, r)
		if err != nil {
			return err
		}
		if n > 0 {
			e.orphans[w.Table] = append(e.orphans[w.Table], fmt.Sprintf("%s that existed before %s to no row of %s "+
				"(%s)",
				reason.Plural(n, "row"), reason.Verb(n, "refers", "refer"), r.Parent, strings.Join(r.Columns, ", ")))
		}
	}
	return nil
}
