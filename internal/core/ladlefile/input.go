package ladlefile

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/source"
)

func (d *decoder) inputs(f *File, n ast.Node) {
	for _, e := range d.mapping(n, "inputs:") {
		in := &Input{Name: e.key}
		var footer, encoding, delimiter, quote, sheet, cells Text
		d.fields(e.value, "an input", map[string]func(ast.Node){
			"file":      func(n ast.Node) { d.files(f, in, n) },
			"header":    func(n ast.Node) { d.header(in, n) },
			"footer":    d.into(&footer, "footer:"),
			"encoding":  d.into(&encoding, "encoding:"),
			"delimiter": d.into(&delimiter, "delimiter:"),
			"quote":     d.into(&quote, "quote:"),
			"sheet":     d.into(&sheet, "sheet:"),
			"range":     d.into(&cells, "range:"),
		})
		if !in.File.Given() {
			d.problem(e.key.Place, fmt.Sprintf("input %s has no file", e.key.Value), "add file: with its path")
		}
		d.footer(in, footer)
		d.encoding(in, encoding)
		d.delimiter(in, delimiter)
		d.quote(in, quote)
		in.Asked.Sheet, in.Asked.Range = sheet.Value, cells.Value
		f.Inputs = append(f.Inputs, in)
	}
}

// files decodes one path or a list of them.
func (d *decoder) files(f *File, in *Input, n ast.Node) {
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
		if path != "-" && !filepath.IsAbs(path) {
			path = filepath.Join(filepath.Dir(f.Path), path)
		}
		in.Paths = append(in.Paths, path)
	}
}

// header decodes a line, lines like 3-4, or none.
func (d *decoder) header(in *Input, n ast.Node) {
	t := d.scalar(n, "header:")
	if t.Value == "none" {
		in.Asked.Header = source.Lines{None: true}
		return
	}
	first, last, several := strings.Cut(t.Value, "-")
	if !several {
		last = first
	}
	from, err := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	const most = 10
	if err != nil || err2 != nil || from < 1 || to < from || to >= from+most {
		d.problem(t.Place, fmt.Sprintf("header: can't be %q", t.Value),
			"write the number of the line with the column names, from 1; lines like 3-4; or none")
		return
	}
	in.Asked.Header = source.Lines{First: from, Last: to}
}

func (d *decoder) footer(in *Input, t Text) {
	if !t.Given() {
		return
	}
	n, err := strconv.Atoi(t.Value)
	const most = 100
	if err != nil || n < 0 || n > most {
		d.problem(t.Place, fmt.Sprintf("footer: can't be %q", t.Value), "write the number of lines at the end that are no rows, at most 100")
	}
	in.Asked.Footer = n
}

func (d *decoder) encoding(in *Input, t Text) {
	if t.Given() && !source.KnownEncoding(t.Value) {
		d.problem(t.Place, fmt.Sprintf("encoding: can't be %q", t.Value),
			"write its name in the IANA registry, for example UTF-8, UTF-16LE, windows-1252, ISO-8859-2 or Shift_JIS")
	}
	in.Asked.Encoding = t.Value
}

// delimiter decodes a character, or the word tab.
func (d *decoder) delimiter(in *Input, t Text) {
	switch value := t.Value; {
	case !t.Given():
	case value == "tab" || value == `\t`:
		in.Asked.Delimiter = '\t'
	case len(value) == 1 && value[0] < 0x80 && !strings.Contains("\"\r\n", value):
		in.Asked.Delimiter = value[0]
	default:
		d.problem(t.Place, fmt.Sprintf("delimiter: can't be %q", value), `write one ASCII character in quotes, for example ";", or tab`)
	}
}

func (d *decoder) quote(in *Input, t Text) {
	if t.Given() && t.Value != "none" && (len(t.Value) != 1 || t.Value[0] >= 0x80) {
		d.problem(t.Place, fmt.Sprintf("quote: can't be %q", t.Value), `write one ASCII character, for example '"', or none`)
		return
	}
	in.Asked.Quote = t.Value
}
