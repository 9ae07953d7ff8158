package ladlefile

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/source"
)

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
