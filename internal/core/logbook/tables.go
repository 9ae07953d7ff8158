package logbook

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Prefix is what the names of the logbook's tables begin with; no other table's should.
const Prefix = "ladle_run"

// format is that of the runs that this program writes. Runs of format 1 are in tables that have no column for it; the
// columns that tables lack are added by the first load that needs them. Runs in parts are of a format that older programs
// leave alone.
const (
	format        = 2
	formatOfParts = 3
)

// The tables of the logbook. A run is known in all of them by its token, which the program makes before the first row
// is written; id numbers the rows.
var (
	runs = table("ladle_run", "token", "token", "kind", "undoes#", "ladle_file", "ladle_sum", "program", "db_user",
		"check_level", "started", "finished", "format#=1")
	inputs = table("ladle_run_input", "", "token", "input", "file", "size#", "sum", "rows_read#", "rows_set_aside#",
		"corrected=''", "headings=''")
	steps = table("ladle_run_step", "", "token", "step", "table_name", "input", "rows_read#", "rows_added#",
		"rows_updated#",
		"rows_unchanged#", "rows_kept#", "rows_repeated#", "rows_left_out#", "rows_set_aside#", "rows_removed#",
		"rows_differs#=-1", "rows_overruled#=-1", // -1: an older run did not count them
		"stores_numbers=''", "rows_marked#=0", "rows_marked_back#=0")
	checks = table("ladle_run_check", "", "token", "asked", "table_name", "says")
	spans  = table("ladle_run_rows", "token place", "token", "place#", "turn#", "what", "table_name", "by_columns",
		"columns", "first_id#", "row_count#", "data*", "hashes*")
)

// Tables are the logbook's own tables, which must be there before Write.
func Tables() []*schema.Table { return []*schema.Table{runs, inputs, steps, checks, spans} }

// table describes a table of the logbook: an identity column, whole numbers marked by #, bytes by *, and texts, with
// the value of older rows behind =; unique names the columns of a unique constraint.
func table(name, unique string, columns ...string) *schema.Table {
	t := &schema.Table{Name: name, Locator: "id", Indexes: [][]string{{"id"}},
		Keys: []schema.Key{{Columns: []string{"id"}, Primary: true}}}
	t.Columns = append(t.Columns, schema.Column{Name: "id", Declared: "INTEGER", Type: value.Type{Kind: value.Int},
		Required: true, Identity: true})
	for _, c := range columns {
		c, older, added := strings.Cut(c, "=")
		column := schema.Column{Name: strings.TrimRight(c, "#*"), Required: true, Defaulted: added, Default: older}
		switch {
		case strings.HasSuffix(c, "#"):
			column.Declared, column.Type = "BIGINT", value.Type{Kind: value.Int}
		case strings.HasSuffix(c, "*"):
			column.Declared, column.Type = "BLOB", value.Type{Kind: value.Bytes}
		case c == "token":
			column.Declared, column.Type = "VARCHAR(40)", value.Type{Kind: value.Text}
		case added: // MySQL gives a TEXT no default
			column.Declared, column.Type = "VARCHAR(4000)", value.Type{Kind: value.Text}
		default:
			column.Declared, column.Type = "TEXT", value.Type{Kind: value.Text}
		}
		t.Columns = append(t.Columns, column)
	}
	if unique != "" {
		t.Keys = append(t.Keys, schema.Key{Columns: strings.Fields(unique)})
		t.Indexes = append(t.Indexes, strings.Fields(unique))
	}
	return t
}

// Ready reports, before a load reads anything, whether tables of the logbook, or columns of them, are yet to be made.
// It is an error when they can't be, when a table of the same name is something else, or when this user may not write
// to them.
func Ready(ctx context.Context, db engine.Database) (missing bool, err error) {
	for _, own := range Tables() {
		there, err := db.ColumnsOf(ctx, own)
		if err != nil {
			return false, err
		}
		var names []string
		for _, c := range own.Columns {
			switch known := slices.Contains(there, c.Name); {
			case known || there != nil && !c.Defaulted: // else it is another table
				names = append(names, c.Name)
			default:
				missing = true
			}
		}
		if there == nil {
			continue
		}
		err = db.Among(ctx, own, "1 = 0", names, func(*value.Batch) error { return nil })
		if err == nil {
			err = db.May(ctx, engine.Insert, own, names)
		}
		if err == nil && own == ClaimedIn() && engine.ClusterOf(db) != nil {
			err = db.May(ctx, engine.Delete, own, nil)
		}
		if err != nil && ctx.Err() == nil {
			return false, fault.Because(fault.Failed, err, fault.Problem{What: fmt.Sprintf("the table %s exists, but "+
				"can't be used as a logbook: %s", own.Name, fault.ProblemsOf(err)[0].What),
				Do: "if it is not a logbook of this version of ladle, rename it", Hint: fault.WithoutLogbook})
		}
	}
	if !missing {
		return false, ctx.Err()
	}
	if err := db.MayMake(ctx); err != nil {
		return false, fault.Because(fault.Failed, err, fault.Problem{What: "the logbook's tables don't exist, and " +
			"this user may not create them: " + fault.ProblemsOf(err)[0].What,
			Do:   "ask for the CREATE TABLE privilege, or have someone who has it run one load",
			Hint: fault.WithoutLogbook})
	}
	return true, nil
}

