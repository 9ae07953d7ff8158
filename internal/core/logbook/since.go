package logbook

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Since is what became of the rows of a run since.
type Since struct {
	Rows     int64    `json:"rows"`    // that the run added or updated, and that can be told
	Changed  int64    `json:"changed"` // of them, those that were changed since
	Gone     int64    `json:"gone"`    // and those that are not there any more
	Back     int64    `json:"back"`    // rows that the run removed, and that are there again
	Untold   int64    `json:"untold"`  // rows of which the logbook does not tell what they were
	Problems []string `json:"problems,omitempty"`
	counted  map[string]bool
}

// mostProblems is the number of rows that are named.
const mostProblems = 20

func (s *Since) name(format string, parts ...any) {
	if len(s.Problems) < mostProblems {
		s.Problems = append(s.Problems, fmt.Sprintf(format, parts...))
	}
}

// mostCounted is the number of rows of which it is known that they were counted: a run may have added a row in one step
// and updated it in another.
const mostCounted = 1 << 20

// once tells whether a row was not counted yet.
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

// Same tells whether all rows are as the run left them.
func (s *Since) Same() bool { return s.Changed+s.Gone+s.Back+s.Untold == 0 }

// book is the chunks of one run, against the tables as they are.
type book struct {
	db     engine.Reader
	schema *schema.Schema
	token  string
	chunks []*Chunk
}

func openBook(ctx context.Context, db engine.Reader, s *schema.Schema, token string) (*book, error) {
	chunks, err := Chunks(ctx, db, token)
	return &book{db, s, token, chunks}, err
}

// table is the table of a chunk; nil, with why, when it is not as it was.
func (b *book) table(c *Chunk) (*schema.Table, string) {
	t := b.schema.Table(c.Table)
	if t == nil {
		return nil, fmt.Sprintf("the table %s is not there any more", c.Table)
	}
	for _, name := range append(slices.Clone(c.By), c.Columns...) {
		if name != t.Locator && t.Column(name) == nil {
			return nil, fmt.Sprintf("the column %s.%s is not there any more", c.Table, name)
		}
	}
	for _, column := range t.Columns {
		if c.What == Removed && !column.Generated && !slices.Contains(c.Columns, column.Name) {
			return nil, fmt.Sprintf("what %s.%s held in rows that were removed was not kept", c.Table, column.Name)
		}
	}
	return t, ""
}

// Compare holds the rows of a run against what they are now.
func Compare(ctx context.Context, db engine.Reader, s *schema.Schema, run *Run) (*Since, error) {
	b, err := openBook(ctx, db, s, run.Token)
	if err != nil {
		return nil, err
	}
	return b.compare(ctx)
}

func (b *book) compare(ctx context.Context) (*Since, error) {
	since := &Since{}
	for _, c := range b.chunks {
		var err error
		t, why := b.table(c)
		switch {
		case why != "":
			since.Untold += c.Rows
			if !slices.Contains(since.Problems, why) {
				since.name("%s", why)
			}
		case len(c.By) == 0:
			since.Untold += c.Rows
			since.name("%d rows of %s: nothing was noted by which they could be told from others", c.Rows, c.Table)
		case c.What == Added || c.What == Changed:
			err = b.compareChunk(ctx, t, c, since)
		case c.What == Removed:
			err = b.back(ctx, t, c, since)
		}
		if err != nil {
			return nil, err
		}
	}
	return since, nil
}

// compareChunk compares rows with their hashes.
func (b *book) compareChunk(ctx context.Context, t *schema.Table, c *Chunk, since *Since) error {
	c, err := c.load(ctx, b.db, b.token)
	if err != nil {
		return err
	}
	var room []byte
	return c.each(t, func(first int, keys *value.Batch) error {
		there := map[string][]byte{}
		names := append(slices.Clone(c.By), c.Columns...)
		err := b.rows(ctx, t, c.By, keys, names, func(rows *value.Batch) error {
			columns := value.Pointers(rows.Columns[len(c.By):])
			for row := range rows.Len() {
				there[value.Identity(rows.Columns[:len(c.By)], row)] = appendHash(nil, columns, row, &room)
			}
			return nil
		})
		if err != nil {
			return err
		}
		for row := range keys.Len() {
			at := (first + row) * hashBytes
			if at+hashBytes > len(c.Hashes) {
				return damaged(fmt.Errorf("hashes of rows of %s are missing", c.Table))
			}
			since.Rows++
			now, found := there[value.Identity(keys.Columns, row)]
			switch {
			case found && string(now) == string(c.Hashes[at:at+hashBytes]), !since.once(c.Table, keys, row):
			case !found:
				since.Gone++
				since.name("%s with %s is not there any more", c.Table, words(c.By, keys, row))
			default:
				since.Changed++
				since.name("%s with %s was changed", c.Table, words(c.By, keys, row))
			}
		}
		return nil
	})
}

// rows reads rows by their keys: a run of numbers in one go.
func (b *book) rows(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, names []string, take func(*value.Batch) error) error {
	if first, last, run := engine.Run(t, by, keys); run {
		return b.db.Between(ctx, t, t.Locator, first, last, names, take)
	}
	return b.db.Probe(ctx, t, by, keys, names, take)
}

// back looks for rows that were removed and are there again.
func (b *book) back(ctx context.Context, t *schema.Table, c *Chunk, since *Since) error {
	c, err := c.load(ctx, b.db, b.token)
	if err != nil {
		return err
	}
	return c.each(t, func(_ int, rows *value.Batch) error {
		keys := &value.Batch{Columns: rows.Columns[:len(c.By)]}
		return b.db.Probe(ctx, t, c.By, keys, c.By, func(found *value.Batch) error {
			for row := range found.Len() {
				since.Back++
				since.name("%s with %s was removed, and is there again", c.Table, words(c.By, found, row))
			}
			return nil
		})
	})
}

// words name a row by columns.
func words(names []string, b *value.Batch, row int) string {
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = n + " " + b.Columns[i].Text(row)
	}
	return strings.Join(parts, ", ")
}
