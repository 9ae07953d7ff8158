package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/core/template"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

func templateCommand() *command {
	return &command{
		name: "template", phase: getReady,
		does:  "write a workbook for tables that a sender fills in, and the ladle file that loads it",
		takes: operands{"TABLE...", "a table", 1, many},
		about: "Each table has a sheet, parents first, with headers in words, and the name of a row in place of its id. " +
			"Required columns have a bold header, each header has a note, names can be picked from lists, and cells are " +
			"checked as they are typed. The names are those that the tables have now.",
		options: []option{databaseOption(),
			{name: "output", short: "o", value: "FILE", group: groupOutput, needed: true, check: workbookCheck,
				does: "write the workbook to FILE, called NAME.xlsx"},
			{name: "ladle", value: "FILE", group: groupOutput, does: "write the ladle file that loads it to FILE, called " +
				"NAME.ladle.yaml"},
			replaceOption(), jsonOption()},
		examples: []example{
			{"A workbook for calls and their cargo", "ladle template port_call call_cargo --db port-merrow/harbour.db -o " +
				"port-merrow/calls.xlsx --ladle port-merrow/calls.ladle.yaml"},
			{"A workbook for pilots alone", "ladle template pilot --db port-merrow/harbour.db -o port-merrow/new-pilots.xlsx"},
		},
		run: runTemplate,
	}
}

func workbookCheck(path string) error {
	if !strings.EqualFold(filepath.Ext(path), ".xlsx") {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", path), Do: "give it a name that ends in .xlsx"}
	}
	return nil
}

func runTemplate(ctx context.Context, c *cli.Command) error {
	out, ladle := c.String("output"), c.String("ladle")
	if err := askReplace(ctx, out, c.Bool("replace")); err != nil {
		return err
	}
	if err := mayWriteDraft(ctx, ladle, c.Bool("replace")); err != nil {
		return err
	}
	db, s, err := openWithSchema(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	t, err := template.Make(ctx, db, s, c.Args().Slice())
	if err != nil {
		return err
	}
	if err := whole.Write(out, func(to io.Writer) error { return t.Workbook(to) }); err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: out, What: "the workbook can't be written: " + err.Error()})
	}
	if ladle != "" {
		if err := writeLadleFile(ladle, t.Ladle(besideDraft(ladle, out))); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return printDocument(term.Stdout, newHead("template", "written", done), struct {
			Workbook  string `json:"workbook"`
			LadleFile string `json:"ladle_file,omitempty"`
			*template.Template
		}{out, ladle, t})
	}
	screen := term.NewScreen(term.Stdout)
	screen.Line("%s was written.", out)
	table := term.Table{Header: []string{"sheet", "columns", "required", "picked from lists"}, Numbers: []int{1}}
	for _, sheet := range t.Sheets {
		var required, lists []string
		for _, column := range sheet.Columns {
			if column.Required {
				required = append(required, column.Header)
			}
			if column.Lookup != nil && len(column.Lookup.Names) > 0 || len(column.Allowed) > 0 {
				lists = append(lists, column.Header)
			}
		}
		table.Rows = append(table.Rows, []string{sheet.Name, term.Count(int64(len(sheet.Columns))), strings.Join(required, ", "),
			strings.Join(lists, ", ")})
	}
	screen.Table(table)
	if ladle != "" {
		screen.Line("%s was written. Once the workbook is filled in: ladle try %s --db ...", ladle, ladle)
	}
	return nil
}
