package check

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// removed asks whether rows that were removed are still there.
func (in *Input) removed(ctx context.Context, tx engine.Tx, r Removal) (Result, error) {
	if r.By == nil {
		return in.removedEqual(ctx, tx, r)
	}
	left, by := int64(0), strings.Join(r.By, ", ")
	result := Result{Check: "removed", Table: r.Table.Name, Says: reason.Plural(r.Rows, "row") +
		" removed, and none of them exists", Short: reason.Count(r.Rows), counted: counted{known: true, cells: r.Rows}}
	there := func(b *value.Batch) error {
		left += int64(b.Len())
		for row := 0; row < b.Len() && len(result.Problems) < mostProblems; row++ {
			result.Problems = append(result.Problems, describe(r.By, b.Columns, row)+" still exists")
		}
		return nil
	}
	vacant, err := r.vacant(ctx, tx)
	if err == nil && !vacant {
		err = r.Keys(func(keys *value.Batch) error {
			if first, last, run := engine.Run(r.Table, r.By, keys); run {
				return tx.Between(ctx, r.Table, r.By[0], first, last, r.By, there)
			}
			return tx.Probe(ctx, r.Table, r.By, keys, r.By, there)
		})
	}
	if result.OK = left == 0; !result.OK {
		result.Says = fmt.Sprintf("%s of the %s (by %s) still exist", reason.Count(left), reason.Plural(r.Rows,
			"removed row"), by)
	}
	return result, err
}

// stretch is a part of an index, by the whole numbers with which keys start.
type stretch struct{ least, most int64 }

// vacant reports whether there is no row at all around the keys of those that were removed, as after most removals; false
// where that can't be told without looking for each. The stretches of the index that are asked for are as long as they can
// be, since a server may pass over all rows that the transaction has removed each time it is asked.
func (r Removal) vacant(ctx context.Context, tx engine.Tx) (bool, error) {
	if r.By[0] != r.Table.Locator && !r.Table.Indexed(r.By[:1]) {
		return false, nil
	}
	var all []stretch
	near := true
	err := r.Keys(func(keys *value.Batch) error {
		first := &keys.Columns[0]
		least, most, are := engine.Together(first)
		near = near && are && !slices.ContainsFunc(first.States, func(s value.State) bool { return s != value.Given })
		all = append(all, stretch{least, most})
		return nil
	})
	if err != nil || !near {
		return false, err
	}
	rows := 0
	for _, s := range joined(all) {
		err := tx.Between(ctx, r.Table, r.By[0], s.least, s.most, r.By[:1], func(b *value.Batch) error {
			rows += b.Len()
			return nil
		})
		if err != nil || rows > 0 {
			return false, err
		}
	}
	return true, nil
}

// joined makes one of stretches that overlap or follow each other.
func joined(all []stretch) (longer []stretch) {
	slices.SortFunc(all, func(a, b stretch) int { return cmp.Compare(a.least, b.least) })
	for _, s := range all {
		if n := len(longer); n > 0 && s.least-1 <= longer[n-1].most {
			longer[n-1].most = max(longer[n-1].most, s.most)
			continue
		}
		longer = append(longer, s)
	}
	return longer
}
