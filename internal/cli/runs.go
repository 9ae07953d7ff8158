package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
	"ladle/internal/term"
)

func runsCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:         "runs",
		Usage:        "list the loads of a database from its logbook, or show one of them in full",
		UsageText:    "ladle runs [NUMBER] --db DATABASE [--json]",
		Flags:        []cli.Flag{databaseFlag(), jsonFlag(asJSON)},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return fault.New(fault.Wrong, "runs takes the number of one run", "write: "+c.UsageText)
			}
			db, err := open(ctx, c.String("db"))
			if err != nil {
				return err
			}
			defer db.Close()
			if c.Args().Len() == 0 {
				return listRuns(ctx, db, c.Bool("json"))
			}
			id, err := runNumber(c.Args().First())
			if err != nil {
				return err
			}
			return showRun(ctx, db, id, c.Bool("json"))
		},
	}
}

// runNumber reads the number of a run.
func runNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, fault.New(fault.Wrong, fmt.Sprintf("%q is not the number of a run", text), "see the numbers with: ladle runs")
	}
	return id, nil
}

func listRuns(ctx context.Context, db engine.Database, asJSON bool) error {
	runs, err := logbook.List(ctx, db)
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(term.Stdout, map[string]any{"runs": append([]*logbook.Run{}, runs...)})
	}
	s := term.NewScreen(term.Stdout)
	if len(runs) == 0 {
		s.Line("The logbook of this database holds no run yet.")
		return nil
	}
	t := term.Table{Header: []string{"run", "when", "by", "ladle file", "took", "what became of it"}, Numbers: []int{0, 4}, Wrap: []int{5}}
	for _, r := range runs {
		t.Rows = append(t.Rows, []string{fmt.Sprint(r.ID), moment(r.Started), r.User, r.LadleFile, duration(r.Finished.Sub(r.Started).Seconds()), fate(r)})
	}
	s.Table(t)
	s.Note("See one in full: ladle runs NUMBER; take one back: ladle undo NUMBER. Times are UTC.")
	return nil
}

// moment writes a moment of the logbook, which is in UTC.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }

// fate says in a few words what became of a run.
func fate(r *logbook.Run) string {
	switch {
	case r.Kind == logbook.Undo:
		return fmt.Sprintf("took run %d back", r.Undoes)
	case r.UndoneBy > 0:
		return fmt.Sprintf("taken back by run %d", r.UndoneBy)
	}
	return "loaded"
}

func showRun(ctx context.Context, db engine.Database, id int64, asJSON bool) error {
	run, err := logbook.Find(ctx, db, id)
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(term.Stdout, run)
	}
	s := term.NewScreen(term.Stdout)
	s.Strong(run.UndoneBy == 0, "Run %d: %s, %s", run.ID, run.LadleFile, fate(run))
	s.Line("%s UTC by %s, in %s; ladle %s; checks: %s", moment(run.Started), run.User, duration(run.Finished.Sub(run.Started).Seconds()), run.Program, run.Level)
	s.Line("ladle file %s (SHA-256)", run.LadleSum)
	if len(run.Inputs) > 0 {
		t := term.Table{Header: []string{"input", "file", "bytes", "lines", "aside", "SHA-256"}, Numbers: []int{2, 3, 4}}
		for _, in := range run.Inputs {
			t.Rows = append(t.Rows, []string{in.Name, in.File, term.Count(in.Size), term.Count(in.Rows), term.Count(in.SetAside), in.Sum[:min(16, len(in.Sum))] + "…"})
		}
		s.Title("Inputs")
		s.Table(t)
	}
	s.Title("Steps")
	showRunSteps(s, run)
	s.Title("Checks that held")
	for _, kind := range checkKinds {
		var held []string
		for _, c := range run.Checks {
			if c.Asked == kind.name {
				held = append(held, strings.TrimSpace(c.Table+" "+c.Says))
			}
		}
		if held != nil {
			s.Item(term.Good, "%s, %s: %s", kind.name, kind.meaning, strings.Join(held, "; "))
		}
	}
	return nil
}

