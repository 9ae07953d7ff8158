package ladlefile

import (
	"bytes"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
)

// Edit puts settings into a ladle file, one after the other, and returns it. All else stays as it is: comments, order,
// blank lines and line ends. Its error is a *fault.Fault with the setting that can't be put in, for example because
// its place stands behind an alias.
func Edit(path string, text []byte, all ...Setting) ([]byte, error) {
	const crlf = "\r\n"
	ends := bytes.Count(text, []byte(crlf))
	dos, mixed := ends > 0, ends > 0 && ends < bytes.Count(text, []byte("\n"))
	e := &editor{text: strings.ReplaceAll(string(text), crlf, "\n")}
	for _, s := range all {
		before, err := e.parse()
		if mixed && err == nil {
			err = fmt.Errorf("the line ends of the file are mixed")
		}
		if err == nil {
			err = e.put(before, s)
		}
		if err == nil {
			err = e.verify(treeOf(before), s)
		}
		if err != nil {
			return nil, fault.At(fault.Wrong, fault.Problem{File: path,
				What: fmt.Sprintf("%q can't be put under %s by itself: %s",
					s.YAML(), s.Where(), err), Do: "put it there by hand"})
		}
	}
	if dos {
		e.text = strings.ReplaceAll(e.text, "\n", crlf)
	}
	return []byte(e.text), nil
}

// editor edits one ladle file.
type editor struct{ text string }

func (e *editor) parse() (ast.Node, error) {
	if p := unreasonable([]byte(e.text)); p != nil {
		return nil, fmt.Errorf("%s", p.What)
	}
	parsed, err := parser.ParseBytes([]byte(e.text), 0)
	if err != nil || len(parsed.Docs) == 0 || parsed.Docs[0].Body == nil {
		return nil, fmt.Errorf("the file is not YAML")
	}
	return parsed.Docs[0].Body, nil
}

// verify holds the edited text against what the setting was to change, and nothing else.
func (e *editor) verify(before any, s Setting) error {
	want, ok := s.into(before, s.path())
	after, err := e.parse()
	if err != nil || !ok || !reflect.DeepEqual(treeOf(after), want) {
		return fmt.Errorf("it is written in an unusual way there")
	}
	return nil
}

// path is the keys under which the setting's key, or its list, stands.
func (s Setting) path() []string {
	if s.Under != "" {
		return append(slices.Clone(s.At), s.Under)
	}
	return s.At
}

// put puts a setting into the text.
func (e *editor) put(root ast.Node, s Setting) error {
	at, path := place{node: root}, s.path()
	for len(path) > 0 {
		next, ok := at.entry(path[0])
		if !ok {
			break
		}
		at, path = next, path[1:]
	}
	switch at.node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode, *ast.NullNode, nil:
		return e.putEntries(at, path, s)
	case *ast.SequenceNode:
		if len(path) == 0 && s.Key == "" {
			return e.addItems(at, s.Value.([]string))
		}
	case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		if len(path) == 0 && at.key != nil {
			return e.widen(at, s)
		}
	}
	return fmt.Errorf("something else stands there")
}

// place is where a setting goes: a node, and the entry whose value it is, if any.
type place struct {
	node ast.Node
	key  *ast.MappingValueNode
}

// entry is the value of a key of the mapping at a place, the one of exactly that name before one that is compared
// without case.
func (p place) entry(key string) (place, bool) {
	for _, same := range []func(string) bool{func(k string) bool { return k == key },
		func(k string) bool { return source.FoldName(k) == source.FoldName(key) }} {
		for _, v := range entriesOf(p.node) {
			if same(v.Key.GetToken().Value) {
				return place{v.Value, v}, true
			}
		}
	}
	return place{}, false
}

func entriesOf(n ast.Node) []*ast.MappingValueNode {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	return nil
}

// putEntries puts a key and its value, or pairs, into a mapping, with the keys of path that are yet to be made.
func (e *editor) putEntries(at place, path []string, s Setting) error {
	if lines, ok := s.Value.(Lines); ok {
		return e.insertLines(at, path, lines)
	}
	if there, ok := at.entry(s.Key); ok && len(path) == 0 && s.Rename != "" {
		return e.rename(there, s.Rename)
	}
	if s.Key == "" {
		pairs, ok := s.Value.([]Pair)
		if !ok || len(path) > 0 {
			return fmt.Errorf("there is no list")
		}
		return e.insertPairs(at, pairs)
	}
	if there, ok := at.entry(s.Key); ok && len(path) == 0 {
		more, isList := s.Value.([]string)
		pairs, arePairs := s.Value.([]Pair)
		switch list := there.node.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			if s.Add && arePairs {
				return e.insertPairs(there, pairs)
			}
		case *ast.SequenceNode:
			if s.Add && isList {
				return e.addItems(place{list, there.key}, more)
			}
		case *ast.StringNode:
			if s.Add && isList {
				return e.replace(there, Flow(append([]string{list.GetToken().Value}, more...)))
			}
		}
		return e.replace(there, Flow(s.Value))
	}
	return e.insert(at, append(slices.Clone(path), s.Key), Flow(s.Value), s.Comment)
}

