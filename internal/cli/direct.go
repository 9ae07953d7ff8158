package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/bundle"
	"ladle/internal/core/draft"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

// directOptions are those for files that are loaded without a ladle file.
func directOptions() []option {
	return append([]option{
		{name: "into", value: "TABLE", group: groupDatabase, does: "without a ladle file: the table that the file " +
			"is for"},
		{name: "key", value: "COLUMNS", group: groupDatabase, does: "without a ladle file: the columns of that " +
			"table, with commas between them, by which a row is recognised"},
		{name: "keep", value: "LADLEFILE", group: groupOutput, check: keepCheck,
			does: "write what was done as a ladle file, to do the same with it again"}}, readOptions()...)
}

func keepCheck(path string) error {
	if !ladlefile.Named(path) {
		return fault.New(fault.Wrong, fmt.Sprintf("a ladle file can't be called %q", path),
			"give it a name like "+strings.TrimSuffix(path, filepath.Ext(path))+".ladle.yaml")
	}
	if _, err := os.Stat(path); err == nil {
		return fault.At(fault.Wrong, fault.Problem{File: path, What: "the file exists already",
			Do: "load with it, or give another name"})
	}
	return nil
}

// direct reports whether the operands are files of rows, and what is wrong with them.
func direct(c *cli.Command) (bool, error) {
	ladleFiles := 0
	for _, path := range c.Args().Slice() {
		if ladlefile.Named(path) || bundle.Is(path) {
			ladleFiles++
		}
		if path == "-" {
			return true, fault.New(fault.Wrong, "standard input can't be loaded without a ladle file, since it is "+
				"read twice", "save it in a file, or write a ladle file for it with: ladle draft")
		}
	}
	switch n := c.Args().Len(); {
	case ladleFiles == 0:
		for _, name := range []string{"input", "corrected"} {
			if len(c.StringSlice(name)) > 0 {
				return true, fault.New(fault.Wrong, fmt.Sprintf("--%s goes with a ladle file", name),
					"write one first, with --keep")
			}
		}
		return true, nil
	case n > ladleFiles:
		return false, fault.New(fault.Wrong, fmt.Sprintf("%s takes ladle files, or files of rows", c.Name),
			"give either")
	}
	for _, o := range directOptions() {
		if c.String(o.name) != "" {
			return false, fault.New(fault.Wrong, fmt.Sprintf("--%s is for files without a ladle file", o.name),
				"write it in the ladle file")
		}
	}
	return false, nil
}

// directFile drafts a ladle file for the files of the command line, with the answers of the person where asks says that
// there is one; elsewhere every doubt that could do harm is refused.
func directFile(ctx context.Context, c *cli.Command, asks bool) (*ladlefile.File, *draft.Draft, error) {
	paths := c.Args().Slice()
	path := c.String("keep")
	if path == "" {
		path = paths[0]
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	tables, err := survey.Open(paths, readAs(c))
	if err != nil {
		return nil, nil, err
	}
	defer func() { survey.Close(tables) }()
	files, err := surveyed(ctx, tables)
	if err != nil {
		return nil, nil, err
	}
	for i := range files {
		f := &files[i]
		f.Path, f.Asked, f.Into = besideDraft(path, f.Path), readAs(c), c.String("into")
		f.Key = namesOf(c, "key")
	}
	work := &drafting{files: files, again: resurvey(&tables), make: func(files []draft.File) (*draft.Draft, error) {
		return draft.Make(ctx, files, s, db)
	}}
	shown := false
	work.show = func(d *draft.Draft) {
		if !shown || d.Next() == nil {
			showMatches(term.NewScreen(os.Stderr), d.Matches)
		}
		shown = true
	}
	d, err := work.settled(ctx, asks)
	if err != nil {
		return nil, nil, err
	}
	if len(d.Errors) > 0 {
		return nil, nil, inDoubt(d.Errors)
	}
	f, err := ladlefile.Decode(path, []byte(d.Text))
	return f, d, err
}

// settled is the draft once its doubts are settled: by a person, or where nobody asks, because they can do no harm.
func (d *drafting) settled(ctx context.Context, asks bool) (*draft.Draft, error) {
	if asks {
		made, err := d.ask(ctx)
		if errors.Is(err, errQuit) {
			err = fault.New(fault.Wrong, "nothing was loaded", "to settle what is uncertain in a file, write it "+
				"with: ladle draft")
		}
		return made, err
	}
	var doubts []string
	for _, f := range d.files {
		if q := f.Question(); q != nil && !q.Harmless {
			doubts = append(doubts, q.Where+": "+q.Why)
		}
	}
	made, err := d.make(d.files)
	if err != nil {
		return nil, err
	}
	for _, q := range made.Doubtful() {
		doubts = append(doubts, q.Where+": "+q.Why)
	}
	if doubts != nil {
		return nil, inDoubt(doubts)
	}
	d.show(made)
	return made, nil
}

// inDoubt refuses to load what isn't certain.
func inDoubt(doubts []string) error {
	all := []fault.Problem{{What: "nothing is loaded without a ladle file while this is uncertain or missing"}}
	for _, d := range doubts {
		all = append(all, fault.Problem{What: d})
	}
	all[len(all)-1].Do = "run it at a terminal to be asked, say how the file is read with options such as --header, " +
		"or settle it in a ladle file that ladle draft writes"
	return fault.At(fault.Wrong, all...)
}

// runDirect loads, or tries, files without a ladle file.
func runDirect(ctx context.Context, c *cli.Command, o load.Options) error {
	file, d, err := directFile(ctx, c, o.Ask != nil || o.Try && term.Interactive() && !c.Bool("json"))
	if err != nil {
		return err
	}
	if keep := c.String("keep"); keep != "" {
		if err := writeLadleFile(keep, d.Text); err != nil {
			return err
		}
		defer fmt.Fprintln(os.Stderr, term.Safe(fmt.Sprintf("\n%s was written: the same again is ladle load %s --db %s",
			keep, keep, engine.Masked(c.String("db")))))
	}
	return runLoadOf(ctx, c, file, o)
}