func showRunSteps(s *term.Screen, run *logbook.Run) {
	t := term.Table{Header: []string{"step", "table", "read", "added", "updated", "unchanged", "kept", "repeated", "left out", "aside", "removed"}, Numbers: []int{2, 3, 4, 5, 6, 7, 8, 9, 10}}
	for _, y := range run.Steps {
		row := []string{y.Name, y.Table}
		for _, n := range []int64{y.Read, y.Added, y.Updated, y.Unchanged, y.Kept, y.Repeated, y.LeftOut, y.SetAside, y.Removed} {
			row = append(row, term.Count(n))
		}
		t.Rows = append(t.Rows, row)
	}
	for column := 10; column >= 4; column-- {
		t.DropZero(column)
	}
	s.Table(t)
}

func undoCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "undo",
		Usage:     "take a run back: remove what it added, restore what it changed, and prove it",
		UsageText: "ladle undo NUMBER --db DATABASE [--yes] [--json]",
		Description: "It refuses, and changes nothing, where rows of the run were changed since or other rows stand on them.\n" +
			"It is itself a run in the logbook.",
		Flags: []cli.Flag{
			databaseFlag(),
			&cli.BoolFlag{Name: "yes", Usage: "don't ask before taking it back"},
			jsonFlag(asJSON),
		},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return fault.New(fault.Wrong, fmt.Sprintf("undo takes the number of one run, not %d", c.Args().Len()), "write: "+c.UsageText)
			}
			id, err := runNumber(c.Args().First())
			if err != nil {
				return err
			}
			o := logbook.Options{Program: Version}
			if !c.Bool("yes") {
				if !term.Interactive() {
					return fault.New(fault.Wrong, "undo asks before it takes a run back, but there is no terminal to ask on", "give --yes to take it back without being asked")
				}
				o.Ask = func(ctx context.Context, r *logbook.Report) (bool, error) {
					showUndo(term.NewScreen(os.Stderr), r)
					return term.Ask(ctx, "\nTake this run back?")
				}
			}
			return undo(ctx, c, id, o)
		},
	}
}

func undo(ctx context.Context, c *cli.Command, id int64, o logbook.Options) error {
	database := c.String("db")
	db, err := open(ctx, database)
	if err != nil {
		return err
	}
	defer db.Close()
	o.Reopen = func(ctx context.Context) (engine.Database, error) { return open(ctx, database) }
	report, err := logbook.TakeBack(ctx, db, id, o)
	if err != nil {
		return err
	}
	changed = report.Outcome == logbook.Undone
	if c.Bool("json") {
		err = printJSON(term.Stdout, struct {
			*logbook.Report
			Status int `json:"status"`
		}{report, report.Status()})
	} else {
		showUndone(term.NewScreen(term.Stdout), report)
	}
	if err == nil && report.Status() != 0 {
		err = exit(report.Status())
	}
	return err
}

// showUndo shows what is done to take a run back.
func showUndo(s *term.Screen, r *logbook.Report) {
	s.Line("Run %d of %s, loaded %s UTC by %s into %s", r.Of.ID, r.Of.LadleFile, moment(r.Of.Started), r.Of.User, r.Database)
	if r.Outcome == logbook.Asking {
		s.Title("What will be done, in this order")
	} else {
		s.Title("What was taken back, in this order")
	}
	t := term.Table{Header: []string{"table", "removed", "restored", "put back"}, Numbers: []int{1, 2, 3}}
	for _, y := range r.Tables {
		t.Rows = append(t.Rows, []string{y.Table, term.Count(y.Removed), term.Count(y.Restored), term.Count(y.PutBack)})
	}
	s.Table(t)
	for _, note := range r.Notes {
		s.Note("Note: %s", note)
	}
	s.Note("removed: rows that the run added; restored: rows that it updated get their old values; put back: rows that it removed")
}

// showUndone shows how taking a run back ended.
func showUndone(s *term.Screen, r *logbook.Report) {
	switch r.Outcome {
	case logbook.Declined:
		s.Strong(false, "You said no: nothing was changed.")
	case logbook.Refused:
		for _, p := range r.Problems {
			s.Item(term.Wrong, "%s", p)
		}
		showCheckKinds(s, r.Checks)
		s.Strong(false, "NOT TAKEN BACK, nothing was changed: %s.", strings.TrimSuffix(r.Why, "."))
	default:
		showUndo(s, r)
		s.Title("Checks")
		showCheckKinds(s, r.Checks)
		s.Strong(true, "Run %d is taken back, by run %d (%s)", r.Of.ID, r.Run, duration(r.Seconds))
	}
}
