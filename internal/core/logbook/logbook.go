// Package logbook keeps the runs of ladle files in the database that they loaded, in tables of Ladle's own. A run is
// written in the transaction of its rows, so it is there exactly when they are.
package logbook

import (
	"context"
	"crypto/rand"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Run is one execution of a ladle file.
type Run struct {
	Token     string // tells this run from every other one, on any machine
	LadleFile string // the name of the ladle file, without its folder
	LadleSum  string // SHA-256 of the ladle file
	Program   string // the version of the program
	Started   time.Time
	Steps     []Step
}

// Step is what a run did with one table.
type Step struct {
	Name     string
	Table    string
	Input    string // the name of the input
	InputSum string // SHA-256 of the input's file
	Read     int64
	Added    int64
	Updated  int64
	Removed  int64
	Kept     int64
	Repeated int64
	SetAside int64
}

// NewToken makes a token of 130 random bits.
func NewToken() string { return rand.Text() }

var (
	text    = value.Type{Kind: value.Text}
	whole   = value.Type{Kind: value.Int}
	runs    = table("ladle_run", []string{"token"}, "token", "ladle_file", "ladle_sum", "program", "started", "finished")
	written = table("ladle_run_step", nil, "token", "step", "table_name", "input", "input_sum",
		"rows_read", "rows_added", "rows_updated", "rows_removed", "rows_kept", "rows_repeated", "rows_set_aside")
)

// table describes a table of Ladle's own: an identity column, texts, and whole numbers for the columns named rows_.
func table(name string, unique []string, columns ...string) *schema.Table {
	t := &schema.Table{Name: name, Locator: "id", Columns: []schema.Column{
		{Name: "id", Declared: "INTEGER", Type: whole, Required: true, Identity: true}}}
	for _, c := range columns {
		column := schema.Column{Name: c, Declared: "VARCHAR(200)", Type: text, Required: true}
		if len(c) > 5 && c[:5] == "rows_" {
			column.Declared, column.Type = "BIGINT", whole
		}
		t.Columns = append(t.Columns, column)
	}
	t.Indexes = [][]string{{"id"}}
	if unique != nil {
		t.Keys = []schema.Key{{Columns: unique}}
		t.Indexes = append(t.Indexes, unique)
	}
	return t
}

// Tables are the logbook's own tables, which must be there before Write.
func Tables() []*schema.Table { return []*schema.Table{runs, written} }

// Write adds the run and gives its number.
func Write(ctx context.Context, tx engine.Tx, r *Run) (int64, error) {
	id, err := add(ctx, tx, runs, [][]any{{r.Token, r.LadleFile, r.LadleSum, r.Program,
		r.Started.UTC().Format(time.RFC3339), time.Now().UTC().Format(time.RFC3339)}})
	if err != nil {
		return 0, err
	}
	var rows [][]any
	for _, s := range r.Steps {
		rows = append(rows, []any{r.Token, s.Name, s.Table, s.Input, s.InputSum, s.Read, s.Added, s.Updated, s.Removed, s.Kept, s.Repeated, s.SetAside})
	}
	_, err = add(ctx, tx, written, rows)
	return id, err
}

// add inserts rows of texts and whole numbers and gives the number of the first.
func add(ctx context.Context, tx engine.Tx, t *schema.Table, rows [][]any) (int64, error) {
	if len(rows) == 0 {
		return 0, nil
	}
	spans, err := tx.Reserve(ctx, t, int64(len(rows)), 0)
	if err != nil {
		return 0, err
	}
	batch := &value.Batch{}
	for _, c := range t.Columns {
		batch.Columns = append(batch.Columns, value.NewColumn(c.Type))
	}
	first, next, left := spans[0].First, spans[0].First, spans
	for i, row := range rows {
		if i > 0 && next == left[0].First+left[0].Count {
			left = left[1:]
			next = left[0].First
		}
		batch.Columns[0].AppendNum(next)
		next++
		for c, v := range row {
			switch v := v.(type) {
			case string:
				batch.Columns[c+1].AppendBytes([]byte(v))
			case int64:
				batch.Columns[c+1].AppendNum(v)
			}
		}
	}
	rejected, err := tx.Insert(ctx, t, t.Names(), batch)
	if err == nil && len(rejected) > 0 {
		err = &engine.Refused{Table: t.Name, What: "take a row", Why: rejected[0].Why}
	}
	return first, err
}

// Has tells whether the run with a token is in the logbook: whether its commit took place.
func Has(ctx context.Context, db engine.Reader, token string) (bool, error) {
	return holds(ctx, db, runs, map[string]string{"token": token})
}

// Loaded tells whether an input with this checksum was loaded into a table before.
func Loaded(ctx context.Context, db engine.Reader, tableName, inputSum string) (bool, error) {
	return holds(ctx, db, written, map[string]string{"table_name": tableName, "input_sum": inputSum})
}

// holds tells whether t, if it is there, has a row with these texts.
func holds(ctx context.Context, db engine.Reader, t *schema.Table, texts map[string]string) (found bool, err error) {
	if there, err := db.Has(ctx, t); err != nil || !there {
		return false, err
	}
	var columns, want []string
	for column, text := range texts {
		columns, want = append(columns, column), append(want, text)
	}
	err = db.Scan(ctx, t, columns, func(b *value.Batch) error {
		for row := range b.Len() {
			same := true
			for i := range columns {
				same = same && b.Columns[i].Text(row) == want[i]
			}
			found = found || same
		}
		return nil
	})
	return found, err
}
