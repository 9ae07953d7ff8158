package mysql

import (
	"context"
	"database/sql"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
)

var (
	_ engine.Truster = (*tx)(nil)
	_ engine.Keeper  = (*tx)(nil)
)

// Trust has the server look up no parents of rows that are added to tables, which takes about a fifth of the time of
// adding them: nobody else can remove parents, since their tables are locked. It does so where the server does it at all,
// where all relations of a table are known, and no trigger adds rows to another one.
func (t *tx) Trust(ctx context.Context, tables []*schema.Table) error {
	if err := t.Settle(); err != nil {
		return err
	}
	if t.db.node != nil { // which locks nothing
		return nil
	}
	on, err := t.db.one(ctx, "SELECT @@foreign_key_checks")
	if err != nil || on == 0 {
		return err
	}
	relations := map[string]int{}
	err = t.db.each(ctx, "SELECT table_name FROM information_schema.table_constraints WHERE constraint_schema = database() AND "+
		"constraint_type = 'FOREIGN KEY'", func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		relations[name]++
		return err
	})
	for _, table := range tables {
		if len(table.Triggers) == 0 && len(table.Declared()) == relations[table.Name] && relations[table.Name] > 0 {
			t.trusted = append(t.trusted, table)
		}
	}
	return err
}

// ready waits for what is under way, and has the server look up parents, for what isn't adding rows.
func (t *tx) ready(ctx context.Context) error {
	if err := t.Settle(); err != nil {
		return err
	}
	return t.follow(ctx, nil)
}

// follow has the server look up the parents of rows that are written next, unless they are added to a trusted table
// (dev.mysql.com/doc/refman/8.0/en/server-system-variables.html#sysvar_foreign_key_checks).
func (t *tx) follow(ctx context.Context, added *schema.Table) error {
	trust := slices.Contains(t.trusted, added)
	if trust == t.trusting {
		return nil
	}
	if err := t.Settle(); err != nil {
		return err
	}
	t.trusting = trust
	if trust {
		return t.db.exec(ctx, "SET foreign_key_checks = 0")
	}
	return t.db.exec(ctx, "SET foreign_key_checks = 1")
}

// Keeps asks what a relation does when a parent goes: a statement that is refused is taken back by itself.
func (t *tx) Keeps(ctx context.Context, child *schema.Table, r *schema.Relation) (bool, error) {
	if err := t.ready(ctx); err != nil || !r.Enforced() || r.Name == "" {
		return false, err
	}
	n, err := t.db.one(ctx, "SELECT count(*) FROM information_schema.referential_constraints WHERE constraint_schema = database() "+
		"AND table_name = ? AND constraint_name = ? AND delete_rule IN ('NO ACTION', 'RESTRICT') AND @@foreign_key_checks",
		child.Name, r.Name)
	return n > 0, err
}
