package sqlite

import (
	"context"
	"fmt"
	"strings"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Broken puts the rows into a temporary table whose columns have the types and collations of those of t, and asks for
// their condition there.
func (d *Database) Broken(ctx context.Context, t *schema.Table, c schema.Check, columns []string,
	rows *value.Batch) (broken []engine.Rejection, err error) {
	if err := d.tryOut(t, columns, rows); err != nil {
		return nil, err
	}
	defer d.heed(ctx)()
	query := fmt.Sprintf(`SELECT "ladle n" FROM temp.ladle_tried AS %s WHERE NOT (%s`+"\n)", quote(t.Name), c.Condition)
	s, _, err := d.conn.PrepareTransient(query)
	if err != nil { // it can be judged only when a row is written
		return nil, nil
	}
	defer s.Finalize()
	for {
		more, err := s.Step()
		switch {
		case err != nil && sqlite.ErrCode(err).ToPrimary() == sqlite.ResultError:
			return d.brokenEach(ctx, query, rows.Len())
		case err != nil:
			return nil, heeded(ctx, explain(d.path, err))
		case !more:
			return broken, nil
		}
		broken = append(broken, engine.Rejection{Row: s.ColumnInt(0) - 1})
	}
}

// brokenEach asks row by row, since the condition has no result for one of them.
func (d *Database) brokenEach(ctx context.Context, query string, rows int) (broken []engine.Rejection, err error) {
	s, err := d.prepare(query + ` AND "ladle n" = ?1`)
	if err != nil {
		return nil, err
	}
	defer s.Finalize()
	for i := range rows {
		s.BindInt64(1, int64(i+1))
		more, err := s.Step()
		switch {
		case err != nil && sqlite.ErrCode(err).ToPrimary() == sqlite.ResultError:
			broken = append(broken, engine.Rejection{Row: i, Why: words(err)})
		case err != nil:
			return nil, heeded(ctx, explain(d.path, err))
		case more:
			broken = append(broken, engine.Rejection{Row: i})
		}
		_ = s.Reset() // which says once more what Step said
	}
	return broken, nil
}

// tryOut fills temp.ladle_tried with rows of t, numbered from 1.
func (d *Database) tryOut(t *schema.Table, columns []string, rows *value.Batch) error {
	definitions := []string{`"ladle n" INTEGER PRIMARY KEY`}
	for _, name := range columns {
		c := t.Column(name)
		definitions = append(definitions, fmt.Sprintf("%s %s COLLATE %s", quote(name), c.Declared, c.Collation))
	}
	if err := d.exec("DROP TABLE IF EXISTS temp.ladle_tried"); err != nil {
		return err
	}
	if err := d.exec("CREATE TEMP TABLE ladle_tried (" + strings.Join(definitions, ", ") + ")"); err != nil {
		return err
	}
	return d.fill("temp.ladle_tried", t, columns, quotedEach(columns), rows)
}

// fill adds rows, whose columns are those of t, to columns of a temporary table.
func (d *Database) fill(into string, t *schema.Table, columns, names []string, rows *value.Batch) error {
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(columns)), ", ")
	s, err := d.prepare("INSERT INTO " + into + " (" + strings.Join(names, ", ") + ") VALUES (" + marks + ")")
	if err != nil {
		return err
	}
	defer s.Finalize()
	codecs, _ := d.codecs(t, columns)
	for row := range rows.Len() {
		for i := range codecs {
			codecs[i].bind(s, i+1, &rows.Columns[i], row) // what is no value is NULL and equals nothing
		}
		if _, err := s.Step(); err != nil {
			return explain(d.path, err)
		}
		if err := s.Reset(); err != nil {
			return explain(d.path, err)
		}
	}
	return nil
}
