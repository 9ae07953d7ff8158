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

func tablesCommand() *command {
	return &command{
		name: "tables", phase: looking,
		does: "show the tables of a database in the order of loading, with their keys and foreign keys",
		options: []option{databaseOption(),
			{name: "table", value: "NAME", group: groupOutput, does: "show everything about one table"},
			{name: "diagram", group: groupOutput, does: "print the tables and foreign keys in the DOT language, for " +
				"a program that draws graphs"},
			htmlOption("the tables and their foreign keys, drawn in levels,"), jsonOption()},
		examples: []example{
			{"The tables of the harbour, parents first", "ladle tables --db port-merrow/harbour.db"},
			{"One table with its columns, keys and CHECK constraints", "ladle tables --db port-merrow/harbour.db " +
				"--table port_call"},
		},
		run: runTables,
	}
}

func runTables(ctx context.Context, c *cli.Command) error {
	db, err := open(ctx, c.String("db"), waits(c))
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
	sizes := map[*schema.Table]schema.RowCount{}
	for _, t := range s.Tables {
		n, exact, err := db.Count(ctx, t)
		if err != nil {
			return err
		}
		sizes[t] = schema.RowCount{Rows: n, Exact: exact}
	}
	outline := s.Outline(sizes)
	if err := placePage(c.String("html"), func(to io.Writer) error {
		return page.Tables(to, outline,
			Version)
	}); err != nil {
		return err
	}
	name := c.String("table")
	if name == "" {
		if c.Bool("json") {
			return printDocument(term.Stdout, newHead("tables", "shown", done), outline)
		}
		showOutline(term.NewScreen(term.Stdout), outline)
		return nil
	}
	called := s.Called(name)
	switch {
	case len(called) == 0:
		return fault.At(fault.Wrong, fault.Problem{File: s.Database, What: fmt.Sprintf("there is no table %q", name),
			Do: fault.DidYouMean(name, s.Names())})
	case len(called) > 1:
		var names []string
		for _, t := range called {
			names = append(names, t.Name)
		}
		return fault.At(fault.Wrong, fault.Problem{File: s.Database, Do: "name one of them: " + strings.Join(names,
			", "),
			What: fmt.Sprintf("several tables are called %q", name)})
	}
	return oneTable(c, outline, called[0].Name)
}

// oneTable shows everything about a table.
func oneTable(c *cli.Command, outline *schema.Outline, name string) error {
	for level, briefs := range outline.Levels {
		i := slices.IndexFunc(briefs, func(b schema.TableOutline) bool { return b.Name == name })
		switch {
		case i < 0:
		case c.Bool("json"):
			return printDocument(term.Stdout, newHead("table", "shown", done), struct {
				Database string              `json:"database"`
				Level    int                 `json:"level"` // from 1
				Table    schema.TableOutline `json:"table"`
			}{outline.Database, level + 1, briefs[i]})
		default:
			showBrief(term.NewScreen(term.Stdout), outline, level, briefs[i])
		}
	}
	return nil
}

