package load

import (
	"context"
	"errors"
	"io"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// entry is what an index knows of a key.
type entry struct {
	state entryState
	ref   int64 // what the index yields: see index.ref; for isAside the number of the feed and, in feedBits, the position
}

const feedBits = 52

type entryState uint8

const (
	absent  entryState = iota
	left               // the row ref had this key, and an earlier step gives it another
	isAside            // a row with this key was set aside
	fresh              // a row of the lookup that a find may add; ref is its number among the index's names
	several            // more than one row
	present            // one row that was there before
	touched            // one row that an earlier step adds or updates
)

// one tells whether there is one row.
func (e entry) one() bool { return e.state >= present }

// there tells whether there is a row, or several.
func (e entry) there() bool { return e.state >= several }

// index finds rows of a table by columns: those that were there before and those that steps add.
// A small one is in memory; a large one is kept in parts by hash, one of them in memory at a time.
type index struct {
	table   *schema.Table
	columns []string
	yields  string // the column whose value is found; "" when only presence matters
	blanks  bool   // a blank is a value like others; else a row with one has no key
	old     *oldIDs

	parts []*indexPart
	whole bool          // all rows of the table are in it, not just those asked for
	wide  *value.Column // the values found, where they don't fit an entry

	names []string // the names in it, while they are few
}

type indexPart struct {
	keySet
	entries []entry
	log     *spool.Stream // all entries, of an index in parts: hash, state, ref
}

func newIndex(t *schema.Table, columns []string, yields string, parts int, dir string) *index {
	x := &index{table: t, columns: columns}
	for range parts {
		p := &indexPart{}
		p.grow = func(slots int, moved func(func(from, to int))) {
			old := p.entries
			p.entries = make([]entry, slots)
			moved(func(from, to int) { p.entries[to] = old[from] })
		}
		if parts > 1 {
			p.log = spool.NewStream(dir, 4)
		}
		x.parts = append(x.parts, p)
	}
	x.yield(yields)
	return x
}

// yield sets the column whose value is found.
func (x *index) yield(column string) {
	x.yields = column
	c := x.table.Column(column)
	if c == nil {
		return
	}
	if found := value.NewColumn(c.Type); found.Wide() {
		x.wide = &found
	}
}

// resident tells whether the index is in memory as a whole.
func (x *index) resident() bool { return len(x.parts) == 1 }

func (x *index) part(h hash) *indexPart { return x.parts[h.part(len(x.parts))] }

// put tells the index of a key.
func (x *index) put(h hash, e entry) error {
	p := x.part(h)
	if p.log != nil {
		return p.log.Append(h.hi, h.lo, uint64(e.state), uint64(e.ref))
	}
	p.put(h, e)
	return nil
}

// put merges e with what is known of h: a row that is there wins over one that isn't, two rows are several. A row that
// has left the key comes back only as one that was touched.
func (p *indexPart) put(h hash, e entry) {
	slot, found := p.insert(h)
	old := &p.entries[slot]
	switch {
	case !found:
		*old = e
	case e.state == left:
		if old.one() && old.ref == e.ref {
			*old = e
		}
	case old.state == left && e.state == present && old.ref == e.ref:
	case old.one() && e.one() && old.ref != e.ref:
		old.state = several
	case old.state < e.state && old.state != several:
		*old = e
	}
}

func (p *indexPart) get(h hash) entry {
	if slot, found := p.find(h); found {
		return p.entries[slot]
	}
	return entry{}
}

// load brings part i of an index in parts into memory; unload takes it out again.
func (x *index) load(i int) error {
	p := x.parts[i]
	if p.log == nil {
		return nil
	}
	p.room(p.log.Len())
	return eachRecord(p.log, func(w []uint64) error {
		p.put(hash{w[0], w[1]}, entry{entryState(w[2]), int64(w[3])})
		return nil
	})
}

func (x *index) unload(i int) {
	if p := x.parts[i]; p.log != nil {
		p.slots, p.entries, p.used = nil, nil, 0
	}
}

func eachRecord(s *spool.Stream, take func([]uint64) error) error {
	r, err := s.Reader()
	if err != nil {
		return err
	}
	for {
		w, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = take(w)
		}
		if err != nil {
			return err
		}
	}
}

