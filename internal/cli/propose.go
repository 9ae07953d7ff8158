package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/draft"
	"ladle/internal/core/engine"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
	"ladle/internal/core/propose"
	"ladle/internal/core/reason"
	"ladle/internal/core/survey"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func proposeCommand() *command {
	database := databaseOption()
	database.needed = false
	database.does = "write for this database: refer to its tables, and use no name that one of them has"
	c := &command{
		name: "propose", phase: getReady,
		does:  "write the statements that make tables for files, from all of their lines, or that lead to planned tables",
		takes: operands{"FILE...", "a file", 0, many},
		about: "Types come from every value of a column, keys from what tells all lines apart, foreign keys from values " +
			"that are keys of a FILE or, with --db, of a table. Columns that another one decides become a table of their " +
			"own. Each choice has its reason; anything uncertain is asked at a terminal, or marked -- ?. Nothing is run " +
			"without --make: look at the statements, run them, and load.",
		options: []option{database,
			{name: "for", value: "DIALECT", group: groupDatabase, check: dialectCheck, does: "the dialect: " +
				strings.Join(dialects(), ", ") + "; without it, that of the database, else standard"},
			{name: "leave-out", value: "COLUMN", group: groupInput, list: true, does: "give the column COLUMN no place"},
			{name: "flat", group: groupOutput, does: "make one table of each file"},
			{name: "checks", group: groupOutput, does: "give columns with few different texts a CHECK that allows no others"},
			{name: "plan", value: "FILE", group: groupInput,
				does: "in place of a FILE: the workbook of ladle dictionary, as you " +
					"changed it; write the statements that lead from the database to it"},
			{name: "allow", value: "NAME", group: groupInput, list: true, does: "with --plan, let the change of TABLE or " +
				"TABLE.COLUMN lose data"},
			{name: "output", short: "o", value: "FILE", group: groupOutput, does: "write the statements to FILE"},
			{name: "ladle", value: "FILE", group: groupOutput,
				does: "write the ladle file that loads the files into these tables to FILE, called NAME.ladle.yaml"},
			{name: "make", group: groupAsk, does: "make the tables in the database: shows the statements, and asks"},
			{name: "yes", group: groupAsk, does: "with --make, don't ask"},
			{name: "no-questions", group: groupAsk, does: "don't ask about what is uncertain"},
			{name: "no-logbook", group: groupAsk, does: "with --make, don't record the run; it can't be undone then"},
			replaceOption(), jsonOption()},
		examples: []example{
			{"Related tables and the ladle file that fills them", "ladle propose port-merrow/berths.csv " +
				"port-merrow/arrivals.csv --for sqlite -o port-merrow/new.sql --ladle port-merrow/new.ladle.yaml"},
			{"What leads from the tables to a workbook of them that was changed",
				"ladle propose --plan port-merrow/planned.xlsx " +
					"--db port-merrow/harbour.db"},
		},
		run: runPropose,
	}
	c.options = append(c.options, readOptions()...)
	return c
}

func dialects() (names []string) {
	for _, d := range propose.Dialects {
		names = append(names, string(d))
	}
	return names
}

func dialectCheck(name string) error {
	if !slices.Contains(propose.Dialects, propose.Dialect(name)) {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", name),
			Do: "write one of: " + strings.Join(dialects(), ", ")}
	}
	return nil
}

func runPropose(ctx context.Context, c *cli.Command) error {
	switch {
	case c.String("plan") != "":
		return runPlan(ctx, c)
	case c.Args().Len() == 0:
		return fault.New(fault.Wrong, "propose needs a file", "name one, or a planned workbook with --plan")
	case c.IsSet("allow"):
		return fault.New(fault.Wrong, "--allow goes with --plan", "leave it out")
	}
	if err := mayMake(c); err != nil {
		return err
	}
	if out := c.String("output"); out != "" {
		if err := isRead(out, append(c.Args().Slice(), c.String("db"))...); err != nil {
			return err
		}
		if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
			return err
		}
	}
	if err := mayWriteDraft(ctx, c.String("ladle"), c.Bool("replace")); err != nil {
		return err
	}
	dialect, o, err := optionsOf(ctx, c)
	if err != nil {
		return err
	}
	tables, err := survey.Open(c.Args().Slice(), readAs(c))
	if err != nil {
		return err
	}
	defer survey.Close(tables)
	progress := term.NewProgress()
	defer progress.Clear()
	s, err := survey.Run(ctx, tables, func(p survey.Progress) {
		progress.Show("reading "+p.What, p.Done, p.Of, "bytes")
	})
	if err != nil {
		return err
	}
	progress.Clear()
	p, err := settled(ctx, c, s, o)
	if err != nil {
		return err
	}
	text := p.SQL(dialect)
	if out := c.String("output"); out != "" {
		if err := writeText(out, text); err != nil {
			return err
		}
	}
	var ladle *draft.Draft
	if out := c.String("ladle"); out != "" {
		if ladle, err = draftFor(ctx, c, s, p, o.There, out); err != nil {
			return err
		}
	}
	made, err := makeTables(ctx, c, p, dialect, text)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		outcome, run := "proposed", int64(0)
		if made != nil {
			outcome, run = "made", made.id
		}
		return printDocument(term.Stdout, newHead("propose", outcome, done), struct {
			Dialect propose.Dialect `json:"dialect"`
			*propose.Proposal
			SQL string `json:"sql"`
			Run int64  `json:"run,omitempty"`
		}{dialect, p, text, run})
	}
	showProposal(c, p, text, ladle, made)
	return nil
}

