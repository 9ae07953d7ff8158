package cli

import (
	"context"
	"errors"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

// askedTables opens the rows of the query and of the tables that the command line names, each as a table of its own.
func askedTables(ctx context.Context, c *cli.Command) (all []source.Table, err error) {
	query, names := c.String("query"), c.StringSlice("table")
	if query == "" && len(names) == 0 {
		return nil, nil
	}
	if c.String("db") == "" {
		return nil, fault.New(fault.Wrong, "--query and --table read a database, and none is named",
			"name it with --db")
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	defer func() {
		if err != nil {
			for _, t := range all {
				t.Close()
			}
		}
	}()
	take := func(file source.File, query string) error {
		t, err := answer(ctx, db, file, query)
		if err == nil {
			all = append(all, t)
		}
		return err
	}
	if query != "" {
		if err := take(source.File{Path: "query", Query: true}, query); err != nil {
			return nil, err
		}
	}
	for _, name := range names {
		t, err := tableCalled(s, name)
		if err != nil {
			return nil, err
		}
		if err := take(source.File{Path: "table " + t.Name, Query: true, Table: t.Name}, db.SelectAll(t)); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// answer opens the rows of a query.
func answer(ctx context.Context, db engine.Database, file source.File, query string) (source.Table, error) {
	if err := db.Foresee(ctx, query); err != nil {
		var f *fault.Fault
		if errors.As(err, &f) && f.Class == fault.Wrong {
			p := fault.ProblemsOf(err)[0]
			err = fault.New(fault.Wrong, "the query can't be run: "+p.What, p.Do)
		}
		return nil, err
	}
	return source.Rows(source.RowPart{File: file, Each: func(take func([]string, [][]byte) error) error {
		return db.Ask(ctx, query, take)
	}})
}
