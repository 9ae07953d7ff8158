package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/load"
	"ladle/internal/core/logbook"
	"ladle/internal/term"
)

func verifyCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "verify",
		Usage:     "compare files, or the rows of a run, with what the database holds now; nothing is written",
		UsageText: "ladle verify FILE|NUMBER --db DATABASE [--json]",
		Description: "With a ladle file, each line of its inputs is looked for by its key and compared cell by cell.\n" +
			"With the number of a run, the rows that it added and updated are held against what the logbook knows of them.\n" +
			"Exit status 1 says that something is missing or differs.",
		Flags:        []cli.Flag{databaseFlag(), jsonFlag(asJSON)},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return fault.New(fault.Wrong, fmt.Sprintf("verify takes one ladle file or the number of one run, not %d", c.Args().Len()), "write: "+c.UsageText)
			}
			what := c.Args().First()
			if id, err := strconv.ParseInt(what, 10, 64); err == nil {
				return verifyRun(ctx, c, id)
			}
			return verifyFile(ctx, c, what)
		},
	}
}

func verifyFile(ctx context.Context, c *cli.Command, path string) error {
	v, err := atWork(ctx, path, c.String("db"), load.Options{}, load.Verify)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = printJSON(term.Stdout, struct {
			*load.Verification
			Status int `json:"status"`
		}{v, v.Status()})
	} else {
		showVerified(term.NewScreen(term.Stdout), v)
	}
	if err == nil && v.Status() != 0 {
		err = exit(v.Status())
	}
	return err
}

func showVerified(s *term.Screen, v *load.Verification) {
	s.Line("%s against %s", v.LadleFile, v.Database)
	for _, note := range v.Notes {
		s.Note("Note: %s", note)
	}
	s.Title("The lines of the files, and what the tables hold")
	t := term.Table{Header: []string{"table", "from", "read", "same", "missing", "differs", "extra", "repeated", "left out", "aside", "key"}, Numbers: []int{2, 3, 4, 5, 6, 7, 8, 9}, Wrap: []int{10}}
	for _, y := range v.Steps {
		extra := ""
		if y.Extra != nil {
			extra = term.Count(*y.Extra)
		}
		key := strings.Join(y.Key, ", ")
		if key == "" {
			key = "none"
		}
		t.Rows = append(t.Rows, []string{y.Step, y.Input, term.Count(y.Read), term.Count(y.Same), term.Count(y.Missing), term.Count(y.Differs), extra, term.Count(y.Repeated), term.Count(y.LeftOut), term.Count(y.SetAside), key})
	}
	for _, column := range []int{9, 8, 7} {
		t.DropZero(column)
	}
	s.Table(t)
	s.Note("extra: rows of the table that the file does not have; they count as a difference only with gone_from_file:")
	for _, y := range v.Steps {
		showList(s, fmt.Sprintf("Missing in %s", y.Table), y.Missed, y.Missing)
		showList(s, fmt.Sprintf("Different in %s", y.Table), y.Differ, y.Differs)
		if y.Gone && y.Extra != nil {
			showList(s, fmt.Sprintf("Still in %s, but gone from the file", y.Table), y.Extras, *y.Extra)
		}
	}
	for _, l := range v.Lookups {
		showList(s, fmt.Sprintf("Names missing in %s", l.Table), l.Names, l.Added)
	}
	if v.SetAside > 0 {
		s.Title("%s can't be looked for", plural(v.SetAside, "line"))
		showGroups(s, v.Groups, len(v.Steps) > 1)
	}
	if len(v.Checks) > 0 {
		s.Title("Checks")
		showCheckKinds(s, v.Checks)
	}
	time := duration(v.Seconds)
	if v.Same {
		s.Strong(true, "The database holds what the files say (%s)", time)
		return
	}
	s.Strong(false, "The database does not hold what the files say; nothing was changed (%s)", time)
}

// showList names the first of some rows.
func showList(s *term.Screen, title string, first []string, all int64) {
	if all == 0 {
		return
	}
	s.Title("%s: %s", title, term.Count(all))
	for _, f := range first {
		s.Item(term.Wrong, "%s", f)
	}
	if more := all - int64(len(first)); more > 0 {
		s.Item(term.Dot, "and %s more", term.Count(more))
	}
}

func verifyRun(ctx context.Context, c *cli.Command, id int64) error {
	db, err := open(ctx, c.String("db"))
	if err != nil {
		return err
	}
	defer db.Close()
	run, err := logbook.Find(ctx, db, id)
	if err != nil {
		return err
	}
	schema, err := db.Schema(ctx)
	if err != nil {
		return err
	}
	since, err := logbook.Compare(ctx, db, schema, run)
	if err != nil {
		return err
	}
	status := 0
	if !since.Same() {
		status = 1
	}
	if c.Bool("json") {
		err = printJSON(term.Stdout, map[string]any{"run": run.ID, "undone_by": run.UndoneBy, "same": since.Same(), "since": since, "status": status})
	} else {
		showSince(term.NewScreen(term.Stdout), run, since)
	}
	if err == nil && status != 0 {
		err = exit(status)
	}
	return err
}

func showSince(s *term.Screen, run *logbook.Run, since *logbook.Since) {
	s.Line("Run %d: %s, %s UTC by %s, %s", run.ID, run.LadleFile, moment(run.Started), run.User, fate(run))
	for _, p := range since.Problems {
		s.Item(term.Wrong, "%s", p)
	}
	if more := since.Changed + since.Gone + since.Back - int64(len(since.Problems)); more > 0 {
		s.Item(term.Dot, "and %s more", term.Count(more))
	}
	if since.Same() {
		s.Strong(true, "All %s that the run added or updated are as it left them", plural(since.Rows, "row"))
		return
	}
	s.Strong(false, "Of %s that the run added or updated, %s changed since, %s gone; of those that it removed %s back; %s can't be told",
		plural(since.Rows, "row"), term.Count(since.Changed), term.Count(since.Gone), term.Count(since.Back), term.Count(since.Untold))
}
