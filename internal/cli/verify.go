package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/logbook"
	"ladle/internal/core/schema"
	"ladle/internal/core/verify"
	"ladle/internal/term"
)

func verifyCommand() *command {
	return &command{
		name: "verify", phase: afterwards,
		does:  "compare files, or the rows of a run, with what the database holds now",
		takes: operands{"FILE|NUMBER", "one ladle file or the number of one run", 1, 1},
		about: "With a ladle file, each line of its inputs is looked up by its key and compared cell by cell. With " +
			"the number of a run, the rows that it added and updated are compared with what the logbook recorded. " +
			"Exit status 1 says that something is missing, differs or could not be compared.",
		options: []option{databaseOption(), otherOption(), timeoutOption(), inputOption(),
			{name: "after", value: "RUN", group: groupInput, check: countCheck,
				does: "except what runs after this one have changed or removed: compare as it was then"},
			differencesOption(), jsonOption()},
		examples: []example{
			{"Do the harbour's files and tables still agree", "ladle verify port-merrow/harbour.ladle.yaml --db " +
				"port-merrow/harbour.db"},
			{"Which rows of run 1 have been changed since", "ladle verify 1 --db port-merrow/harbour.db"},
		},
		run: func(ctx context.Context, c *cli.Command) error {
			what := c.Args().First()
			if id, err := strconv.ParseInt(what, 10, 64); err == nil {
				for _, name := range []string{"changes", "input", "after"} {
					if c.IsSet(name) {
						return fault.New(fault.Wrong, fmt.Sprintf("--%s goes with a ladle file, and this is the "+
							"number of a run", name), fmt.Sprintf("leave --%s out", name))
					}
				}
				return verifyRun(ctx, c, id)
			}
			return verifyFile(ctx, c, what)
		},
	}
}

// differencesOption is changesOption for a comparison.
func differencesOption() option {
	o := changesOption()
	o.does = "also write to FILE (.csv, .xlsx or .html) every row of a ladle file's tables that is missing or " +
		"extra, and every cell that differs"
	return o
}

func verifyFile(ctx context.Context, c *cli.Command, path string) error {
	var o verify.Options
	list, err := listChanges(c.String("changes"), &o.Change)
	if err != nil {
		return err
	}
	defer list.discard()
	file, err := ladleFile(c, path)
	if err != nil {
		return err
	}
	at, err := newSession(ctx, file, c.String("db"), waits(c))
	if err != nil {
		return err
	}
	defer at.close()
	o.After, _ = strconv.ParseInt(c.String("after"), 10, 64) // it was checked
	o.Progress = func(input string, done, of int64) { at.progress.Show("reading "+input, done, of, "bytes") }
	o.Others, err = openOthers(ctx, c, file)
	defer closeOthers(o.Others)
	if err != nil {
		return err
	}
	v, err := answered(ctx, file, true, func() (*verify.Verification, error) {
		defer at.progress.Clear()
		return verify.Run(ctx, at.file, at.db, o)
	})
	if err == nil {
		err = list.place()
	}
	if err != nil {
		return err
	}
	at.progress.Clear()
	status := done
	if !v.Same {
		status = refused
	}
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("verify", agreement(v.Same), status), v)
	} else {
		showVerified(term.NewScreen(term.Stdout), v)
	}
	if err == nil && status != done {
		err = exit(status)
	}
	return err
}

// exceptedWords say which run explains lines.
func exceptedWords(e verify.Excepted) string {
	them, differ, are, rows := "them", "differ", "are", "rows"
	if e.Lines == 1 {
		them, differ, are, rows = "it", "differs", "is", "row"
	}
	lines := plural(e.Lines, "line") + " of " + e.Input
	switch e.Why {
	case verify.ChangedLater:
		return fmt.Sprintf("%s %s: run %d has changed the %s since", lines, differ, e.Run, rows)
	case verify.RemovedLater:
		return fmt.Sprintf("%s %s missing: run %d has removed the %s since", lines, are, e.Run, rows)
	}
	return fmt.Sprintf("%s can't be compared: run %d has set %s aside", lines, e.Run, them)
}

// agreement is the outcome of a comparison.
func agreement(same bool) string {
	if same {
		return "same"
	}
	return "differs"
}

