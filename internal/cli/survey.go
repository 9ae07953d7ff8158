package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/bundle"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/prepare"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

func surveyCommand() *command {
	c := &command{
		name: "survey", phase: looking,
		does:    "describe files after reading every line: columns, types, exceptions, keys, relations",
		takes:   operands{"FILE...", "a file", 1, many},
		instead: []string{"query", "table"},
		about: "A FILE is text in any encoding, with any delimiter, or JSON, packed with gzip or zip or not; a " +
			"workbook (.xlsx, .ods); or - for standard input. Its format is detected; the options override " +
			"that.\n\nA FILE called NAME.ladle.yaml is a ladle file: its inputs are shown as they are once they are " +
			"cleaned.",
		options: append([]option{{name: "column", value: "NAME", group: groupOutput,
			does: "show everything about the column of that name"}}, readOptions()...),
		examples: []example{
			{"What is in the files of the harbour", "ladle survey port-merrow/arrivals.csv " +
				"port-merrow/vessel-register.csv"},
			{"One column in full", "ladle survey port-merrow/arrivals.csv --column Dues"},
		},
	}
	database := databaseOption()
	database.needed = false
	c.options = append(c.options, database, otherOption(), option{name: "query", value: "SELECT", group: groupDatabase,
		does: "describe the rows of a query on the database"},
		option{name: "table", value: "NAME", group: groupDatabase, list: true,
			does: "describe the rows of a table of the database"}, jsonOption())
	c.run = func(ctx context.Context, c *cli.Command) error { return runSurvey(ctx, c, readAs(c)) }
	return c
}

// readSettings are the options that say how a file is read, and what each of them sets.
var readSettings = []struct {
	name, value, does string
	set               func(*source.ReadOptions, string) error
}{
	{"sheet", "NAME", "the sheet of a workbook, by its name or number", (*source.ReadOptions).SetSheet},
	{"range", "CELLS", "the cells of a sheet: B4:K900, or the name of a range or table",
		(*source.ReadOptions).SetRange},
	{"member", "NAME", "the member of a JSON object that holds the rows", (*source.ReadOptions).SetMember},
	{"header", "LINE", "the line of the column names: 3, or 3-4 when they take two; or none",
		(*source.ReadOptions).SetHeader},
	{"footer", "NUMBER", "lines at the end that are not rows", (*source.ReadOptions).SetFooter},
	{"encoding", "NAME", "the encoding of text, such as windows-1252", (*source.ReadOptions).SetEncoding},
	{"delimiter", "CHARACTERS", "the character between fields, or several, or tab", (*source.ReadOptions).SetDelimiter},
	{"quote", "CHARACTER", "the character around fields, or none", (*source.ReadOptions).SetQuote},
	{"escape", "CHARACTER", "the character that makes the next one part of a value", (*source.ReadOptions).SetEscape},
	{"comment", "TEXT", "what lines start with that are no rows", (*source.ReadOptions).SetComment},
	{"widths", "NUMBERS", "the widths of columns without a delimiter: \"8 20 10\"", (*source.ReadOptions).SetWidths},
}

func readOptions() (all []option) {
	for _, r := range readSettings {
		all = append(all, option{name: r.name, value: r.value, does: r.does, group: groupInput,
			check: func(value string) error { return r.set(&source.ReadOptions{}, value) }})
	}
	return all
}

// readAs is how files are read, as the options say.
func readAs(c *cli.Command) (o source.ReadOptions) {
	for _, r := range readSettings {
		if value := c.String(r.name); value != "" {
			_ = r.set(&o, value) // it was checked
		}
	}
	return o
}

