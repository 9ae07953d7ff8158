package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/page"
	"ladle/internal/term"
)

func tablesCommand(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "tables",
		Usage:     "show the tables of a database in the order in which they must be loaded",
		UsageText: "ladle tables --db DATABASE [--table NAME] [--diagram] [--html FILE] [--json]",
		Flags: []cli.Flag{
			databaseFlag(),
			&cli.StringFlag{Name: "table", Usage: "show all of the table `NAME`"},
			&cli.BoolFlag{Name: "diagram", Usage: "print the tables and their relations in the DOT language, for a program that draws graphs"},
			htmlFlag("the tables and their relations, drawn in levels,"),
			jsonFlag(asJSON),
		},
		OnUsageError: usageError,
		Action:       runTables,
	}
}

func runTables(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 0 {
		return fault.New(fault.Wrong, fmt.Sprintf("tables takes no %q", c.Args().First()), "write: ladle tables --db "+c.Args().First())
	}
	db, err := open(ctx, c.String("db"))
	if err != nil {
		return err
	}
	defer db.Close()
	s, err := db.Schema(ctx)
	if err != nil {
		return err
	}
	if c.Bool("diagram") {
		_, err := fmt.Fprint(term.Stdout, s.Diagram())
		return err
	}
	sizes := map[*schema.Table]schema.Size{}
	for _, t := range s.Tables {
		n, exact, err := db.Count(ctx, t)
		if err != nil {
			return err
		}
		sizes[t] = schema.Size{Rows: n, Exact: exact}
	}
	outline := s.Outline(sizes)
	if err := placePage(c.String("html"), func(to io.Writer) error { return page.Tables(to, outline, Version) }); err != nil {
		return err
	}
	name := c.String("table")
	if name == "" {
		if c.Bool("json") {
			return printJSON(term.Stdout, outline)
		}
		showOutline(term.NewScreen(term.Stdout), outline)
		return nil
	}
	for level, briefs := range outline.Levels {
		for _, b := range briefs {
			if b.Name != name {
				continue
			}
			if c.Bool("json") {
				return printJSON(term.Stdout, b)
			}
			showBrief(term.NewScreen(term.Stdout), outline, level, b)
			return nil
		}
	}
	return fault.At(fault.Wrong, fault.Problem{File: s.Database, What: fmt.Sprintf("there is no table %q", name), Do: fault.DidYouMean(name, s.Names())})
}

// showOutline shows all tables, a line each.
func showOutline(s *term.Screen, o *schema.Outline) {
	count := 0
	t := term.Table{Header: []string{"level", "table", "rows", "known by", "points at", "must be given", "fills itself"}, Numbers: []int{0, 2}, Wrap: []int{3, 4, 5, 6}}
	for level, briefs := range o.Levels {
		for _, b := range briefs {
			count++
			t.Rows = append(t.Rows, []string{fmt.Sprint(level + 1), b.Name, size(b), known(b), strings.Join(parents(b), ", "), strings.Join(b.Required, ", "), strings.Join(b.Fills, ", ")})
		}
	}
	if count == 0 {
		s.Line("%s holds no tables; ladle fills tables that are there, and makes none", o.Database)
		return
	}
	s.Line("%s: %s, in the order in which they must be loaded", o.Database, plural(int64(count), "table"))
	s.Line("")
	s.Table(t)
	s.Note("known by: the unique keys, any of which tells a row; must be given: nothing else fills these columns; fills itself: ids that are counted, columns that are computed, and those with a default")
	for _, l := range o.Later {
		s.Item(term.Dot, "%s goes round in a circle, so it is filled in a second step, when all rows are there", l)
	}
	for _, c := range o.Stuck {
		s.Item(term.Wrong, "these tables need each other first, and no column of the circle may be NULL: %s", c)
	}
	for _, g := range o.Guessed {
		s.Item(term.Dot, "perhaps a relation, by its name; the database declares none: %s", g)
	}
	for _, briefs := range o.Levels {
		for _, b := range briefs {
			showUnusual(s, b)
		}
	}
	if o.Views != nil {
		s.Item(term.Dot, "views, which can't be loaded: %s", strings.Join(o.Views, ", "))
	}
	for _, n := range o.Notes {
		s.Item(term.Dot, "%s", n)
	}
	s.Line("")
	s.Line("All of one table: ladle tables --db ... --table NAME")
}

