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
		does:  "write CREATE TABLE statements for files that have no tables yet, from all of their lines",
		takes: operands{"FILE...", "a file", 1, many},
		about: "Types come from every value of a column, keys from what tells all lines apart, foreign keys from values " +
			"that are keys of a FILE or, with --db, of a table. Columns that another one decides become a table of their own. Each choice has " +
			"its reason; anything uncertain is marked -- ?. Nothing is run without --make: look at the statements, run them, and " +
			"load.",
		options: []option{database,
			{name: "for", value: "DIALECT", group: groupDatabase, check: dialectCheck, does: "the dialect: " +
				strings.Join(dialects(), ", ") + "; without it, that of the database, else standard"},
			{name: "leave-out", value: "COLUMN", group: groupInput, list: true, does: "give the column COLUMN no place"},
			{name: "flat", group: groupOutput, does: "make one table of each file"},
			{name: "checks", group: groupOutput, does: "give columns with few different texts a CHECK that allows no others"},
			{name: "output", short: "o", value: "FILE", group: groupOutput, does: "write the statements to FILE"},
			{name: "ladle", value: "FILE", group: groupOutput,
				does: "write the ladle file that loads the files into these tables to FILE, called NAME.ladle.yaml"},
			{name: "make", group: groupAsk, does: "make the tables in the database: shows the statements, and asks"},
			{name: "yes", group: groupAsk, does: "with --make, don't ask"},
			replaceOption(), jsonOption()},
		examples: []example{
			{"A table for the pilots, in PostgreSQL", "ladle propose port-merrow/pilots.csv --for postgres"},
			{"Related tables and the ladle file that fills them", "ladle propose port-merrow/berths.csv " +
				"port-merrow/arrivals.csv --for sqlite -o port-merrow/new.sql --ladle port-merrow/new.ladle.yaml"},
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
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", name), Do: "write one of: " + strings.Join(dialects(), ", ")}
	}
	return nil
}

func runPropose(ctx context.Context, c *cli.Command) error {
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
	p, err := propose.Make(s, o)
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
		outcome := "proposed"
		if made {
			outcome = "made"
		}
		return printDocument(term.Stdout, newHead("propose", outcome, done), struct {
			Dialect propose.Dialect `json:"dialect"`
			*propose.Proposal
			SQL string `json:"sql"`
		}{dialect, p, text})
	}
	showProposal(c, p, text, ladle, made)
	return nil
}

// mayMake refuses --make where it can't be done.
func mayMake(c *cli.Command) error {
	switch {
	case !c.Bool("make") && c.Bool("yes"):
		return fault.New(fault.Wrong, "--yes goes with --make", "leave it out")
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

// makeTables makes the tables, where that is asked for and a person says yes.
func makeTables(ctx context.Context, c *cli.Command, p *propose.Proposal, d propose.Dialect, text string) (bool, error) {
	if !c.Bool("make") {
		return false, nil
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
			return false, err
		}
	}
	db, err := open(ctx, c.String("db"), waits(c))
	if err != nil {
		return false, err
	}
	defer db.Close()
	if err := db.MakeTables(ctx, p.Statements(d)); err != nil {
		return false, err
	}
	changed = true
	return true, nil
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
	o.Taken, o.BigIDs = append(s.Names(), s.Views...), propose.BigIDs(s)
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

func showProposal(c *cli.Command, p *propose.Proposal, text string, ladle *draft.Draft, made bool) {
	out := c.String("output")
	s := term.NewScreen(term.Stdout)
	tables := reason.Plural(int64(len(p.Tables)), "table")
	switch {
	case out != "":
		s.Line("%s was written: %s.", out, tables)
	case !made:
		fmt.Fprint(term.Stdout, text)
		s = term.NewScreen(os.Stderr)
	}
	if made {
		defer func() {
			s.Strong(true, "Made in %s: %s", engine.Masked(c.String("db")), tables)
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