// rows are rows to be added to a table of the logbook.
type rows struct {
	of    *schema.Table
	batch *value.Batch
	err   error
}

func newRows(of *schema.Table) *rows {
	return &rows{of: of, batch: value.NewBatch(engine.Types(of, of.Names()))}
}

// cell is a value that is written: a text, a whole number or bytes.
type cell struct {
	kind   value.Kind
	text   string
	bytes  []byte
	number int64
}

func text[T ~string](s T) cell { return cell{kind: value.Text, text: string(s)} }
func number(n int64) cell      { return cell{kind: value.Int, number: n} }
func blob(b []byte) cell       { return cell{kind: value.Bytes, bytes: b} }

// add adds a row of cells, in the order of the table's columns behind id. What doesn't fit them is told by write.
func (r *rows) add(cells ...cell) {
	if len(cells) != len(r.batch.Columns)-1 {
		r.err = fmt.Errorf("%s has %d columns, not %d", r.of.Name, len(r.batch.Columns), len(cells)+1)
		return
	}
	r.batch.Columns[0].AppendNum(0)
	for i, c := range cells {
		to := &r.batch.Columns[i+1]
		switch {
		case to.Kind != c.kind:
			r.err = fmt.Errorf("%s.%s takes a %s, not a %s", r.of.Name, r.of.Columns[i+1].Name, to.Kind, c.kind)
			to.AppendState(value.Null)
		case c.kind == value.Text:
			to.AppendBytes([]byte(c.text))
		case c.kind == value.Bytes:
			to.AppendBytes(c.bytes)
		default:
			to.AppendNum(c.number)
		}
	}
}

// write sends the rows and returns the number of the first.
func (r *rows) write(ctx context.Context, tx engine.Tx) (int64, error) {
	count := r.batch.Len()
	if count == 0 || r.err != nil {
		return 0, r.err
	}
	given, err := tx.Reserve(ctx, r.of, int64(count), 0)
	if err != nil {
		return 0, err
	}
	ids := r.batch.Columns[0].Nums
	at := 0
	for _, span := range given {
		for n := range span.Count {
			ids[at] = span.At(n)
			at++
		}
	}
	rejected, err := tx.Insert(ctx, r.of, r.of.Names(), r.batch)
	if err == nil && len(rejected) > 0 {
		err = &engine.OwnRowError{Table: r.of.Name, What: "take a row", Why: rejected[0].Why}
	}
	first := ids[0]
	r.batch.Reset()
	return first, err
}

// which are rows of a table of the logbook: those that have one of the keys in these columns, or all.
type which struct {
	by   []string
	keys [][]cell
}

// of are the rows of the runs with some tokens.
func of(tokens ...string) which {
	w := which{by: []string{"token"}}
	for _, t := range tokens {
		w.keys = append(w.keys, []cell{text(t)})
	}
	return w
}

// at is the chunk of a run at a place.
func at(token string, place int64) which {
	return which{[]string{"token", "place"}, [][]cell{{text(token), number(place)}}}
}

// batch are the keys as rows of columns of t.
func (w which) batch(t *schema.Table) *value.Batch {
	b := value.NewBatch(engine.Types(t, w.by))
	for _, key := range w.keys {
		for i, c := range key {
			if c.kind == value.Int {
				b.Columns[i].AppendNum(c.number)
			} else {
				b.Columns[i].AppendBytes([]byte(c.text))
			}
		}
	}
	return b
}

// read returns rows of a table of the logbook; none where there is no such table.
func read(ctx context.Context, db engine.Reader, t *schema.Table, w which, columns []string,
	take func(record) error) error {
	there, err := db.ColumnsOf(ctx, t)
	if err != nil || there == nil {
		return err
	}
	known := slices.DeleteFunc(slices.Clone(columns), func(c string) bool {
		return !slices.Contains(there, c) &&
			t.Column(c).Defaulted
	})
	each := func(b *value.Batch) error {
		for row := range b.Len() {
			if err := take(record{t, known, b, row}); err != nil {
				return err
			}
		}
		return nil
	}
	if w.by == nil {
		return db.Scan(ctx, t, known, each)
	}
	return db.Probe(ctx, t, w.by, w.batch(t), known, each)
}

// record is a row that was read.
type record struct {
	table   *schema.Table
	columns []string
	batch   *value.Batch
	row     int
}

// column is a column that was asked for, nil where the table lacks it.
func (r record) column(name string) *value.Column {
	if i := slices.Index(r.columns, name); i >= 0 {
		return &r.batch.Columns[i]
	}
	return nil
}

func (r record) text(name string) string {
	if c := r.column(name); c != nil {
		return c.Text(r.row)
	}
	return ""
}

// number is a whole number; that of older rows where the table lacks the column.
func (r record) number(name string) int64 {
	if c := r.column(name); c != nil {
		return c.Nums[r.row]
	}
	n, _ := strconv.ParseInt(r.table.Column(name).Default, 10, 64) // it is written here, and a number
	return n
}

func (r record) bytes(name string) []byte {
	if c := r.column(name); c != nil {
		return append([]byte(nil), c.Bytes(r.row)...)
	}
	return nil
}