// showUnusual shows what is unusual with a table.
func showUnusual(s *term.Screen, b schema.Brief) {
	if b.Unusable != "" {
		s.Item(term.Wrong, "%s can't be loaded: %s", b.Name, b.Unusable)
	}
	if b.Triggers != nil {
		s.Item(term.Dot, "%s has triggers, which may change or refuse what is written: %s", b.Name, strings.Join(b.Triggers, ", "))
	}
	for _, p := range b.PointsAt {
		if p.Off != "" {
			s.Item(term.Dot, "%s.%s -> %s is not enforced: %s", b.Name, strings.Join(p.Columns, ", "), p.Table, p.Off)
		}
	}
	for _, c := range b.Columns {
		if c.Unusable != "" {
			s.Item(term.Wrong, "%s.%s can't be loaded: %s", b.Name, c.Name, c.Unusable)
		}
	}
}

func size(b schema.Brief) string {
	if !b.Exact {
		return "about " + term.Count(b.Rows)
	}
	return term.Count(b.Rows)
}

// known lists the keys of a table.
func known(b schema.Brief) string {
	var keys []string
	for _, k := range b.KnownBy() {
		keys = append(keys, strings.Join(k, " + "))
	}
	switch {
	case keys == nil:
		return "nothing"
	case b.Keys == nil && len(b.Primary) == 1 && slices.ContainsFunc(b.Columns, func(c schema.Part) bool { return c.Name == b.Primary[0] && c.Counted }):
		return "only " + keys[0]
	}
	return strings.Join(keys, "; ")
}

// parents lists the tables that a table points at, each once.
func parents(b schema.Brief) []string {
	var all []string
	for _, p := range b.PointsAt {
		if !slices.Contains(all, p.Table) {
			all = append(all, p.Table)
		}
	}
	return all
}

// showBrief shows all of one table.
func showBrief(s *term.Screen, o *schema.Outline, level int, b schema.Brief) {
	form := ""
	if b.Form != "" {
		form = ", " + b.Form
	}
	s.Line("%s of %s: level %d of %d, %s rows%s", b.Name, o.Database, level+1, len(o.Levels), size(b), form)
	if b.Comment != "" {
		s.Note("%s", b.Comment)
	}
	s.Line("")
	t := term.Table{Header: []string{"column", "type", "value", "key", "points at", "remarks"}, Wrap: []int{1, 4, 5}}
	for _, c := range b.Columns {
		t.Rows = append(t.Rows, []string{c.Name, c.Declared, need(c), keysOf(b, c.Name), pointed(b, c.Name), remarks(c)})
	}
	s.Table(t)
	s.Note("key: the number of the key that the column is part of, P for the primary key")
	for i, k := range b.Keys {
		s.Item(term.Dot, "key %d: no two rows have the same %s", i+1, strings.Join(k, " and "))
	}
	for _, c := range b.Checks {
		if c.Name != "" {
			c.Says = c.Name + ": " + c.Says
		}
		s.Item(term.Dot, "%s", c.Says)
	}
	for _, p := range b.Partial {
		s.Item(term.Dot, "an index over a part of the rows or an expression, which is no key for a load: %s", p)
	}
	for _, p := range b.PointedBy {
		s.Item(term.Dot, "%s.%s points at it", p.Table, strings.Join(p.Columns, ", "))
	}
	showUnusual(s, b)
}

// need says whether a column must be given a value.
func need(c schema.Part) string {
	switch {
	case c.Counted:
		return "counted"
	case c.Computed:
		return "computed"
	case c.Required && c.Default == "":
		return "must be given"
	case c.Default != "":
		return "else " + c.Default
	}
	return "may be blank"
}

func keysOf(b schema.Brief, column string) string {
	var keys []string
	if slices.Contains(b.Primary, column) {
		keys = append(keys, "P")
	}
	for i, k := range b.Keys {
		if slices.Contains(k, column) {
			keys = append(keys, fmt.Sprint(i+1))
		}
	}
	return strings.Join(keys, ", ")
}

func pointed(b schema.Brief, column string) string {
	for _, p := range b.PointsAt {
		if i := slices.Index(p.Columns, column); i >= 0 && i < len(p.Keys) {
			return p.Table + "." + p.Keys[i]
		}
	}
	return ""
}

func remarks(c schema.Part) string {
	var all []string
	if c.Collation != "" && c.Collation != "BINARY" {
		all = append(all, "compares by "+c.Collation)
	}
	if c.Comment != "" {
		all = append(all, c.Comment)
	}
	return strings.Join(all, "; ")
}
