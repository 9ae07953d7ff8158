package ladlefile

import (
	"bytes"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

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

// treeOf makes plain maps, lists and texts of a node, to compare them.
func treeOf(n ast.Node) any {
	switch n := n.(type) {
	case *ast.MappingNode:
		all := map[string]any{}
		for _, v := range n.Values {
			all[v.Key.GetToken().Value] = treeOf(v.Value)
		}
		return all
	case *ast.MappingValueNode:
		return map[string]any{n.Key.GetToken().Value: treeOf(n.Value)}
	case *ast.SequenceNode:
		all := []any{}
		for _, v := range n.Values {
			all = append(all, treeOf(v))
		}
		return all
	case *ast.NullNode, nil:
		return nil
	case *ast.LiteralNode:
		return n.Value.Value
	case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value
	}
	return n.String()
}

// plainValue is the value of a setting as treeOf has it.
func plainValue(value any) any {
	switch v := value.(type) {
	case []string:
		all := []any{}
		for _, s := range v {
			all = append(all, s)
		}
		return all
	case []Pair:
		all := map[string]any{}
		for _, p := range v {
			all[p.Key] = p.Value
		}
		return all
	case Lines:
		e := &editor{text: strings.Join(v, "\n") + "\n"}
		if root, err := e.parse(); err == nil {
			return treeOf(root)
		}
		return nil
	}
	return fmt.Sprint(value)
}

// into returns a tree with the setting put in at path; not ok where that is impossible.
func (s Setting) into(tree any, path []string) (made any, ok bool) {
	if len(path) > 0 {
		all, isMap := tree.(map[string]any)
		if tree == nil {
			all, isMap = map[string]any{}, true
		}
		if !isMap {
			return nil, false
		}
		key := path[0]
		if _, there := all[key]; !there {
			for k := range all {
				if source.FoldName(k) == source.FoldName(key) {
					key = k
				}
			}
		}
		inner, ok := s.into(all[key], path[1:])
		all[key] = inner
		return all, ok
	}
	value := plainValue(s.Value)
	if all, isMap := tree.(map[string]any); isMap && s.Rename != "" {
		_, taken := all[s.Rename]
		inner, there := all[s.Key]
		delete(all, s.Key)
		all[s.Rename] = inner
		return all, there && !taken
	}
	switch there := tree.(type) {
	case nil:
		if more, isMap := value.(map[string]any); isMap && s.Key == "" {
			return more, true
		}
		return map[string]any{s.Key: value}, s.Key != ""
	case map[string]any:
		if s.Key != "" {
			old := there[s.Key]
			if pairs, isMap := old.(map[string]any); s.Add && isMap {
				more, _ := value.(map[string]any)
				for k, v := range more {
					pairs[k] = v
				}
				return there, more != nil
			}
			if s.Add && old != nil {
				list, isList := old.([]any)
				if !isList {
					list = []any{old}
				}
				value = append(list, value.([]any)...)
			}
			there[s.Key] = value
			return there, true
		}
		more, isMap := value.(map[string]any)
		for k, v := range more {
			_, twice := there[k]
			isMap, there[k] = isMap && !twice, v
		}
		return there, isMap
	case []any:
		more, isList := value.([]any)
		return append(there, more...), isList && s.Key == ""
	case string:
		if more, isList := value.([]any); isList && s.Key == "" {
			return append([]any{there}, more...), true
		}
		if s.Key == "from" {
			return value, true
		}
		return map[string]any{"from": there, s.Key: value}, s.Key != "" // the short form of a source
	}
	return nil, false
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

// intoBrackets puts an item in front of the closing bracket at a line and column.
func (e *editor) intoBrackets(line, column int, first bool, item string) error {
	end := e.offset(line, column)
	if end >= len(e.text) || !strings.ContainsRune("}]", rune(e.text[end])) {
		return fmt.Errorf("its closing bracket isn't found")
	}
	before := strings.TrimRight(e.text[:end], " \t")
	switch {
	case first || strings.HasSuffix(before, "{") || strings.HasSuffix(before, "["):
	case strings.HasSuffix(before, ","):
		item = " " + item
	default:
		item = ", " + item
	}
	e.text = before + item + e.text[len(before):]
	return nil
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

// replace replaces the value of an entry, which stands on the line of its key.
func (e *editor) replace(at place, value string) error {
	colon := at.key.Start.Position
	start := e.offset(colon.Line, colon.Column) + 1
	for start < len(e.text) && e.text[start] == ' ' {
		start++
	}
	end := valueEnd(e.text, start)
	if end == start {
		return fmt.Errorf("its value stands on other lines")
	}
	e.text = e.text[:start] + value + e.text[end:]
	return nil
}

// valueEnd is where a value ends that begins at start: behind its closing quote or bracket, else before what ends a
// plain text on the line.
func valueEnd(text string, start int) int {
	depth := 0
	for i := start; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\'' || c == '"':
			if i > start && depth == 0 {
				continue // inside of a plain text
			}
			for i++; i < len(text) && text[i] != c; i++ {
				if c == '"' && text[i] == '\\' {
					i++
				}
			}
			if depth == 0 && !(c == '\'' && strings.HasPrefix(text[min(i+1, len(text)):], "'")) {
				return min(i+1, len(text))
			}
		case (c == '[' || c == '{') && (depth > 0 || i == start):
			depth++
		case (c == ']' || c == '}') && depth > 0:
			if depth--; depth == 0 {
				return i + 1
			}
		case depth == 0 && (c == '\n' || c == '\r' || strings.HasPrefix(text[i:], " #")),
			depth == 0 && strings.ContainsRune(",}]", rune(c)) && inBrackets(text, start):
			return len(strings.TrimRight(text[:i], " "))
		}
	}
	return len(text)
}

// inBrackets reports whether a value stands inside of brackets that begin on its line.
func inBrackets(text string, start int) bool {
	line := text[strings.LastIndexByte(text[:start], '\n')+1 : start]
	return strings.Count(line, "{")+strings.Count(line, "[") > strings.Count(line, "}")+strings.Count(line, "]")
}

// lastLine is the last line, from 1, of the entry that begins on a line with an indent; comments and blank lines behind
// it are not its own.
func (e *editor) lastLine(line, indent int) int {
	last := line
	for i, text := range strings.Split(e.text, "\n")[line:] {
		trimmed := strings.TrimSpace(text)
		deep := len(text) - len(strings.TrimLeft(text, " "))
		switch {
		case trimmed == "" || trimmed[0] == '#':
		case deep > indent || deep == indent && strings.HasPrefix(trimmed, "- "):
			last = line + 1 + i
		default:
			return last
		}
	}
	return last
}

// addLines puts lines behind a line, from 1.
func (e *editor) addLines(behind int, lines []string) {
	if !strings.HasSuffix(e.text, "\n") {
		e.text += "\n"
	}
	at := e.offset(behind+1, 1)
	e.text = e.text[:at] + strings.Join(lines, "\n") + "\n" + e.text[at:]
}

// offset is where a line and a column, both from 1, stand in the text; columns count characters.
func (e *editor) offset(line, column int) int {
	at := 0
	for ; line > 1; line-- {
		next := strings.IndexByte(e.text[at:], '\n')
		if next < 0 {
			return len(e.text)
		}
		at += next + 1
	}
	for ; column > 1 && at < len(e.text); column-- {
		_, size := utf8.DecodeRuneInString(e.text[at:])
		at += size
	}
	return at
}
