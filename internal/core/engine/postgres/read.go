package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// one asks for a single number.
func (d *Database) one(ctx context.Context, query string, arguments ...any) (n int64, err error) {
	err = d.conn.QueryRow(ctx, query, arguments...).Scan(&n)
	return n, explain(d.name, err)
}

// ColumnsOf asks the catalogue, once.
func (d *Database) ColumnsOf(ctx context.Context, t *schema.Table) ([]string, error) {
	return d.own.Of(t, func() ([]string, error) { return d.columnsOf(ctx, t) })
}

func (d *Database) columnsOf(ctx context.Context, t *schema.Table) (names []string, err error) {
	err = d.each(ctx, "SELECT attname FROM pg_catalog.pg_attribute WHERE attrelid OPERATOR(pg_catalog.=) "+
		"pg_catalog.to_regclass($1)::pg_catalog.oid AND attnum OPERATOR(pg_catalog.>) 0::pg_catalog.int2 AND NOT "+
		"attisdropped",
		func(row pgx.Rows) error {
			var name string
			err := row.Scan(&name)
			names = append(names, name)
			return err
		}, d.table(t))
	return names, err
}

// countable is the number of rows up to which a table is counted in any case.
const countable = 1_000_000

// Count counts the rows that the transaction sees, or takes the estimate of the planner for a large table.
func (d *Database) Count(ctx context.Context, t *schema.Table) (n int64, exact bool, err error) {
	if len(t.Triggers) == 0 && t.Locator != "" {
		n, err = d.one(ctx, "SELECT reltuples::pg_catalog.int8 FROM pg_catalog.pg_class WHERE oid "+
			"OPERATOR(pg_catalog.=) $1::pg_catalog.regclass::pg_catalog.oid", d.table(t))
		if err != nil || n > countable {
			return n, false, err
		}
	}
	n, err = d.one(ctx, "SELECT pg_catalog.count(*) FROM "+d.table(t))
	return n, true, err
}

// CountFrom reads a part of an index.
func (d *Database) CountFrom(ctx context.Context, t *schema.Table, first int64) (int64, error) {
	return d.one(ctx, fmt.Sprintf("SELECT pg_catalog.count(*) FROM %s WHERE %s OPERATOR(pg_catalog.>=) %d",
		d.table(t), quote(t.Locator), first))
}

// Scan streams the table.
func (d *Database) Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error {
	return d.stream(ctx, t, columns, sink, "SELECT "+quoted(columns)+" FROM "+d.table(t), nil)
}

// Among reads the table.
func (d *Database) Among(ctx context.Context, t *schema.Table, condition string, columns []string,
	sink func(*value.Batch) error) error {
	return d.stream(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE (%s\n)", quoted(columns), d.table(t),
		condition), nil)
}

// Between reads a part of an index.
func (d *Database) Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string,
	sink func(*value.Batch) error) error {
	return d.stream(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s", quoted(columns), d.table(t),
		between(column, least, most), quote(column)), nil)
}

// between says that a whole number lies from least to most.
func between(column string, least, most int64) string {
	return fmt.Sprintf("%s OPERATOR(pg_catalog.>=) %d AND %[1]s OPERATOR(pg_catalog.<=) %[3]d", quote(column), least, most)
}

// stream returns the rows of a query, whose columns are those of t, to sink. Values come in text form.
func (d *Database) stream(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error,
	query string, arguments [][]byte) error {
	kinds := engine.Types(t, columns)
	return engine.Stream(kinds, func(give func([][]byte) error) error {
		reader := d.conn.PgConn().ExecParams(ctx, query, arguments, nil, nil, nil)
		for reader.NextRow() {
			if err := give(reader.Values()); err != nil {
				_, _ = reader.Close()
				return err
			}
		}
		_, err := reader.Close()
		return explain(d.name, err)
	}, func(to *value.Column, column int, cell []byte) { read(to, kinds[column], cell) }, sink)
}

