package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/engine/mysql"
	"ladle/internal/core/engine/postgres"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/logbook"
	"ladle/internal/core/whole"
	"ladle/internal/page"
	"ladle/internal/term"
)

func databaseFlag() cli.Flag {
	return &cli.StringFlag{Name: "db", Usage: "the `DATABASE`: the path of an SQLite file, or postgres://USER@HOST/NAME or mysql://USER@HOST/NAME", Sources: cli.EnvVars("LADLE_DB")}
}

func loadCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "load",
		Usage:     "load the files of a ladle file: show what will be done, ask, do it, prove it, commit",
		UsageText: "ladle load FILE --db DATABASE [--mended FILE] [--yes] [--allow-removal] [--again] [--check-level LEVEL] [--no-logbook] [--html FILE] [--json]",
		Flags: []cli.Flag{
			databaseFlag(),
			&cli.BoolFlag{Name: "yes", Usage: "don't ask before writing; new names that look like others are not added, and nothing is removed"},
			&cli.BoolFlag{Name: "allow-removal", Usage: "with --yes, remove the rows that gone_from_file: finds"},
			mendedFlag(),
			againFlag(),
			&cli.BoolFlag{Name: "no-logbook", Usage: "don't write the run into the logbook of the database; it can't be taken back then"},
			levelFlag(),
			htmlFlag("the report"),
			jsonFlag(asJSON),
		},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			o := load.Options{Again: c.Bool("again"), Mended: c.StringSlice("mended"), Removal: c.Bool("allow-removal"), NoLogbook: c.Bool("no-logbook"),
				Level: check.Level(c.String("check-level"))}
			if !c.Bool("yes") {
				if !term.Interactive() {
					return fault.New(fault.Wrong, "load asks before it writes, but there is no terminal to ask on",
						"give --yes to load without being asked, or see first what would be done with: ladle try")
				}
				o.Ask, o.AskSimilar, o.AskKnown = ask, askSimilar(term.Ask), askKnown
			}
			return runLoad(ctx, c, o)
		},
	}
}

func tryCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:         "try",
		Usage:        "do all that load does, checks included, then take it back",
		UsageText:    "ladle try FILE --db DATABASE [--first N] [--mended FILE] [--again] [--check-level LEVEL] [--html FILE] [--json]",
		Flags:        []cli.Flag{databaseFlag(), firstFlag(), mendedFlag(), againFlag(), levelFlag(), htmlFlag("the report"), jsonFlag(asJSON)},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			return runLoad(ctx, c, load.Options{Try: true, Again: c.Bool("again"), Mended: c.StringSlice("mended"), First: c.Int64("first"), Level: check.Level(c.String("check-level"))})
		},
	}
}

func mendedFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "mended", Usage: "put the lines of `FILE`, a set-aside file that you have mended, in the place of those in the input"}
}

func firstFlag() cli.Flag {
	return &cli.Int64Flag{Name: "first", Usage: "read only the first `N` rows of each input", Validator: func(n int64) error {
		if n < 1 {
			return fault.New(fault.Wrong, fmt.Sprintf("--first can't be %d", n), "give a number of rows, from 1")
		}
		return nil
	}}
}

func levelFlag() cli.Flag {
	var levels []string
	for _, l := range check.Levels {
		levels = append(levels, string(l))
	}
	return &cli.StringFlag{Name: "check-level", Value: string(check.Cells), Usage: "how much is checked before the commit: `LEVEL` is balance, relations or cells; " +
		"a load that was not checked down to its cells can't be taken back", Validator: func(level string) error {
		if !slices.Contains(levels, level) {
			return fault.New(fault.Wrong, fmt.Sprintf("--check-level can't be %q", level), "write one of: "+strings.Join(levels, ", "))
		}
		return nil
	}}
}

func againFlag() cli.Flag {
	return &cli.BoolFlag{Name: "again", Usage: "add the rows of a file once more to a table without a key"}
}

func jsonFlag(asJSON *bool) cli.Flag {
	return &cli.BoolFlag{Name: "json", Usage: "print one JSON document", Destination: asJSON}
}

// ask shows what would be done and asks for a yes.
func ask(ctx context.Context, r *load.Report) (bool, error) {
	showPlan(term.NewScreen(os.Stderr), r)
	return term.Ask(ctx, "\nLoad this?")
}

// askKnown asks whether to load the same files once more.
func askKnown(ctx context.Context, r *logbook.Run) (bool, error) {
	return term.Ask(ctx, fmt.Sprintf("The same files were loaded by this ladle file before, as run %d of %s UTC. Load them again?", r.ID, moment(r.Started)))
}

// mostSimilar is the number of names that are asked about one by one.
const mostSimilar = 10

