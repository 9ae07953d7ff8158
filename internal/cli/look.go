package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/look"
	"ladle/internal/core/report"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

func lookCommand() *command {
	database := databaseOption()
	database.needed = false
	c := &command{
		name: "look", phase: looking,
		does:  "show some rows of a file, of the inputs of a ladle file as it cleans them, or of a table",
		takes: operands{"FILE|TABLE", "a file, a ladle file or a table", 1, 1},
		about: "A name that no file has is that of a table of the database. Foreign keys are shown by the name of " +
			"the row that they refer to. However large the file or table is, only what is shown is read; with --from " +
			"on a file, the lines before it too.",
		options: []option{database, otherOption(),
			{name: "lines", value: "N", group: groupOutput, fallback: "20", does: "show N rows", check: countCheck},
			{name: "from", value: "N", group: groupOutput, does: "begin at line N of the file, or at the row whose " +
				"whole-number key is N or more", check: fromCheck},
			{name: "newest", group: groupOutput, does: "show the rows of a table that came last, the last one first"},
			{name: "beside", value: "FILE", group: groupOutput, does: "show the columns of FILE beside those of the " +
				"table: longest value, samples, type and length"},
			{name: "output", short: "o", value: "FILE", group: groupOutput, check: rowsCheck,
				does: "write the rows to FILE (.csv or .xlsx) instead"},
			replaceOption(), jsonOption()},
		examples: []example{
			{"What came last into a table", "ladle look port_call --db port-merrow/harbour.db --newest"},
			{"A file beside the table that it is for", "ladle look pilot --db port-merrow/harbour.db --beside " +
				"port-merrow/pilots.csv"},
		},
		run: runLook,
	}
	c.options = append(c.options, readOptions()...)
	return c
}

func fromCheck(text string) error {
	if _, err := strconv.ParseInt(text, 10, 64); err != nil {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", text), Do: "give a whole number"}
	}
	return nil
}

// rowsCheck takes the path of a file of rows.
func rowsCheck(path string) error {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".csv", ".xlsx":
		return nil
	}
	return fault.InvalidValue{What: fmt.Sprintf("can't be %q", path), Do: "give it a name that ends in .csv or .xlsx"}
}

func runLook(ctx context.Context, c *cli.Command) error {
	if c.String("beside") != "" {
		return runBeside(ctx, c)
	}
	out := c.String("output")
	if _, err := os.Stat(out); out != "" && !c.Bool("replace") && !errors.Is(err, fs.ErrNotExist) {
		return fault.At(fault.Wrong, fault.Problem{File: out, What: "the file exists already",
			Do: "give another name, or --replace"})
	}
	pages, err := pagesOf(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	switch {
	case c.Bool("json"):
		return printDocument(term.Stdout, newHead("look", "looked", done), struct {
			Pages []*look.Page `json:"pages"`
		}{pages})
	case out != "":
		return writePages(out, pages)
	}
	screen := term.NewScreen(term.Stdout)
	for _, p := range pages {
		showPage(screen, p, len(pages) > 1)
	}
	return nil
}

// pagesOf are the rows of a file, of each sheet of a workbook, of each input of a ladle file, or of a table.
func pagesOf(ctx context.Context, c *cli.Command, name string) ([]*look.Page, error) {
	n, _ := strconv.Atoi(c.String("lines")) // it was checked
	if _, err := os.Stat(name); err == nil || name == "-" || ladlefile.Named(name) || strings.ContainsAny(name, "*?[") {
		if c.Bool("newest") {
			return nil, fault.New(fault.Wrong, "--newest is for tables", "to see the end of a file, give --from")
		}
		from, _ := strconv.ParseInt(c.String("from"), 10, 64) // it was checked
		return filePages(ctx, c, name, readAs(c), from, n)
	}
	if c.String("db") == "" {
		return nil, fault.At(fault.Failed, fault.Problem{File: name, What: "there is no such file, and no database " +
			"in which it could be a table", Do: "check the path, or name the database with --db"})
	}
	var from *int64
	if said := c.String("from"); said != "" {
		number, _ := strconv.ParseInt(said, 10, 64) // it was checked
		from = &number
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	t, err := tableCalled(s, name)
	if err != nil {
		return nil, err
	}
	p, err := look.Rows(ctx, db, t, from, c.Bool("newest"), n)
	return []*look.Page{p}, err
}

// tableCalled is the table of a name.
func tableCalled(s *schema.Schema, name string) (*schema.Table, error) {
	all := s.Called(name)
	if len(all) != 1 {
		return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no file %q, and no table of that name", name),
			fault.DidYouMean(name, s.Names()))
	}
	return all[0], nil
}

// filePages are lines of a file, or of the cleaned inputs of a ladle file.
func filePages(ctx context.Context, c *cli.Command, path string, asked source.ReadOptions, from int64,
	n int) (pages []*look.Page, err error) {
	progress := term.NewProgress()
	defer progress.Clear()
	tables, inputs, err := openOne(ctx, c, path, asked, progress)
	if err != nil {
		return nil, err
	}
	defer survey.Close(tables)
	progress.Clear()
	for i, t := range tables {
		name := t.Files()[0].Name()
		if inputs != nil {
			name = inputs[i].Name
		}
		p, err := look.File(ctx, name, t, from, n)
		if err != nil {
			return nil, err
		}
		pages = append(pages, p)
	}
	return pages, nil
}

// longestShown is the number of characters of a cell that are shown.
const longestShown = 40

// showPage shows rows as a table; columns for which the screen has no room follow in another one.
func showPage(s *term.Screen, p *look.Page, titled bool) {
	if titled {
		s.Title("%s", p.Of)
	}
	first := 0
	for first == 0 || first < len(p.Columns) {
		last := len(p.Columns)
		t := pageTable(p, first, last)
		for last > first+1 && !s.Fits(t) {
			last--
			t = pageTable(p, first, last)
		}
		if first > 0 {
			s.Line("")
		}
		s.Table(t)
		if first = last; last == 0 {
			break
		}
	}
	for _, r := range p.Rows {
		if r.Odd != "" {
			s.Item(term.Dot, "line %d %s", r.Line, r.Odd)
		}
	}
	if len(p.Rows) == 0 {
		s.Note("(no rows)")
	}
	if p.More {
		s.Note("(there are more; --lines shows more, --from begins further down)")
	}
}

// pageTable is the columns of a page from first to before last, behind the numbers of the lines.
func pageTable(p *look.Page, first, last int) term.Table {
	t := term.Table{Header: append([]string{}, p.Columns[first:last]...)}
	lines := len(p.Rows) > 0 && p.Rows[0].Line > 0
	again := !lines && first > 0 // the first column, by which rows are recognised
	switch {
	case lines:
		t.Header, t.Numbers = append([]string{"line"}, t.Header...), []int{0}
	case again:
		t.Header = append([]string{p.Columns[0]}, t.Header...)
	}
	for _, r := range p.Rows {
		var cells []string
		if lines {
			cells = append(cells, fmt.Sprint(r.Line))
		}
		if again {
			cells = append(cells, cut(report.OrNull(r.Cells[0]), longestShown))
		}
		for _, c := range r.Cells[first:last] {
			cells = append(cells, cut(report.OrNull(c), longestShown))
		}
		t.Rows = append(t.Rows, cells)
	}
	return t
}
