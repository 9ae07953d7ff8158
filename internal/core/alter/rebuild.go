package alter

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/dictionary"
)

// rebuildAll gives the tables of SQLite whose changes ALTER TABLE can't make statements that rebuild them: a new table
// takes the rows and then the name (sqlite.org/lang_altertable.html, §7).
func (m *maker) rebuildAll(now *dictionary.Dictionary) error {
	for i := range m.plan.Tables {
		want := &m.plan.Tables[i]
		is := tableOf(now, want.Name)
		if is == nil {
			continue
		}
		var changes []*Change
		simple := true
		for _, c := range m.made.Changes {
			if c.Table == want.Name {
				changes = append(changes, c)
				simple = simple && m.simple(is, want, c)
			}
		}
		if simple {
			continue
		}
		for _, c := range changes {
			c.Statements = []string{}
		}
		if err := m.rebuild(is, want, changes); err != nil {
			return err
		}
	}
	return nil
}

// simple reports whether a change is one that ALTER TABLE of SQLite makes: a column that is added, and refers to
// nothing.
func (m *maker) simple(is, want *dictionary.Table, c *Change) bool {
	return c.Column != "" && columnOf(is, c.Column) == nil && columnOf(want, c.Column) != nil
}

// rebuild adds the change that rebuilds a table.
func (m *maker) rebuild(is, want *dictionary.Table, changes []*Change) error {
	c := &Change{Table: want.Name, Does: "the table is rebuilt with these changes"}
	rows, err := m.ask("SELECT sql FROM sqlite_schema WHERE name = " + m.text(want.Name) + " AND type = 'table'")
	if err != nil {
		return err
	}
	w := m.writer
	w.reuses = len(rows) == 1 && !strings.Contains(strings.ToUpper(rows[0][0]), "AUTOINCREMENT")
	actions, err := m.ask("SELECT \"table\", \"on_update\", \"on_delete\" FROM pragma_foreign_key_list(" + m.text(want.Name) +
		") WHERE \"on_update\" <> 'NO ACTION' OR \"on_delete\" <> 'NO ACTION'")
	if err != nil {
		return err
	}
	switch {
	case slices.ContainsFunc(changes, (*Change).Stops):
		return nil // said already
	case len(actions) > 0:
		c.Refused = fmt.Sprintf("its foreign key to %s has an ON UPDATE or ON DELETE action, which a plan doesn't hold; rebuild "+
			"it by hand", actions[0][0])
	default:
		c.Refused = m.cantMake(want)
	}
	var kept []string
	for _, column := range want.Columns {
		if columnOf(is, column.Name) != nil {
			kept = append(kept, column.Name)
		}
	}
	made := *want
	made.Name = "ladle_new_" + want.Name
	c.Statements = []string{w.create(&made, true),
		fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", m.Table(made.Name), m.Names(kept), m.Names(kept),
			m.Table(want.Name)),
		"DROP TABLE " + m.Table(want.Name), "ALTER TABLE " + m.Table(made.Name) + " RENAME TO " + m.Table(want.Name)}
	again, err := m.ask("SELECT sql FROM sqlite_schema WHERE tbl_name = " + m.text(want.Name) +
		" AND type IN ('index', 'trigger') AND sql IS NOT NULL ORDER BY type, name")
	for _, row := range again {
		c.Statements = append(c.Statements, row[0])
	}
	m.change(addsRelations, c)
	return err
}