// insertPairs puts pairs behind the entries of a mapping.
func (e *editor) insertPairs(at place, pairs []Pair) error {
	if m, ok := at.node.(*ast.MappingNode); ok && m.IsFlowStyle {
		all := Flow(pairs)
		return e.intoBrackets(m.End.Position.Line, m.End.Position.Column, len(m.Values) == 0, all[1:len(all)-1])
	}
	for _, p := range slices.Backward(pairs) { // each goes to the end, but the places are those of before
		if err := e.insert(at, []string{p.Key}, Flow(p.Value), ""); err != nil {
			return err
		}
	}
	return nil
}

// insert puts a new entry behind those of a mapping: keys, each inside of the one before, and a value.
func (e *editor) insert(at place, keys []string, value, comment string) error {
	if m, ok := at.node.(*ast.MappingNode); ok && m.IsFlowStyle {
		return e.intoBrackets(m.End.Position.Line, m.End.Position.Column, len(m.Values) == 0, flowEntry(keys, value))
	}
	line, indent := e.behind(at)
	e.addLines(line, blockEntry(indent, keys, value, comment))
	return nil
}

// behind is the last line of a mapping in block style, and the indent of its keys.
func (e *editor) behind(at place) (line, indent int) {
	if all := entriesOf(at.node); len(all) > 0 {
		indent = all[0].Key.GetToken().Position.Column - 1
		return e.lastLine(all[len(all)-1].Key.GetToken().Position.Line, indent), indent
	}
	if at.key == nil {
		return 0, 0
	}
	key := at.key.Key.GetToken().Position
	return key.Line, key.Column - 1 + 2
}

// insertLines puts lines behind the entries of a mapping, with the keys of path that are yet to be made.
func (e *editor) insertLines(at place, path []string, lines []string) error {
	if m, ok := at.node.(*ast.MappingNode); ok && m.IsFlowStyle {
		return fmt.Errorf("it stands in braces there")
	}
	line, indent := e.behind(at)
	var all []string
	for _, key := range path {
		all = append(all, strings.Repeat(" ", indent)+Scalar(key)+":")
		indent += 2
	}
	for _, l := range lines {
		all = append(all, strings.Repeat(" ", indent)+l)
	}
	e.addLines(line, all)
	return nil
}

// rename gives the key of an entry another name.
func (e *editor) rename(at place, name string) error {
	key, colon := at.key.Key.GetToken().Position, at.key.Start.Position
	if key.Line != colon.Line {
		return fmt.Errorf("its key stands on several lines")
	}
	if inBrackets(e.text, e.offset(key.Line, key.Column)) {
		name = Flow(name)
	} else {
		name = Scalar(name)
	}
	e.text = e.text[:e.offset(key.Line, key.Column)] + name + e.text[e.offset(colon.Line, colon.Column):]
	return nil
}

// flowEntry is an entry inside of braces.
func flowEntry(keys []string, value string) string {
	entry := Flow(keys[len(keys)-1]) + ": " + value
	for _, k := range slices.Backward(keys[:len(keys)-1]) {
		entry = Flow(k) + ": {" + entry + "}"
	}
	return entry
}

// blockEntry is an entry on lines of its own, its last two keys on one.
func blockEntry(indent int, keys []string, value, comment string) (lines []string) {
	for len(keys) > 2 || len(keys) == 2 && keys[0] == "columns" {
		lines = append(lines, strings.Repeat(" ", indent)+Scalar(keys[0])+":")
		keys, indent = keys[1:], indent+2
	}
	last := Scalar(keys[0]) + ": "
	if len(keys) == 2 {
		last += "{" + flowEntry(keys[1:], value) + "}"
	} else {
		last += value
	}
	if comment != "" {
		last += "  # " + OneLine(comment)
	}
	return append(lines, strings.Repeat(" ", indent)+last)
}

// addItems puts items behind those of a list.
func (e *editor) addItems(at place, items []string) error {
	list := at.node.(*ast.SequenceNode)
	if list.IsFlowStyle {
		end := list.End.Position
		all := Flow(items)
		return e.intoBrackets(end.Line, end.Column, len(list.Values) == 0, all[1:len(all)-1])
	}
	start := list.Start.Position
	var lines []string
	for _, i := range items {
		lines = append(lines, strings.Repeat(" ", start.Column-1)+"- "+Flow(i))
	}
	last := list.Values[len(list.Values)-1].GetToken().Position.Line
	e.addLines(e.lastLine(last, start.Column-1), lines)
	return nil
}

// widen makes more of a single value: a list of it and others, or the long form of a source.
func (e *editor) widen(at place, s Setting) error {
	value := at.node.GetToken().Value
	if more, ok := s.Value.([]string); ok && s.Key == "" {
		return e.replace(at, Flow(append([]string{value}, more...)))
	}
	switch s.Key {
	case "":
		return fmt.Errorf("there is no list")
	case "from":
		return e.replace(at, Flow(s.Value))
	}
	return e.replace(at, "{from: "+Flow(value)+", "+Flow(s.Key)+": "+Flow(s.Value)+"}")
}
