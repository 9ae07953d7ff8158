package postgres

import (
	"fmt"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// removeEqual is the statement that removes, for each of the whole rows in its parameters, one row that is equal to it.
// Rows are compared as texts, and told apart by where the server keeps them, which nobody changes while the table is
// locked (postgresql.org/docs/current/ddl-system-columns.html).
func (d *Database) removeEqual(t *schema.Table) string {
	columns := t.Kept()
	sent, kept := make([]string, len(columns)), make([]string, len(columns))
	for i, name := range columns {
		sent[i], kept[i] = exactly(t.Column(name), d.cast(t, name, i)), exactly(t.Column(name), "t."+quote(name))
	}
	return fmt.Sprintf(`WITH gone AS (SELECT %s AS r, pg_catalog.count(*) AS k FROM %s GROUP BY 1),
		there AS (SELECT t.tableoid AS o, t.ctid AS c, g.k, pg_catalog.row_number() OVER (PARTITION BY g.r) AS n
		FROM %s t JOIN gone g ON g.r OPERATOR(pg_catalog.=) %s)
		DELETE FROM %s t USING there h WHERE t.ctid OPERATOR(pg_catalog.=) h.c AND t.tableoid OPERATOR(pg_catalog.=) h.o
		AND h.n OPERATOR(pg_catalog.<=) h.k`, asText(sent), unnested(len(columns)), d.table(t), asText(kept), d.table(t))
}

// exactly is a value of a column as a text that no other value of it has: without the zeros behind a number and the
// blanks within JSON, which are not kept of it.
func exactly(c *schema.Column, expression string) string {
	switch {
	case c.Type.Kind == value.Decimal:
		return "pg_catalog.trim_scale((" + expression + ")::pg_catalog.numeric)::pg_catalog.text"
	case c.Type.Storage == value.AsJSON:
		return "(" + expression + ")::pg_catalog.jsonb::pg_catalog.text"
	}
	return "(" + expression + ")::pg_catalog.text"
}

// asText is a row of texts as one text, which no other row has.
func asText(texts []string) string {
	return "ROW(" + strings.Join(texts, ", ") + `)::pg_catalog.text COLLATE pg_catalog."C"`
}
