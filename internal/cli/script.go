package cli

import (
	"context"
	"os"
	"slices"

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
			"sqlite3. It begins with guards: where rows that the load was judged against have been changed since, it stops " +
			"with a sentence and changes nothing. It ends with checks before the commit. Rows that are there are found by " +
			"their keys, so that it also runs in a copy of the database with other ids. Run a second time, it changes nothing.\n\n" +
			"Ladle's logbook knows nothing of a script that was run: it can't be undone.",
		options: []option{database, otherOption(), waitOption(), retriesOption(), timeoutOption(),
			{name: "output", short: "o", value: "FILE", group: groupOutput, needed: true, does: "write the script to FILE"},
			{name: "for", value: "DIALECT", group: groupDatabase, choose: []string{string(propose.Standard)}, does: "write " +
				"standard SQL, for a server that ladle can't connect to; goes with --tables"},
			{name: "tables", value: "FILE", group: groupDatabase, does: "with --for standard: the tables of that server, as a " +
				"workbook like that of ladle dictionary"},
			{name: "unrehearsed", group: groupDatabase, does: "write it from what was judged, without trying it on the database: " +
				"that is much faster; what only the database rejects stops the script when it runs"},
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
	if err := mayScript(c); err != nil {
		return err
	}
	file, err := ladleFiles(c, c.Args().Slice())
	if err != nil {
		return err
	}
	out := c.String("output")
	if err := isRead(out, scriptReads(c, file)...); err != nil {
		return err
	}
	if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
		return err
	}
	r, err := writeScript(ctx, c, file, out)
	if err != nil {
		return err
	}
	switch status := statusOf(r); {
	case c.Bool("json"):
		outcome := string(r.Outcome)
		if r.Outcome == report.Tried {
			outcome = "written"
		}
		err = printDocument(term.Stdout, newHead(c.Name, outcome, status), r)
	case !c.Bool("quiet") || status != done:
		showScript(term.NewScreen(term.Stdout), r, out, c.String("for") != "")
	}
	if err == nil && statusOf(r) != done {
		err = exit(statusOf(r))
	}
	return err
}

// scriptReads lists the files that are read for a script, which it may not take the place of.
func scriptReads(c *cli.Command, file *ladlefile.File) []string {
	read := slices.Concat(c.Args().Slice(), c.StringSlice("corrected"), []string{c.String("db"), c.String("tables")})
	for _, in := range file.Inputs {
		read = append(read, in.Paths...)
	}
	return read
}

// writeScript rehearses the load and, where nothing refuses it, writes the script.
func writeScript(ctx context.Context, c *cli.Command, file *ladlefile.File, out string) (*report.Report, error) {
	o := load.Options{Try: true, Again: c.Bool("again"), Removal: c.Bool("allow-removal"),
		Corrected: c.StringSlice("corrected"), Retries: retries(c), Level: check.Cells}
	var err error
	o.Others, err = openOthers(ctx, c, file)
	defer closeOthers(o.Others)
	if err != nil {
		return nil, err
	}
	to, err := whole.Create(out)
	if err != nil {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: out, What: "the script can't be written: " +
			fault.OfSystem(err), Do: "check that its folder is there, and its permissions"})
	}
	defer to.Discard()
	o.Script = &load.Script{To: to, Path: out, Standard: c.String("for") != "", Unrehearsed: c.Bool("unrehearsed")}
	r, err := answered(ctx, file, true, func() (*report.Report, error) {
		if o.Script.Standard {
			return judgeWithoutRows(ctx, file, c.String("tables"), o)
		}
		return loadFile(ctx, file, c.String("db"), waits(c), o)
	})
	if err == nil && r.Outcome == report.Tried {
		err = to.Place()
	}
	return r, err
}

// showScript shows what the script does, and who runs it how.
func showScript(s *term.Screen, r *report.Report, out string, standard bool) {
	if r.Outcome != report.Tried || !standard {
		showReport(s, r)
	} else {
		showWithoutRows(s, r)
	}
	if r.Outcome != report.Tried {
		return
	}
	s.Strong(true, "%s was written, and not run.", out)
	if standard {
		s.Line("Run it with a client of that server, look at the answers of its queries, and commit or roll back.")
		return
	}
	s.Line("Run it with: %s", r.RunWith)
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
	case standard && c.Bool("unrehearsed"):
		return fault.New(fault.Wrong, "--for standard rehearses nothing", "leave out --unrehearsed")
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
