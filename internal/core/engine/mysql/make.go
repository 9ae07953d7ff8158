package mysql

import (
	"context"
	"errors"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// NameOf is that of the Database.
func (d *Database) NameOf(t *schema.Table) string { return quote(t.Name) }

// Restructure runs the statements, each of which commits by itself
// (dev.mysql.com/doc/refman/8.0/en/implicit-commit.html): under the locks, or, where none are needed, before the
// transaction begins, since no table can be made under locks.
func (d *Database) Restructure(ctx context.Context, r engine.Restructuring) (engine.Tx, error) {
	if r.Lock == nil {
		backs, err := d.execAll(ctx, r.Statements)
		if err != nil {
			return nil, errors.Join(err, d.takeBack(ctx, backs))
		}
		t, err := d.Begin(ctx, nil, r.Own, engine.Careful)
		if err != nil {
			return nil, errors.Join(err, d.takeBack(ctx, backs))
		}
		return &restructured{t, d, backs}, nil
	}
	if d.node != nil {
		return nil, fault.At(fault.Failed, fault.Problem{File: d.name, What: "tables can't be dropped here: this is a node of a " +
			"Galera cluster, and the locks that keep others from writing to them hold on one node only",
			Do: "drop them yourself when nobody writes to them"})
	}
	t, err := d.Begin(ctx, r.Lock, r.Own, engine.Careful)
	if err != nil {
		return nil, err
	}
	made := &restructured{Tx: t, db: d}
	if r.May != nil {
		err = r.May(t)
	}
	if err == nil {
		made.backs, err = d.execAll(ctx, r.Statements)
	}
	if err != nil {
		return nil, errors.Join(err, made.Rollback())
	}
	return made, nil
}

// execAll runs statements, and returns what takes back those that ran, in the order of doing so.
func (d *Database) execAll(ctx context.Context, all []engine.Statement) (backs []string, err error) {
	for _, s := range all {
		if err := d.exec(ctx, s.SQL); err != nil {
			return backs, err
		}
		backs = append(slices.Clone(s.Back), backs...)
	}
	return backs, nil
}

// takeBack runs statements, also when the program is interrupted.
func (d *Database) takeBack(ctx context.Context, backs []string) (err error) {
	for _, s := range backs {
		err = errors.Join(err, d.exec(context.WithoutCancel(ctx), s))
	}
	return err
}

// restructured is a transaction behind statements that Rollback takes back.
type restructured struct {
	engine.Tx
	db    *Database
	backs []string
}

// Commit leaves the tables as they are where it took place, and where no answer says whether it did.
func (r *restructured) Commit(ctx context.Context) error {
	err := r.Tx.Commit(ctx)
	if err == nil || fault.ClassOf(err) == fault.Unknown {
		r.backs = nil
	}
	return err
}

func (r *restructured) Rollback() error {
	err := errors.Join(r.Tx.Rollback(), r.db.takeBack(context.Background(), r.backs))
	r.backs = nil
	return err
}