func (x *index) close() error {
	var errs []error
	for _, p := range x.parts {
		if p.log != nil {
			errs = append(errs, p.log.Close())
		}
	}
	return errors.Join(errs...)
}

// fetched is the columns that are asked of the database: the key, then what it yields.
func (x *index) fetched() []string {
	if x.yields == "" {
		return x.columns
	}
	return append(slices.Clone(x.columns), x.yields)
}

// probeShare says how many times more rows than keys a table must have before keys are looked up one by one in the
// database instead of reading all its rows.
const probeShare = 10

// fill makes sure that the index knows the rows that are in the table already: all of them, or, where the file has
// few keys for the size of the table, those that keys gives.
func (x *index) fill(ctx context.Context, db engine.Reader, rows, keyRows int64, keys func(take func(*value.Batch) error) error) error {
	if x.whole {
		return nil
	}
	take := func(b *value.Batch) error { return x.take(ctx, db, b) }
	if x.table.Indexed(x.columns) && rows > keyRows*probeShare && !x.blanks {
		return keys(func(b *value.Batch) error {
			return db.Probe(ctx, x.table, x.columns, b, x.fetched(), take)
		})
	}
	x.whole = true
	return db.Scan(ctx, x.table, x.fetched(), take)
}

// nameCount is the number of names up to which an index keeps them, to tell a near one.
const nameCount = 2000

// take puts rows of the database into the index.
func (x *index) take(ctx context.Context, db engine.Reader, b *value.Batch) error {
	keys, err := x.hashes(ctx, db, value.Pointers(b.Columns[:len(x.columns)]), nil)
	if err != nil {
		return err
	}
	named := len(x.columns) == 1 && b.Columns[0].Kind == value.Text
	for i, key := range keys {
		if key.hi == 0 {
			continue // no key: something in it is missing, or not of the column's type
		}
		ref, ok := int64(0), true
		if x.yields != "" {
			ref, ok = x.ref(&b.Columns[len(x.columns)], i)
		}
		if !ok {
			continue
		}
		if err := x.put(key, entry{present, ref}); err != nil {
			return err
		}
		if named && len(x.names) < nameCount {
			x.names = append(x.names, string(b.Columns[0].Bytes(i)))
		}
	}
	return nil
}

// ref is how an entry holds slot i of c, a column of the values that the index yields.
func (x *index) ref(c *value.Column, i int) (int64, bool) {
	if c.States[i] != value.Given {
		return 0, false
	}
	if x.wide == nil {
		return c.Nums[i], true
	}
	x.wide.AppendFrom(c, i)
	return int64(x.wide.Len() - 1), true
}

// hashes gives the hash of each row of columns, values for those of the index, as its collations compare them; one with
// hi 0 for a row without a key. It uses the memory of into.
func (x *index) hashes(ctx context.Context, db engine.Reader, columns []*value.Column, into []hash) ([]hash, error) {
	folded := make([]*value.Column, len(columns))
	for i, c := range columns {
		folded[i] = c
		if of := x.table.Column(x.columns[i]); c.Kind == value.Text && of != nil && x.old == nil {
			f, err := db.Fold(ctx, of, c)
			if err != nil {
				return nil, err
			}
			folded[i] = f
		}
	}
	into = into[:0]
	var room []byte
	for row := range columns[0].Len() {
		room = room[:0]
		whole := true
		for _, c := range folded {
			state := c.States[row]
			whole = whole && (state == value.Given || state == value.New || state == value.Null && x.blanks)
			room = c.AppendIdentity(room, row)
		}
		if !whole {
			into = append(into, hash{})
			continue
		}
		into = append(into, hashOf(room))
	}
	return into, nil
}
