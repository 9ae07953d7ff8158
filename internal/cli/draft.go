package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/draft"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func draftCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "draft",
		Usage:     "write a ladle file by matching files with the tables of a database, by names and values",
		UsageText: "ladle draft FILE... --db DATABASE [-o NAME.ladle.yaml] [--json]",
		Description: "Every guess stands in the ladle file with its reason, every doubt in a line with # ?. Without -o the ladle file\n" +
			"goes to standard output.",
		Flags: []cli.Flag{
			databaseFlag(),
			&cli.StringFlag{Name: "o", Usage: "write the ladle file to `FILE`"},
			jsonFlag(asJSON),
		},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return fault.New(fault.Wrong, "draft needs a file", "write: "+c.UsageText)
			}
			return runDraft(ctx, c, *asJSON)
		},
	}
}

func runDraft(ctx context.Context, c *cli.Command, asJSON bool) error {
	out := c.String("o")
	if err := mayWriteDraft(ctx, out); err != nil {
		return err
	}
	db, err := open(ctx, c.String("db"))
	if err != nil {
		return err
	}
	defer db.Close()
	s, err := db.Schema(ctx)
	if err != nil {
		return err
	}
	progress := term.NewProgress()
	defer progress.Clear()
	tables, err := survey.Open(c.Args().Slice(), source.Asked{})
	if err != nil {
		return err
	}
	defer survey.Close(tables)
	surveyed, err := survey.Run(ctx, tables, func(p survey.Progress) { progress.Show("reading "+p.What, p.Done, p.Of, "bytes") })
	if err != nil {
		return err
	}
	progress.Clear()
	var files []draft.File
	for _, in := range surveyed.Inputs {
		files = append(files, draft.File{Path: besideDraft(out, in.Read.Path), Survey: in})
	}
	d, err := draft.Make(ctx, files, s, db)
	if err != nil {
		return err
	}
	if out != "" {
		if err := whole.Write(out, func(to io.Writer) error {
			_, err := io.WriteString(to, d.Text)
			return err
		}); err != nil {
			return fault.Because(fault.Failed, err, fault.Problem{File: out, What: "the ladle file can't be written: " + err.Error(), Do: "check the rights of its folder"})
		}
	}
	switch {
	case asJSON:
		return printJSON(term.Stdout, d)
	case out == "":
		fmt.Fprint(term.Stdout, d.Text)
		showDraft(term.NewScreen(os.Stderr), d, out, c.String("db"))
	default:
		showDraft(term.NewScreen(term.Stdout), d, out, c.String("db"))
	}
	return nil
}

// mayWriteDraft asks before a file that is there is replaced.
func mayWriteDraft(ctx context.Context, out string) error {
	if out == "" {
		return nil
	}
	if !ladlefile.Named(out) {
		return fault.New(fault.Wrong, fmt.Sprintf("a ladle file can't be called %q", out), "give it a name like "+strings.TrimSuffix(out, filepath.Ext(out))+".ladle.yaml")
	}
	if _, err := os.Stat(out); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	refused := fault.At(fault.Wrong, fault.Problem{File: out, What: "this file is there already", Do: "give another name, or move it away"})
	if !term.Interactive() {
		return refused
	}
	replace, err := term.Ask(ctx, fmt.Sprintf("%s is there already. Replace it?", out))
	if err == nil && !replace {
		err = refused
	}
	return err
}

// besideDraft is a path as the ladle file at out says it: relative to that.
func besideDraft(out, path string) string {
	switch {
	case path == source.StandardInput:
		return "-"
	case filepath.IsAbs(path):
		return path
	}
	from, err := filepath.Abs(filepath.Dir(out))
	if err != nil {
		return path
	}
	to, err := filepath.Abs(path)
	if err != nil {
		return path
	}
	if relative, err := filepath.Rel(from, to); err == nil {
		return filepath.ToSlash(relative)
	}
	return to
}

// showDraft says what was matched, and lists doubts and errors once more.
func showDraft(s *term.Screen, d *draft.Draft, out, database string) {
	if out != "" {
		s.Line("%s is written.", out)
	}
	t := term.Table{Header: []string{"column", "from", "score", "why"}, Numbers: []int{2}, Wrap: []int{1, 3}}
	for _, m := range d.Matches {
		t.Rows = append(t.Rows, []string{m.Block + "." + m.Column, m.Input + ": " + strings.Join(m.From, ", "), fmt.Sprintf("%.2f", m.Score), m.Why})
	}
	if t.Rows != nil {
		s.Title("What feeds what")
		s.Table(t)
	}
	if d.LeftOut != nil {
		s.Title("Columns of the files that feed nothing")
		for _, l := range d.LeftOut {
			s.Item(term.Dot, "%s: %s", l.Input, l.Column)
		}
	}
	if d.Doubts != nil {
		s.Title("Doubts, marked with # ? in the ladle file")
		for _, doubt := range d.Doubts {
			s.Item(term.Dot, "%s", doubt)
		}
	}
	if d.Errors != nil {
		s.Title("To be solved before a load")
		for _, e := range d.Errors {
			s.Item(term.Wrong, "%s", e)
		}
	}
	if out == "" {
		return
	}
	s.Line("")
	s.Line("Next: ladle try %s --db %s", out, database)
}
