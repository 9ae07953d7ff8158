package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/look"
	"ladle/internal/core/source"
	"ladle/internal/term"
)

// runBeside shows the columns of a file beside those of a table.
func runBeside(ctx context.Context, c *cli.Command) error {
	if c.String("db") == "" {
		return fault.New(fault.Wrong, "--beside compares with a table, and no database is named", "name it with --db")
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	t, err := tableCalled(s, c.Args().First())
	if err != nil {
		return err
	}
	table, err := openSingle(c.String("beside"), readAs(c))
	if err != nil {
		return err
	}
	defer table.Close()
	files, err := surveyed(ctx, []source.Table{table})
	if err != nil {
		return err
	}
	made, err := look.Beside(ctx, files[0], s, t, db)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printDocument(term.Stdout, newHead("look_beside", "looked", done), made)
	}
	showBeside(term.NewScreen(term.Stdout), made)
	return nil
}

func showBeside(s *term.Screen, made *look.Comparison) {
	s.Line("%s beside %s", made.File, made.Table)
	s.Line("")
	t := term.Table{Header: []string{"", "in the file", "longest", "such as", "in the table", "type", "looked up in"},
		Numbers: []int{2}, Wrap: []int{3}}
	for _, p := range made.Pairs {
		mark, longest := "", ""
		switch {
		case p.TooLong():
			mark = "!"
		case p.Doubt:
			mark = "?"
		}
		if p.From != "" {
			longest = fmt.Sprint(p.Longest)
		}
		kind := p.Type
		if p.Required && p.From == "" {
			kind += ", required"
		}
		t.Rows = append(t.Rows, []string{mark, p.From, longest, cut(strings.Join(p.Samples, " · "), longestShown),
			p.Column, kind,
			p.Lookup})
	}
	s.Table(t)
	for _, p := range made.Pairs {
		if p.TooLong() {
			s.Item(term.Wrong, "%s takes %s, and %s has a value of %d", p.Column, plural(int64(p.Length), "character"),
				p.From, p.Longest)
		}
	}
}
