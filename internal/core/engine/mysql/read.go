package mysql

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// ColumnsOf asks the catalogue, once.
func (d *Database) ColumnsOf(ctx context.Context, t *schema.Table) ([]string, error) {
	return d.own.Of(t, func() ([]string, error) { return d.columnsOf(ctx, t) })
}

func (d *Database) columnsOf(ctx context.Context, t *schema.Table) (names []string, err error) {
	err = d.each(ctx, "SELECT column_name FROM information_schema.columns WHERE table_schema = database() AND "+
		"table_name = ?", func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		names = append(names, name)
		return err
	}, t.Name)
	return names, err
}

// countable is the number of rows up to which a table is counted in any case; InnoDB reads all of an index to count.
const countable = 1_000_000

// Count counts the rows, or takes the server's estimate and what was sent since for a large table.
func (d *Database) Count(ctx context.Context, t *schema.Table) (n int64, exact bool, err error) {
	if len(t.Triggers) == 0 && t.Locator != "" {
		n, err = d.one(ctx, "SELECT table_rows FROM information_schema.tables WHERE table_schema = database() AND "+
			"table_name = ?", t.Name)
		if n += d.sent[t.Name]; err != nil || n > countable {
			return n, false, err
		}
	}
	n, err = d.one(ctx, "SELECT count(*) FROM "+quote(t.Name)+byPrimary(t))
	return n, true, err
}

// byPrimary has rows counted in the primary key, where they stand themselves. In any other index, InnoDB must go from each
// row that this transaction wrote to the row itself, to see whether it may be seen
// (mariadb.com/kb/en/index-hints-how-to-force-query-plans).
func byPrimary(t *schema.Table) string {
	if slices.ContainsFunc(t.Keys, func(k schema.Key) bool { return k.Primary }) {
		return " FORCE INDEX (PRIMARY)"
	}
	return ""
}

// CountFrom reads a part of the table.
func (d *Database) CountFrom(ctx context.Context, t *schema.Table, first int64) (int64, error) {
	return d.one(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE %s >= %d", quote(t.Name), quote(t.Locator), first))
}

// Scan streams the table.
func (d *Database) Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error {
	return d.stream(ctx, t, columns, sink, "SELECT "+quoted(columns)+" FROM "+quote(t.Name))
}

// Among reads the table.
func (d *Database) Among(ctx context.Context, t *schema.Table, condition string, columns []string,
	sink func(*value.Batch) error) error {
	return d.stream(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE (%s\n)", quoted(columns), quote(t.Name),
		condition))
}

// Between reads a part of an index.
func (d *Database) Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string,
	sink func(*value.Batch) error) error {
	return d.stream(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE %s BETWEEN %d AND %d ORDER BY %s",
		quoted(columns), quote(t.Name), quote(column), least, most, quote(column)))
}

// stream returns the rows of a query, whose columns are those of t, to sink.
func (d *Database) stream(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error,
	query string) error {
	kinds := engine.Types(t, columns)
	return engine.Stream(kinds, func(give func([][]byte) error) error {
		rows, err := d.conn.QueryContext(ctx, query)
		if err != nil {
			return d.explain(err)
		}
		defer rows.Close()
		cells, into, row := make([]sql.RawBytes, len(columns)), make([]any, len(columns)), make([][]byte, len(columns))
		for i := range cells {
			into[i] = &cells[i]
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				return d.explain(err)
			}
			for i, cell := range cells {
				row[i] = cell
			}
			if err := give(row); err != nil {
				return err
			}
		}
		return d.explain(rows.Err())
	}, func(to *value.Column, column int, cell []byte) { read(to, kinds[column], cell) }, sink)
}