// Probe sends the keys as arrays, a batch at a time, and has the server look each of them up in the index. Where there is
// one, a subselect that can't be pulled up keeps the planner from reading the whole table for each batch instead, which
// it expects to be faster as long as it knows nothing of what a load has just written.
func (d *Database) Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
	sink func(*value.Batch) error) error {
	var selected []string
	for _, name := range columns {
		selected = append(selected, "t."+quote(name))
	}
	query := fmt.Sprintf("SELECT %s FROM %s JOIN %s t ON %s ORDER BY w.n", strings.Join(selected, ", "),
		unnested(len(by)), d.table(t), d.on(t, by))
	if t.Indexed(by) {
		query = fmt.Sprintf("SELECT t.* FROM %s CROSS JOIN LATERAL (SELECT %s FROM %s t WHERE %s OFFSET 0) t ORDER BY w.n",
			unnested(len(by)), strings.Join(selected, ", "), d.table(t), d.on(t, by))
	}
	kinds := engine.Types(t, by)
	for start := 0; start < keys.Len(); start += engine.BatchRows {
		end := min(start+engine.BatchRows, keys.Len())
		if err := d.stream(ctx, t, columns, sink, query, arrays(keys, kinds, start, end)); err != nil {
			return err
		}
	}
	return nil
}

// unnested is a table w of n columns, v0 and so on, that come as arrays in the first n parameters; w.n numbers its
// rows.
func unnested(n int) string {
	var parameters, names []string
	for i := range n {
		parameters = append(parameters, fmt.Sprintf("pg_catalog.unnest($%d::pg_catalog.text[])", i+1))
		names = append(names, fmt.Sprintf("v%d", i))
	}
	return fmt.Sprintf("ROWS FROM (%s) WITH ORDINALITY w(%s, n)", strings.Join(parameters, ", "), strings.Join(names,
		", "))
}

// on says that the columns by of t are the first ones of w.
func (d *Database) on(t *schema.Table, by []string) string {
	var same []string
	for i, name := range by {
		same = append(same, fmt.Sprintf("t.%s %s %s", quote(name), d.equals(t.Column(name)), d.cast(t, name, i)))
	}
	return strings.Join(same, " AND ")
}

// cast is column i of w as a value for a column of t.
func (d *Database) cast(t *schema.Table, column string, i int) string {
	return fmt.Sprintf("w.v%d::%s", i, d.typeName(t.Column(column)))
}

// typeName is the type of a column in SQL, wherever it is kept.
func (d *Database) typeName(c *schema.Column) string {
	if name, ok := d.types[c.Declared]; ok {
		return name
	}
	return c.Declared
}

// equals is the operator by which values of a column are equal: never one that somebody put beside the database's own
// (postgresql.org/docs/current/typeconv-oper.html).
func (d *Database) equals(c *schema.Column) string {
	if c.Collation == citext {
		return "OPERATOR(" + d.citextSchema + ".=)"
	}
	return "OPERATOR(pg_catalog.=)"
}

// arrays writes rows from start to end as an array literal for each column.
func arrays(rows *value.Batch, kinds []value.Type, start, end int) [][]byte {
	all := make([][]byte, len(kinds))
	for i := range kinds {
		all[i] = array(&rows.Columns[i], kinds[i], start, end)
	}
	return all
}

// array writes slots of c as an array literal (postgresql.org/docs/current/arrays.html, §8.15.6).
func array(c *value.Column, t value.Type, start, end int) []byte {
	b := []byte{'{'}
	var buf []byte
	for i := start; i < end; i++ {
		if i > start {
			b = append(b, ',')
		}
		if c.States[i] != value.Given {
			b = append(b, "NULL"...)
			continue
		}
		b = append(b, '"')
		buf = appendText(buf[:0], c, t, i)
		for _, x := range buf {
			if x == '"' || x == '\\' {
				b = append(b, '\\')
			}
			b = append(b, x)
		}
		b = append(b, '"')
	}
	return append(b, '}')
}

