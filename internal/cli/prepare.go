package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/prepare"
	"ladle/internal/term"
)

func prepareCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "prepare",
		Usage:     "write the cleaned rows of a ladle file's inputs as CSV or workbooks, without a database",
		UsageText: "ladle prepare FILE -o FOLDER [--workbook] [--replace] [--json]",
		Description: "For each input, the folder gets a file of its rows as load would clean\n" +
			"them, with new columns behind the others, and INPUT.set-aside.csv for the\n" +
			"rows that can't be cleaned. Types and keys of tables are not asked.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "o", Usage: "the `FOLDER` to write to; it is made when it isn't there"},
			&cli.BoolFlag{Name: "workbook", Usage: "write workbooks (.xlsx) with typed cells"},
			&cli.BoolFlag{Name: "replace", Usage: "write over files of the same names"},
			jsonFlag(asJSON),
		},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 || c.String("o") == "" {
				return fault.New(fault.Wrong, "prepare takes one ladle file, and needs -o with a folder", "write: "+c.UsageText)
			}
			o := prepare.Options{Folder: c.String("o"), Format: prepare.CSV, Replace: c.Bool("replace")}
			if c.Bool("workbook") {
				o.Format = prepare.XLSX
			}
			return runPrepare(ctx, c, o)
		},
	}
}

func runPrepare(ctx context.Context, c *cli.Command, o prepare.Options) error {
	file, err := ladlefile.Read(c.Args().First())
	if err != nil {
		return err
	}
	progress := term.NewProgress()
	defer progress.Clear()
	o.Tell = func(what string, done, of int64) { progress.Show("cleaning "+what, done, of, "bytes") }
	r, err := prepare.Run(ctx, file, o)
	if err != nil {
		return err
	}
	progress.Clear()
	status := 0
	if r.SetAside() > 0 {
		status = 4
	}
	if c.Bool("json") {
		err = printJSON(term.Stdout, struct {
			*prepare.Report
			Status int `json:"status"`
		}{r, status})
	} else {
		showPrepared(term.NewScreen(term.Stdout), r)
	}
	if err == nil && status != 0 {
		err = exit(status)
	}
	return err
}

// showPrepared shows what was written.
func showPrepared(s *term.Screen, r *prepare.Report) {
	s.Title("Prepared from %s", r.LadleFile)
	t := term.Table{Header: []string{"input", "from", "read", "written", "left out", "aside", "file"}, Numbers: []int{2, 3, 4, 5}}
	for _, in := range r.Inputs {
		t.Rows = append(t.Rows, []string{in.Input, in.Files, term.Count(in.Read), term.Count(in.Written), term.Count(in.LeftOut), term.Count(in.SetAside), in.Output})
	}
	s.Table(t)
	for _, in := range r.Inputs {
		if in.Guarded > 0 {
			s.Note("%s: an apostrophe stands before %s that a spreadsheet would run as a formula; --workbook keeps them as they are", in.Output, plural(in.Guarded, "cell"))
		}
	}
	if n := r.SetAside(); n > 0 {
		s.Title("Set aside: %s", plural(n, "row"))
		showGroups(s, r.Groups, len(r.Inputs) > 1)
		for _, in := range r.Inputs {
			if in.SetAsideFile != "" {
				showAsideFile(s, in.SetAside, in.Input, in.SetAsideFile)
			}
			if in.Moved != "" {
				s.Note("An older file that you have edited is kept as %s", in.Moved)
			}
		}
	}
	written := int64(0)
	for _, in := range r.Inputs {
		written += in.Written
	}
	aside := ""
	if n := r.SetAside(); n > 0 {
		aside = fmt.Sprintf(", %s set aside", plural(n, "row"))
	}
	s.Strong(true, "Prepared: %s%s", plural(written, "row"), aside)
}
