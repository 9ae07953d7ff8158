package check

import (
	"context"

	"ladle/internal/core/engine"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// fills reports whether w is all that is in its table now: it was empty, and nothing else was done with it.
func (in *Input) fills(w Work) bool {
	before, known := in.Before[w.Table]
	if !known || !before.Exact || before.Rows > 0 || w.Updated > 0 || len(w.Excused) > 0 || !in.alone(w) {
		return false
	}
	for _, r := range in.Removed {
		if r.Table == w.Table && r.Rows > 0 {
			return false
		}
	}
	return true
}

// scanned proves rows that fill a table by reading all of it once, in any order: the number of rows and the sum of their
// hashes must be those of what was sent. Where they aren't, the rows are read back one by one, which names the cells.
// What asks the database again waits, on disk, until all is read: the connection does one thing at a time.
func scanned(ctx context.Context, tx engine.Tx, w Work) (cells, relations Result, err error) {
	var want, is fingerprint
	err = w.Sent(func(sent *value.Batch) error {
		want.add(sent)
		return nil
	})
	if err != nil {
		return cells, relations, err
	}
	r := newReader(tx, w)
	sent := len(w.By) + len(w.Columns)
	waiting := spool.New("", engine.Types(w.Table, r.names))
	defer waiting.Close()
	err = tx.Scan(ctx, w.Table, r.names, func(b *value.Batch) error {
		is.add(&value.Batch{Columns: b.Columns[:sent]})
		r.cells += int64(b.Len() * len(w.Columns))
		r.addUp(b)
		if r.See == nil && len(r.points) == 0 {
			return nil
		}
		return waiting.Append(b)
	})
	if err != nil {
		return cells, relations, err
	}
	if !is.same(&want) {
		return readBack(ctx, tx, w)
	}
	err = waiting.Each(func(b *value.Batch) error {
		if err := r.show(b); err != nil {
			return err
		}
		return r.follow(ctx, b)
	})
	if err != nil {
		return cells, relations, err
	}
	relations, err = r.relations(ctx)
	return r.result(), relations, err
}
