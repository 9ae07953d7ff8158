package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/changes"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
	"ladle/internal/core/logbook/undo"
	"ladle/internal/term"
)

func runsCommand() *command {
	return &command{
		name: "runs", phase: afterwards,
		does:    "list the runs in the logbook of a database, or show one of them in full",
		takes:   operands{"[NUMBER]", "the number of one run", 0, 1},
		options: []option{databaseOption(), jsonOption()},
		examples: []example{
			{"All runs, the newest first", "ladle runs --db port-merrow/harbour.db"},
			{"Run 1 in full", "ladle runs 1 --db port-merrow/harbour.db"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			id := int64(0)
			if c.Args().Len() > 0 {
				var err error
				if id, err = runNumber(c.Args().First()); err != nil {
					return err
				}
			}
			db, err := open(ctx, c.String("db"), waits(c))
			if err != nil {
				return err
			}
			defer db.Close()
			if id == 0 {
				return listRuns(ctx, db, c.Bool("json"))
			}
			return showRun(ctx, db, id, c.Bool("json"))
		},
	}
}

// runNumber reads the number of a run.
func runNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, fault.New(fault.Wrong, fmt.Sprintf("%q is not the number of a run", text),
			"see the numbers with: ladle runs")
	}
	return id, nil
}

func listRuns(ctx context.Context, db engine.Database, asJSON bool) error {
	runs, err := logbook.List(ctx, db)
	if err == nil {
		err = logbook.Sum(ctx, db, runs)
	}
	if err != nil {
		return err
	}
	if asJSON {
		return printDocument(term.Stdout, newHead("runs", "shown", done), struct {
			Entries []*logbook.Run `json:"entries"`
		}{runs})
	}
	s := term.NewScreen(term.Stdout)
	if len(runs) == 0 {
		s.Line("The logbook of this database holds no runs yet.")
		return nil
	}
	t := term.Table{Header: []string{"run", "when", "by", "ladle file", "added", "updated", "removed", "marked",
		"marked back", "set aside", "took", "outcome"}, Numbers: []int{0, 4, 5, 6, 7, 8, 9, 10}, Wrap: []int{11}}
	for _, r := range runs {
		t.Rows = append(t.Rows, []string{fmt.Sprint(r.ID), moment(r.Started), r.User, r.LadleFile,
			term.Count(r.Rows.Added), term.Count(r.Rows.Updated), term.Count(r.Rows.Removed), term.Count(r.Rows.Marked),
			term.Count(r.Rows.Back), term.Count(r.Rows.SetAside),
			duration(r.Finished.Sub(r.Started).Seconds()), outcome(r)})
	}
	for _, column := range []int{9, 8, 7, 6, 5} {
		t.DropZero(column)
	}
	s.Table(t)
	s.Note("One run in full: ladle runs NUMBER; take one back: ladle undo NUMBER. Times are in UTC.")
	return nil
}

// moment writes a moment of the logbook, which is in UTC.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }

// outcome says in a few words what became of a run.
func outcome(r *logbook.Run) string {
	switch {
	case r.Kind == logbook.Undo:
		return fmt.Sprintf("undid run %d", r.Undoes)
	case r.UndoneBy > 0:
		return fmt.Sprintf("undone by run %d", r.UndoneBy)
	case r.Kind == logbook.Make:
		return "tables made"
	}
	if r.Unfinished() {
		return fmt.Sprintf("unfinished: %s", plural(int64(r.Parts.Number), "part"))
	}
	return "loaded"
}

func showRun(ctx context.Context, db engine.Database, id int64, asJSON bool) error {
	run, err := logbook.Find(ctx, db, id)
	if err != nil {
		return err
	}
	if asJSON {
		return printDocument(term.Stdout, newHead("run", "shown", done), struct {
			Entry *logbook.Run `json:"entry"`
		}{run})
	}
	s := term.NewScreen(term.Stdout)
	if run.Kind == logbook.Make {
		return showMade(ctx, s, db, run)
	}
	s.Strong(run.UndoneBy == 0, "Run %d: %s, %s", run.ID, run.LadleFile, outcome(run))
	s.Line("%s UTC by %s, in %s; ladle %s; checks: %s", moment(run.Started), run.User,
		duration(run.Finished.Sub(run.Started).Seconds()), run.Program, run.Level)
	s.Line("ladle file %s (SHA-256)", run.LadleSum)
	if p := run.Parts; p != nil {
		s.Line("in %s of up to %s: %s that added or changed a row", plural(int64(p.Number), "part"), plural(p.Most, "line"),
			plural(p.Lines, "line"))
	}
	if run.Unfinished() {
		s.Note("The other parts are not in the tables. To load them: ladle load with the same files and --go-on %d; to take back "+
			"what is in: ladle undo %d", run.ID, run.ID)
	}
	if len(run.Inputs) > 0 {
		t := term.Table{Header: []string{"input", "file", "bytes", "lines", "set aside", "SHA-256"},
			Numbers: []int{2, 3, 4}}
		for _, in := range run.Inputs {
			t.Rows = append(t.Rows, []string{in.Name, in.File, term.Count(in.Size), term.Count(in.Rows),
				term.Count(in.SetAside), in.Sum[:min(16, len(in.Sum))] + "…"})
		}
		s.Title("Inputs")
		s.Table(t)
	}
	s.Title("Steps")
	showRunSteps(s, run)
	if len(run.Checks) > 0 {
		s.Title("Checks that passed")
	}
	for _, kind := range checkKinds {
		if held := passed(run, kind.name); held != nil {
			s.Item(term.Good, "%s, %s: %s", kind.name, kind.meaning, strings.Join(held, "; "))
		}
	}
	return nil
}

