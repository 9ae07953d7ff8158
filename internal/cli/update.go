package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/urfave/cli/v3"

	"ladle/internal/core/draft"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reshape"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

// updateCheck takes the path of a ladle file.
func updateCheck(path string) error {
	if !ladlefile.Named(path) {
		return fault.New(fault.Wrong, fmt.Sprintf("--update takes a ladle file, which %q is not by its name", path),
			"give it the path of a NAME.ladle.yaml")
	}
	return nil
}

// runUpdate shows how a ladle file would have to change, and writes it where that is asked for.
func runUpdate(ctx context.Context, c *cli.Command, path string) error {
	out := c.String("output")
	if err := mayWriteDraft(ctx, out, c.Bool("replace")); err != nil {
		return err
	}
	if len(c.StringSlice("table")) > 0 {
		return fault.New(fault.Wrong, "--table doesn't go with --update, which keeps to the tables of the ladle file",
			"leave one of them out")
	}
	f, err := ladleFile(c, path)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return unreadable(path, err)
	}
	r, err := revised(ctx, c, f, text)
	if err != nil {
		return err
	}
	if out != "" {
		if err := writeLadleFile(out, r.Text); err != nil {
			return err
		}
	}
	changed := r.Text != string(text)
	if c.Bool("json") {
		return printDocument(term.Stdout, newHead("draft_update", pick(changed, "changed", "unchanged"), done), struct {
			LadleFile string `json:"ladle_file,omitempty"` // where it was written to
			*draft.Revision
		}{out, r})
	}
	showRevision(term.NewScreen(term.Stdout), r, path, string(text))
	if out != "" || !changed || !term.Interactive() {
		return nil
	}
	if yes, err := term.Ask(ctx, fmt.Sprintf("Write these changes into %s?", path)); err != nil || !yes {
		return err
	}
	return writeLadleFile(path, r.Text)
}

// revised surveys the inputs of a ladle file, and more files, and holds the ladle file against them.
func revised(ctx context.Context, c *cli.Command, f *ladlefile.File, text []byte) (*draft.Revision, error) {
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	var tables []source.Table
	defer func() { survey.Close(tables) }()
	for _, in := range f.Inputs {
		if in.FromDatabase() {
			return nil, fault.At(fault.Wrong, fault.Problem{File: f.Path, Line: in.Name.Line, Column: in.Name.Column,
				What: fmt.Sprintf("the input %s comes from a database, and --update compares files", in.Name.Value),
				Do:   "bring its block up to date by hand"})
		}
		t, err := reshape.Open(in.Paths, in.Asked, in.Shape, f.Path)
		if err != nil {
			return nil, source.OfInput(err, in.Name.Value)
		}
		tables = append(tables, t)
	}
	if c.Args().Present() {
		more, err := survey.Open(c.Args().Slice(), readAs(c))
		if err != nil {
			return nil, err
		}
		tables = append(tables, more...)
	}
	files, err := surveyed(ctx, tables)
	if err != nil {
		return nil, err
	}
	for i := range files[len(f.Inputs):] {
		one := &files[len(f.Inputs)+i]
		one.Path, one.Asked = besideDraft(f.Path, one.Path), readAs(c)
	}
	return draft.Update(ctx, f, text, files, s, db)
}

// showRevision shows what changes, and the lines of the ladle file that do.
func showRevision(s *term.Screen, r *draft.Revision, path, before string) {
	if r.Text == before {
		s.Line("%s needs no changes.", path)
	}
	if len(r.Changes) > 0 {
		s.Title("Changes")
		for _, c := range r.Changes {
			s.Item(term.Dot, "%s: %s%s", c.Where, c.Says, pick(c.Doubt, " (uncertain)", ""))
		}
		s.Title("In %s", path)
		showDiff(s, before, r.Text)
	}
	if r.LeftOut != nil {
		s.Title("Columns of the files that are not used")
		for _, l := range r.LeftOut {
			s.Item(term.Dot, "%s: %s", l.Input, l.Column)
		}
	}
	if r.Errors != nil {
		s.Title("To solve before loading")
		for _, e := range r.Errors {
			s.Item(term.Wrong, "%s", e)
		}
	}
}

// showDiff shows the lines of a text that change, with those around them.
func showDiff(s *term.Screen, before, now string) {
	unified := udiff.Unified("", "", before, now)
	for line := range strings.Lines(unified) {
		line = strings.TrimRight(line, "\r\n")
		switch {
		case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"):
		case strings.HasPrefix(line, "@@"):
			s.Line("  …")
		default:
			s.Line("  %s", cut(line, s.Width()-3))
		}
	}
}

func pick(when bool, then, otherwise string) string {
	if when {
		return then
	}
	return otherwise
}