func showVerified(s *term.Screen, v *verify.Verification) {
	s.Line("%s compared with %s", v.LadleFile, v.Database)
	for _, note := range v.Notes {
		s.Note("Note: %s", note)
	}
	s.Title("Lines of the files, and what the tables hold")
	t := term.Table{Header: []string{"table", "from", "read", "same", "missing", "differs", "extra", "repeated",
		"overruled", "left out", "not compared", "excepted", "key"}, Numbers: []int{2, 3, 4, 5, 6, 7, 8, 9, 10, 11},
		Wrap: []int{12}}
	for _, y := range v.Steps {
		extra := ""
		if y.Tally.Extra != nil {
			extra = term.Count(*y.Tally.Extra)
		}
		key := strings.Join(y.Key, ", ")
		if key == "" {
			key = "none"
		}
		t.Rows = append(t.Rows, []string{y.Step, y.Input, term.Count(y.Tally.Read), term.Count(y.Tally.Same),
			term.Count(y.Tally.Missing),
			term.Count(y.Tally.Differs), extra, term.Count(y.Tally.Repeated), term.Count(y.Tally.Overruled),
			term.Count(y.Tally.LeftOut), term.Count(y.Tally.NotCompared), term.Count(y.Tally.Excepted), key})
	}
	for _, column := range []int{11, 10, 9, 8, 7} {
		t.DropZero(column)
	}
	showTallies(s, t, 2, len(t.Header)-1, func(row []string) string { return row[0] + " from " + row[1] })
	s.Note("same: the row with this key has the same values; missing: there is no row with this key; extra: rows of " +
		"the table that the file does not have, which count as a difference only with gone_from_file:")
	for _, y := range v.Steps {
		showList(s, fmt.Sprintf("Missing in %s", y.Table), y.Missed, y.Tally.Missing)
		showList(s, fmt.Sprintf("Different in %s", y.Table), y.Differ, y.Tally.Differs)
		if y.Gone && y.Tally.Extra != nil {
			showList(s, fmt.Sprintf("Still in %s, but gone from the file", y.Table), y.Extras, *y.Tally.Extra)
		}
		showList(s, fmt.Sprintf("Still marked as gone in %s, but in the file", y.Table), y.StillMarked.Keys,
			y.StillMarked.Rows)
	}
	for _, l := range v.Lookups {
		showList(s, fmt.Sprintf("Names missing in %s", l.Table), l.Names, l.Added)
	}
	if v.NotCompared > 0 {
		s.Title("%s could not be compared", plural(v.NotCompared, "line"))
		showGroups(s, v.Groups, len(v.Steps) > 1)
	}
	if len(v.Excepted) > 0 {
		s.Title("Excepted")
	}
	for _, e := range v.Excepted {
		s.Item(term.Dot, "%s", exceptedWords(e))
	}
	if len(v.Checks) > 0 {
		s.Title("Checks")
		showCheckKinds(s, v.Checks)
	}
	time := duration(v.Seconds)
	switch {
	case v.Same && len(v.Excepted) > 0:
		s.Strong(true, "The database holds what the files say, but for the lines that are excepted (%s)", time)
	case v.Same:
		s.Strong(true, "The database holds what the files say (%s)", time)
	case v.Agrees():
		s.Strong(false, "Not all lines could be compared; those that could are in the database (%s)", time)
	default:
		s.Strong(false, "The database differs from the files (%s)", time)
	}
}

// showList names the first of some rows.
func showList(s *term.Screen, title string, first []string, all int64) {
	if all == 0 {
		return
	}
	s.Title("%s: %s", title, term.Count(all))
	for _, f := range first {
		s.Item(term.Cross, "%s", f)
	}
	if more := all - int64(len(first)); more > 0 {
		s.Item(term.Dot, "and %s more", term.Count(more))
	}
}

func verifyRun(ctx context.Context, c *cli.Command, id int64) error {
	db, err := open(ctx, c.String("db"), waits(c))
	if err != nil {
		return err
	}
	defer db.Close()
	run, err := logbook.Find(ctx, db, id)
	if err != nil {
		return err
	}
	tables, err := db.Schema(ctx)
	if err != nil {
		return err
	}
	if run.Kind == logbook.Make {
		return verifyMade(ctx, c, db, tables, run)
	}
	book, err := logbook.Open(ctx, db, tables, run)
	if err != nil {
		return err
	}
	progress, compared := term.NewProgress(), int64(0)
	book.Progress = func(rows int64) {
		compared += rows
		progress.Show("comparing", compared, book.Total(), "rows")
	}
	since, err := book.Compare(ctx)
	progress.Clear()
	if err != nil {
		return err
	}
	status := done
	if !since.Same() {
		status = refused
	}
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("verify_run", agreement(since.Same()), status), struct {
			Entry *logbook.Run `json:"entry"`
			*logbook.Since
		}{run, since})
	} else {
		showSince(term.NewScreen(term.Stdout), run, since)
	}
	if err == nil && status != done {
		err = exit(status)
	}
	return err
}

// verifyMade compares the tables that a run made with what they are now.
func verifyMade(ctx context.Context, c *cli.Command, db engine.Database, s *schema.Schema, run *logbook.Run) error {
	made, err := run.Made(ctx, db)
	if err != nil {
		return err
	}
	since := &logbook.Since{Problems: []string{}}
	for _, m := range made {
		since.Problems = append(since.Problems, m.Altered(s)...)
	}
	same, status := len(since.Problems) == 0, done
	if !same {
		status = refused
	}
	screen := term.NewScreen(term.Stdout)
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("verify_run", agreement(same), status), struct {
			Entry *logbook.Run `json:"entry"`
			*logbook.Since
		}{run, since})
	} else {
		screen.Line("Run %d, %s UTC by %s: %s", run.ID, moment(run.Started), run.User, outcome(run))
		for _, p := range since.Problems {
			screen.Item(term.Cross, "%s", p)
		}
		if same {
			screen.Strong(true, "%s: as the run made them", plural(int64(len(made)), "table"))
		} else {
			screen.Strong(false, "The tables are not as the run made them")
		}
	}
	if err == nil && !same {
		err = exit(status)
	}
	return err
}

func showSince(s *term.Screen, run *logbook.Run, since *logbook.Since) {
	s.Line("Run %d: %s, %s UTC by %s, %s", run.ID, run.LadleFile, moment(run.Started), run.User, outcome(run))
	for _, p := range since.Problems {
		s.Item(term.Cross, "%s", p)
	}
	if more := since.Changed + since.Gone + since.Back - int64(len(since.Problems)); more > 0 {
		s.Item(term.Dot, "and %s more", term.Count(more))
	}
	if since.Same() {
		s.Strong(true, "All %s that the run added or updated are as it left them", plural(since.Rows, "row"))
		return
	}
	s.Strong(false, "Of %s that the run added or updated, %s changed since and %s are gone; of those that it removed, "+
		"%s are there again; of %s it is not known",
		plural(since.Rows, "row"), term.Count(since.Changed), term.Count(since.Gone), term.Count(since.Back),
		term.Count(since.Untold))
}
