package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/alter"
	"ladle/internal/core/bundle"
	"ladle/internal/core/dictionary"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/propose"
	"ladle/internal/core/reason"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func bundleCommand() *command {
	return &command{
		name: "bundle", phase: getReady,
		does:  "put a ladle file, the files that it needs and what it expects of the tables into one archive",
		takes: operands{"FILE", "one ladle file", 1, 1},
		about: "try, load, verify, survey, prepare and rights take the archive in place of a ladle file. They first compare the " +
			"tables with those that the bundle was made for: what it relies on must be there, other differences are said. " +
			"Files of inputs are looked for beside the archive, unless it has them. The same content gives the same bytes.",
		options: []option{databaseOption(), otherOption(),
			{name: "output", short: "o", value: "FILE", group: groupOutput, needed: true, check: bundleCheck,
				does: "write the bundle to FILE, called NAME.zip"},
			{name: "with-inputs", group: groupInput, does: "put the files of the inputs in too"},
			replaceOption(), jsonOption()},
		examples: []example{
			{"What somebody else needs to load the harbour's files", "ladle bundle port-merrow/harbour.ladle.yaml --db " +
				"port-merrow/harbour.db -o port-merrow/harbour.zip"},
			{"The same, with the files", "ladle bundle port-merrow/harbour.ladle.yaml --db port-merrow/harbour.db " +
				"--with-inputs -o port-merrow/season.zip"},
		},
		run: runBundle,
	}
}

func bundleCheck(path string) error {
	if !bundle.Named(path) {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", path), Do: "give it a name that ends in .zip"}
	}
	return nil
}

func runBundle(ctx context.Context, c *cli.Command) error {
	path, out := c.Args().First(), c.String("output")
	if bundle.Is(path) {
		return fault.New(fault.Wrong, path+" is a bundle already", "give a ladle file")
	}
	if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
		return err
	}
	file, err := ladlefile.Read(path)
	if err != nil {
		return err
	}
	var made *bundle.Bundle
	err = withPlan(ctx, c, file, func(db engine.Database, p *plan.Plan) error {
		dialect := kindOf(c.String("db"))
		definitions, err := definitionsOf(ctx, db, p, dialect)
		if err == nil {
			made, err = bundle.Gather(path, p, Version, dialect, definitions, c.Bool("with-inputs"))
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := whole.Write(out, func(to io.Writer) error { return made.Write(to) }); err != nil {
		return err
	}
	if c.Bool("json") {
		return printDocument(term.Stdout, newHead("bundle", "written", done), struct {
			Output string          `json:"output"`
			Holds  bundle.Manifest `json:"manifest"`
		}{out, made.Manifest})
	}
	s := term.NewScreen(term.Stdout)
	s.Line("%s was written: %s.", out, reason.Plural(int64(len(made.Files)), "file"))
	for _, e := range made.Files {
		s.Item(term.Dot, "%s", e.Name)
	}
	return nil
}

// definitionsOf are the statements that make the tables of a plan, in the dialect of its database.
func definitionsOf(ctx context.Context, db engine.Database, p *plan.Plan, dialect string) (string, error) {
	var names []string
	for _, t := range p.Tables() {
		names = append(names, t.Name)
	}
	d, err := dictionary.Make(ctx, db, p.Schema, dictionary.Options{Tables: names})
	if err != nil {
		return "", err
	}
	return alter.Definitions(d.Tables, propose.Dialect(dialect)), nil
}

// bundles are the bundles that are open, by their ladle files.
var bundles = map[*ladlefile.File]*opened{}

// opened is a bundle, and where it stands.
type opened struct {
	*bundle.Opened
	path string
}

// openBundle opens a bundle in place of a ladle file.
func openBundle(c *cli.Command, path string) (*ladlefile.File, error) {
	if len(c.StringSlice("corrected")) > 0 || c.Bool("fix") {
		return nil, fault.At(fault.Wrong, fault.Problem{File: path,
			What: "a bundle isn't changed, and --corrected and --fix would",
			Do:   "use the ladle file, and make the bundle anew"})
	}
	o, err := bundle.Open(path)
	if err != nil {
		return nil, err
	}
	bundles[o.File] = &opened{o, path}
	return o.File, nil
}

// closeBundles removes what open bundles have left on disk.
func closeBundles() {
	for _, o := range bundles {
		_ = o.Close()
	}
}

// expected holds what a bundle expects against the database; a ladle file that comes in none expects nothing.
func expected(ctx context.Context, f *ladlefile.File, db engine.Database, database string) error {
	o := bundles[f]
	if o == nil {
		return nil
	}
	s, err := db.Schema(ctx)
	if err != nil {
		return err
	}
	stops, notes := o.Compare(s, kindOf(database))
	for _, n := range notes {
		term.NewScreen(os.Stderr).Note("Note: %s", n)
	}
	if stops == nil {
		return nil
	}
	problems := []fault.Problem{{File: o.path, What: "this database is not as the bundle expects it",
		Do: "change the tables, or make a bundle for this database"}}
	for _, stop := range stops {
		problems = append(problems, fault.Problem{What: stop})
	}
	return fault.At(fault.Refused, problems...)
}

// besideBundle is the folder for what a load writes: that of the bundle, or "" for that of the ladle file.
func besideBundle(f *ladlefile.File) string {
	if o := bundles[f]; o != nil {
		return filepath.Dir(o.path)
	}
	return ""
}