// Probe puts the keys into a temporary table with the same types and collations, and joins it, unless there is just one.
func (d *Database) Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
	sink func(*value.Batch) error) error {
	if condition := single(t, by, keys); condition != "" {
		return d.stream(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s WHERE %s", quoted(columns), quote(t.Name), condition))
	}
	if err := d.stage(ctx, wanted, t, by, keys); err != nil {
		return d.explain(err)
	}
	var selected []string
	for _, name := range columns {
		selected = append(selected, quote(t.Name)+"."+quote(name))
	}
	return d.stream(ctx, t, columns, sink, fmt.Sprintf("SELECT %s FROM %s w STRAIGHT_JOIN %s ON %s ORDER BY w.n",
		strings.Join(selected, ", "), wanted, quote(t.Name), on(t, by)))
}

// single is the condition for rows with the one key that is looked for, made of whole numbers and plain texts; "" for other keys.
func single(t *schema.Table, by []string, keys *value.Batch) string {
	if keys.Len() != 1 {
		return ""
	}
	kinds := engine.Types(t, by)
	same := make([]string, len(by))
	for i, name := range by {
		c := &keys.Columns[i]
		switch {
		case c.States[0] != value.Given || c.Kind != kinds[i].Kind:
			return ""
		case c.Kind == value.Int:
			same[i] = quote(name) + " = " + strconv.FormatInt(c.Nums[0], 10)
		case kinds[i].IsPlainText() && text.Plain(c.Bytes(0)):
			same[i] = quote(name) + " = " + string(appendLiteral(nil, c.Bytes(0)))
		default:
			return ""
		}
	}
	return strings.Join(same, " AND ")
}

// The temporary tables in which rows wait: keys that are looked up, and rows that are updated.
const (
	wanted  = "ladle_wanted"
	changed = "ladle_changed"
)

// on says that the columns by of t are the first ones of the staged table w.
func on(t *schema.Table, by []string) string {
	same := make([]string, len(by))
	for i, name := range by {
		same[i] = fmt.Sprintf("%s.%s = w.v%d", quote(t.Name), quote(name), i)
	}
	return strings.Join(same, " AND ")
}

// stage puts rows into a temporary table whose columns v0 and so on are of the types and collations of columns of t; n
// numbers them.
func (d *Database) stage(ctx context.Context, table string, t *schema.Table, columns []string,
	rows *value.Batch) error {
	names, kinds := []string{"n"}, []value.Type{{Kind: value.Int}}
	lines := []string{"n BIGINT PRIMARY KEY"}
	for i, name := range columns {
		c := t.Column(name)
		collate := ""
		if c.Collation != "" {
			collate = " COLLATE " + c.Collation
		}
		lines = append(lines, fmt.Sprintf("v%d %s%s NULL", i, c.Declared, collate))
		names, kinds = append(names, fmt.Sprintf("v%d", i)), append(kinds, c.Type)
	}
	if err := d.exec(ctx, "DROP TEMPORARY TABLE IF EXISTS "+table); err != nil {
		return err
	}
	if err := d.exec(ctx, "CREATE TEMPORARY TABLE "+table+" ("+strings.Join(lines, ", ")+
		") ENGINE = InnoDB"); err != nil {
		return err
	}
	numbered := &value.Batch{Columns: append([]value.Column{{Kind: value.Int}}, rows.Columns[:len(columns)]...)}
	for i := range rows.Len() {
		numbered.Columns[0].AppendNum(int64(i))
	}
	for start := 0; start < rows.Len(); start += engine.BatchRows {
		end := min(start+engine.BatchRows, rows.Len())
		if err := d.send(ctx, table, names, kinds, numbered, start, end); err != nil {
			return err
		}
	}
	return nil
}

// manyWeights is the number of texts of a collation whose weights are kept.
const manyWeights = 200_000

// Fold asks the server for the weights by which the collation compares. Weights that were asked for are kept.
func (d *Database) Fold(ctx context.Context, c *schema.Column, values *value.Column) (*value.Column, error) {
	if c.Collation == "" {
		return values, nil
	}
	d.folding.Lock()
	defer d.folding.Unlock()
	known := d.weights[c.Collation]
	if known == nil || len(known) > manyWeights {
		known = map[string][]byte{}
		d.weights[c.Collation] = known
	}
	folded := &value.Column{Kind: value.Text}
	if asked := fold(values, c.Collation, known, folded); asked != nil {
		if err := d.weigh(ctx, c.Collation, asked, known); err != nil {
			return nil, err
		}
		folded.Reset()
		fold(values, c.Collation, known, folded)
	}
	return folded, nil
}

// fold adds the known weight of each value to folded, and returns the texts whose weights are not known; they are taken
// for known from then on.
func fold(values *value.Column, collation string, known map[string][]byte, folded *value.Column) (asked []string) {
	simple, padded := generalWeights[collation], passesOverBlanks(collation)
	if simple {
		folded.Data = slices.Grow(folded.Data, 2*len(values.Data))
	}
	folded.States, folded.Ends = slices.Grow(folded.States, values.Len()), slices.Grow(folded.Ends, values.Len())
	var buf []byte
	for i, state := range values.States {
		if state != value.Given {
			folded.AppendState(state)
			continue
		}
		text := values.Bytes(i)
		if padded {
			text = bytes.TrimRight(text, " ")
		}
		if simple && plain(text) {
			buf = appendWeight(buf[:0], text)
			folded.AppendBytes(buf)
			continue
		}
		weight, ok := known[string(text)]
		if !ok {
			known[string(text)] = nil
			asked = append(asked, string(text))
		}
		folded.AppendBytes(weight)
	}
	return asked
}

// generalWeights are the collations that weigh a character of ASCII by two bytes, those of its capital letter, whatever
// stands beside it (dev.mysql.com/doc/refman/8.0/en/charset-unicode-sets.html), so that nobody must be asked for them.
var generalWeights = map[string]bool{"utf8mb4_general_ci": true, "utf8mb3_general_ci": true, "utf8_general_ci": true,
	"utf8mb4_general_nopad_ci": true, "utf8mb3_general_nopad_ci": true}

// plain reports whether a text is of printable characters of ASCII only.
func plain(text []byte) bool {
	for _, c := range text {
		if c < ' ' || c > '~' {
			return false
		}
	}
	return true
}

// appendWeight adds the weight of a plain text.
func appendWeight(b, text []byte) []byte {
	for _, c := range text {
		if 'a' <= c && c <= 'z' {
			c -= 'a' - 'A'
		}
		b = append(b, 0, c)
	}
	return b
}

// passesOverBlanks reports whether a collation passes over blanks at the end of a text when it compares, as most do;
// WEIGHT_STRING weighs them.
func passesOverBlanks(collation string) bool {
	return !strings.Contains(collation, "nopad") && !strings.Contains(collation, "_0900_")
}

// weigh asks for the weights of texts, all in one query.
func (d *Database) weigh(ctx context.Context, collation string, texts []string, known map[string][]byte) error {
	if len(texts) == 0 {
		return nil
	}
	list, err := json.Marshal(texts)
	if err == nil && d.weigher == nil {
		d.weigher, err = d.pool.Conn(ctx)
	}
	if err != nil {
		return d.explain(err)
	}
	charset, _, _ := strings.Cut(collation, "_")
	at := 0
	query := fmt.Sprintf("SELECT WEIGHT_STRING(CONVERT(v USING %s) COLLATE %s) FROM JSON_TABLE(?, '$[*]' COLUMNS (n "+
		"FOR ORDINALITY, "+
		"v LONGTEXT CHARACTER SET utf8mb4 PATH '$')) j ORDER BY n", charset, collation)
	return d.eachOn(ctx, d.weigher, query, func(row *sql.Rows) error {
		var weight []byte
		err := row.Scan(&weight)
		known[texts[at]] = weight
		at++
		return err
	}, string(list))
}

// reserve returns the numbers behind past, the counter, the largest in the table, and those given in this transaction.
func (d *Database) reserve(ctx context.Context, t *schema.Table, n, past int64) ([]engine.Span, error) {
	if t.Locator == "" || n == 0 {
		return nil, nil
	}
	largest, err := d.one(ctx, fmt.Sprintf("SELECT max(%s) FROM %s", quote(t.Locator), quote(t.Name)))
	if err != nil {
		return nil, err
	}
	next, err := d.one(ctx, "SELECT auto_increment FROM information_schema.tables WHERE table_schema = database() "+
		"AND table_name = ?", t.Name)
	if err != nil {
		return nil, err
	}
	if d.node != nil && !d.rehearse {
		return d.reserveOnNode(t, n, largest, next, past), nil
	}
	if earlier := d.firsts[t.Name]; d.rehearse || earlier > largest && earlier <= next {
		// the counter has passed them, but they are free: rows of a transaction that was rolled back had them, or, in a
		// rehearsal, will have; so that one after the other takes no more than one
		next = earlier
	}
	first := max(largest+1, next, past+1, d.reserved[t.Name]+1)
	if d.reserved[t.Name] == 0 {
		d.firsts[t.Name] = first
	}
	d.reserved[t.Name] = first + n - 1
	return []engine.Span{{First: first, Count: n}}, nil
}

// Orphans is an anti-join.
func (d *Database) Orphans(ctx context.Context, t *schema.Table, r schema.Relation) (int64, error) {
	parent := d.alias(r.ParentTable, 0)
	var given, same []string
	for i, c := range r.Columns {
		own := quote(t.Name) + "." + quote(c)
		given = append(given, own+" IS NOT NULL")
		same = append(same, parent+"."+quote(r.ParentColumns[i])+" = "+own)
	}
	return d.one(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE %s AND NOT EXISTS (SELECT 1 FROM %s %s WHERE %s)",
		quote(t.Name), strings.Join(given, " AND "), quote(r.Parent), parent, strings.Join(same, " AND ")))
}

