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
	database.does = "write for this database, and use no name that a table of it has"
	c := &command{
		name: "propose", phase: getReady,
		does:  "write CREATE TABLE statements for files that have no tables yet, from all of their lines",
		takes: operands{"FILE...", "a file", 1, many},
		about: "Types come from every value of a column, keys from what tells all lines apart, foreign keys from values " +
			"that are keys of another FILE. Columns that another one decides become a table of their own. Each choice has " +
			"its reason; anything uncertain is marked -- ?. Nothing is run: look at the statements, run them, and load.",
		options: []option{database,
			{name: "for", value: "DIALECT", group: groupDatabase, check: dialectCheck, does: "the dialect: " +
				strings.Join(dialects(), ", ") + "; without it, that of the database, else standard"},
			{name: "leave-out", value: "COLUMN", group: groupInput, list: true, does: "give the column COLUMN no place"},
			{name: "flat", group: groupOutput, does: "make one table of each file"},
			{name: "checks", group: groupOutput, does: "give columns with few different texts a CHECK that allows no others"},
			{name: "output", short: "o", value: "FILE", group: groupOutput, does: "write the statements to FILE"},
			{name: "ladle", value: "FILE", group: groupOutput,
				does: "write the ladle file that loads the files into these tables to FILE, called NAME.ladle.yaml"},
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
	if out := c.String("output"); out != "" {
		if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
			return err
		}
	}
	if err := mayWriteDraft(ctx, c.String("ladle"), c.Bool("replace")); err != nil {
		return err
	}
	dialect, taken, err := dialectOf(ctx, c)
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
	p, err := propose.Make(s, propose.Options{LeaveOut: c.StringSlice("leave-out"), Flat: c.Bool("flat"),
		Sets: c.Bool("checks"), Taken: taken})
	if err != nil {
		return err
	}
	text := p.SQL(dialect)
	if out := c.String("output"); out != "" {
		if err := writeText(out, text); err != nil {
			return err
		}
	}
	var made *draft.Draft
	if out := c.String("ladle"); out != "" {
		if made, err = draftFor(ctx, c, s, p, out); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return printDocument(term.Stdout, newHead("propose", "proposed", done), struct {
			Dialect propose.Dialect `json:"dialect"`
			*propose.Proposal
			SQL string `json:"sql"`
		}{dialect, p, text})
	}
	showProposal(c, p, text, made)
	return nil
}

// dialectOf is the dialect that is asked for, and the names that tables of the database have.
func dialectOf(ctx context.Context, c *cli.Command) (d propose.Dialect, taken []string, err error) {
	d = propose.Dialect(c.String("for"))
	if c.String("db") == "" {
		if d == "" {
			d = propose.Standard
		}
		return d, nil, nil
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return "", nil, err
	}
	defer db.Close()
	if d == "" {
		d = propose.SQLite
		if scheme, _, isURL := strings.Cut(c.String("db"), "://"); isURL {
			d = map[bool]propose.Dialect{true: propose.Postgres, false: propose.MySQL}[strings.HasPrefix(scheme, "postgres")]
		}
	}
	return d, append(s.Names(), s.Views...), nil
}

// draftFor writes the ladle file that loads the files into the proposed tables: it is drafted for empty ones.
func draftFor(ctx context.Context, c *cli.Command, s *survey.Survey, p *propose.Proposal, out string) (*draft.Draft, error) {
	db, err := sqlite.NewScratch(p.SQL(propose.SQLite))
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

func showProposal(c *cli.Command, p *propose.Proposal, text string, made *draft.Draft) {
	out := c.String("output")
	s := term.NewScreen(term.Stdout)
	if out == "" {
		fmt.Fprint(term.Stdout, text)
		s = term.NewScreen(os.Stderr)
	} else {
		s.Line("%s was written: %s.", out, reason.Plural(int64(len(p.Tables)), "table"))
	}
	if made != nil {
		s.Line("%s was written.", c.String("ladle"))
	}
	if len(p.Doubts) > 0 {
		s.Title("Uncertain, marked -- ? in the statements")
		for _, doubt := range p.Doubts {
			s.Item(term.Dot, "%s", doubt)
		}
	}
	if made == nil {
		return
	}
	if made.Doubts != nil {
		s.Title("Uncertain, marked # ? in the ladle file")
		for _, doubt := range made.Doubts {
			s.Item(term.Dot, "%s", doubt)
		}
	}
	for _, e := range made.Errors {
		s.Item(term.Wrong, "%s", e)
	}
}
