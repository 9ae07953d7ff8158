package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/check"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func scriptCommand() *command {
	c := &command{
		name: "script", phase: getReady,
		does:  "write a load as one SQL script, which somebody else runs with the database's own client",
		takes: operands{"FILE...", "ladle files", 1, many},
		about: "The load is rehearsed as try does it, and what it writes becomes one transaction in SQL: for psql, mariadb or " +
			"sqlite3. It begins with guards: where the rows that the load was judged against are not as they were, it stops " +
			"with a sentence and changes nothing. It ends with checks before the commit. Rows that are there are found by " +
			"their keys, so that it also runs in a copy of the database with other ids. Run a second time, it stops.\n\n" +
			"Ladle's logbook knows nothing of a script that was run: it can't be undone.",
		options: []option{databaseOption(), otherOption(), waitOption(), retriesOption(), timeoutOption(),
			{name: "output", short: "o", value: "FILE", group: groupOutput, needed: true, does: "write the script to FILE"},
			inputOption(), correctedOption(), againOption(), removalOption("remove the rows that gone_from_file: finds"),
			replaceOption(), jsonOption()},
		examples: []example{
			{"The load of the harbour's files, for somebody else to run", "ladle script port-merrow/harbour.ladle.yaml --db " +
				"port-merrow/harbour.db -o port-merrow/season.sql"},
			{"Rows that the file no longer has are removed, where gone_from_file: says so", "ladle script " +
				"port-merrow/harbour.ladle.yaml --db port-merrow/harbour.db --allow-removal -o port-merrow/cleared.sql"},
		},
		run: runScript,
	}
	c.options = append(c.options, progressOptions()...)
	return c
}

func runScript(ctx context.Context, c *cli.Command) error {
	showProgress(c)
	file, err := ladleFiles(c, c.Args().Slice())
	if err != nil {
		return err
	}
	out, db := c.String("output"), c.String("db")
	read := append(c.Args().Slice(), db)
	for _, in := range file.Inputs {
		read = append(read, in.Paths...)
	}
	if err := isRead(out, read...); err != nil {
		return err
	}
	if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
		return err
	}
	o := load.Options{Try: true, Again: c.Bool("again"), Removal: c.Bool("allow-removal"),
		Corrected: c.StringSlice("corrected"), Retries: retries(c), Level: check.Cells}
	o.Others, err = openOthers(ctx, c, file)
	defer closeOthers(o.Others)
	if err != nil {
		return err
	}
	to, err := whole.Create(out)
	if err != nil {
		return err
	}
	defer to.Discard()
	o.Script = to
	r, err := answered(ctx, file, true, func() (*report.Report, error) { return loadFile(ctx, file, db, waits(c), o) })
	if err != nil {
		return err
	}
	written := r.Outcome == report.Tried
	if written {
		if err := to.Place(); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		outcome := string(r.Outcome)
		if written {
			outcome = "written"
		}
		err = printDocument(term.Stdout, newHead(c.Name, outcome, statusOf(r)), r)
	} else if !c.Bool("quiet") || statusOf(r) != done {
		s := term.NewScreen(term.Stdout)
		showReport(s, r)
		if written {
			s.Strong(true, "%s was written, and not run. Whoever runs it: %s", out, strings.Replace(r.RunWith, "FILE", out, 1))
		}
	}
	if err == nil && statusOf(r) != done {
		err = exit(statusOf(r))
	}
	return err
}