// Rows is that of the Reader.
func (d *Database) Rows(ctx context.Context, t *schema.Table, shown []engine.DisplayColumn,
	w engine.Window) ([][]*string, error) {
	names := &expressionWriter{Database: d, used: map[*schema.Table]int{}}
	selected := make([]string, len(shown))
	for i, s := range shown {
		selected[i] = names.expression(quote(t.Name), s)
	}
	var rows [][]*string
	query := fmt.Sprintf("SELECT %s FROM %s %s", strings.Join(selected, ", "), quote(t.Name), w.Clauses(t, quote, ">="))
	err := d.each(ctx, query, func(row *sql.Rows) error {
		cells, into := make([]*string, len(shown)), make([]any, len(shown))
		for i := range cells {
			into[i] = &cells[i]
		}
		err := row.Scan(into...)
		rows = append(rows, cells)
		return err
	})
	return rows, err
}

// expressionWriter writes the expressions of one statement and counts how often it uses each table.
type expressionWriter struct {
	*Database
	used map[*schema.Table]int
}

// expression is the SQL for a shown column of the table that goes by alias. A table that the statement uses more often
// than it may is not asked for names.
func (n *expressionWriter) expression(alias string, s engine.DisplayColumn) string {
	own := alias + "." + quote(s.Column)
	if len(s.Names) == 0 || n.used[s.Relation.ParentTable] == aliases {
		return own
	}
	parent := n.alias(s.Relation.ParentTable, n.used[s.Relation.ParentTable])
	n.used[s.Relation.ParentTable]++
	names := make([]string, len(s.Names))
	for i, name := range s.Names {
		names[i] = n.expression(parent, name)
	}
	return fmt.Sprintf("(SELECT concat_ws(' · ', %s) FROM %s %s WHERE %s.%s = %s)", strings.Join(names, ", "),
		quote(s.Relation.Parent), parent, parent, quote(s.Relation.ParentColumns[0]), own)
}
