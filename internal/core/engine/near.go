package engine

import (
	"context"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// sparse is how many times more numbers than keys there may be in a part of an index that is read to find the rows with the
// keys: looking a key up takes about as long as reading so many rows.
const sparse = 4

// Near reads rows with keys that start with whole numbers close together as one part of an index, since looking each of them
// up takes longer. The zero Near is ready; it stops doing so where one such part had too many rows.
type Near struct{ crowded bool }

// Read puts the rows of t with these keys into into, and others from among them. It reports false, with nothing read, where
// the keys are not close together. Keys are those of Reader.Probe.
func (n *Near) Read(ctx context.Context, db Reader, t *schema.Table, by []string, keys *value.Batch, columns []string,
	into *value.Batch) (read bool, err error) {
	if n.crowded || by[0] != t.Locator && !t.Indexed(by[:1]) {
		return false, nil
	}
	least, most, near := Together(&keys.Columns[0])
	if !near {
		return false, nil
	}
	take, rows, room := Collect(into, t, columns), 0, 2*sparse*keys.Len()
	err = db.Between(ctx, t, by[0], least, most, columns, func(b *value.Batch) error {
		if rows += b.Len(); rows > room {
			return nil
		}
		return take(b)
	})
	n.crowded = rows > room
	return !n.crowded, err
}

// Whole reports whether the rows of t with these keys, each of another one, are all of those whose first column of the key is
// from least to most: then they can be named by that.
func (n *Near) Whole(ctx context.Context, db Reader, t *schema.Table, by []string, keys *value.Batch) (least, most int64, whole bool,
	err error) {
	var there value.Batch
	if whole, err = n.Read(ctx, db, t, by, keys, by, &there); !whole || err != nil || there.Len() != keys.Len() {
		return 0, 0, false, err
	}
	known := make(map[string]bool, keys.Len())
	for row := range keys.Len() {
		known[value.Identity(keys.Columns, row)] = true
	}
	for row := range there.Len() {
		whole = whole && known[value.Identity(there.Columns, row)]
	}
	least, most, _ = Together(&keys.Columns[0])
	return least, most, whole, nil
}

// Together is the least and the greatest of whole numbers, where they are near each other.
func Together(c *value.Column) (least, most int64, near bool) {
	if c.Kind != value.Int {
		return 0, 0, false
	}
	count := uint64(0)
	for i, number := range c.Nums {
		if c.States[i] != value.Given {
			continue
		}
		if count++; count == 1 {
			least, most = number, number
		}
		least, most = min(least, number), max(most, number)
	}
	return least, most, count > 0 && uint64(most)-uint64(least) < sparse*count
}
