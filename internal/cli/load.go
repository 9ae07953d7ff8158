package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/changes"
	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/intake"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/logbook"
	"ladle/internal/core/plan"
	"ladle/internal/core/report"
	"ladle/internal/page"
	"ladle/internal/term"
)

func loadCommand() *command {
	c := &command{
		name: "load", phase: doLoad,
		does:  "load files: show what will be done, ask, write, check, commit",
		takes: operands{"FILE...", "ladle files, or files of rows", 1, many},
		about: "FILE is a ladle file; several of one folder are one load, in the order that their tables need. Without one, FILEs are CSV files, workbooks or the like: which columns feed " +
			"which is found as draft finds it, shown, and asked where it is uncertain.\n\nEverything is one " +
			"transaction, unless you say --in-parts. Rows are added (append without duplicates), updated (upsert) or " +
			"removed as the ladle file says. Lines that can't be loaded as they are go to INPUT.set-aside.csv with " +
			"their reasons.",
		options: []option{databaseOption(), otherOption(), waitOption(), retriesOption(), timeoutOption(), inputOption(),
			correctedOption(), againOption(),
			{name: "yes", group: groupAsk, does: "don't ask. New names that look like others are not added, and no " +
				"row is removed"},
			removalOption("with --yes, remove the rows that gone_from_file: finds"),
			{name: "no-logbook", group: groupProof, does: "don't record the run; it can't be undone then"},
			{name: "in-parts", value: "N", group: groupProof, check: countCheck, does: "commit after every N lines that add or " +
				"change a row, parents before children, where one transaction would be too large: others see the parts that are in, " +
				"and if one fails, those before it stay"},
			{name: "go-on", value: "RUN", group: groupProof, check: countCheck, does: "go on with RUN, the number of an unfinished " +
				"load in parts of the same files"},
			levelOption(),
			{name: "newest", value: "N", group: groupOutput, does: "show the newest N rows of each table (usually 3)",
				check: countCheck},
			changesOption(), htmlOption("the report"), jsonOption()},
		examples: []example{
			{"One file into one table, without a ladle file", "ladle load port-merrow/pilots.csv --db " +
				"port-merrow/harbour.db --into pilot"},
			{"Load the harbour's files, after a look at what will be done",
				"ladle load port-merrow/harbour.ladle.yaml --db port-merrow/harbour.db"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			newest, _ := strconv.Atoi(c.String("newest")) // these were checked
			most, _ := strconv.ParseInt(c.String("in-parts"), 10, 64)
			run, _ := strconv.ParseInt(c.String("go-on"), 10, 64)
			if (most > 0 || run > 0) && c.Bool("no-logbook") {
				return fault.New(fault.Wrong, "a load in parts needs the logbook, which says what parts are in the tables",
					"leave out --no-logbook, or --in-parts and --go-on")
			}
			o := load.Options{Newest: newest, Again: c.Bool("again"), Corrected: c.StringSlice("corrected"),
				Removal: c.Bool("allow-removal"), NoLogbook: c.Bool("no-logbook"), InParts: most, GoOn: run,
				Level: check.Level(c.String("check-level"))}
			if !c.Bool("yes") {
				if !term.Interactive() {
					return fault.New(fault.Wrong, "load asks before it writes, but there is no terminal to ask on",
						"give --yes to load without a question, or see first what would be done with: ladle try")
				}
				o.Ask, o.AskSimilar, o.AskKnown = ask, askSimilar(term.Choose), askKnown
			}
			return runLoad(ctx, c, o)
		},
	}
	c.options = slices.Concat(c.options, progressOptions(), directOptions())
	return c
}

func tryCommand() *command {
	c := &command{
		name: "try", phase: doLoad,
		does:  "dry run: do everything that load does, checks included, then roll it back",
		takes: operands{"FILE...", "ladle files, or files of rows", 1, many},
		about: "The exit status is the one that load with the same options would have.",
		options: []option{databaseOption(), otherOption(), waitOption(), retriesOption(), timeoutOption(),
			{name: "first", value: "N", group: groupInput, does: "read only the first N lines of each input",
				check: countCheck},
			{name: "fix", group: groupAsk, does: "ask about each problem that has a known solution, write the one " +
				"that you choose into the ladle file, and try again. Nothing is written to the database"},
			inputOption(), correctedOption(), againOption(), removalOption("remove the rows that gone_from_file: " +
				"finds, as load would with this option"),
			levelOption(), changesOption(), htmlOption("the report"), jsonOption()},
		examples: []example{
			{"What a load of the harbour's files would do", "ladle try port-merrow/harbour.ladle.yaml --db " +
				"port-merrow/harbour.db"},
			{"What is wrong, and putting it right by answers", "ladle try port-merrow/harbour.ladle.yaml --db " +
				"port-merrow/harbour.db --fix"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			first, _ := strconv.ParseInt(c.String("first"), 10, 64) // it was checked
			o := load.Options{Try: true, Again: c.Bool("again"), Removal: c.Bool("allow-removal"),
				Corrected: c.StringSlice("corrected"), First: first, Level: check.Level(c.String("check-level"))}
			if c.Bool("fix") {
				return runFix(ctx, c, o)
			}
			return runLoad(ctx, c, o)
		},
	}
	c.options = slices.Concat(c.options, progressOptions(), directOptions())
	return c
}

// countCheck takes whole numbers from 1.
func countCheck(text string) error {
	if n, err := strconv.ParseInt(text, 10, 64); err != nil || n < 1 {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", text), Do: "give a whole number, from 1"}
	}
	return nil
}

func removalOption(does string) option {
	return option{name: "allow-removal", group: groupAsk, does: does}
}

func correctedOption() option {
	return option{name: "corrected", value: "FILE", group: groupInput, list: true,
		does: "take in the lines of FILE, a set-aside file that you have corrected; they are kept beside the ladle " +
			"file, and used from there by every command"}
}

func levelOption() option {
	var levels []string
	for _, l := range check.Levels {
		levels = append(levels, string(l))
	}
	return option{name: "check-level", value: "LEVEL", group: groupProof, choose: levels, fallback: string(check.Cells),
		does: "check the balance, or relations too, or all cells too: balance, relations or cells. What was not " +
			"checked down to its cells can't be undone"}
}

func againOption() option {
	return option{name: "again", group: groupInput, does: "load a file into a table without a key although it was " +
		"loaded before; its rows are added a second time"}
}

func jsonOption() option {
	return option{name: "json", group: groupOutput, does: "print one JSON document"}
}

func replaceOption() option {
	return option{name: "replace", group: groupOutput, does: "write over files that exist"}
}

// ask shows what would be done and asks for a yes.
func ask(ctx context.Context, r *report.Report, each changes.Walk) (bool, error) {
	showPlan(term.NewScreen(os.Stderr), r)
	return askSeeing(ctx, fmt.Sprintf("\nLoad this (%s)?", doneWords(r)), each, term.Choose)
}

// askKnown asks whether to load the same files once more.
func askKnown(ctx context.Context, r *logbook.Run) (bool, error) {
	return term.Ask(ctx, fmt.Sprintf("This ladle file loaded the same files before: run %d, %s UTC. Load them "+
		"again?", r.ID, moment(r.Started)))
}

// runLoad loads, or tries, a ladle file, or files without one.
func runLoad(ctx context.Context, c *cli.Command, o load.Options) error {
	o.Retries = retries(c)
	showProgress(c)
	without, err := direct(c)
	if err != nil {
		return err
	}
	if without {
		return runDirect(ctx, c, o)
	}
	file, err := ladleFiles(c, c.Args().Slice())
	if err != nil {
		return err
	}
	return runLoadOf(ctx, c, file, o)
}

func runLoadOf(ctx context.Context, c *cli.Command, file *ladlefile.File, o load.Options) error {
	list, err := listChanges(c.String("changes"), &o.Change)
	if err != nil {
		return err
	}
	defer list.discard()
	o.Others, err = openOthers(ctx, c, file)
	defer closeOthers(o.Others)
	if err != nil {
		return err
	}
	r, err := answered(ctx, file, o.Try || o.Ask != nil, func() (*report.Report, error) {
		return loadFile(ctx, file, c.String("db"), waits(c), o)
	})
	changed = fault.ClassOf(err) == fault.Partly || err == nil && (r.Outcome == report.Loaded || r.Outcome == report.Unfinished)
	if changed || err == nil && r.Outcome == report.Tried {
		if err := list.place(); err != nil {
			fmt.Fprintln(os.Stderr, term.Safe("ladle: "+err.Error()))
		}
	}
	if err != nil {
		return err
	}
	unplaced := placePage(c.String("html"), func(to io.Writer) error { return page.Load(to, r, Version) })
	switch {
	case c.Bool("json"):
		err = printDocument(term.Stdout, newHead(c.Name, string(r.Outcome), statusOf(r)), r)
	case !c.Bool("quiet") || statusOf(r) != done:
		showReport(term.NewScreen(term.Stdout), r)
	}
	if err == nil && unplaced != nil {
		fmt.Fprintln(os.Stderr, term.Safe("ladle: "+unplaced.Error()))
	}
	if err == nil && statusOf(r) != done {
		err = exit(statusOf(r))
	}
	if err == nil && !changed {
		err = unplaced
	}
	return err
}

// loadFile loads a ladle file into a database.
func loadFile(ctx context.Context, file *ladlefile.File, database string, waits engine.Waits,
	o load.Options) (*report.Report, error) {
	at, err := newSession(ctx, file, database, waits)
	if err != nil {
		return nil, err
	}
	defer at.close()
	o.Reopen = func(ctx context.Context) (engine.Database, error) { return open(ctx, database, waits) }
	return at.load(ctx, o)
}

// load loads the ladle file of a session into its database.
func (at *session) load(ctx context.Context, o load.Options) (*report.Report, error) {
	o.Program = Version
	if o.SetAside == "" {
		o.SetAside = besideBundle(at.file)
	}
	o.Committing = func() { committing.Store(true) }
	o.Retrying = func(n int, why error) {
		at.progress.Say("attempt %d: %s; trying again", n, fault.ProblemsOf(why)[0].What)
	}
	o.Progress = func(p load.Progress) { at.progress.Show(p.Phase+" "+p.What, p.Done, p.Of, p.Unit) }
	if answer := o.Ask; answer != nil {
		o.Ask = func(ctx context.Context, r *report.Report, each changes.Walk) (bool, error) {
			at.progress.Clear()
			return answer(ctx, r, each)
		}
	}
	if answer := o.AskSimilar; answer != nil {
		o.AskSimilar = func(ctx context.Context, p judge.SimilarQuestion) (bool, error) {
			at.progress.Clear()
			return answer(ctx, p)
		}
	}
	return load.Run(ctx, at.file, at.db, o)
}

// statusOf is the exit status for the outcome of a load.
func statusOf(r *report.Report) int {
	switch {
	case r.Outcome == report.Refused:
		return refused
	case r.Outcome == report.Unfinished:
		return unfinished
	case r.Outcome == report.Declined:
		return wrong
	case r.LinesSetAside() > 0:
		return incomplete
	}
	return done
}

// session is a ladle file and the database that it is for, with a view of how far the work is.
type session struct {
	file     *ladlefile.File
	db       engine.Database
	progress *term.Progress
}

// newSession opens the database that a ladle file is for.
func newSession(ctx context.Context, file *ladlefile.File, database string, waits engine.Waits) (*session, error) {
	db, err := open(ctx, database, waits)
	if err != nil {
		return nil, err
	}
	if err := expected(ctx, file, db, database); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return &session{file, db, term.NewProgress()}, nil
}

func (o *session) close() {
	o.progress.Clear()
	o.db.Close()
}

// withPlan lends the plan of a ladle file, and the database that it is for, to what reads no lines.
func withPlan(ctx context.Context, c *cli.Command, file *ladlefile.File,
	use func(engine.Database, *plan.Plan) error) error {
	at, err := newSession(ctx, file, c.String("db"), waits(c))
	if err != nil {
		return err
	}
	defer at.close()
	others, err := openOthers(ctx, c, file)
	defer closeOthers(others)
	if err != nil {
		return err
	}
	in, err := intake.Open(ctx, at.file, at.db, intake.Options{Others: others})
	if err != nil {
		return err
	}
	defer in.Close()
	return use(at.db, in.Plan)
}