// showMade shows a run that made tables.
func showMade(ctx context.Context, s *term.Screen, db engine.Database, run *logbook.Run) error {
	made, err := run.Made(ctx, db)
	if err != nil {
		return err
	}
	s.Strong(run.UndoneBy == 0, "Run %d: %s", run.ID, outcome(run))
	s.Line("%s UTC by %s, in %s; ladle %s", moment(run.Started), run.User,
		duration(run.Finished.Sub(run.Started).Seconds()), run.Program)
	for _, m := range made {
		s.Title("%s", m.Table)
		for _, line := range m.Definition {
			s.Item(term.Dot, "%s", line)
		}
	}
	return nil
}

// passed says what the checks of a kind found, once for each table: a relation may have been checked in two steps.
func passed(run *logbook.Run, kind string) (held []string) {
	said := map[string]bool{}
	for _, c := range run.Checks {
		if c.Asked != kind || said[c.Table+"\x00"+c.Says] {
			continue
		}
		again := slices.IndexFunc(run.Checks, func(other logbook.Check) bool {
			return other.Asked == kind && other.Table == c.Table && other.Says != c.Says &&
				strings.Contains(", "+other.Says+", ", ", "+c.Says+", ")
		})
		if kind == "relations" && again >= 0 {
			continue
		}
		said[c.Table+"\x00"+c.Says] = true
		held = append(held, strings.TrimSpace(c.Table+" "+c.Says))
	}
	return held
}

func showRunSteps(s *term.Screen, run *logbook.Run) {
	t := term.Table{Header: []string{"step", "table", "read", "added", "updated", "unchanged", "kept", "same",
		"differs", "repeated", "overruled", "left out", "set aside", "removed", "marked",
		"marked back"},
		Numbers: []int{2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}}
	for _, y := range run.Steps {
		row := []string{y.Name, y.Table}
		kept := int64(0) // of an older run, which did not tell lines that are the same from others
		if y.Tally.Kept != nil {
			kept = *y.Tally.Kept
		}
		for _, n := range []int64{y.Tally.Read, y.Tally.Added, y.Tally.Updated, y.Tally.Unchanged, kept, y.Tally.Same,
			y.Tally.Differs, y.Tally.Repeated, y.Tally.Overruled, y.Tally.LeftOut, y.Tally.SetAside, y.Removed, y.Marked,
			y.MarkedBack} {
			row = append(row, term.Count(n))
		}
		t.Rows = append(t.Rows, row)
	}
	for column := 15; column >= 4; column-- {
		t.DropZero(column)
	}
	showTallies(s, t, 2, len(t.Header), func(row []string) string { return row[0] + " into " + row[1] })
}