// Fold asks the server for collations that hold different texts equal: a temporary table keeps, for each class of
// equal texts, the one that came first. Other collations compare bytes.
func (d *Database) Fold(ctx context.Context, c *schema.Column, values *value.Column) (*value.Column, error) {
	if c.Collation == "" {
		return values, nil
	}
	d.folding.Lock()
	defer d.folding.Unlock()
	table, err := d.foldTable(ctx, c)
	if err != nil {
		return nil, err
	}
	list := array(values, value.Type{}, 0, values.Len())
	kind, collate := "pg_catalog.text", "COLLATE "+c.Collation
	if c.Collation == citext {
		kind, collate = d.citextSchema+"."+citext, ""
	}
	asked := d.folder.PgConn()
	insert := fmt.Sprintf("INSERT INTO %s SELECT v::%s FROM pg_catalog.unnest($1::pg_catalog.text[]) v WHERE v IS NOT "+
		"NULL ON CONFLICT DO NOTHING", table, kind)
	if _, err := asked.ExecParams(ctx, insert, [][]byte{list}, nil, nil, nil).Close(); err != nil {
		return nil, explain(d.name, err)
	}
	folded := &value.Column{Kind: value.Text}
	query := fmt.Sprintf("SELECT f.v::pg_catalog.text FROM pg_catalog.unnest($1::pg_catalog.text[]) WITH ORDINALITY "+
		"w(v, n) LEFT JOIN %s f ON f.v %s w.v::%s %s ORDER BY w.n", table, d.equals(c), kind, collate)
	reader := asked.ExecParams(ctx, query, [][]byte{list}, nil, nil, nil)
	for reader.NextRow() {
		row := folded.Len()
		if values.States[row] != value.Given {
			folded.AppendState(values.States[row])
			continue
		}
		folded.AppendBytes(reader.Values()[0])
	}
	_, err = reader.Close()
	return folded, explain(d.name, err)
}

// foldTable makes the temporary table for a collation.
func (d *Database) foldTable(ctx context.Context, c *schema.Column) (string, error) {
	if name, ok := d.folds[c.Collation]; ok {
		return name, nil
	}
	if d.folder == nil {
		conn, err := pgx.ConnectConfig(ctx, d.config)
		if err != nil {
			return "", explain(d.name, err)
		}
		d.folder = conn
	}
	name := fmt.Sprintf("pg_temp.ladle_fold_%d", len(d.folds))
	kind := "pg_catalog.text COLLATE " + c.Collation
	if c.Collation == citext {
		kind = d.citextSchema + "." + citext
	}
	_, err := d.folder.Exec(ctx, fmt.Sprintf("CREATE TEMP TABLE %s (v %s PRIMARY KEY)",
		strings.TrimPrefix(name, "pg_temp."), kind))
	if err == nil {
		d.folds[c.Collation] = name
	}
	return name, explain(d.name, err)
}

// reserve draws numbers from the sequence in one go; what others draw at the same time parts them into spans.
func (d *Database) reserve(ctx context.Context, t *schema.Table, n, past int64) (spans []engine.Span, err error) {
	if earlier := d.drawn[t.Name]; earlier != nil {
		delete(d.drawn, t.Name)
		if spans := taken(earlier, n, past); spans != nil {
			return spans, nil
		}
	}
	sequence, err := d.sequence(ctx, t)
	if err == nil {
		err = d.pastRows(ctx, t, sequence, past)
	}
	if err != nil {
		return nil, err
	}
	err = d.each(ctx, `SELECT pg_catalog.min(v), pg_catalog.count(*) FROM (
		SELECT v, v OPERATOR(pg_catalog.-) pg_catalog.row_number() OVER (ORDER BY v) AS run FROM (
		SELECT pg_catalog.nextval($1::pg_catalog.regclass) AS v FROM pg_catalog.generate_series(1, $2::pg_catalog.int8)
		) s) r GROUP BY run ORDER BY 1`,
		func(row pgx.Rows) error {
			var s engine.Span
			err := row.Scan(&s.First, &s.Count)
			spans = append(spans, s)
			return err
		}, sequence.name, n)
	return spans, err
}

