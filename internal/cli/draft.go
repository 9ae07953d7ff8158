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
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func draftCommand() *command {
	c := &command{
		name: "draft", phase: getReady,
		does:  "write a ladle file by matching files with the tables of a database, by names and values",
		takes: operands{"FILE...", "a file", 1, many},
		about: "Each guess is written with its reason; anything uncertain is on a line marked # ?. Without -o the " +
			"ladle file goes to standard output.",
		instead: []string{"update", "query"},
		options: []option{databaseOption(),
			{name: "update", value: "LADLEFILE", group: groupInput, check: updateCheck,
				does: "bring a ladle file up to date " +
					"with its files and the database: columns that got other names, new ones that fit; each FILE is " +
					"put in as one more input. Nothing is written without --output or your consent"},
			inputOption(),
			{name: "query", value: "SELECT", group: groupInput, does: "match the rows of a query on the database " +
				"too, as an input of its own"},
			{name: "table", value: "NAME", group: groupDatabase, list: true, does: "only for the table NAME"},
			{name: "output", short: "o", value: "FILE", group: groupOutput, does: "write the ladle file to FILE, " +
				"called NAME.ladle.yaml"},
			noQuestionsOption(), replaceOption(), jsonOption()},
		examples: []example{
			{"A ladle file for the pilots", "ladle draft port-merrow/pilots.csv --db port-merrow/harbour.db -o " +
				"port-merrow/draft.ladle.yaml"},
			{"What changed since a ladle file was written", "ladle draft --update port-merrow/harbour.ladle.yaml " +
				"--db port-merrow/harbour.db"},
		},
		run: func(ctx context.Context, c *cli.Command) error { return runDraft(ctx, c, c.Bool("json")) },
	}
	c.options = append(c.options, readOptions()...)
	return c
}

func noQuestionsOption() option {
	return option{name: "no-questions", group: groupAsk, does: "ask nothing: what is uncertain is only marked"}
}

func runDraft(ctx context.Context, c *cli.Command, asJSON bool) error {
	if update := c.String("update"); update != "" {
		return runUpdate(ctx, c, update)
	}
	if len(c.StringSlice("input")) > 0 {
		return fault.New(fault.Wrong, "--input goes with --update", "name the file itself")
	}
	out := c.String("output")
	if err := mayWriteDraft(ctx, out, c.Bool("replace")); err != nil {
		return err
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	tables, err := survey.Open(c.Args().Slice(), readAs(c))
	if err != nil {
		return err
	}
	defer func() { survey.Close(tables) }()
	query := c.String("query")
	if query != "" {
		t, err := answer(ctx, db, source.File{Path: "query", Query: true}, query)
		if err != nil {
			return err
		}
		tables = append(tables, t)
	}
	files, err := surveyed(ctx, tables)
	if err != nil {
		return err
	}
	for i := range files {
		if files[i].Survey.Read.Query {
			files[i].Query = query
			continue
		}
		files[i].Path, files[i].Asked = besideDraft(out, files[i].Path), readAs(c)
	}
	work := &drafting{files: files, again: resurvey(&tables), make: func(files []draft.File) (*draft.Draft, error) {
		return draft.Make(ctx, files, s, db, c.StringSlice("table")...)
	}}
	work.show = func(d *draft.Draft) { showMatches(term.NewScreen(os.Stderr), d.Matches) }
	asks := term.Interactive() && !asJSON && !c.Bool("no-questions")
	d, err := work.draft(ctx, asks)
	if err != nil {
		return err
	}
	if out != "" {
		if err := writeLadleFile(out, d.Text); err != nil {
			return err
		}
	}
	switch {
	case asJSON:
		return printDocument(term.Stdout, newHead("draft", "drafted", done), struct {
			LadleFile string `json:"ladle_file,omitempty"` // where it was written to
			*draft.Draft
		}{out, d})
	case out == "":
		fmt.Fprint(term.Stdout, d.Text)
		showDraft(term.NewScreen(os.Stderr), d, out, c.String("db"), !asks)
	default:
		showDraft(term.NewScreen(term.Stdout), d, out, c.String("db"), !asks)
	}
	return nil
}

// surveyed surveys tables as files of a draft.
func surveyed(ctx context.Context, tables []source.Table) (files []draft.File, err error) {
	progress := term.NewProgress()
	defer progress.Clear()
	all, err := survey.Run(ctx, tables, func(p survey.Progress) {
		progress.Show("reading "+p.What, p.Done, p.Of, "bytes")
	})
	if err != nil {
		return nil, err
	}
	for _, in := range all.Inputs {
		files = append(files, draft.File{Path: in.Read.Path, Survey: in})
	}
	return files, nil
}

func writeLadleFile(path, text string) error {
	err := whole.Write(path, func(to io.Writer) error {
		_, err := io.WriteString(to, text)
		return err
	})
	if err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: path,
			What: "the ladle file can't be written: " + err.Error(), Do: "check the permissions of its folder and " +
				"the free disk space"})
	}
	return nil
}

