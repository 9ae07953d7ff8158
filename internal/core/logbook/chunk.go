package logbook

import (
	"bytes"
	"cmp"
	"compress/flate"
	"context"
	"encoding/binary"
	"encoding/json"
	"iter"
	"slices"

	"github.com/cespare/xxhash/v2"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Action is what a run did with rows.
type Action string

const (
	Added   Action = "added"   // the rows are new; their hashes tell whether they were changed since
	Changed Action = "changed" // the rows were updated; the same
	Was     Action = "was"     // what cells held that were then updated
	Removed Action = "removed" // what rows held that were then removed
	Aside   Action = "aside"   // lines of an input that were set aside, by their numbers; nothing is taken back of them

	MadeTable Action = "made" // a table that the run made, as a Made in place of rows

	// of a run in parts, see Part
	Done     Action = "done"      // lines of a step that need not be looked at again, by their numbers
	OnePart  Action = "part"      // a Part, in place of rows
	LastPart Action = "last part" // the Part that ends the run
)

// ofRows reports whether a chunk is about rows of a table.
func (c *Chunk) ofRows() bool {
	return slices.Contains([]Action{Added, Changed, Was, Removed}, c.What)
}

// Chunk is rows with which a run did the same. They are identified by the columns By: as the run of numbers that begins with
// First, or by Data, which holds them, and behind them the values of Columns that were there before. Where By is empty,
// nothing tells the rows of the table apart, and Data holds them whole.
type Chunk struct {
	Turn    int // the place of what was done in the order of writing: what came later is taken back first
	What    Action
	Table   string
	By      []string
	Columns []string // those that Hashes stands for, or those whose values Data holds
	First   int64
	Rows    int64
	Data    []byte // RFC 1951, of rows as JSON arrays (RFC 8259), a line each; empty for a run of numbers
	Hashes  []byte // hashBytes a row
	place   int64
}

// Equal reports whether rows of the chunk may be equal: there are as many of each as it says.
func (c *Chunk) Equal() bool { return len(c.By) == 0 && len(c.Columns) > 0 }

// Run reports whether the chunk is about the run of numbers that begins with First.
func (c *Chunk) Run() bool { return c.First != 0 && len(c.By) == 1 }

// hashBytes is the length of the hash of a row: the first bytes of its XXH64, a hash for telling changes that nobody
// hides (xxhash.com, specification 0.2.0). That of a changed row is the same by chance once in 2^40 times.
const hashBytes = 5

// appendHash adds the hash of a row of columns.
func appendHash(to []byte, columns []*value.Column, row int, buf *[]byte) []byte {
	*buf = (*buf)[:0]
	for _, c := range columns {
		*buf = c.AppendIdentity(*buf, row)
	}
	var sum [8]byte
	binary.BigEndian.PutUint64(sum[:], xxhash.Sum64(*buf))
	return append(to, sum[:hashBytes]...)
}

const (
	mostRows  = 65_536  // of a chunk
	mostBytes = 1 << 20 // of the rows of a chunk, before they are compressed
	mostWait  = 4 << 20 // of chunks that wait to be written
)

// Writer writes chunks into the logbook, in the transaction of the rows.
type Writer struct {
	tx      engine.Tx
	token   string
	chunk   *Chunk // the one that grows
	data    []byte // its data, uncompressed
	waiting *rows
	size    int
	place   int64
	deflate *flate.Writer
	buf     []byte
	turns   int // come before its first one
}

// NewWriter returns a writer for the run with a token.
func NewWriter(tx engine.Tx, token string) *Writer {
	return &Writer{tx: tx, token: token, waiting: newRows(spans)}
}

// Changing keeps what rows hold that are about to be updated.
func (w *Writer) Changing(ctx context.Context, turn int, t *schema.Table, by, columns []string,
	batch *value.Batch) error {
	return w.rows(ctx, turn, Was, t, by, columns, batch)
}

// Emptying keeps the cells of a column that are about to be made NULL.
func (w *Writer) Emptying(ctx context.Context, turn int, t *schema.Table, by []string, column string,
	keys *value.Batch) error {
	return w.found(ctx, turn, Was, t, by, []string{column}, keys)
}

// Removing keeps what rows hold that are about to be removed. Where by is nil, keys are the whole rows.
func (w *Writer) Removing(ctx context.Context, turn int, t *schema.Table, by []string, keys *value.Batch) error {
	if by == nil {
		return w.rows(ctx, turn, Removed, t, nil, t.Kept(), keys)
	}
	return w.found(ctx, turn, Removed, t, by, t.Kept(), keys)
}

// Added keeps the hashes of rows as they were read back after they were added; where by is nil, the rows themselves.
func (w *Writer) Added(ctx context.Context, turn int, t *schema.Table, by, columns []string, batch *value.Batch) error {
	return w.rows(ctx, turn, Added, t, by, columns, batch)
}

// Changed keeps the hashes of rows as they were read back after they were updated.
func (w *Writer) Changed(ctx context.Context, turn int, t *schema.Table, by, columns []string,
	batch *value.Batch) error {
	return w.rows(ctx, turn, Changed, t, by, columns, batch)
}

// Keeps lists the columns of a table that the hashes of its rows stand for.
func (w *Writer) Keeps(t *schema.Table) []string { return t.Kept() }

// found keeps columns of the rows with the given keys.
func (w *Writer) found(ctx context.Context, turn int, what Action, t *schema.Table, by, columns []string,
	keys *value.Batch) error {
	var there value.Batch
	names := append(slices.Clone(by), columns...)
	if err := w.tx.Probe(ctx, t, by, keys, names, engine.Collect(&there, t, names)); err != nil {
		return err
	}
	return w.rows(ctx, turn, what, t, by, columns, &there)
}

// rows notes what a run did with rows of t, which batch gives: first the columns by, then columns. Of rows that were
// added or changed these are hashed; of others they are kept.
func (w *Writer) rows(ctx context.Context, turn int, what Action, t *schema.Table, by, columns []string,
	batch *value.Batch) error {
	keys := &value.Batch{Columns: batch.Columns[:len(by)]}
	first, _, run := engine.Run(t, by, keys)
	hashed := (what == Added || what == Changed) && by != nil
	run = run && (hashed || what == Done)
	if !w.goesOn(turn, what, t.Name, by, columns, first, run) {
		if err := w.finish(ctx); err != nil {
			return err
		}
		w.chunk = &Chunk{Turn: turn, What: what, Table: t.Name, By: by, Columns: columns, First: first}
	}
	if !run {
		kept := batch
		if hashed {
			kept = keys
		}
		w.data = appendRows(w.data, kept)
	}
	if hashed {
		w.hash(batch.Columns[len(by):])
	}
	w.chunk.Rows += int64(batch.Len())
	if w.chunk.Rows >= mostRows || len(w.data) >= mostBytes {
		return w.finish(ctx)
	}
	return nil
}

// SetAside keeps which lines of an input were set aside, by their numbers among all that were read.
func (w *Writer) SetAside(ctx context.Context, input string, lines iter.Seq[int64]) error {
	return w.lines(ctx, Aside, 0, input, lines)
}

// lines keeps lines of an input or a step.
func (w *Writer) lines(ctx context.Context, what Action, turn int, of string, lines iter.Seq[int64]) error {
	t := linesOf(of)
	batch := value.NewBatch(engine.Types(t, t.Names()))
	flush := func() error {
		if batch.Len() == 0 {
			return nil
		}
		defer batch.Reset()
		return w.rows(ctx, turn, what, t, t.Names(), nil, batch)
	}
	for line := range lines {
		if batch.Len() == engine.BatchRows {
			if err := flush(); err != nil {
				return err
			}
		}
		batch.Columns[0].AppendNum(line)
	}
	return flush()
}

// linesOf stands for an input where a chunk is about its lines.
func linesOf(input string) *schema.Table {
	return &schema.Table{Name: input, Locator: "line",
		Columns: []schema.Column{{Name: "line", Type: value.Type{Kind: value.Int}}}}
}

// SetAsideIn gives take the numbers of the lines of an input that the run set aside.
func (r *Run) SetAsideIn(ctx context.Context, db engine.Reader, input string, take func(line int64)) error {
	all, err := chunks(ctx, db, r.Token)
	for _, c := range all {
		if c.What == Aside && c.Table == input && err == nil {
			err = c.eachLine(ctx, db, r.Token, take)
		}
	}
	return err
}

// eachLine gives take the numbers of the lines of a chunk of lines.
func (c *Chunk) eachLine(ctx context.Context, db engine.Reader, token string, take func(line int64)) error {
	full, err := c.load(ctx, db, token)
	if err != nil {
		return err
	}
	return full.each(linesOf(c.Table), func(_ int, b *value.Batch) error {
		for _, line := range b.Columns[0].Nums {
			take(line)
		}
		return nil
	})
}

// Uncompared notes rows that were not read back: only how many they are.
func (w *Writer) Uncompared(ctx context.Context, turn int, t *schema.Table, n int64) error {
	if err := w.finish(ctx); err != nil {
		return err
	}
	w.chunk = &Chunk{Turn: turn, What: Added, Table: t.Name, Rows: n}
	return w.finish(ctx)
}

// goesOn reports whether rows go on from those of the chunk that grows.
func (w *Writer) goesOn(turn int, what Action, table string, by, columns []string, first int64, run bool) bool {
	c := w.chunk
	if c == nil || c.Turn != turn || c.What != what || c.Table != table || !slices.Equal(c.By, by) ||
		!slices.Equal(c.Columns, columns) {
		return false
	}
	if run {
		return len(w.data) == 0 && first == c.First+c.Rows
	}
	return len(w.data) > 0
}

func (w *Writer) hash(columns []value.Column) {
	pointers := make([]*value.Column, len(columns))
	for i := range columns {
		pointers[i] = &columns[i]
	}
	for row := range columns[0].Len() {
		w.chunk.Hashes = appendHash(w.chunk.Hashes, pointers, row, &w.buf)
	}
}

// finish hands the chunk that grows to those that wait, and writes these when they are many.
func (w *Writer) finish(ctx context.Context) error {
	c := w.chunk
	if c == nil {
		return nil
	}
	if len(w.data) > 0 {
		packed, err := w.pack(w.data)
		if err != nil {
			return err
		}
		c.Data, c.First = packed, 0
	}
	w.waiting.add(text(w.token), number(w.place), number(int64(w.turns+c.Turn)), text(c.What), text(c.Table), text(list(c.By)),
		text(list(c.Columns)),
		number(c.First), number(c.Rows), blob(c.Data), blob(c.Hashes))
	w.size += len(c.Data) + len(c.Hashes) + 200
	w.place++
	w.chunk, w.data = nil, w.data[:0]
	if w.size < mostWait {
		return nil
	}
	return w.flush(ctx)
}

func (w *Writer) flush(ctx context.Context) error {
	w.size = 0
	_, err := w.waiting.write(ctx, w.tx)
	return err
}

// Close writes what is left.
func (w *Writer) Close(ctx context.Context) error {
	if err := w.finish(ctx); err != nil {
		return err
	}
	return w.flush(ctx)
}

func (w *Writer) pack(text []byte) ([]byte, error) {
	var out bytes.Buffer
	if w.deflate == nil {
		w.deflate, _ = flate.NewWriter(&out, flate.BestSpeed) // that level is a valid one
	} else {
		w.deflate.Reset(&out)
	}
	if _, err := w.deflate.Write(text); err != nil {
		return nil, err
	}
	err := w.deflate.Close()
	return out.Bytes(), err
}

// list writes names as a JSON array.
func list(names []string) string {
	if names == nil {
		return "[]"
	}
	text, _ := json.Marshal(names) // strings can always be written
	return string(text)
}

// chunks returns the chunks of a run in the order in which they are taken back, without Data and Hashes.
func chunks(ctx context.Context, db engine.Reader, token string) ([]*Chunk, error) {
	var all []*Chunk
	names := []string{"place", "turn", "what", "table_name", "by_columns", "columns", "first_id", "row_count"}
	err := read(ctx, db, spans, of(token), names, func(c record) error {
		chunk := &Chunk{Turn: int(c.number("turn")), What: Action(c.text("what")), Table: c.text("table_name"),
			First: c.number("first_id"), Rows: c.number("row_count"), place: c.number("place")}
		if err := json.Unmarshal([]byte(c.text("by_columns")), &chunk.By); err != nil {
			return damaged(err)
		}
		if err := json.Unmarshal([]byte(c.text("columns")), &chunk.Columns); err != nil {
			return damaged(err)
		}
		if len(chunk.By) == 0 {
			chunk.By = nil
		}
		all = append(all, chunk)
		return nil
	})
	slices.SortFunc(all, func(a, b *Chunk) int {
		return cmp.Or(cmp.Compare(b.Turn, a.Turn), cmp.Compare(b.place, a.place))
	})
	return all, err
}

// load returns a chunk with its Data and Hashes.
func (c *Chunk) load(ctx context.Context, db engine.Reader, token string) (*Chunk, error) {
	full := *c
	err := read(ctx, db, spans, at(token, c.place),
		[]string{"data", "hashes"},
		func(row record) error {
			full.Data, full.Hashes = row.bytes("data"), row.bytes("hashes")
			return nil
		})
	return &full, err
}

// each returns the rows of a chunk as batches of the columns By, and behind them, where it keeps these, Columns, with
// the number of the first row in the chunk.
func (c *Chunk) each(t *schema.Table, take func(first int, b *value.Batch) error) error {
	names := slices.Clone(c.By)
	if c.What == Was || c.What == Removed || c.Equal() {
		names = append(names, c.Columns...)
	}
	types := engine.Types(t, names)
	if len(c.Data) > 0 {
		return eachRow(flate.NewReader(bytes.NewReader(c.Data)), types, take)
	}
	batch := value.NewBatch(types)
	for start := int64(0); start < c.Rows; start += engine.BatchRows {
		batch.Reset()
		for n := start; n < min(start+engine.BatchRows, c.Rows); n++ {
			batch.Columns[0].AppendNum(c.First + n)
		}
		if err := take(int(start), batch); err != nil {
			return err
		}
	}
	return nil
}
