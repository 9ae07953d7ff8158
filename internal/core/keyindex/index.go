// Package keyindex finds the rows of a table by their keys, without asking the database for each of them.
//
// A key is identified by its [Hash]; [Map] and [Set] are compact maps of hashes. An [Index] knows rows of a table by
// some of its columns: those that were there, which [Index.Fill] reads, and those that steps of a load add, change or
// set aside, which [Index.Put] tells. A small index is in memory; a large one is kept in parts by hash on disk, of
// which one is loaded at a time, so the questions to it are gathered by part first.
package keyindex

import (
	"context"
	"errors"
	"iter"
	"runtime"
	"slices"
	"sync"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Entry is what an index knows of a key.
type Entry struct {
	Ref     int64  // what the index yields for the row; see State for what it is otherwise
	Content uint64 // of a row that was there before: the ContentOf its Contents; 0 where that isn't known
	State   State
	New     bool // Ref is the number of a row that this load adds, whose id is not known yet
}

// State is how a key stands.
type State uint8

const (
	Absent   State = iota
	Left           // the row Ref had this key, and an earlier step gives it another
	SetAside       // a line with this key was set aside: Ref as the caller says
	Addable        // a row of a lookup table that may be added: Ref is its number
	Several        // more than one row
	Present        // one row that was there before
	Touched        // one row that an earlier step adds or changes
)

// One reports whether there is exactly one row.
func (e Entry) One() bool { return e.State >= Present }

// There reports whether there is a row, or several.
func (e Entry) There() bool { return e.State >= Several }

func (e Entry) sameRow(o Entry) bool { return e.Ref == o.Ref && e.New == o.New }

// merge adds e to what is known: a row that is there wins over one that isn't, two rows are several. A row that has
// left the key comes back only as one that was touched.
func (old *Entry) merge(e Entry) {
	switch {
	case old.State == Absent:
		*old = e
	case e.State == Left:
		if old.One() && old.sameRow(e) {
			*old = e
		}
	case old.State == Left && e.State == Present && old.sameRow(e):
	case old.One() && e.One() && !old.sameRow(e):
		old.State = Several
	case old.State == Present && e.State == Present && old.Content != e.Content:
		old.Content = 0 // of an index that yields nothing, these may be two rows
	case old.State < e.State && old.State != Several:
		*old = e
	}
}

// Options say what an index knows besides the columns by which it finds.
type Options struct {
	Yields string // the column whose value it yields; "" when only presence matters
	Blanks bool   // a blank is a value like others; else a row with one has no key
	Parts  int    // in how many parts it is kept; one is in memory
	Dir    string // for temporary files
}

// Index finds rows of a table by columns.
type Index struct {
	Table   *schema.Table
	Columns []string
	Options

	// Contents are the columns whose content it knows of the rows of the table; to be set before it is filled.
	Contents []string

	// Names are the names in it, where it has one text column, while there are fewer than MaxNames.
	Names []string

	parts []*Part
	whole bool          // all rows of the table are in it, not just those asked for
	wide  *value.Column // the values yielded, where they don't fit an entry
}

// MaxNames is the number of names up to which an index keeps them, to tell a near one.
const MaxNames = 2000

// Part is a part of an index.
type Part struct {
	entries Map[Entry]
	log     *spool.Stream[record] // all entries, of an index in several parts
}

type record struct {
	key   Hash
	entry Entry
}

// New returns an empty index.
func New(t *schema.Table, columns []string, o Options) *Index {
	x := &Index{Table: t, Columns: columns, Options: o}
	for range max(o.Parts, 1) {
		p := &Part{}
		if o.Parts > 1 {
			p.log = spool.NewStream[record](o.Dir)
		}
		x.parts = append(x.parts, p)
	}
	x.Yield(o.Yields)
	return x
}

// Yield sets the column whose value is yielded; to be called before the index knows a row.
func (x *Index) Yield(column string) {
	x.Yields = column
	c := x.Table.Column(column)
	if c == nil {
		return
	}
	if found := value.NewColumn(c.Type); found.Wide() {
		x.wide = &found
	}
}

// Wide reports whether what is yielded doesn't fit an entry, so that each Ref of a value is another one.
func (x *Index) Wide() bool { return x.wide != nil }

// InMemory reports whether the index is in memory as a whole, in one part.
func (x *Index) InMemory() bool { return len(x.parts) == 1 }

// PartCount is the number of parts.
func (x *Index) PartCount() int { return len(x.parts) }

// Put tells the index of a key.
func (x *Index) Put(h Hash, e Entry) error { return x.parts[h.Part(len(x.parts))].put(h, e) }

func (p *Part) put(h Hash, e Entry) error {
	if p.log != nil {
		return p.log.Append(record{h, e})
	}
	old, _ := p.entries.Insert(h)
	old.merge(e)
	return nil
}

// Get returns what a loaded part knows of a key.
func (p *Part) Get(h Hash) Entry {
	if e := p.entries.Find(h); e != nil {
		return *e
	}
	return Entry{}
}

// Put tells a loaded part of a key; it is also known when the part is loaded again.
func (p *Part) Put(h Hash, e Entry) error {
	old, _ := p.entries.Insert(h)
	old.merge(e)
	if p.log == nil {
		return nil
	}
	return p.log.Append(record{h, e})
}

// Load brings part i into memory, where it stays until Unload.
func (x *Index) Load(i int) (*Part, error) {
	p := x.parts[i]
	if p.log == nil {
		return p, nil
	}
	p.entries.Grow(p.log.Len())
	return p, p.log.Each(func(r *record) error {
		old, _ := p.entries.Insert(r.key)
		old.merge(r.entry)
		return nil
	})
}

// Unload takes a part out of memory, unless it is the only one.
func (p *Part) Unload() {
	if p.log != nil {
		p.entries.Clear()
	}
}

// Close frees the disk of the index.
func (x *Index) Close() error {
	var errs []error
	for _, p := range x.parts {
		if p.log != nil {
			errs = append(errs, p.log.Close())
		}
	}
	return errors.Join(errs...)
}

// fetched is the columns that are asked of the database: the key, then what it yields, then others of the contents.
func (x *Index) fetched() []string {
	all := slices.Clone(x.Columns)
	if x.Yields != "" {
		all = append(all, x.Yields)
	}
	for _, name := range x.Contents {
		if !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	return all
}

// probeShare is how many times more rows than keys a table must have before keys are looked up one by one in the
// database instead of reading all its rows.
const probeShare = 10

// Fill makes sure that the index knows the rows of its table: all of them, or, where keys has few for the size of the
// table, those with these. rows and keyRows are the sizes of both; keys gives batches of the index's columns.
func (x *Index) Fill(ctx context.Context, db engine.Reader, rows, keyRows int64,
	keys iter.Seq2[*value.Batch, error]) error {
	if x.whole {
		return nil
	}
	if x.TakesAll(rows, keyRows) {
		return x.FillAll(ctx, db)
	}
	for b, err := range keys {
		if err == nil {
			err = db.Probe(ctx, x.Table, x.Columns, b, x.fetched(), func(b *value.Batch) error { return x.take(ctx, db, b) })
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// TakesAll reports whether Fill takes all rows of a table, for keys of so many rows.
func (x *Index) TakesAll(rows, keyRows int64) bool {
	return !x.Table.Indexed(x.Columns) || rows <= keyRows*probeShare || x.Blanks
}

// FillAll makes sure that the index knows all rows of its table.
func (x *Index) FillAll(ctx context.Context, db engine.Reader) error {
	if x.whole {
		return nil
	}
	x.whole = true
	return db.Scan(ctx, x.Table, x.fetched(), func(b *value.Batch) error { return x.take(ctx, db, b) })
}

// take puts rows of the database into the index.
func (x *Index) take(ctx context.Context, db engine.Reader, b *value.Batch) error {
	keys, err := x.Hashes(ctx, db, value.Pointers(b.Columns[:len(x.Columns)]), nil)
	if err != nil {
		return err
	}
	named := len(x.Columns) == 1 && b.Columns[0].Kind == value.Text
	contents, buf := x.contents(b), []byte(nil)
	for i, key := range keys {
		if key.None() {
			continue // something in it is missing, or not of the column's type
		}
		ref, ok := int64(0), true
		if x.Yields != "" {
			ref, ok = x.Ref(&b.Columns[len(x.Columns)], i)
		}
		if !ok {
			continue
		}
		e := Entry{State: Present, Ref: ref}
		e.Content, buf = contentOf(contents, i, buf)
		if err := x.Put(key, e); err != nil {
			return err
		}
		if named && len(x.Names) < MaxNames {
			x.Names = append(x.Names, string(b.Columns[0].Bytes(i)))
		}
	}
	return nil
}

// contents are the columns of the Contents in a batch of what was fetched.
func (x *Index) contents(b *value.Batch) []*value.Column {
	fetched, all := x.fetched(), make([]*value.Column, len(x.Contents))
	for i, name := range x.Contents {
		all[i] = &b.Columns[slices.Index(fetched, name)]
	}
	return all
}

// contentOf is the content of a row, 0 where a cell is not of its column's type. It uses the memory of buf and returns it.
func contentOf(columns []*value.Column, row int, buf []byte) (uint64, []byte) {
	if len(columns) == 0 {
		return 0, buf
	}
	buf = buf[:0]
	for _, c := range columns {
		if c.States[row] == value.Bad {
			return 0, buf
		}
		buf = c.AppendIdentity(buf, row)
	}
	return ContentOf(buf), buf
}

// Ref is how an entry holds slot i of c, a column of the values that the index yields; not ok for one without a value.
func (x *Index) Ref(c *value.Column, i int) (ref int64, ok bool) {
	if c.States[i] != value.Given {
		return 0, false
	}
	if x.wide == nil {
		return c.Nums[i], true
	}
	x.wide.AppendFrom(c, i)
	return int64(x.wide.Len() - 1), true
}

// Append adds what the index yields for e, which is one row, to a column.
func (x *Index) Append(to *value.Column, e Entry) {
	switch {
	case e.New:
		to.AppendNew(e.Ref)
	case x.wide != nil:
		to.AppendFrom(x.wide, int(e.Ref))
	default:
		to.AppendNum(e.Ref)
	}
}

// Hashes returns the hash of each row of columns, values for those of the index, as their collations compare them; the
// zero Hash for a row without a key. It uses the memory of into.
func (x *Index) Hashes(ctx context.Context, db engine.Reader, columns []*value.Column, into []Hash) ([]Hash, error) {
	folded := make([]*value.Column, len(columns))
	for i, c := range columns {
		folded[i] = c
		if of := x.Table.Column(x.Columns[i]); c.Kind == value.Text && of != nil {
			f, err := db.Fold(ctx, of, c)
			if err != nil {
				return nil, err
			}
			folded[i] = f
		}
	}
	return hashes(folded, x.Blanks, into), nil
}

// fewRows is the number of rows for which it isn't worth while to share the work.
const fewRows = 1024

// hashes returns the hash of each row of columns; the zero Hash for one with a blank, unless blanks are values, or with
// a cell that could not be read. Many rows are shared among the processors.
func hashes(columns []*value.Column, blanks bool, into []Hash) []Hash {
	n := columns[0].Len()
	into = slices.Grow(into[:0], n)[:n]
	shares := max(1, min(runtime.GOMAXPROCS(0), n/fewRows))
	var wait sync.WaitGroup
	for i := 1; i < shares; i++ {
		wait.Go(func() { hashRows(columns, blanks, into, i*n/shares, (i+1)*n/shares) })
	}
	hashRows(columns, blanks, into, 0, n/shares)
	wait.Wait()
	return into
}

// hashRows puts the hashes of the rows from start to end into the places of all.
func hashRows(columns []*value.Column, blanks bool, all []Hash, start, end int) {
	var buf []byte
	for row := start; row < end; row++ {
		buf = buf[:0]
		whole := true
		for _, c := range columns {
			state := c.States[row]
			whole = whole && (state == value.Given || state == value.New || state == value.Null && blanks)
			buf = c.AppendIdentity(buf, row)
		}
		all[row] = Hash{}
		if whole {
			all[row] = HashOf(buf)
		}
	}
}

// HashesAsWritten returns the hash of each row of a column by its characters alone, whatever the collation of a table.
func HashesAsWritten(c *value.Column, into []Hash) []Hash {
	return hashes([]*value.Column{c}, false, into)
}
