package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/prepare"
	"ladle/internal/term"
)

func prepareCommand() *command {
	return &command{
		name: "prepare", phase: getReady,
		does:  "write the cleaned lines of a ladle file's inputs to CSV files or workbooks",
		takes: operands{"FILE", "one ladle file", 1, 1},
		about: "For each input the folder gets a file with its lines as load would clean them, new columns last, and " +
			"INPUT.set-aside.csv with the lines that can't be cleaned. The types and keys of tables are not asked.",
		options: []option{
			{name: "output", short: "o", value: "FOLDER", group: groupOutput, needed: true,
				does: "the folder to write to; it is created when it doesn't exist"},
			{name: "columns", value: "NAMES", group: groupOutput, does: "write only these columns, in this order, " +
				"with commas between them"},
			{name: "rename", value: "OLD=NEW", group: groupOutput, list: true, check: renameCheck,
				does: "call the column OLD NEW in what is written"},
			{name: "workbook", group: groupOutput, does: "write workbooks (.xlsx) with typed cells"},
			inputOption(), replaceOption(), forQueries(databaseOption()), otherOption(), jsonOption()},
		examples: []example{
			{"Clean CSV files", "ladle prepare port-merrow/harbour.ladle.yaml -o port-merrow/cleaned"},
			{"Clean workbooks, over those of the last time", "ladle prepare port-merrow/harbour.ladle.yaml -o " +
				"port-merrow/cleaned --workbook --replace"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			o := prepare.Options{Folder: c.String("output"), Format: prepare.CSV, Replace: c.Bool("replace"),
				Columns: namesOf(c, "columns")}
			if c.Bool("workbook") {
				o.Format = prepare.XLSX
			}
			for _, said := range c.StringSlice("rename") {
				from, to, _ := strings.Cut(said, "=") // it was checked
				o.Renames = append(o.Renames, prepare.Rename{From: from, To: to})
			}
			return runPrepare(ctx, c, o)
		},
	}
}

func renameCheck(said string) error {
	if from, to, ok := strings.Cut(said, "="); !ok || from == "" || to == "" {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", said), Do: "write it as OLD=NEW"}
	}
	return nil
}

func runPrepare(ctx context.Context, c *cli.Command, o prepare.Options) error {
	file, err := ladleFile(c, c.Args().First())
	if err != nil {
		return err
	}
	progress := term.NewProgress()
	defer progress.Clear()
	o.Progress = func(input string, done, of int64) { progress.Show("cleaning "+input, done, of, "bytes") }
	rows, closes, err := inputRows(ctx, c, file)
	defer closes()
	if err != nil {
		return err
	}
	r, err := answered(ctx, file, true, func() (*prepare.Report, error) {
		defer progress.Clear()
		return prepare.Run(ctx, file, rows, o)
	})
	if err != nil {
		return err
	}
	progress.Clear()
	status := 0
	if r.SetAside() > 0 {
		status = 4
	}
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("prepare", "prepared", status), r)
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
	t := term.Table{Header: []string{"input", "from", "read", "written", "left out", "set aside", "file"},
		Numbers: []int{2, 3, 4, 5}}
	for _, in := range r.Inputs {
		t.Rows = append(t.Rows, []string{in.Input, in.Files, term.Count(in.Tally.Read), term.Count(in.Tally.Written),
			term.Count(in.Tally.LeftOut), term.Count(in.Tally.SetAside), in.Output})
	}
	s.Table(t)
	for _, in := range r.Inputs {
		for _, note := range in.Notes {
			s.Note("Note: %s", note)
		}
		if in.Guarded > 0 {
			s.Note("%s: an apostrophe was put before %s that a spreadsheet would run as a formula; --workbook keeps "+
				"them as they are", in.Output, plural(in.Guarded, "cell"))
		}
	}
	if n := r.SetAside(); n > 0 {
		s.Title("Set aside: %s", plural(n, "line"))
		showGroups(s, r.Groups, len(r.Inputs) > 1)
		for _, in := range r.Inputs {
			if in.SetAsideFile != "" {
				showAsideFile(s, in.Tally.SetAside, in.Input, in.SetAsideFile)
			}
			if in.Moved != "" {
				s.Note("The older set-aside file, which you had edited, is now %s", in.Moved)
			}
		}
	}
	written := int64(0)
	for _, in := range r.Inputs {
		written += in.Tally.Written
	}
	aside := ""
	if n := r.SetAside(); n > 0 {
		aside = fmt.Sprintf(", %s set aside", plural(n, "line"))
	}
	s.Strong(true, "Prepared: %s%s", plural(written, "line"), aside)
}
