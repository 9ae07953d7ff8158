package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/intake"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/prepare"
)

// otherOption names databases that queries of inputs read.
func otherOption() option {
	return option{name: "other-db", value: "NAME=DATABASE", group: groupDatabase, list: true,
		does: "the database that the ladle file calls NAME, from which a query of an input reads (or set " +
			"LADLE_DB_NAME)",
		check: func(said string) error {
			if name, url, ok := strings.Cut(said, "="); !ok || name == "" || url == "" {
				return fault.InvalidValue{What: "needs a name and a database",
					Do: "write it as NAME=DATABASE, with the name that the ladle file gives it"}
			}
			return nil
		}}
}

// forQueries is the option for the database where only inputs that are queries need it.
func forQueries(o option) option {
	o.needed = false
	o.does += "; for inputs that come from it"
	return o
}

// openOthers opens the databases that queries of a ladle file read. Those that can be opened are closed by the caller.
func openOthers(ctx context.Context, c *cli.Command, file *ladlefile.File) (map[string]engine.Database, error) {
	said := map[string]string{}
	for _, s := range c.StringSlice("other-db") {
		name, url, _ := strings.Cut(s, "=") // it was checked
		said[name] = url
	}
	all := map[string]engine.Database{}
	for _, in := range file.Inputs {
		name := in.Database.Value
		if name == "" || all[name] != nil {
			continue
		}
		url := said[name]
		if url == "" {
			url = os.Getenv("LADLE_DB_" + strings.ToUpper(name))
		}
		if url == "" {
			return all, fault.At(fault.Wrong, fault.Problem{File: file.Path, Line: in.Database.Line,
				Column: in.Database.Column,
				What:   fmt.Sprintf("it isn't said which database is called %q", name),
				Do: fmt.Sprintf("give it with --other-db %s=DATABASE, or set LADLE_DB_%s", name,
					strings.ToUpper(name))})
		}
		db, err := open(ctx, url, waits(c))
		if err != nil {
			return all, err
		}
		all[name] = db
	}
	return all, nil
}

func closeOthers(all map[string]engine.Database) {
	for _, db := range all {
		db.Close()
	}
}

// inputRows opens the rows of inputs that come from databases, and these databases only where there are such inputs. The
// databases must be closed.
func inputRows(ctx context.Context, c *cli.Command, file *ladlefile.File) (rows prepare.Rows, closes func(), err error) {
	from := intake.Databases{Path: file.Path}
	closes = func() {
		closeOthers(from.Others)
		if from.Loaded != nil {
			from.Loaded.Close()
		}
	}
	for _, in := range file.Inputs {
		if in.FromDatabase() && !in.Database.Given() && from.Loaded == nil && c.String("db") != "" {
			if from.Loaded, err = open(ctx, c.String("db"), waits(c)); err != nil {
				return nil, closes, err
			}
		}
	}
	from.Others, err = openOthers(ctx, c, file)
	return from.Rows, closes, err
}
