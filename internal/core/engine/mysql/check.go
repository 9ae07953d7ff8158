package mysql

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Broken asks for the condition of rows that come as a JSON document, in the types and collations of their columns.
// Rows with bytes in them can't come so.
func (d *Database) Broken(ctx context.Context, t *schema.Table, c schema.Check, columns []string,
	rows *value.Batch) (broken []engine.Rejection, err error) {
	kinds := engine.Types(t, columns)
	if slices.ContainsFunc(kinds, func(k value.Type) bool { return k.Kind == value.Bytes }) {
		return nil, nil
	}
	defined := []string{"`ladle n` FOR ORDINALITY"}
	for i, name := range columns {
		defined = append(defined, fmt.Sprintf("%s %s PATH '$[%d]'", quote(name), inJSON(t.Column(name)), i))
	}
	query := fmt.Sprintf("SELECT `ladle n` FROM JSON_TABLE(?, '$[*]' COLUMNS (%s)) r WHERE NOT (%s) ORDER BY 1",
		strings.Join(defined, ", "), c.Condition)
	err = d.readOnly(ctx, func() error {
		document, err := json.Marshal(jsonRows(rows, kinds))
		if err != nil {
			return err
		}
		return d.each(ctx, query, func(row *sql.Rows) error {
			var n int
			err := row.Scan(&n)
			broken = append(broken, engine.Rejection{Row: n - 1})
			return err
		}, string(document))
	})
	if errors.As(err, new(*mysql.MySQLError)) { // it can be judged only when a row is written
		return nil, nil
	}
	return broken, err
}

// inJSON is the type of a column of JSON_TABLE for values of a column.
func inJSON(c *schema.Column) string {
	declared, collate := c.Declared, ""
	if c.Type.Kind == value.Text && (c.Type.Among != nil || c.Type.Storage != value.AsIs) {
		declared = "LONGTEXT"
	}
	if c.Collation != "" {
		charset, _, _ := strings.Cut(c.Collation, "_")
		collate = " CHARACTER SET " + charset + " COLLATE " + c.Collation
	}
	return declared + collate
}

// jsonRows are rows as arrays of texts.
func jsonRows(rows *value.Batch, kinds []value.Type) [][]*string {
	all := make([][]*string, rows.Len())
	for i := range all {
		all[i] = make([]*string, len(kinds))
		for k, t := range kinds {
			column := &rows.Columns[k]
			if column.States[i] != value.Given {
				continue
			}
			text := string(column.AppendText(nil, i))
			if t.Kind == value.Bool {
				text = fmt.Sprint(column.Nums[i])
			}
			all[i][k] = &text
		}
	}
	return all
}