// mayWriteDraft refuses a name that no ladle file can have, and asks before a file that is there is replaced.
func mayWriteDraft(ctx context.Context, out string, replace bool) error {
	if out == "" {
		return nil
	}
	if !ladlefile.Named(out) {
		return fault.New(fault.Wrong, fmt.Sprintf("a ladle file can't be called %q", out),
			"give it a name like "+strings.TrimSuffix(out, filepath.Ext(out))+".ladle.yaml")
	}
	return askReplace(ctx, out, replace)
}

// isRead refuses to write over a file that is read.
func isRead(out string, files ...string) error {
	there, err := os.Stat(out)
	if err != nil {
		return nil // nothing is there
	}
	for _, f := range files {
		if read, err := os.Stat(f); err == nil && os.SameFile(there, read) {
			return fault.At(fault.Wrong, fault.Problem{File: out, What: "the file is read, so it can't be written too",
				Do: "give another name"})
		}
	}
	return nil
}

// askReplace asks before a file that is there is replaced.
func askReplace(ctx context.Context, out string, replace bool) error {
	if _, err := os.Stat(out); replace || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	refused := fault.At(fault.Wrong, fault.Problem{File: out, What: "the file exists already",
		Do: "give another name, or --replace"})
	if !term.Interactive() {
		return refused
	}
	replace, err := term.Ask(ctx, fmt.Sprintf("%s exists already. Replace it?", out))
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

// showMatches shows columns of files beside the columns of tables that they feed, file by file.
func showMatches(s *term.Screen, all []draft.Match) {
	t := term.Table{Header: []string{"", "from the file", "such as", "rule", "column", "type"}, Wrap: []int{1, 2, 3}}
	input := ""
	for _, m := range all {
		if m.Input != input {
			input = m.Input
			t.Rows = append(t.Rows, []string{"", input + ":", "", "", "", ""})
		}
		rule := m.Rule
		if m.Lookup != "" {
			rule = strings.TrimPrefix(rule+", lookup: "+m.Lookup+"."+strings.Join(m.By, " and "), ", ")
		}
		mark := ""
		if m.Doubt {
			mark = "?"
		}
		t.Rows = append(t.Rows, []string{mark, strings.Join(m.From, ", "), strings.Join(m.Sample, " · "),
			rule, m.Block + "." + m.Column, m.Type})
	}
	if t.Rows != nil {
		s.Title("Matches")
		s.Table(t)
	}
}

// showDraft says what was matched, where that wasn't shown before, and lists doubts and errors once more.
func showDraft(s *term.Screen, d *draft.Draft, out, database string, matches bool) {
	if out != "" {
		s.Line("%s was written.", out)
	}
	if matches {
		showMatches(s, d.Matches)
	}
	if d.LeftOut != nil {
		s.Title("Columns of the files that are not used")
		for _, l := range d.LeftOut {
			s.Item(term.Dot, "%s: %s", l.Input, l.Column)
		}
	}
	if d.Doubts != nil {
		s.Title("Uncertain, marked # ? in the ladle file")
		for _, doubt := range d.Doubts {
			s.Item(term.Dot, "%s", doubt)
		}
	}
	if d.Errors != nil {
		s.Title("To solve before loading")
		for _, e := range d.Errors {
			s.Item(term.Wrong, "%s", e)
		}
	}
	if out == "" {
		return
	}
	s.Line("")
	fix := "" // where a person is there to be asked
	if !matches {
		fix = " --fix"
	}
	s.Line("Next: ladle try %s --db %s%s", out, engine.Masked(database), fix)
}
