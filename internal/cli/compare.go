package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/changes"
	"ladle/internal/core/compare"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/prepare"
	"ladle/internal/core/source"
	"ladle/internal/term"
)

func compareCommand() *command {
	list := changesOption()
	list.does = "also write to FILE (.csv, .xlsx or .html) every cell that changed, and the cells of every line that " +
		"came or went"
	c := &command{
		name: "compare", phase: looking,
		does:  "show what differs between two deliveries of a file: columns, lines and cells",
		takes: operands{"OLD NEW", "two files", 2, 2},
		about: "Columns are paired by their names, and lines by the columns of --key, wherever they stand. Without " +
			"--key, whole lines are compared, as often as they occur, and none counts as changed. Cells are compared " +
			"as they stand or, with --rules, as a ladle file cleans them. The options on how a file is read are for " +
			"both. The exit status is 0 also when they differ.",
		options: []option{
			{name: "key", value: "COLUMNS", does: "the columns that tell lines apart, with commas between them"},
			{name: "rules", value: "FILE", group: groupInput, does: "clean both as an input of the ladle file FILE first: " +
				"cells are then the same when they mean the same"},
			{name: "as", value: "INPUT", group: groupInput, does: "the input of --rules that both are, where it has several"},
			{name: "lines", value: "N", group: groupOutput, fallback: "10", does: "show N lines that differ",
				check: countCheck},
			list, jsonOption()},
		examples: []example{
			{"What a register of the season changes", "ladle compare port-merrow/vessel-register.csv " +
				"port-merrow/season.csv --key \"Reg. No.\""},
			{"Every cell, in a workbook", "ladle compare port-merrow/vessel-register.csv port-merrow/season.csv " +
				"--key \"Reg. No.\" --changes port-merrow/season-changes.xlsx"},
		},
		run: runCompare,
	}
	c.options = append(c.options, readOptions()...)
	return c
}

func runCompare(ctx context.Context, c *cli.Command) error {
	o := compare.Options{Key: namesOf(c, "key")}
	var change func(changes.Record) error
	list, err := listChanges(c.String("changes"), &change)
	if err != nil {
		return err
	}
	defer list.discard()
	progress := term.NewProgress()
	defer progress.Clear()
	var both [2]source.Table
	for i, path := range c.Args().Slice() {
		table, closes, err := openDelivery(ctx, c, path, progress)
		if err != nil {
			return err
		}
		defer closes()
		both[i] = table
	}
	most, _ := strconv.Atoi(c.String("lines")) // it was checked
	var shown []compare.Difference
	files := [2]string{both[0].Files()[0].Name(), both[1].Files()[0].Name()}
	o.Each = func(d compare.Difference) error {
		if len(shown) < most {
			shown = append(shown, d)
		}
		if change == nil {
			return nil
		}
		return eachCell(d, files, change)
	}
	o.Progress = func(file string, done, of int64) { progress.Show("reading "+file, done, of, "bytes") }
	made, err := compare.Compare(ctx, both[0], both[1], o)
	if err != nil {
		return err
	}
	made.Rules = c.String("rules")
	if err := list.place(); err != nil {
		return err
	}
	progress.Clear()
	if c.Bool("json") {
		outcome := "differs"
		if made.Alike() {
			outcome = "same"
		}
		return printDocument(term.Stdout, newHead("compare", outcome, done), made)
	}
	showComparison(term.NewScreen(term.Stdout), made, shown)
	return nil
}

// openDelivery opens a file as it stands or, with --rules, as a ladle file cleans it.
func openDelivery(ctx context.Context, c *cli.Command, path string, progress *term.Progress) (t source.Table,
	closes func(), err error) {
	if ladlefile.Named(path) {
		return nil, nil, fault.New(fault.Wrong, path+" is a ladle file, and what is compared are files with lines",
			"compare two deliveries by its rules: ladle compare OLD NEW --rules "+path)
	}
	rules := c.String("rules")
	if rules == "" {
		if c.String("as") != "" {
			return nil, nil, fault.New(fault.Wrong, "--as names an input of a ladle file, and none is given",
				"give the ladle file with --rules")
		}
		t, err = openSingle(path, readAs(c))
		return t, func() { t.Close() }, err
	}
	if readAs(c) != (source.ReadOptions{}) {
		return nil, nil, fault.New(fault.Wrong, "the ladle file "+rules+" itself says how its inputs are read",
			"leave these options out")
	}
	file, err := ladlefile.Read(rules)
	if err != nil {
		return nil, nil, err
	}
	if err := onlyInput(file, c.String("as"), path); err != nil {
		return nil, nil, err
	}
	inputs, err := prepare.Open(ctx, file, nil)
	if err != nil {
		return nil, nil, err
	}
	tables, err := prepare.Cleaned(ctx, inputs, func(_ string, done, of int64) {
		progress.Show("reading "+path, done, of, "bytes")
	})
	if err != nil {
		prepare.Close(inputs)
		return nil, nil, err
	}
	return tables[0], func() { prepare.Close(inputs) }, nil
}