// askSimilar asks whether names that look like others are added: one by one, and when there are many, once for all others.
func askSimilar(answer func(ctx context.Context, question string) (bool, error)) func(context.Context, load.Similar) (bool, error) {
	asked, others := 0, false
	return func(ctx context.Context, p load.Similar) (yes bool, err error) {
		which := "is there"
		if p.New {
			which = "is new too"
		}
		if asked++; asked > mostSimilar+1 {
			return others, nil
		}
		question := fmt.Sprintf("%q would be a new name in %s, and looks like %q, which %s. Add it?", p.Name, p.Table, p.Like, which)
		if asked > mostSimilar {
			question = fmt.Sprintf("There are more such names, the next is %q. Add all of them?", p.Name)
		}
		yes, err = answer(ctx, term.Safe(question))
		if asked > mostSimilar {
			others = yes
		}
		return yes, err
	}
}

func runLoad(ctx context.Context, c *cli.Command, o load.Options) error {
	if c.Args().Len() != 1 {
		return fault.New(fault.Wrong, fmt.Sprintf("%s takes one ladle file, not %d", c.Name, c.Args().Len()), "write: "+c.UsageText)
	}
	report, err := loadFile(ctx, c.Args().First(), c.String("db"), o)
	if err != nil {
		return err
	}
	changed = report.Outcome == load.Loaded
	unwritten := placePage(c.String("html"), func(to io.Writer) error { return page.Load(to, report, Version) })
	if c.Bool("json") {
		err = printJSON(term.Stdout, struct {
			*load.Report
			Status int `json:"status"`
		}{report, report.Status()})
	} else {
		showReport(term.NewScreen(term.Stdout), report)
	}
	if err == nil && unwritten != nil {
		fmt.Fprintln(os.Stderr, term.Safe("ladle: "+unwritten.Error()))
	}
	if err == nil && report.Status() != 0 {
		err = exit(report.Status())
	}
	if err == nil && !changed {
		err = unwritten
	}
	return err
}

func htmlFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "html", Usage: "also write " + what + " to `FILE`, a page for a browser that needs nothing else", Validator: func(path string) error {
		if info, err := os.Stat(filepath.Dir(path)); path != "" && (err != nil || !info.IsDir()) {
			return fault.At(fault.Wrong, fault.Problem{File: path, What: "there is no such folder for the page", Do: "make it, or write the page somewhere else"})
		}
		if !mayReplace(path) {
			return fault.At(fault.Wrong, fault.Problem{File: path, What: "this is there already, and no page of ladle's", Do: "give another name, or move it away"})
		}
		return nil
	}}
}

// mayReplace tells whether nothing but a page stands at path.
func mayReplace(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return errors.Is(err, fs.ErrNotExist)
	}
	defer f.Close()
	start := make([]byte, len(page.Start))
	n, _ := io.ReadFull(f, start) // what is shorter is no page
	return string(start[:n]) == page.Start
}

// placePage writes a page, where one is asked for.
func placePage(path string, write func(io.Writer) error) error {
	if path == "" {
		return nil
	}
	err := whole.Write(path, write)
	if err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the page can't be written: " + err.Error(), Do: "check the rights of its folder"})
	}
	return nil
}

// loadFile loads a ladle file into a database.
func loadFile(ctx context.Context, path, database string, o load.Options) (*load.Report, error) {
	return atWork(ctx, path, database, o, load.Run)
}

// atWork opens a ladle file and a database, and shows how far the work on them is.
func atWork[R any](ctx context.Context, path, database string, o load.Options, work func(context.Context, *ladlefile.File, engine.Database, load.Options) (R, error)) (report R, err error) {
	file, err := ladlefile.Read(path)
	if err != nil {
		return report, err
	}
	db, err := open(ctx, database)
	if err != nil {
		return report, err
	}
	defer db.Close()
	progress := term.NewProgress()
	defer progress.Clear()
	o.Program = Version
	o.Reopen = func(ctx context.Context) (engine.Database, error) { return open(ctx, database) }
	o.Tell = func(p load.Progress) { progress.Show(p.Phase+" "+p.What, p.Done, p.Of, p.Unit) }
	if answer := o.Ask; answer != nil {
		o.Ask = func(ctx context.Context, r *load.Report) (bool, error) {
			progress.Clear()
			return answer(ctx, r)
		}
	}
	if answer := o.AskSimilar; answer != nil {
		o.AskSimilar = func(ctx context.Context, p load.Similar) (bool, error) {
			progress.Clear()
			return answer(ctx, p)
		}
	}
	return work(ctx, file, db, o)
}

// open connects to a database by its path or URL.
func open(ctx context.Context, database string) (engine.Database, error) {
	if database == "" {
		return nil, fault.New(fault.Wrong, "no database is named", "give --db, or set LADLE_DB")
	}
	scheme, _, isURL := strings.Cut(database, "://")
	switch {
	case !isURL:
		return sqlite.Open(database)
	case scheme == "postgres" || scheme == "postgresql":
		return postgres.Open(ctx, database)
	case scheme == "mysql" || scheme == "mariadb":
		return mysql.Open(ctx, database)
	}
	return nil, fault.New(fault.Wrong, fmt.Sprintf("databases of the kind %q are not known", scheme),
		"give the path of an SQLite file, or a URL like postgres://USER@HOST/NAME or mysql://USER@HOST/NAME")
}
