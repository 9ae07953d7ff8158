package cli

import (
	"context"
	"io"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/whole"
	"ladle/internal/page"
	"ladle/internal/term"
)

func dictionaryCommand() *command {
	return &command{
		name: "dictionary", phase: looking,
		does: "describe the tables of a database: columns, types, keys, relations, CHECK constraints, comments, rows",
		about: "The workbook has a sheet for tables, columns, relations and CHECK constraints, with filters; changed, " +
			"it is a plan for ladle propose --plan. With --values, all rows are read too: how many cells are blank, how " +
			"many values there are, the least and greatest, the greatest length against that of the column, examples, and the rows of small lookup tables. Without -o it is " +
			"Markdown, on standard output.",
		options: []option{databaseOption(),
			{name: "table", value: "NAME", group: groupOutput, list: true, does: "describe only the table NAME"},
			{name: "values", group: groupOutput, does: "say what is in each column, which reads all rows"},
			{name: "output", short: "o", value: "FILE", group: groupOutput, check: dictionaryCheck,
				does: "write it to FILE (.xlsx, .csv, .md or .html)"},
			replaceOption(), jsonOption()},
		examples: []example{
			{"A workbook of all tables", "ladle dictionary --db port-merrow/harbour.db -o port-merrow/dictionary.xlsx"},
			{"One table, with what is in it", "ladle dictionary --db port-merrow/harbour.db --table berth --values"},
		},
		run: runDictionary,
	}
}

// dictionaryWriters write a dictionary, by the end of the name of its file.
var dictionaryWriters = map[string]func(io.Writer, *dictionary.Dictionary) error{
	".xlsx": func(to io.Writer, d *dictionary.Dictionary) error { return d.Workbook(to) },
	".csv":  func(to io.Writer, d *dictionary.Dictionary) error { return d.CSV(to) },
	".md":   func(to io.Writer, d *dictionary.Dictionary) error { return d.Markdown(to) },
	".html": func(to io.Writer, d *dictionary.Dictionary) error { return page.Dictionary(to, d, Version) },
}

func dictionaryCheck(path string) error {
	if dictionaryWriters[strings.ToLower(filepath.Ext(path))] == nil {
		return fault.InvalidValue{What: "can't be \"" + path + "\"",
			Do: "give it a name that ends in .xlsx, .csv, .md or .html"}
	}
	return nil
}

func runDictionary(ctx context.Context, c *cli.Command) error {
	out := c.String("output")
	if out != "" {
		if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
			return err
		}
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	progress := term.NewProgress()
	defer progress.Clear()
	o := dictionary.Options{Values: c.Bool("values"), Progress: func(table string, done, of int) {
		progress.Show("reading "+table, int64(done), int64(of), "tables")
	}}
	if names := c.StringSlice("table"); len(names) > 0 {
		o.Tables = names
	}
	d, err := dictionary.Make(ctx, db, s, o)
	if err != nil {
		return err
	}
	progress.Clear()
	if out != "" {
		err := whole.Write(out, func(to io.Writer) error {
			return dictionaryWriters[strings.ToLower(filepath.Ext(out))](to, d)
		})
		if err != nil {
			return fault.Because(fault.Failed, err, fault.Problem{File: out, What: "it can't be written: " + err.Error()})
		}
	}
	switch {
	case c.Bool("json"):
		return printDocument(term.Stdout, newHead("dictionary", "described", done), d)
	case out == "":
		return d.Markdown(term.Stdout)
	}
	term.NewScreen(term.Stdout).Line("%s was written: %s.", out, reason.Plural(int64(len(d.Tables)), "table"))
	return nil
}
