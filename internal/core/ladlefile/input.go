package ladlefile

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

func (d *decoder) inputs(f *File, n ast.Node) {
	for _, e := range d.mapping(n, "inputs:") {
		in := &Input{Name: e.key}
		if n := e.key.Value; n == "" || n[0] == '.' || strings.ContainsAny(n, "/\\:*?\"<>|") ||
			strings.ContainsFunc(n, unicode.IsControl) {
			d.problem(e.key.Place, fmt.Sprintf("an input can't be called %q", n),
				"its name is also used for files, so use letters, digits, blanks, - and _")
		}
		var columns, made ast.Node // decoded once the zone is known
		d.fields(e.value, "an input", map[string]func(ast.Node){
			"file":            func(n ast.Node) { d.files(in, n) },
			"query":           d.into(&in.Query, "query:"),
			"table":           func(n ast.Node) { in.Tables = d.list(n, "table:") },
			"database":        d.into(&in.Database, "database:"),
			"header":          d.asked("header:", in.Asked.SetHeader),
			"footer_lines":    d.asked("footer_lines:", in.Asked.SetFooter),
			"encoding":        d.asked("encoding:", in.Asked.SetEncoding),
			"delimiter":       d.asked("delimiter:", in.Asked.SetDelimiter),
			"quote":           d.asked("quote:", in.Asked.SetQuote),
			"escape":          d.asked("escape:", in.Asked.SetEscape),
			"comment":         d.asked("comment:", in.Asked.SetComment),
			"short_lines":     d.asked("short_lines:", in.Asked.SetShortLines),
			"widths":          func(n ast.Node) { d.widths(in, n) },
			"member":          d.asked("member:", in.Asked.SetMember),
			"sheet":           d.asked("sheet:", in.Asked.SetSheet),
			"range":           d.asked("range:", in.Asked.SetRange),
			"columns_to_rows": func(n ast.Node) { in.Shape.Columns = d.columnsToRows(n) },
			"parts_to_rows":   func(n ast.Node) { in.Shape.Parts = d.partsToRows(n) },
			"time_zone":       func(n ast.Node) { in.Zone = d.zone(n) },
			"columns":         func(n ast.Node) { columns = n },
			"new_columns":     func(n ast.Node) { made = n },
			"only":            d.into(&in.Only, "only:"),
			"control_totals":  func(n ast.Node) { d.totals(in, n) },
		})
		if columns != nil {
			d.rules(in, columns)
		}
		if made != nil {
			d.made(in, made)
		}
		d.judgeOrigin(in, e.key)
		f.Inputs = append(f.Inputs, in)
	}
}

// judgeOrigin holds what is said of the origin of an input against each other: files, a query, or tables.
func (d *decoder) judgeOrigin(in *Input, name Text) {
	origins := count(in.File.Given(), in.Query.Given(), in.Tables != nil)
	switch {
	case origins > 1:
		d.problem(name.Place, name.Value+" has more than one of file:, query: and table:", "keep one of them")
	case origins == 0 && in.Database.Given():
		d.problem(in.Database.Place, "database: goes with query: or table:", "add one of them, or delete database:")
	case origins == 0:
		d.problem(name.Place, fmt.Sprintf("input %s has no file", name.Value),
			"add file: with its path, query: or table:")
	case in.File.Given() && in.Database.Given():
		d.problem(in.Database.Place, "database: goes with query: or table:", "delete database:")
	case in.FromDatabase() && in.Asked != (source.ReadOptions{}):
		d.problem(name.Place, name.Value+" is not read like a file, since it comes from a database",
			"delete header:, delimiter: and the like")
	case in.Query.Given() && strings.TrimSpace(in.Query.Value) == "":
		d.problem(in.Query.Place, "query: has no value", "write a SELECT")
	}
}

// asked decodes what is said about how files are to be read.
func (d *decoder) asked(key string, set func(string) error) func(ast.Node) {
	return func(n ast.Node) {
		t := d.scalar(n, key)
		d.took(t, key, set(t.Value))
	}
}

// widths decodes the widths of columns.
func (d *decoder) widths(in *Input, n ast.Node) {
	all := d.list(n, "widths:")
	text := Text{Value: strings.Join(values(all), ", "), Place: placeOf(n)}
	d.took(text, "widths:", in.Asked.SetWidths(text.Value))
	if in.Asked.Delimiter != "" {
		d.problem(text.Place, "columns of fixed widths have no delimiter", "delete delimiter: or widths:")
	}
}

// files decodes one path or a list of them.
func (d *decoder) files(in *Input, n ast.Node) {
	nodes := []ast.Node{n}
	if list, ok := n.(*ast.SequenceNode); ok {
		nodes = list.Values
	}
	for _, n := range nodes {
		t := d.scalar(n, "file:")
		if !in.File.Given() {
			in.File = t
		}
		path := t.Value
		if path != "-" {
			path = d.beside(path)
		}
		in.Paths = append(in.Paths, path)
	}
}

// ReadFrom has an input read other files than the ladle file says. Its error is a *fault.Fault.
func (f *File) ReadFrom(name string, paths []string) error {
	var names []string
	for _, in := range f.Inputs {
		if names = append(names, in.Name.Value); in.Name.Value == name {
			in.File.Value, in.Paths = paths[0], paths
			return nil
		}
	}
	return fault.At(fault.Wrong, fault.Problem{File: f.Path, What: fmt.Sprintf("there is no input %q", name),
		Do: fault.DidYouMean(name, names)})
}

// OneFile reports whether an input is read from one file, that is not standard input.
func (f *File) OneFile(name string) bool {
	in := f.input(name)
	return in != nil && len(in.Paths) == 1 && in.Paths[0] != "-" && !strings.ContainsAny(in.Paths[0], "*?[")
}

// SetEncoding has an input read in an encoding.
func (f *File) SetEncoding(name, encoding string) {
	if in := f.input(name); in != nil {
		in.Asked.Encoding = encoding
	}
}

func (f *File) input(name string) *Input {
	for _, in := range f.Inputs {
		if in.Name.Value == name {
			return in
		}
	}
	return nil
}
