package alter

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/propose"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// keys compares primary and unique keys.
func (m *maker) keys(is, want *dictionary.Table) error {
	if !slices.Equal(is.Primary, want.Primary) {
		if is.Primary != nil {
			c := m.change(dropsKeys, &Change{Table: is.Name, Does: "the primary key " + strings.Join(is.Primary,
				", ") + " is dropped",
				Statements: []string{m.dropKey(is.Name, is.Primary, true)}})
			if len(is.PointedBy) > 0 {
				c.Refused = is.PointedBy[0].Table + " refers to this table"
			}
		}
		if want.Primary != nil {
			if err := m.addKey(is, want, want.Primary, "PRIMARY KEY"); err != nil {
				return err
			}
		}
	}
	equal := func(k []string) func([]string) bool {
		return func(o []string) bool { return slices.Equal(k, o) }
	}
	for _, k := range is.Keys {
		if !slices.ContainsFunc(want.Keys, equal(k)) {
			m.change(dropsKeys, &Change{Table: is.Name, Does: "the unique key " + strings.Join(k, ", ") + " is dropped",
				Statements: []string{m.dropKey(is.Name, k, false)}})
		}
	}
	for _, k := range want.Keys {
		if !slices.ContainsFunc(is.Keys, equal(k)) {
			if err := m.addKey(is, want, k, "UNIQUE"); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropKey is the statement that drops a key.
func (m *maker) dropKey(table string, columns []string, primary bool) string {
	name := ""
	for _, k := range m.schema.Table(table).Keys {
		if slices.Equal(k.Columns, columns) && k.Primary == primary {
			name = k.Name
		}
	}
	begin := "ALTER TABLE " + m.Table(table) + " DROP "
	switch {
	case m.Dialect == propose.MySQL && primary:
		return begin + "PRIMARY KEY"
	case m.Dialect == propose.MySQL:
		return begin + "INDEX " + m.Name(name)
	case m.isIndex(table, name):
		return "DROP INDEX " + m.Name(name)
	}
	return begin + "CONSTRAINT " + m.Name(name)
}

// addKey adds a key that the rows satisfy.
func (m *maker) addKey(is, want *dictionary.Table, key []string, kind string) error {
	c := m.change(addsKeys, &Change{Table: is.Name, Does: strings.ToLower(kind) + " key " + strings.Join(key, ", ")})
	c.Does = strings.Replace(c.Does, "key key", "key", 1)
	c.Statements = []string{"ALTER TABLE " + m.Table(is.Name) + " ADD " + kind + " (" + m.Names(key) + ")"}
	if c.Refused = unknown(want, key); c.Refused != "" || fresh(is, key) {
		return nil
	}
	given := ""
	for i, k := range key {
		if i > 0 {
			given += " AND "
		}
		given += m.Name(k) + " IS NOT NULL"
	}
	rows, err := m.ask(fmt.Sprintf("SELECT %s, count(*) FROM %s WHERE %s GROUP BY %s HAVING count(*) > 1", m.Names(key),
		m.Table(is.Name), given, m.Names(key)))
	if err != nil || len(rows) == 0 {
		return err
	}
	var names []string
	for _, row := range rows[:min(mostNamed, len(rows))] {
		names = append(names, fmt.Sprintf("%s (%s times)", strings.Join(row[:len(key)], ", "), row[len(key)]))
	}
	n := int64(len(rows))
	c.Refused = fmt.Sprintf("%s %s not unique: %s", reason.Plural(n, "value"), reason.Verb(n, "is", "are"),
		strings.Join(names, "; "))
	return nil
}

// unknown names a column of a key that a table doesn't have; "" where there is none.
func unknown(t *dictionary.Table, columns []string) string {
	for _, c := range columns {
		if columnOf(t, c) == nil {
			return fmt.Sprintf("there is no column %s", c)
		}
	}
	return ""
}

// fresh reports whether one of the columns is new, so that no row has a value in it yet.
func fresh(is *dictionary.Table, columns []string) bool {
	return slices.ContainsFunc(columns, func(c string) bool { return columnOf(is, c) == nil })
}

// checks compares CHECK constraints by what they say.
func (m *maker) checks(is, want *dictionary.Table) error {
	says := func(c schema.Check) func(schema.Check) bool {
		return func(o schema.Check) bool { return enclosed(o.Says) == enclosed(c.Says) }
	}
	for _, c := range is.Checks {
		if !slices.ContainsFunc(want.Checks, says(c)) {
			m.change(dropsKeys, &Change{Table: is.Name, Does: "the CHECK " + c.Says + " is dropped", Statements: []string{
				"ALTER TABLE " + m.Table(is.Name) + " DROP CONSTRAINT " + m.Name(c.Name)}})
		}
	}
	for _, c := range want.Checks {
		if slices.ContainsFunc(is.Checks, says(c)) {
			continue
		}
		change := m.change(addsChecks, &Change{Table: is.Name, Does: "CHECK " + c.Says,
			Statements: []string{"ALTER TABLE " + m.Table(is.Name) + " ADD " + m.check(c)}})
		n, err := m.count(is.Name, "NOT "+enclosed(c.Says))
		switch {
		case err != nil && m.ctx.Err() != nil:
			return err
		case err != nil: // it may speak of a column that is new
			change.Does += "; the database could not ask it of the rows there are"
		case n > 0:
			names, err := m.named(is, "NOT "+enclosed(c.Says))
			if err != nil {
				return err
			}
			change.Refused = fmt.Sprintf("it is false for %s: %s", reason.Plural(n, "row"), names)
		}
	}
	return nil
}

// relations compares foreign keys.
func (m *maker) relations(is, want *dictionary.Table) error {
	same := func(r schema.Reference) func(schema.Reference) bool {
		return func(o schema.Reference) bool {
			return o.Table == r.Table && slices.Equal(o.Columns, r.Columns) && slices.Equal(o.Keys, r.Keys)
		}
	}
	for _, r := range is.PointsAt {
		if !slices.ContainsFunc(want.PointsAt, same(r)) {
			m.change(dropsRelations, &Change{Table: is.Name, Does: "no longer refers to " + r.Table + " by " +
				strings.Join(r.Columns, ", "), Statements: []string{m.dropRelation(is.Name, r)}})
		}
	}
	for _, r := range want.PointsAt {
		if slices.ContainsFunc(is.PointsAt, same(r)) {
			continue
		}
		c := m.change(addsRelations, &Change{Table: is.Name, Does: "refers to " + r.Table + " by " + strings.Join(r.Columns,
			", "),
			Statements: []string{"ALTER TABLE " + m.Table(is.Name) + " ADD " + m.foreignKey(r)}})
		if err := m.askRelation(is, r, c); err != nil {
			return err
		}
	}
	return nil
}

// askRelation refuses a relation that rows break.
func (m *maker) askRelation(is *dictionary.Table, r schema.Reference, c *Change) error {
	parent := m.schema.Table(r.Table)
	if parent == nil {
		planned := tableOf(m.plan, r.Table)
		n, err := m.count(is.Name, m.Name(r.Columns[0])+" IS NOT NULL")
		switch {
		case planned == nil:
			c.Refused = "there is no table " + r.Table
		case err == nil && n > 0 && len(planned.Lookups) == 0:
			c.Refused = fmt.Sprintf("%s of %s would refer to %s, which is new and empty", reason.Plural(n, "row"), is.Name,
				r.Table)
		}
		return err
	}
	if fresh(is, r.Columns) {
		return nil
	}
	var given, equal []string
	for i, column := range r.Columns {
		given = append(given, "c."+m.Name(column)+" IS NOT NULL")
		equal = append(equal, "p."+m.Name(r.Keys[i])+" = c."+m.Name(column))
	}
	var own []string
	for _, column := range r.Columns {
		own = append(own, "c."+m.Name(column))
	}
	rows, err := m.ask(fmt.Sprintf("SELECT %s, count(*) FROM %s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p WHERE %s) GROUP BY %s",
		strings.Join(own, ", "), m.Table(is.Name), strings.Join(given, " AND "), m.Table(r.Table), strings.Join(equal,
			" AND "),
		strings.Join(own, ", ")))
	if err != nil || len(rows) == 0 {
		return err
	}
	var names []string
	for _, row := range rows[:min(mostNamed, len(rows))] {
		names = append(names, strings.Join(row[:len(r.Columns)], ", "))
	}
	n := int64(len(rows))
	c.Refused = fmt.Sprintf("%s %s no row of %s: %s", reason.Plural(n, "value"), reason.Verb(n, "finds", "find"), r.Table,
		strings.Join(names, "; "))
	return nil
}

// dropRelation is the statement that drops a foreign key.
func (m *maker) dropRelation(table string, r schema.Reference) string {
	name := ""
	for _, o := range m.schema.Table(table).Relations {
		if o.Parent == r.Table && slices.Equal(o.Columns, r.Columns) {
			name = o.Name
		}
	}
	if m.Dialect == propose.MySQL {
		return "ALTER TABLE " + m.Table(table) + " DROP FOREIGN KEY " + m.Name(name)
	}
	return "ALTER TABLE " + m.Table(table) + " DROP CONSTRAINT " + m.Name(name)
}
