package alter

import (
	"fmt"
	"strconv"
	"strings"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/engine"
	"ladle/internal/core/value"
)

// mostNamed is the number of rows, or values, that are named.
const mostNamed = 3

// ask returns the rows of a query.
func (m *maker) ask(query string) (rows [][]string, err error) {
	err = m.db.Ask(m.ctx, query, engine.OnlyRows(func(_ []string, row [][]byte) error {
		cells := make([]string, len(row))
		for i, c := range row {
			cells[i] = "NULL"
			if c != nil {
				cells[i] = string(c)
			}
		}
		rows = append(rows, cells)
		return nil
	}))
	return rows, err
}

// count counts the rows of a table for which a condition holds.
func (m *maker) count(table, condition string) (int64, error) {
	rows, err := m.ask(fmt.Sprintf("SELECT count(*) FROM %s WHERE %s", m.Table(table), condition))
	if err != nil || len(rows) != 1 {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// named names the first rows of a table for which a condition holds, by the columns by which people know them.
func (m *maker) named(t *dictionary.Table, condition string) (string, error) {
	columns := t.Primary
	if known := t.KnownBy(); known != nil {
		columns = known[0]
	}
	if columns == nil {
		columns = []string{t.Columns[0].Name}
	}
	rows, err := m.ask(fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s LIMIT %d", m.Names(columns), m.Table(t.Name),
		condition, m.Names(columns), mostNamed+1))
	var names []string
	for i, row := range rows {
		if i == mostNamed {
			names = append(names, "...")
			break
		}
		names = append(names, strings.Join(columns, ", ")+" "+strings.Join(row, ", "))
	}
	return strings.Join(names, "; "), err
}

// unfit counts the rows whose value of a column is none of a type.
func (m *maker) unfit(table, column string, to value.Type) (n int64, err error) {
	err = m.db.Scan(m.ctx, m.schema.Table(table), []string{column}, func(b *value.Batch) error {
		c := &b.Columns[0]
		for row, state := range c.States {
			if state == value.Bad || state == value.Given && !fits(to, c.AppendText(nil, row)) {
				n++
			}
		}
		return nil
	})
	return n, err
}

// setsItself reports whether a column of MySQL gets the time of each update.
func (m *maker) setsItself(table, column string) bool {
	rows, err := m.ask("SELECT count(*) FROM information_schema.columns WHERE table_schema = database() AND table_name = " +
		m.text(table) + " AND column_name = " + m.text(column) + " AND extra LIKE '%on update%'")
	return err == nil && len(rows) == 1 && rows[0][0] != "0"
}

// isIndex reports whether a key of PostgreSQL is a unique index that belongs to no constraint.
func (m *maker) isIndex(table, name string) bool {
	rows, err := m.ask("SELECT count(*) FROM pg_catalog.pg_constraint WHERE conname = " + m.text(name) +
		" AND conrelid = " + m.text(m.Table(table)) + "::regclass")
	return err == nil && len(rows) == 1 && rows[0][0] == "0"
}
