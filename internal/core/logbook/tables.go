package logbook

import (
	"context"
	"fmt"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Prefix is what the names of the logbook's tables begin with; no other table's should.
const Prefix = "ladle_run"

// The tables of the logbook. A run is known in all of them by its token, which the program makes before the first row is
// written; id numbers the rows.
var (
	runs   = table("ladle_run", "token", "token", "kind", "undoes#", "ladle_file", "ladle_sum", "program", "db_user", "check_level", "started", "finished")
	inputs = table("ladle_run_input", "", "token", "input", "file", "size#", "sum", "rows_read#", "rows_set_aside#")
	steps  = table("ladle_run_step", "", "token", "step", "table_name", "input", "rows_read#", "rows_added#", "rows_updated#",
		"rows_unchanged#", "rows_kept#", "rows_repeated#", "rows_left_out#", "rows_set_aside#", "rows_removed#")
	checks = table("ladle_run_check", "", "token", "asked", "table_name", "says")
	spans  = table("ladle_run_rows", "token place", "token", "place#", "turn#", "what", "table_name", "by_columns", "columns", "first_id#", "row_count#", "data*", "hashes*")
)

// Tables are the logbook's own tables, which must be there before Write.
func Tables() []*schema.Table { return []*schema.Table{runs, inputs, steps, checks, spans} }

// table describes a table of the logbook: an identity column, whole numbers marked by #, bytes by *, and texts; unique
// names the columns of a unique constraint.
func table(name, unique string, columns ...string) *schema.Table {
	t := &schema.Table{Name: name, Locator: "id", Indexes: [][]string{{"id"}}}
	t.Columns = append(t.Columns, schema.Column{Name: "id", Declared: "INTEGER", Type: value.Type{Kind: value.Int}, Required: true, Identity: true})
	for _, c := range columns {
		column := schema.Column{Name: strings.TrimRight(c, "#*"), Required: true}
		switch {
		case strings.HasSuffix(c, "#"):
			column.Declared, column.Type = "BIGINT", value.Type{Kind: value.Int}
		case strings.HasSuffix(c, "*"):
			column.Declared, column.Type = "BLOB", value.Type{Kind: value.Bytes}
		case c == "token":
			column.Declared, column.Type = "VARCHAR(40)", value.Type{Kind: value.Text}
		default:
			column.Declared, column.Type = "TEXT", value.Type{Kind: value.Text}
		}
		t.Columns = append(t.Columns, column)
	}
	if unique != "" {
		t.Keys = []schema.Key{{Columns: strings.Fields(unique)}}
		t.Indexes = append(t.Indexes, strings.Fields(unique))
	}
	return t
}

// Ready tells, before a load reads anything, whether the logbook's tables are yet to be made. It is an error when they
// can't be, when a table of the same name is something else, or when this user may not write to them.
func Ready(ctx context.Context, db engine.Database) (missing bool, err error) {
	for _, own := range Tables() {
		there, err := db.Has(ctx, own)
		if err != nil {
			return false, err
		}
		if !there {
			missing = true
			continue
		}
		err = db.Among(ctx, own, "1 = 0", own.Names(), func(*value.Batch) error { return nil })
		if err == nil {
			err = db.May(ctx, engine.Insert, own, own.Names())
		}
		if err != nil && ctx.Err() == nil {
			return false, fault.Because(fault.Failed, err, fault.Problem{What: fmt.Sprintf("the table %s is there, but can't be used as a logbook: %s", own.Name, fault.ProblemsOf(err)[0].What),
				Do: "if it is no logbook of this version of ladle, give it another name; or load with --no-logbook (then nothing can be undone)"})
		}
	}
	if !missing {
		return false, ctx.Err()
	}
	if err := db.MayMake(ctx); err != nil {
		return false, fault.Because(fault.Failed, err, fault.Problem{What: "the logbook's tables are not there, and this user may not make them: " + fault.ProblemsOf(err)[0].What,
			Do: "ask for the right to make tables, have somebody load once who has it, or load with --no-logbook (then nothing can be undone)"})
	}
	return true, nil
}

// rows are rows to be added to a table of the logbook, in the order of its columns behind id.
type rows struct {
	of    *schema.Table
	batch *value.Batch
}

func newRows(of *schema.Table) *rows {
	return &rows{of: of, batch: value.NewBatch(engine.Types(of, of.Names()))}
}

// add adds a row of texts, whole numbers and bytes.
func (r *rows) add(cells ...any) {
	r.batch.Columns[0].AppendNum(0)
	for i, v := range cells {
		to := &r.batch.Columns[i+1]
		switch v := v.(type) {
		case string:
			to.AppendBytes([]byte(v))
		case []byte:
			to.AppendBytes(v)
		case int64:
			to.AppendNum(v)
		}
	}
}

// write sends the rows and gives the number of the first.
func (r *rows) write(ctx context.Context, tx engine.Tx) (int64, error) {
	count := r.batch.Len()
	if count == 0 {
		return 0, nil
	}
	given, err := tx.Reserve(ctx, r.of, int64(count), 0)
	if err != nil {
		return 0, err
	}
	ids := r.batch.Columns[0].Nums
	at := 0
	for _, span := range given {
		for n := range span.Count {
			ids[at] = span.First + n
			at++
		}
	}
	rejected, err := tx.Insert(ctx, r.of, r.of.Names(), r.batch)
	if err == nil && len(rejected) > 0 {
		err = &engine.Refused{Table: r.of.Name, What: "take a row", Why: rejected[0].Why}
	}
	first := ids[0]
	r.batch.Reset()
	return first, err
}

// read gives rows of a table of the logbook for which a condition holds, in the order of their numbers.
func read(ctx context.Context, db engine.Reader, t *schema.Table, condition string, columns []string, take func(cells) error) error {
	if there, err := db.Has(ctx, t); err != nil || !there {
		return err
	}
	return db.Among(ctx, t, condition, columns, func(b *value.Batch) error {
		for row := range b.Len() {
			if err := take(cells{columns, b, row}); err != nil {
				return err
			}
		}
		return nil
	})
}

// of is the condition for the rows of a run. Tokens are letters and digits.
func of(token string) string { return "token = '" + token + "'" }

// cells is a row that was read.
type cells struct {
	names []string
	batch *value.Batch
	row   int
}

func (c cells) column(name string) *value.Column {
	for i, n := range c.names {
		if n == name {
			return &c.batch.Columns[i]
		}
	}
	panic("the column " + name + " was not asked for")
}

func (c cells) text(name string) string  { return c.column(name).Text(c.row) }
func (c cells) number(name string) int64 { return c.column(name).Nums[c.row] }
func (c cells) bytes(name string) []byte { return append([]byte(nil), c.column(name).Bytes(c.row)...) }
