package ladlefile

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/source"
)

func (d *decoder) inputs(f *File, n ast.Node) {
	for _, e := range d.mapping(n, "inputs:") {
		in := &Input{Name: e.key}
		d.fields(e.value, "an input", map[string]func(ast.Node){
			"file":      func(n ast.Node) { d.files(f, in, n) },
			"header":    d.asked("header:", in.Asked.SetHeader),
			"footer":    d.asked("footer:", in.Asked.SetFooter),
			"encoding":  d.asked("encoding:", in.Asked.SetEncoding),
			"delimiter": d.asked("delimiter:", in.Asked.SetDelimiter),
			"quote":     d.asked("quote:", in.Asked.SetQuote),
			"sheet":     d.asked("sheet:", in.Asked.SetSheet),
			"range":     d.asked("range:", in.Asked.SetRange),
		})
		if !in.File.Given() {
			d.problem(e.key.Place, fmt.Sprintf("input %s has no file", e.key.Value), "add file: with its path")
		}
		f.Inputs = append(f.Inputs, in)
	}
}

// asked decodes what is said about how files are to be read.
func (d *decoder) asked(key string, set func(string) error) func(ast.Node) {
	return func(n ast.Node) {
		t := d.scalar(n, key)
		var advised source.Advised
		if err := set(t.Value); errors.As(err, &advised) {
			d.problem(t.Place, key+" "+advised.What, advised.Do)
		}
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
