package logbook

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Since is what became of the rows of a run since.
type Since struct {
	Rows     int64    `json:"rows_known"`  // that the run added or updated, and that can be told
	Changed  int64    `json:"changed"`     // of them, those that were changed since
	Gone     int64    `json:"gone"`        // and those that are not there any more
	Back     int64    `json:"there_again"` // rows that the run removed, and that are there again
	Untold   int64    `json:"unknown"`     // rows of which the logbook does not tell what they were
	Problems []string `json:"changes"`
	counted  map[string]bool
	named    []named
	compared map[*schema.Table]*KeySet // rows that a later part of the run has changed
}

// mostProblems is the number of rows that are named.
const mostProblems = 20

func (s *Since) name(format string, parts ...any) {
	if len(s.Problems) < mostProblems {
		s.Problems = append(s.Problems, fmt.Sprintf(format, parts...))
	}
}

// nameRow names a row among the problems.
func (s *Since) nameRow(t *schema.Table, by []string, keys *value.Batch, row int, what string) {
	if len(s.Problems) < mostProblems {
		s.named = append(s.named, named{len(s.Problems), t, by, value.Identity(keys.Columns, row)})
	}
	s.name("%s %s %s", t.Name, Words(by, keys, row), what)
}

// mostCounted is the number of rows of which it is known that they were counted: a run may have added a row in one step
// and updated it in another.
const mostCounted = 1 << 20

// once reports whether a row was not counted yet.
func (s *Since) once(table string, keys *value.Batch, row int) bool {
	name := table + "\x00" + value.Identity(keys.Columns, row)
	if s.counted[name] {
		return false
	}
	if s.counted == nil {
		s.counted = map[string]bool{}
	}
	if len(s.counted) < mostCounted {
		s.counted[name] = true
	}
	return true
}

// Same reports whether all rows are as the run left them.
func (s *Since) Same() bool { return s.Changed+s.Gone+s.Back+s.Untold == 0 }

// Book is the chunks of one run, against the tables as they are.
type Book struct {
	DB     engine.Reader
	Schema *schema.Schema
	Chunks []*Chunk // in the order in which they are taken back, without Data and Hashes

	Progress func(rows int64) // hears of more rows that were compared; nil when nobody listens

	token string
	parts bool // the run was committed in parts
}

// Open opens the book of a run. Columns of s without a type hold what the run stored in them.
func Open(ctx context.Context, db engine.Reader, s *schema.Schema, run *Run) (*Book, error) {
	for _, step := range run.Steps {
		for _, name := range step.Numbers {
			if t := s.Table(step.Table); t != nil && t.Column(name) != nil && t.Column(name).Typeless {
				t.Column(name).StoreNumbers()
			}
		}
	}
	all, err := chunks(ctx, db, run.Token)
	all = slices.DeleteFunc(all, func(c *Chunk) bool { return !c.ofRows() })
	return &Book{DB: db, Schema: s, Chunks: all, token: run.Token, parts: run.Parts != nil}, err
}

// Each returns the rows of a chunk of table t in batches: the columns By, and behind them, where it keeps these,
// Columns.
func (b *Book) Each(ctx context.Context, t *schema.Table, c *Chunk, take func(*value.Batch) error) error {
	full, err := c.load(ctx, b.DB, b.token)
	if err != nil {
		return err
	}
	return full.each(t, func(_ int, rows *value.Batch) error { return take(rows) })
}

// table is the table of a chunk; nil, with why, when it is not as it was.
func (b *Book) table(c *Chunk) (*schema.Table, string) {
	t := b.Schema.Table(c.Table)
	if t == nil {
		return nil, fmt.Sprintf("the table %s no longer exists", c.Table)
	}
	for _, name := range append(slices.Clone(c.By), c.Columns...) {
		if name != t.Locator && t.Column(name) == nil {
			return nil, fmt.Sprintf("the column %s.%s no longer exists", c.Table, name)
		}
	}
	if c.Equal() && len(t.Kept()) != len(c.Columns) {
		return nil, fmt.Sprintf("the table %s has other columns now, and only their values identify its rows", c.Table)
	}
	for _, column := range t.Columns {
		if c.What == Removed && !column.Generated && !slices.Contains(c.Columns, column.Name) {
			return nil, fmt.Sprintf("the logbook does not hold what %s.%s was in rows that were removed", c.Table,
				column.Name)
		}
	}
	return t, ""
}