// onlyInput leaves one input of a ladle file, and has it read a file.
func onlyInput(f *ladlefile.File, name, path string) error {
	var names []string
	for _, in := range f.Inputs {
		if !in.FromDatabase() {
			names = append(names, in.Name.Value)
		}
	}
	switch {
	case len(names) == 0:
		return fault.New(fault.Wrong, f.Path+" has no input that is a file", "give a ladle file that has one")
	case name == "" && len(names) > 1:
		return fault.New(fault.Wrong, fmt.Sprintf("%s has several inputs: %s", f.Path, strings.Join(names, ", ")),
			"say with --as which of them both files are")
	case name == "":
		name = names[0]
	case !slices.Contains(names, name):
		return fault.New(fault.Wrong, fmt.Sprintf("%s has no input %q that is a file", f.Path, name),
			fault.DidYouMean(name, names))
	}
	f.Inputs = slices.DeleteFunc(f.Inputs, func(in *ladlefile.Input) bool { return in.Name.Value != name })
	return f.ReadFrom(name, []string{path})
}

// eachCell gives take a record for each cell of a difference; for a line of blank cells, one.
func eachCell(d compare.Difference, files [2]string, take func(changes.Record) error) error {
	r := changes.Record{What: changes.What(d.What), Key: d.Key, File: files[1], Line: d.NewLine}
	if d.What == compare.Went {
		r.File, r.Line = files[0], d.OldLine
	}
	if len(d.Cells) == 0 {
		return take(r)
	}
	for _, cell := range d.Cells {
		r.Column, r.Before, r.After = cell.Column, &cell.Before, &cell.After
		if err := take(r); err != nil {
			return err
		}
	}
	return nil
}

// showComparison shows what differs, and some of the lines.
func showComparison(s *term.Screen, made *compare.Comparison, shown []compare.Difference) {
	s.Title("%s and %s", made.Old.Name, made.New.Name)
	if made.Rules != "" {
		s.Note("Both as %s cleans them, without the lines that it leaves out.", made.Rules)
	}
	t := term.Table{Header: []string{"", "lines"}, Numbers: []int{1}}
	for _, row := range []struct {
		what string
		n    int64
	}{{made.Old.Name, made.Old.Lines}, {made.New.Name, made.New.Lines}, {"the same in both", made.Same},
		{"changed", made.Changed}, {"came", made.Came}, {"went", made.Went}} {
		t.Rows = append(t.Rows, []string{row.what, term.Count(row.n)})
	}
	s.Table(t)
	for _, f := range []compare.File{made.Old, made.New} {
		if len(f.Alone) > 0 {
			s.Item(term.Dot, "only %s has: %s", f.Name, strings.Join(f.Alone, ", "))
		}
	}
	for _, f := range []compare.File{made.Old, made.New} {
		if f.Odd > 0 {
			s.Item(term.Dot, "%s: %s with another number of cells than columns, or with cells that can't be read: "+
				"compared as a whole", f.Name, plural(f.Odd, "line"))
		}
	}
	if made.Repeated > 0 {
		s.Item(term.Dot, "%s that came or went can't be paired, since several that differ have the same key",
			plural(made.Repeated, "line"))
	}
	if made.Changed > 0 {
		s.Title("Cells that changed")
		t := term.Table{Header: []string{"column", "cells"}, Numbers: []int{1}}
		for _, column := range made.Columns {
			if column.Changed > 0 {
				t.Rows = append(t.Rows, []string{column.Name, term.Count(column.Changed)})
			}
		}
		s.Table(t)
	}
	showLinesApart(s, made, shown)
	switch total := made.Changed + made.Came + made.Went; {
	case made.Alike():
		s.Strong(true, "The same: %s", plural(made.Same, "line"))
	case total == 0:
		s.Strong(true, "The same lines, with other columns")
	default:
		s.Strong(true, "Different: %s changed, %s came, %s went", term.Count(made.Changed), term.Count(made.Came),
			term.Count(made.Went))
	}
	if len(made.Key) == 0 && made.Came > 0 && made.Went > 0 {
		s.Note("With --key COLUMNS, lines of one key are paired, and what changed in them is shown.")
	}
}

// showLinesApart shows lines that differ, those that changed cell by cell.
func showLinesApart(s *term.Screen, made *compare.Comparison, shown []compare.Difference) {
	if len(shown) == 0 {
		return
	}
	s.Title("Lines that differ")
	t := term.Table{Header: []string{"line", "", "key", "cells"}, Numbers: []int{0}, Wrap: []int{3}}
	if len(made.Key) == 0 {
		t = term.Table{Header: []string{"line", "", "cells"}, Numbers: []int{0}, Wrap: []int{2}}
	}
	for _, d := range shown {
		line := d.NewLine
		if d.What == compare.Went {
			line = d.OldLine
		}
		row := []string{term.Count(line), string(d.What)}
		if len(made.Key) > 0 {
			row = append(row, cut(d.Key, longestShown))
		}
		t.Rows = append(t.Rows, append(row, strings.Join(cellsOf(d), "; ")))
	}
	s.Table(t)
	if more := made.Changed + made.Came + made.Went - int64(len(shown)); more > 0 {
		s.Note("(%s more; --lines shows more, --changes FILE writes all)", term.Count(more))
	}
	if made.Went == 0 {
		return
	}
	s.Note("Lines that went have their numbers in %s, the others in %s.", made.Old.Name, made.New.Name)
}

// cellsOf are the cells of a difference in words.
func cellsOf(d compare.Difference) (all []string) {
	for _, cell := range d.Cells {
		if d.What == compare.Changed {
			all = append(all, fmt.Sprintf("%s: %s becomes %s", cell.Column, orBlank(cell.Before), orBlank(cell.After)))
			continue
		}
		all = append(all, cut(cell.Before+cell.After, longestShown)) // one of the two is blank
	}
	return all
}

func orBlank(cell string) string {
	if cell == "" {
		return "(blank)"
	}
	return cut(strconv.Quote(cell), longestShown)
}
