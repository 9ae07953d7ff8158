package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/rights"
	"ladle/internal/term"
)

func rightsCommand() *command {
	return &command{
		name: "rights", phase: getReady,
		does:  "list the privileges that a ladle file needs in the database, and the GRANTs for those that are missing",
		takes: operands{"FILE", "one ladle file", 1, 1},
		about: "For each table: what a try, a load and an undo of this ladle file do with it, and whether the user may. " +
			"Privileges on single columns don't count; nor, on MariaDB and MySQL, do those that come with a role. The " +
			"statements are for whoever administers the database. Nothing is changed. Exit status 1 says that something is " +
			"missing.",
		options: []option{databaseOption(), otherOption(), inputOption(),
			{name: "user", value: "NAME", group: groupDatabase, does: "the user who will load; on MariaDB and MySQL " +
				"NAME@HOST. Without it, the one who is connected"},
			jsonOption()},
		examples: []example{
			{"What the user harbour_office needs, and the GRANTs for what is missing",
				"ladle rights port-merrow/harbour.ladle.yaml --db postgres://admin@localhost/harbour --user harbour_office"},
			{"What I may do, and what not", "ladle rights port-merrow/harbour.ladle.yaml --db mysql://me@localhost/harbour"},
		},
		run: runRights,
	}
}

func runRights(ctx context.Context, c *cli.Command) error {
	file, err := ladleFile(c, c.Args().First())
	if err != nil {
		return err
	}
	var report *rights.Report
	err = withPlan(ctx, c, file, func(db engine.Database, p *plan.Plan) (err error) {
		report, err = rights.Find(ctx, db, p, c.String("user"))
		return err
	})
	if err != nil {
		return err
	}
	outcome, status := "complete", done
	if report.Missing > 0 {
		outcome, status = "missing", refused
	}
	if c.Bool("json") {
		err = printDocument(term.Stdout, newHead("rights", outcome, status), report)
	} else {
		showRights(term.NewScreen(term.Stdout), report, len(file.Claims) > 0)
	}
	if err == nil && status != done {
		err = exit(status)
	}
	return err
}

func showRights(s *term.Screen, r *rights.Report, claims bool) {
	if len(r.Rights) == 0 {
		s.Line("SQLite knows no users: whoever may write to %s may load.", r.Database)
		return
	}
	s.Title("What %s needs in %s", r.User, r.Database)
	t := term.Table{Header: []string{"on", "may", "lacks"}, Wrap: []int{1}}
	for _, of := range together(r.Rights) {
		var may, lacks []string
		for _, right := range of {
			may = append(may, right.May+purposes(right.For))
			if !right.Has {
				lacks = append(lacks, right.May)
			}
		}
		t.Rows = append(t.Rows, []string{of[0].On, strings.Join(may, "; "), strings.Join(lacks, ", ")})
	}
	s.Table(t)
	if claims {
		s.Note("The queries of the ladle file's checks: may read other tables; these are not in the list.")
	}
	if len(r.Make) > 0 {
		s.Title("The logbook's tables don't exist yet. Someone who may create tables runs one load, or these statements")
		for _, statement := range r.Make {
			s.Line("%s;", statement)
		}
	}
	if r.Missing == 0 {
		s.Strong(true, "%s has all privileges for a try, a load and an undo.", r.User)
		return
	}
	s.Title("For whoever administers the database")
	for _, grant := range grants(r.Rights) {
		s.Line("%s;", grant)
	}
	if kindOf(r.Database) == "mysql" {
		s.Note("A privilege that comes only with a role counts as missing.")
	}
	s.Strong(false, "%s lacks %s.", r.User, reason.Plural(int64(r.Missing), "privilege"))
}

// together are privileges on one thing, one after the other.
func together(all engine.Rights) (of []engine.Rights) {
	for _, r := range all {
		if n := len(of); n > 0 && of[n-1][0].On == r.On {
			of[n-1] = append(of[n-1], r)
			continue
		}
		of = append(of, engine.Rights{r})
	}
	return of
}

// grants are the statements for what is missing, one for all that is missing on one thing.
func grants(all engine.Rights) (statements []string) {
	for _, of := range together(all) {
		var privileges []string
		rest := ""
		for _, r := range of {
			if r.Has {
				continue
			}
			privilege, on, _ := strings.Cut(strings.TrimPrefix(r.Grant, "GRANT "), " ON ")
			privileges, rest = append(privileges, privilege), on
		}
		if privileges != nil {
			statements = append(statements, "GRANT "+strings.Join(privileges, ", ")+" ON "+rest)
		}
	}
	return statements
}

// purposes are what a privilege is for, where that is not everything.
func purposes(all []engine.Purpose) string {
	const every = 3
	if len(all) == every {
		return ""
	}
	texts := make([]string, len(all))
	for i, p := range all {
		texts[i] = string(p)
	}
	return " (" + strings.Join(texts, ", ") + ")"
}
