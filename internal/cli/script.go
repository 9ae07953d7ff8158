package cli

import (
	"context"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/alter"
	"ladle/internal/core/check"
	"ladle/internal/core/dictionary"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/propose"
	"ladle/internal/core/report"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func scriptCommand() *command {
	database := databaseOption()
	database.needed = false
	c := &command{
		name: "script", phase: getReady,
		does:  "write a load as one SQL script, which somebody else runs with the database's own client",
		takes: operands{"FILE...", "ladle files", 1, many},
		about: "The load is rehearsed as try does it, and what it writes becomes one transaction in SQL: for psql, mariadb or " +
			"sqlite3. It begins with guards: where the rows that the load was judged against are not as they were, it stops " +
			"with a sentence and changes nothing. It ends with checks before the commit. Rows that are there are found by " +
			"their keys, so that it also runs in a copy of the database with other ids. Run a second time, it stops.\n\n" +
			"Ladle's logbook knows nothing of a script that was run: it can't be undone.",
		options: []option{database, otherOption(), waitOption(), retriesOption(), timeoutOption(),
			{name: "output", short: "o", value: "FILE", group: groupOutput, needed: true, does: "write the script to FILE"},
			{name: "for", value: "DIALECT", group: groupDatabase, choose: []string{string(propose.Standard)}, does: "write " +
				"standard SQL, for a server that ladle can't connect to; goes with --tables"},
			{name: "tables", value: "FILE", group: groupDatabase, does: "with --for standard: the tables of that server, as a " +
				"workbook like that of ladle dictionary"},
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
	if err := mayScript(c); err != nil {
		return err
	}
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
	judge := func() (*report.Report, error) { return loadFile(ctx, file, db, waits(c), o) }
	if c.String("for") != "" {
		o.Standard = true
		judge = func() (*report.Report, error) { return judgeWithoutRows(ctx, file, c.String("tables"), o) }
	}
	r, err := answered(ctx, file, true, judge)
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
		switch {
		case !written || !o.Standard:
			showReport(s, r)
		default:
			showWithoutRows(s, r)
		}
		if written {
			s.Strong(true, "%s was written, and not run.", out)
			does := "look at the answers of its queries, and commit, or roll back"
			if r.RunWith != "" {
				does = strings.Replace(r.RunWith, "FILE", out, 1)
			}
			s.Line("Whoever runs it: %s", does)
		}
	}
	if err == nil && statusOf(r) != done {
		err = exit(statusOf(r))
	}
	return err
}

// mayScript refuses what doesn't go together.
func mayScript(c *cli.Command) error {
	standard, tables, db := c.String("for") != "", c.String("tables"), c.String("db")
	switch {
	case standard && tables == "":
		return fault.New(fault.Wrong, "--for standard needs the tables of the server",
			"give --tables with a workbook like that of ladle dictionary")
	case standard && db != "" && db != os.Getenv("LADLE_DB"):
		return fault.New(fault.Wrong, "--for standard asks no database", "leave out --db, or --for and --tables")
	case !standard && tables != "":
		return fault.New(fault.Wrong, "--tables goes with --for standard", "leave it out")
	case !standard && db == "":
		return fault.New(fault.Wrong, "script needs the database that is loaded into",
			"name it with --db, or write standard SQL with --for standard --tables FILE")
	}
	return nil
}

// showWithoutRows shows what was judged without the rows that are there: only what is wrong with lines by themselves.
func showWithoutRows(s *term.Screen, r *report.Report) {
	s.Line("%s, in %s", r.LadleFile, r.Database)
	for _, note := range r.Notes {
		s.Note("Note: %s", note)
	}
	showRules(s, r)
	showAsides(s, r)
	s.Line("")
	s.Line("%s read, %s set aside.", plural(r.LinesRead(), "line"), term.Count(r.LinesSetAside()))
}

// judgeWithoutRows judges a ladle file against tables that a workbook describes.
func judgeWithoutRows(ctx context.Context, file *ladlefile.File, tables string, o load.Options) (*report.Report, error) {
	d, err := dictionary.Read(tables)
	if err != nil {
		return nil, err
	}
	scratch, err := sqlite.NewScratch(alter.Sketch(d.Tables))
	if err != nil {
		return nil, fault.Because(fault.Wrong, err, fault.Problem{File: tables,
			What: "tables can't be made of it: " + fault.ProblemsOf(err)[0].What, Do: "check its types and keys"})
	}
	at := &session{file, scratch, term.NewProgress()}
	defer at.close()
	r, err := at.load(ctx, o)
	if r != nil {
		r.Database = "standard SQL, for the tables in " + tables
	}
	return r, err
}