// mayMake refuses --make where it can't be done.
func mayMake(c *cli.Command) error {
	switch {
	case !c.Bool("make") && (c.Bool("yes") || c.Bool("no-logbook")):
		return fault.New(fault.Wrong, "--yes and --no-logbook go with --make", "leave them out")
	case !c.Bool("make"):
		return nil
	case c.String("db") == "":
		return fault.New(fault.Wrong, "--make makes tables in a database, and none is named", "name it with --db")
	case c.String("for") != "":
		return fault.New(fault.Wrong, "with --make, the dialect is that of the database", "leave --for out")
	case !c.Bool("yes") && (!term.Interactive() || c.Bool("json")):
		return fault.New(fault.Wrong, "--make asks before it makes tables, but there is no terminal to ask on",
			"look at the statements first, and give --yes then")
	}
	return nil
}

// madeRun says that tables were made, and by which run of the logbook; 0 for none.
type madeRun struct{ id int64 }

// makeTables makes the tables, where that is asked for and a person says yes; nil where it isn't.
func makeTables(ctx context.Context, c *cli.Command, p *propose.Proposal, d propose.Dialect, text string) (
	made *madeRun, err error) {
	if !c.Bool("make") {
		return nil, nil
	}
	if !c.Bool("yes") {
		fmt.Fprint(term.Stdout, text)
		yes, err := term.Ask(ctx, fmt.Sprintf("Make %s in %s?", reason.Plural(int64(len(p.Tables)), "table"),
			engine.Masked(c.String("db"))))
		if err == nil && !yes {
			term.NewScreen(term.Stdout).Strong(false, "You said no: nothing was changed.")
			err = exit(wrong)
		}
		if err != nil {
			return nil, err
		}
	}
	database := c.String("db")
	db, err := open(ctx, database, waits(c))
	if err != nil {
		return nil, err
	}
	defer db.Close()
	user, err := db.User(ctx)
	if err != nil {
		return nil, err
	}
	reopen := func(ctx context.Context) (engine.Database, error) { return open(ctx, database, waits(c)) }
	id, err := logbook.MakeTables(ctx, db, p.Statements(d), &logbook.Run{Program: Version, User: user,
		Database: engine.Masked(database)}, !c.Bool("no-logbook"), reopen)
	if err != nil {
		return nil, err
	}
	changed = true
	return &madeRun{id}, nil
}

// optionsOf are the dialect that is asked for, and how tables are planned: beside those of the database.
func optionsOf(ctx context.Context, c *cli.Command) (d propose.Dialect, o propose.Options, err error) {
	d = propose.Dialect(c.String("for"))
	o = propose.Options{LeaveOut: c.StringSlice("leave-out"), Flat: c.Bool("flat"), Sets: c.Bool("checks")}
	if c.String("db") == "" {
		if d == "" {
			d = propose.Standard
		}
		return d, o, nil
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return "", o, err
	}
	defer db.Close()
	if d == "" {
		d = propose.Dialect(kindOf(c.String("db")))
	}
	o.There, err = propose.Known(ctx, db, s)
	o.Taken, o.Style = append(s.Names(), s.Views...), propose.StyleOf(s)
	return d, o, err
}

// draftFor writes the ladle file that loads the files into the proposed tables: it is drafted for empty ones.
func draftFor(ctx context.Context, c *cli.Command, s *survey.Survey, p *propose.Proposal, there []propose.There,
	out string) (*draft.Draft, error) {
	db, err := sqlite.NewScratch(p.Scratch(there))
	if err != nil {
		return nil, err
	}
	defer db.Close()
	tables, err := db.Schema(ctx)
	if err != nil {
		return nil, err
	}
	var files []draft.File
	for _, in := range s.Inputs {
		files = append(files, draft.File{Path: besideDraft(out, in.Read.Path), Survey: in, Asked: readAs(c), Into: p.Into(in),
			Planned: p.Planned(in)})
	}
	made, err := draft.Make(ctx, files, tables, db)
	if err != nil {
		return nil, err
	}
	return made, writeLadleFile(out, made.Text)
}

func writeText(path, text string) error {
	return whole.Write(path, func(to io.Writer) error {
		_, err := io.WriteString(to, text)
		return err
	})
}

func showProposal(c *cli.Command, p *propose.Proposal, text string, ladle *draft.Draft, made *madeRun) {
	out := c.String("output")
	s := term.NewScreen(term.Stdout)
	tables := reason.Plural(int64(len(p.Tables)), "table")
	switch {
	case out != "":
		s.Line("%s was written: %s.", out, tables)
	case made == nil:
		fmt.Fprint(term.Stdout, text)
		s = term.NewScreen(os.Stderr)
	}
	if made != nil {
		defer func() {
			run := ""
			if made.id > 0 {
				run = fmt.Sprintf(" (run %d)", made.id)
			}
			s.Strong(true, "Made in %s: %s%s", engine.Masked(c.String("db")), tables, run)
			if ladle != nil {
				s.Line("Next: ladle try %s --db %s", c.String("ladle"), engine.Masked(c.String("db")))
			}
		}()
	}
	if ladle != nil {
		s.Line("%s was written.", c.String("ladle"))
	}
	if len(p.Doubts) > 0 {
		s.Title("Uncertain, marked -- ? in the statements")
		for _, doubt := range p.Doubts {
			s.Item(term.Dot, "%s", doubt)
		}
	}
	if ladle == nil {
		return
	}
	if ladle.Doubts != nil {
		s.Title("Uncertain, marked # ? in the ladle file")
		for _, doubt := range ladle.Doubts {
			s.Item(term.Dot, "%s", doubt)
		}
	}
	for _, e := range ladle.Errors {
		s.Item(term.Wrong, "%s", e)
	}
}