func runSurvey(ctx context.Context, c *cli.Command, asked source.ReadOptions) error {
	progress := term.NewProgress()
	defer progress.Clear()
	tables, inputs, err := openSurvey(ctx, c, asked, progress)
	if err != nil {
		return err
	}
	defer func() { survey.Close(tables) }()
	answers, err := askedTables(ctx, c)
	if err != nil {
		return err
	}
	tables = append(tables, answers...)
	s, err := survey.Run(ctx, tables, func(p survey.Progress) {
		progress.Show("reading "+p.What, p.Done, p.Of,
			"bytes")
	})
	if err != nil {
		return err
	}
	progress.Clear()
	if name := c.String("column"); name != "" {
		if err := onlyColumn(s, name); err != nil {
			return err
		}
	}
	screen := term.NewScreen(term.Stdout)
	if c.Bool("json") {
		showNotes(term.NewScreen(os.Stderr), inputs)
		return printDocument(term.Stdout, newHead("survey", "surveyed", done), s)
	}
	for _, path := range c.Args().Slice() {
		if ladlefile.Named(path) {
			screen.Line("The inputs of %s, as it cleans them:", path)
		}
	}
	showNotes(screen, inputs)
	showSurvey(screen, s, c.String("column") != "")
	return nil
}

// showNotes says what to know of the corrected lines of inputs.
func showNotes(s *term.Screen, inputs []*prepare.Input) {
	for _, in := range inputs {
		for _, note := range in.Notes() {
			s.Note("Note: %s", note)
		}
	}
}

// openSurvey opens files, and the inputs of ladle files as these clean them.
func openSurvey(ctx context.Context, c *cli.Command, asked source.ReadOptions,
	progress *term.Progress) (tables []source.Table, inputs []*prepare.Input, err error) {
	for _, path := range c.Args().Slice() {
		more, of, err := openOne(ctx, c, path, asked, progress)
		if err != nil {
			survey.Close(tables)
			return nil, nil, err
		}
		tables, inputs = append(tables, more...), append(inputs, of...)
	}
	return tables, inputs, nil
}

func openOne(ctx context.Context, c *cli.Command, path string, asked source.ReadOptions,
	progress *term.Progress) (tables []source.Table, inputs []*prepare.Input, err error) {
	if !ladlefile.Named(path) && !bundle.Is(path) {
		tables, err = survey.Open([]string{path}, asked)
		return tables, nil, err
	}
	if asked != (source.ReadOptions{}) {
		return nil, nil, fault.New(fault.Wrong, "the ladle file "+path+" itself says how its inputs are read",
			"leave these options out")
	}
	file, err := ladleFile(c, path)
	if err != nil {
		return nil, nil, err
	}
	rows, closes, err := inputRows(ctx, c, file)
	defer closes()
	if err != nil {
		return nil, nil, err
	}
	if inputs, err = prepare.Open(ctx, file, rows); err != nil {
		return nil, nil, err
	}
	tables, err = prepare.Cleaned(ctx, inputs, func(what string, done, of int64) {
		progress.Show("reading "+what, done, of, "bytes")
	})
	if err != nil {
		prepare.Close(inputs)
	}
	return tables, inputs, err
}

// openSingle opens a file that must hold one table.
func openSingle(path string, asked source.ReadOptions) (source.Table, error) {
	tables, err := survey.Open([]string{path}, asked)
	if err != nil {
		return nil, err
	}
	if len(tables) != 1 {
		survey.Close(tables)
		return nil, fault.New(fault.Wrong, fmt.Sprintf("%s has %d tables", path, len(tables)), "say which with --sheet")
	}
	return tables[0], nil
}

// onlyColumn leaves nothing but the columns of that name.
func onlyColumn(s *survey.Survey, name string) error {
	var names []string
	found := false
	for _, in := range s.Inputs {
		var kept []*survey.Column
		for _, column := range in.Columns {
			names = append(names, column.Name)
			if source.FoldName(column.Name) == source.FoldName(name) {
				kept = append(kept, column)
			}
		}
		in.Columns, found = kept, found || kept != nil
	}
	if !found {
		return fault.New(fault.Wrong, fmt.Sprintf("there is no column %q", name), fault.DidYouMean(name, names))
	}
	return nil
}
