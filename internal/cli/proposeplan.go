package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/alter"
	"ladle/internal/core/dictionary"
	"ladle/internal/core/fault"
	"ladle/internal/core/propose"
	"ladle/internal/core/reason"
	"ladle/internal/term"
)

// runPlan writes the statements that lead from a database to a planned workbook.
func runPlan(ctx context.Context, c *cli.Command) error {
	if err := mayPlan(c); err != nil {
		return err
	}
	plan, out := c.String("plan"), c.String("output")
	if out != "" {
		if err := isRead(out, plan, c.String("db")); err != nil {
			return err
		}
		if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
			return err
		}
	}
	planned, err := dictionary.Read(plan)
	if err != nil {
		return err
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	dialect := propose.Dialect(kindOf(c.String("db")))
	made, err := alter.Make(ctx, db, s, planned, dialect, c.StringSlice("allow"))
	if err != nil {
		return err
	}
	stopped := made.Stopped()
	outcome, status := "planned", done
	if len(stopped) > 0 {
		outcome, status = "refused", refused
	}
	text := made.SQL()
	if out != "" && status == done {
		if err := writeText(out, text); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("propose_plan", outcome, status), struct {
			Dialect propose.Dialect `json:"dialect"`
			*alter.Alteration
			SQL string `json:"sql"`
		}{dialect, made, text})
	} else {
		showAlteration(c, made, stopped, text)
	}
	if err == nil && status != done {
		err = exit(status)
	}
	return err
}

// mayPlan refuses what doesn't go with --plan.
func mayPlan(c *cli.Command) error {
	if c.Args().Len() > 0 {
		return fault.New(fault.Wrong, "--plan takes the place of the files", "leave the files out, or --plan")
	}
	for _, name := range []string{"for", "leave-out", "flat", "checks", "ladle", "make", "yes", "no-logbook"} {
		if c.IsSet(name) {
			return fault.New(fault.Wrong, fmt.Sprintf("--%s doesn't go with --plan", name), fmt.Sprintf("leave --%s out", name))
		}
	}
	if c.String("db") == "" {
		return fault.New(fault.Wrong, "--plan is compared with a database, and none is named", "name it with --db")
	}
	return nil
}

func showAlteration(c *cli.Command, made *alter.Alteration, stopped []*alter.Change, text string) {
	out := c.String("output")
	switch {
	case len(stopped) > 0:
		showStopped(made, stopped)
		return
	case len(made.Changes) == 0:
		s := term.NewScreen(term.Stdout)
		showPlanNotes(s, made)
		s.Strong(true, "The tables are as planned: nothing to do.")
		return
	case out == "":
		fmt.Fprint(term.Stdout, text)
		showPlanNotes(term.NewScreen(os.Stderr), made)
		return
	}
	s := term.NewScreen(term.Stdout)
	s.Title("Changes, in order")
	for _, change := range made.Changes {
		loses := ""
		if change.Loses != "" {
			loses = "; loses " + change.Loses + ", as you allowed"
		}
		s.Item(term.Dot, "%s: %s%s", change.Name(), change.Does, loses)
	}
	showPlanNotes(s, made)
	s.Strong(true, "%s was written: %s. Run it with the database's own client.", out,
		reason.Plural(int64(len(made.Changes)), "change"))
}

func showPlanNotes(s *term.Screen, made *alter.Alteration) {
	for _, note := range made.Notes {
		s.Note("Note: %s", note)
	}
}

// showStopped says why a plan can't be reached.
func showStopped(made *alter.Alteration, stopped []*alter.Change) {
	s := term.NewScreen(term.Stdout)
	for _, change := range stopped {
		if change.Refused != "" {
			s.Item(term.Cross, "%s: %s: %s", change.Name(), change.Does, change.Refused)
			continue
		}
		s.Item(term.Cross, "%s: %s: loses %s; allow it with --allow %s", change.Name(), change.Does, change.Loses,
			change.Name())
	}
	showPlanNotes(s, made)
	s.Strong(false, "NO STATEMENTS: %s of %s can't be made.", reason.Count(int64(len(stopped))),
		reason.Plural(int64(len(made.Changes)), "change"))
}