// showOutline shows all tables, a line each.
func showOutline(s *term.Screen, o *schema.Outline) {
	count := 0
	t := term.Table{Header: []string{"level", "table", "rows", "identified by", "refers to", "required",
		"filled by the database"}, Numbers: []int{0, 2}, Wrap: []int{3, 4, 5, 6}}
	for level, briefs := range o.Levels {
		for _, b := range briefs {
			count++
			t.Rows = append(t.Rows, []string{fmt.Sprint(level + 1), b.Name, size(b), known(b),
				strings.Join(parents(b), ", "), strings.Join(b.Required, ", "), strings.Join(b.Fills, ", ")})
		}
	}
	if count == 0 {
		s.Line("%s holds no tables; ladle fills tables that exist, and creates none", o.Database)
		return
	}
	s.Line("%s: %s, in the order in which they must be loaded", o.Database, plural(int64(count), "table"))
	s.Line("")
	s.Table(t)
	s.Note("identified by: the unique keys; required: NOT NULL, and nothing else fills the column; filled by the " +
		"database: auto-numbered and computed columns, and those with a default")
	for _, l := range o.Later {
		s.Item(term.Dot, "%s is part of a circular reference, so it is filled in a second step, when all rows are "+
			"there", l)
	}
	for _, c := range o.Stuck {
		s.Item(term.Wrong, "circular reference between these tables, and each of its columns is NOT NULL: %s", c)
	}
	for _, g := range o.Guessed {
		s.Item(term.Dot, "possibly a foreign key, by its name; the database declares none: %s", g)
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
	s.Line("Everything about one table: ladle tables --db ... --table NAME")
}

// showUnusual shows what is unusual with a table.
func showUnusual(s *term.Screen, b schema.TableOutline) {
	if b.Unusable != "" {
		s.Item(term.Wrong, "%s can't be loaded: %s", b.Name, b.Unusable)
	}
	if len(b.Triggers) > 0 {
		s.Item(term.Dot, "%s has triggers, which may change or reject what is written: %s", b.Name,
			strings.Join(b.Triggers, ", "))
	}
	for _, p := range b.PointsAt {
		if p.Broken != "" {
			s.Item(term.Dot, "%s.%s -> %s can't be followed, so it is not checked: %s", b.Name,
				strings.Join(p.Columns, ", "), p.Table, p.Broken)
		}
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

func size(b schema.TableOutline) string {
	if !b.Exact {
		return "about " + term.Count(b.Rows)
	}
	return term.Count(b.Rows)
}

// known lists the keys of a table.
func known(b schema.TableOutline) string {
	var keys []string
	for _, k := range b.KnownBy() {
		keys = append(keys, strings.Join(k, " + "))
	}
	switch {
	case keys == nil:
		return "nothing"
	case b.Keys == nil && len(b.Primary) == 1 && slices.ContainsFunc(b.Columns,
		func(c schema.ColumnOutline) bool { return c.Name == b.Primary[0] && c.Counted }):
		return "only " + keys[0]
	}
	return strings.Join(keys, "; ")
}

// parents lists the tables that a table refers to, each once.
func parents(b schema.TableOutline) []string {
	var all []string
	for _, p := range b.PointsAt {
		if !slices.Contains(all, p.Table) {
			all = append(all, p.Table)
		}
	}
	return all
}

// showBrief shows all of one table.
func showBrief(s *term.Screen, o *schema.Outline, level int, b schema.TableOutline) {
	form := ""
	if b.Form != "" {
		form = ", " + b.Form
	}
	s.Line("%s of %s: level %d of %d, %s rows%s", b.Name, o.Database, level+1, len(o.Levels), size(b), form)
	if b.Comment != "" {
		s.Note("%s", b.Comment)
	}
	s.Line("")
	t := term.Table{Header: []string{"column", "type", "value", "key", "refers to", "remarks"}, Wrap: []int{1, 4, 5}}
	for _, c := range b.Columns {
		t.Rows = append(t.Rows, []string{c.Name, c.Declared, need(c), keysOf(b, c.Name), pointed(b, c.Name),
			remarks(c)})
	}
	s.Table(t)
	s.Note("key: the number of the unique key that the column is part of; P for the primary key")
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
		s.Item(term.Dot, "an index over part of the rows or over an expression, which can't serve as a key: %s", p)
	}
	for _, p := range b.PointedBy {
		s.Item(term.Dot, "%s.%s refers to it", p.Table, strings.Join(p.Columns, ", "))
	}
	showUnusual(s, b)
}

// need says where a column gets its value from.
func need(c schema.ColumnOutline) string {
	switch {
	case c.Counted:
		return "auto-numbered"
	case c.Computed:
		return "computed"
	case c.Required && c.Default == "":
		return "required"
	case c.Default != "":
		return "default " + c.Default
	}
	return "optional"
}

func keysOf(b schema.TableOutline, column string) string {
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

func pointed(b schema.TableOutline, column string) string {
	for _, p := range b.PointsAt {
		if i := slices.Index(p.Columns, column); i >= 0 && i < len(p.Keys) {
			return p.Table + "." + p.Keys[i]
		}
	}
	return ""
}

func remarks(c schema.ColumnOutline) string {
	var all []string
	if len(c.Values) > 0 {
		all = append(all, "one of: "+strings.Join(c.Values, ", "))
	}
	if c.Collation != "" && c.Collation != "BINARY" {
		all = append(all, "compares by "+c.Collation)
	}
	if c.Comment != "" {
		all = append(all, c.Comment)
	}
	return strings.Join(all, "; ")
}
