package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/prepare"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

func surveyCommand(asJSON *bool) *cli.Command {
	asked := &source.Asked{}
	word := func(name, usage string, set func(string) error) cli.Flag {
		return &cli.StringFlag{Name: name, Usage: usage, Action: func(_ context.Context, _ *cli.Command, value string) error {
			var advised fault.Advised
			if err := set(value); errors.As(err, &advised) {
				return fault.New(fault.Wrong, "--"+name+" "+advised.What, advised.Do)
			}
			return nil
		}}
	}
	return &cli.Command{
		Name:      "survey",
		Usage:     "say what is in files, by reading them to the end: columns, types, what doesn't fit, keys, relations",
		UsageText: "ladle survey FILE... [--column NAME] [--json]",
		Description: "A FILE is text in any delimiter and encoding, packed with gzip or zip or not, a workbook (.xlsx, .ods), or -\n" +
			"for standard input. How it is to be read is found by looking; the options say it.\n" +
			"A FILE named like NAME.ladle.yaml is a ladle file: its inputs are shown as they are once they are cleaned.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "column", Usage: "tell all of the column of that `NAME`"},
			word("sheet", "of a workbook, only the sheet of that `NAME` or number", asked.SetSheet),
			word("range", "of a sheet, the `CELLS`: B4:K900, or the name of a range or table", asked.SetRange),
			word("header", "the `LINE` of the names of the columns; 3-4 for several; none", asked.SetHeader),
			word("footer", "the `NUMBER` of lines at the end that are no rows", asked.SetFooter),
			word("encoding", "the `ENCODING` of text, for example windows-1252", asked.SetEncoding),
			word("delimiter", "the `CHARACTER` between fields, or tab", asked.SetDelimiter),
			word("quote", "the `CHARACTER` around fields, or none", asked.SetQuote),
			jsonFlag(asJSON),
		},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return fault.New(fault.Wrong, "survey needs a file", "write: "+c.UsageText)
			}
			return runSurvey(ctx, c, *asked)
		},
	}
}

func runSurvey(ctx context.Context, c *cli.Command, asked source.Asked) error {
	progress := term.NewProgress()
	defer progress.Clear()
	tables, err := openSurvey(ctx, c.Args().Slice(), asked, progress)
	if err != nil {
		return err
	}
	defer survey.Close(tables)
	s, err := survey.Run(ctx, tables, func(p survey.Progress) { progress.Show("reading "+p.What, p.Done, p.Of, "bytes") })
	if err != nil {
		return err
	}
	progress.Clear()
	if name := c.String("column"); name != "" {
		if err := onlyColumn(s, name); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return printJSON(term.Stdout, s)
	}
	screen := term.NewScreen(term.Stdout)
	for _, path := range c.Args().Slice() {
		if ladlefile.Named(path) {
			screen.Line("The inputs of %s, as it cleans them:", path)
		}
	}
	showSurvey(screen, s, c.String("column") != "")
	return nil
}

// openSurvey opens files, and the inputs of ladle files as these clean them.
func openSurvey(ctx context.Context, paths []string, asked source.Asked, progress *term.Progress) ([]source.Table, error) {
	var tables []source.Table
	for _, path := range paths {
		more, err := openOne(ctx, path, asked, progress)
		if err != nil {
			survey.Close(tables)
			return nil, err
		}
		tables = append(tables, more...)
	}
	return tables, nil
}

func openOne(ctx context.Context, path string, asked source.Asked, progress *term.Progress) ([]source.Table, error) {
	if !ladlefile.Named(path) {
		return survey.Open([]string{path}, asked)
	}
	if asked != (source.Asked{}) {
		return nil, fault.New(fault.Wrong, "how the inputs of "+path+" are read stands in it", "take the options out")
	}
	file, err := ladlefile.Read(path)
	if err != nil {
		return nil, err
	}
	inputs, err := prepare.Open(file)
	if err != nil {
		return nil, err
	}
	tables, err := prepare.Cleaned(ctx, inputs, func(what string, done, of int64) { progress.Show("reading "+what, done, of, "bytes") })
	if err != nil {
		prepare.Close(inputs)
	}
	return tables, err
}

// onlyColumn leaves nothing but the columns of that name.
func onlyColumn(s *survey.Survey, name string) error {
	var names []string
	found := false
	for _, in := range s.Inputs {
		var kept []*survey.Column
		for _, column := range in.Columns {
			names = append(names, column.Name)
			if source.Plain(column.Name) == source.Plain(name) {
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