// Compare holds the rows of the run against what they are now.
func (b *Book) Compare(ctx context.Context) (*Since, error) {
	since := &Since{}
	equal := map[string][]*Chunk{} // what was added to tables whose rows may be equal
	for _, c := range b.Chunks {
		var err error
		t, why := b.table(c)
		switch {
		case why != "":
			since.Untold += c.Rows
			if !slices.Contains(since.Problems, why) {
				since.name("%s", why)
			}
		case c.Equal():
			if c.What == Added {
				equal[c.Table] = append(equal[c.Table], c)
			}
		case len(c.By) == 0:
			since.Untold += c.Rows
			since.name("%d rows of %s: nothing was recorded that identifies them", c.Rows, c.Table)
		case c.What == Added || c.What == Changed:
			err = b.compareChunk(ctx, t, c, since)
		case c.What == Removed:
			err = b.back(ctx, t, c, since)
		}
		if err != nil {
			return nil, err
		}
		b.progress(c.Rows)
	}
	for _, table := range slices.Sorted(maps.Keys(equal)) {
		if err := b.compareEqual(ctx, b.Schema.Table(table), equal[table], since); err != nil {
			return nil, err
		}
	}
	return since, b.blame(ctx, since)
}

// Total is the number of rows that the chunks are about.
func (b *Book) Total() (n int64) {
	for _, c := range b.Chunks {
		n += c.Rows
	}
	return n
}

func (b *Book) progress(rows int64) {
	if b.Progress != nil {
		b.Progress(rows)
	}
}

// compareChunk compares rows with their hashes.
func (b *Book) compareChunk(ctx context.Context, t *schema.Table, c *Chunk, since *Since) error {
	c, err := c.load(ctx, b.DB, b.token)
	if err != nil {
		return err
	}
	var buf []byte
	var near engine.Near
	return c.each(t, func(first int, keys *value.Batch) error {
		later := since.compared[t]
		there := map[string][]byte{}
		names := append(slices.Clone(c.By), c.Columns...)
		take := func(rows *value.Batch) error {
			columns := value.Pointers(rows.Columns[len(c.By):])
			for row := range rows.Len() {
				there[value.Identity(rows.Columns[:len(c.By)], row)] = appendHash(nil, columns, row, &buf)
			}
			return nil
		}
		var around value.Batch // with others among them
		read, err := false, error(nil)
		if len(c.By) > 1 {
			read, err = near.Read(ctx, b.DB, t, c.By, keys, names, &around)
		}
		switch {
		case err == nil && read:
			err = take(&around)
		case err == nil:
			err = b.Rows(ctx, t, c.By, keys, names, take)
		}
		if err != nil {
			return err
		}
		for row := range keys.Len() {
			at := (first + row) * hashBytes
			if at+hashBytes > len(c.Hashes) {
				return damaged(fmt.Errorf("hashes of rows of %s are missing", c.Table))
			}
			since.Rows++
			if later.Has(keys.Columns, row) {
				continue
			}
			now, found := there[value.Identity(keys.Columns, row)]
			switch {
			case found && string(now) == string(c.Hashes[at:at+hashBytes]), !since.once(c.Table, keys, row):
			case !found:
				since.Gone++
				since.nameRow(t, c.By, keys, row, "no longer exists")
			default:
				since.Changed++
				since.nameRow(t, c.By, keys, row, "has been changed since")
			}
		}
		if b.parts && c.What == Changed {
			since.compare(t, c.By, keys)
		}
		return nil
	})
}

// compare notes rows that were compared with what they were in the last part of the run that changed them: what they were
// before is not what the run left.
func (s *Since) compare(t *schema.Table, by []string, keys *value.Batch) {
	if s.compared == nil {
		s.compared = map[*schema.Table]*KeySet{}
	}
	if s.compared[t] == nil {
		s.compared[t] = &KeySet{}
	}
	s.compared[t].Add(t, by, keys)
}

// Rows reads rows of t by their keys: a run of numbers in one go.
func (b *Book) Rows(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, names []string,
	take func(*value.Batch) error) error {
	if first, last, run := engine.Run(t, by, keys); run {
		return b.DB.Between(ctx, t, t.Locator, first, last, names, take)
	}
	return b.DB.Probe(ctx, t, by, keys, names, take)
}

// back looks for rows that were removed and are there again.
func (b *Book) back(ctx context.Context, t *schema.Table, c *Chunk, since *Since) error {
	c, err := c.load(ctx, b.DB, b.token)
	if err != nil {
		return err
	}
	return c.each(t, func(_ int, rows *value.Batch) error {
		keys := &value.Batch{Columns: rows.Columns[:len(c.By)]}
		return b.DB.Probe(ctx, t, c.By, keys, c.By, func(found *value.Batch) error {
			for row := range found.Len() {
				since.Back++
				since.name("%s %s was removed, and exists again", c.Table, Words(c.By, found, row))
			}
			return nil
		})
	})
}

// Words name a row by columns.
func Words(names []string, b *value.Batch, row int) string {
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = n + " NULL"
		if b.Columns[i].States[row] != value.Null {
			parts[i] = n + " " + b.Columns[i].Text(row)
		}
	}
	return strings.Join(parts, ", ")
}