// taken takes n numbers behind past from spans; nil when there are not enough.
func taken(spans []engine.Span, n, past int64) (all []engine.Span) {
	for _, s := range spans {
		if s.First <= past {
			return nil
		}
		s.Count = min(s.Count, n)
		if n -= s.Count; s.Count > 0 {
			all = append(all, s)
		}
	}
	if n > 0 {
		return nil
	}
	return all
}

// pastRows sets a sequence behind past and the greatest number in the table, where rows came with numbers of their own.
// A user who may only draw from it leaves it as it is.
func (d *Database) pastRows(ctx context.Context, t *schema.Table, s sequence, past int64) error {
	if !s.set || !s.see {
		return nil
	}
	return d.exec(ctx, fmt.Sprintf(`SELECT pg_catalog.setval($1::pg_catalog.regclass, m) FROM (
		SELECT greatest(pg_catalog.max(%s)::pg_catalog.int8, CASE WHEN $2::pg_catalog.int8 OPERATOR(pg_catalog.>) 0 THEN
		$2::pg_catalog.int8 END) AS m FROM %s) x WHERE m OPERATOR(pg_catalog.>=) (SELECT CASE WHEN is_called THEN
		last_value OPERATOR(pg_catalog.+) 1 ELSE last_value END FROM %s)`,
		quote(t.Locator), d.table(t), s.name), s.name, past)
}

// Orphans is an anti-join.
func (d *Database) Orphans(ctx context.Context, t *schema.Table, r schema.Relation) (int64, error) {
	var given, same []string
	for i, c := range r.Columns {
		given = append(given, "c."+quote(c)+" IS NOT NULL")
		same = append(same, fmt.Sprintf("p.%s %s c.%s", quote(r.ParentColumns[i]), d.equals(t.Column(c)), quote(c)))
	}
	return d.one(ctx, fmt.Sprintf("SELECT pg_catalog.count(*) FROM %s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p "+
		"WHERE %s)",
		d.table(t), strings.Join(given, " AND "), d.relationName(&r), strings.Join(same, " AND ")))
}

// Rows is that of the Reader.
func (d *Database) Rows(ctx context.Context, t *schema.Table, shown []engine.DisplayColumn,
	w engine.Window) ([][]*string, error) {
	selected := make([]string, len(shown))
	for i, s := range shown {
		selected[i] = "(" + d.expression("t", s, 0) + ")::pg_catalog.text"
	}
	var rows [][]*string
	// behind t, since the names alone would be those of the texts that are selected
	clauses := w.Clauses(t, func(c string) string { return "t." + quote(c) }, "OPERATOR(pg_catalog.>=)")
	query := fmt.Sprintf("SELECT %s FROM %s t %s", strings.Join(selected, ", "), d.table(t), clauses)
	err := d.each(ctx, query, func(row pgx.Rows) error {
		cells := make([]*string, len(shown))
		into := make([]any, len(shown))
		for i := range cells {
			into[i] = &cells[i]
		}
		err := row.Scan(into...)
		rows = append(rows, cells)
		return err
	})
	return rows, err
}

// expression is the SQL for a shown column of the table that goes by alias.
func (d *Database) expression(alias string, s engine.DisplayColumn, depth int) string {
	own := alias + "." + quote(s.Column)
	if len(s.Names) == 0 {
		return own
	}
	parent := fmt.Sprintf("p%d", depth)
	names := make([]string, len(s.Names))
	for i, name := range s.Names {
		names[i] = "(" + d.expression(parent, name, depth+1) + ")::pg_catalog.text"
	}
	return fmt.Sprintf("SELECT pg_catalog.concat_ws(' · ', %s) FROM %s %s WHERE %s.%s OPERATOR(pg_catalog.=) %s",
		strings.Join(names, ", "),
		d.relationName(s.Relation), parent, parent, quote(s.Relation.ParentColumns[0]), own)
}