func undoCommand() *command {
	return &command{
		name: "undo", phase: afterwards,
		does:  "take a run back: remove what it added, restore what it changed or removed, check that",
		takes: operands{"NUMBER", "the number of one run", 1, 1},
		about: "It is refused, and nothing is changed, when rows of the run have been changed since or other rows " +
			"refer to them. An undo is itself a run in the logbook.",
		options: []option{databaseOption(), waitOption(), timeoutOption(),
			{name: "yes", group: groupAsk, does: "don't ask"}, changesOption(), jsonOption()},
		examples: []example{
			{"Take run 2 back, after a look at what that means", "ladle undo 2 --db port-merrow/harbour.db"},
			{"The same without a question", "ladle undo 2 --db port-merrow/harbour.db --yes"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			id, err := runNumber(c.Args().First())
			if err != nil {
				return err
			}
			o := undo.Options{Program: Version}
			if !c.Bool("yes") {
				if !term.Interactive() {
					return fault.New(fault.Wrong, "undo asks before it takes a run back, but there is no terminal to "+
						"ask on", "give --yes to undo without a question")
				}
				o.Ask = func(ctx context.Context, r *undo.Report, each changes.Walk) (bool, error) {
					showUndo(term.NewScreen(os.Stderr), r)
					if r.Of.Kind == logbook.Make {
						return term.Ask(ctx, "\nDrop these tables?")
					}
					return askSeeing(ctx, "\nTake this run back?", each, term.Choose)
				}
			}
			return undoRun(ctx, c, id, o)
		},
	}
}

func undoRun(ctx context.Context, c *cli.Command, id int64, o undo.Options) error {
	list, err := listChanges(c.String("changes"), &o.Change)
	if err != nil {
		return err
	}
	defer list.discard()
	database := c.String("db")
	db, err := open(ctx, database, waits(c))
	if err != nil {
		return err
	}
	defer db.Close()
	progress := term.NewProgress()
	defer progress.Clear()
	o.Progress = func(phase string, done, of int64) { progress.Show(phase, done, of, "rows") }
	o.Noted = func(note string) { term.NewScreen(os.Stderr).Note("Note: %s", note) }
	if ask := o.Ask; ask != nil {
		o.Ask = func(ctx context.Context, r *undo.Report, each changes.Walk) (bool, error) {
			progress.Clear()
			return ask(ctx, r, each)
		}
	}
	o.Committing = func() { committing.Store(true) }
	o.Reopen = func(ctx context.Context) (engine.Database, error) { return open(ctx, database, waits(c)) }
	report, err := undo.TakeBack(ctx, db, id, o)
	if err != nil {
		return err
	}
	progress.Clear()
	if changed = report.Outcome == undo.Undone; changed {
		if err := list.place(); err != nil {
			fmt.Fprintln(os.Stderr, term.Safe("ladle: "+err.Error()))
		}
	}
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("undo", string(report.Outcome), undoStatus(report)), report)
	} else {
		showUndone(term.NewScreen(term.Stdout), report)
	}
	if err == nil && undoStatus(report) != done {
		err = exit(undoStatus(report))
	}
	return err
}

// undoStatus is the exit status for the outcome of an undo.
func undoStatus(r *undo.Report) int {
	switch r.Outcome {
	case undo.Refused:
		return refused
	case undo.Declined:
		return wrong
	}
	return done
}

// showUndo shows what is done to take a run back.
func showUndo(s *term.Screen, r *undo.Report) {
	if r.Of.Kind == logbook.Make {
		showDrop(s, r)
		return
	}
	s.Line("Run %d of %s, loaded %s UTC by %s into %s", r.Of.ID, r.Of.LadleFile, moment(r.Of.Started), r.Of.User,
		r.Database)
	if r.Outcome == undo.Asking {
		s.Title("What will be done, in this order")
	} else {
		s.Title("What was done, in this order")
	}
	t := term.Table{Header: []string{"table", "removed", "restored", "put back"}, Numbers: []int{1, 2, 3}}
	for _, y := range r.Tables {
		t.Rows = append(t.Rows, []string{y.Table, term.Count(y.Removed), term.Count(y.Restored), term.Count(y.PutBack)})
	}
	s.Table(t)
	for _, note := range r.Notes {
		s.Note("Note: %s", note)
	}
	s.Note("removed: rows that the run had added; restored: rows that it had updated get their old values back; put " +
		"back: rows that it had removed")
}

// showDrop shows which tables are dropped.
func showDrop(s *term.Screen, r *undo.Report) {
	s.Line("Run %d made tables %s UTC by %s in %s", r.Of.ID, moment(r.Of.Started), r.Of.User, r.Database)
	if r.Outcome == undo.Asking {
		s.Title("Will be dropped, in this order; they are empty")
	} else {
		s.Title("Dropped, in this order")
	}
	for _, t := range r.Tables {
		s.Item(term.Dot, "%s", t.Table)
	}
}

// showUndone shows how taking a run back ended.
func showUndone(s *term.Screen, r *undo.Report) {
	switch r.Outcome {
	case undo.Declined:
		s.Strong(false, "You said no: nothing was changed.")
	case undo.Refused:
		for _, p := range r.Problems {
			s.Item(term.Cross, "%s", p)
		}
		showCheckKinds(s, r.Checks)
		s.Strong(false, "NOT UNDONE, nothing was changed: %s.", whyRefused(r.Why))
	default:
		showUndo(s, r)
		if len(r.Checks) > 0 {
			s.Title("Checks")
			showCheckKinds(s, r.Checks)
		}
		s.Strong(true, "Run %d was undone by run %d (%s)", r.Of.ID, r.Run, duration(r.Seconds))
	}
}
