package formula

import (
	"fmt"
	"slices"

	"github.com/expr-lang/expr/ast"
)

// Across is a value that depends on other lines: on those with the same value in the column Of.
type Across struct {
	Function AcrossFunction
	Of       int // a column
	By       int // the column that orders or adds up; -1 for none
}

// AcrossFunction is what is asked of the lines with the same value.
type AcrossFunction string

const (
	// CountSame is their number; where By is given, of those with a value there.
	CountSame AcrossFunction = "count_same"
	// RankSame is the place of the line among those with a value in By, in the order of these, from 1. Lines with equal
	// values follow each other as in the file.
	RankSame AcrossFunction = "rank_same"
	// SumSame is the sum of By; blanks count as nothing.
	SumSame AcrossFunction = "sum_same"
)

var acrossNames = []string{string(CountSame), string(RankSame), string(SumSame)}

// Across are the values that the formula needs and that depend on other lines, each once.
func (f *Formula) Across() []Across { return f.across }

// SetAcross sets such a value for the row. The machine holds on to v.
func (m *Machine) SetAcross(a Across, v *Value) { m.across[a] = v }

// lines is a node for a function over lines; an empty one for another one.
func (b *builder) lines(n *ast.CallNode, name string) (node, Kind, error) {
	if !slices.Contains(acrossNames, name) {
		return node{}, 0, nil
	}
	most, least := 2, 2
	if name == string(CountSame) {
		least = 1
	}
	if len(n.Arguments) < least || len(n.Arguments) > most {
		return node{}, 0, b.wrong(n, fmt.Sprintf("%s() takes %s", name, map[int]string{1: "1 or 2 columns", 2: "2 columns"}[least]),
			acrossAdvice[AcrossFunction(name)])
	}
	a := Across{Function: AcrossFunction(name), By: -1}
	for i, argument := range n.Arguments {
		at, kind, err := b.argument(argument, name)
		if err != nil {
			return node{}, 0, err
		}
		if i == 0 {
			a.Of = at
			continue
		}
		a.By = at
		if why := a.refuses(kind); why != "" {
			return node{}, 0, b.wrong(argument, fmt.Sprintf("%s %s", b.columns[at].Name, why),
				"say in the rule of the column how they are written, with number: or date:")
		}
	}
	if !slices.Contains(b.formula.across, a) {
		b.formula.across = append(b.formula.across, a)
	}
	return node{alone: func(m *Machine) (*Value, error) { return told(m.across[a]) }}, Number, nil
}

var acrossAdvice = map[AcrossFunction]string{CountSame: "write count_same(column)",
	RankSame: "write rank_same(column, date)", SumSame: "write sum_same(column, number)"}

// refuses is why a column of a kind can't order or add up.
func (a Across) refuses(k Kind) string {
	switch {
	case a.Function == SumSame && k != Number:
		return "is not a column of numbers"
	case a.Function == RankSame && k != Number && k != Moment:
		return "is neither a column of numbers nor of dates, and it is not clear how it orders lines"
	}
	return ""
}

// argument is the column that an argument names.
func (b *builder) argument(n ast.Node, name string) (at int, kind Kind, err error) {
	uses := len(b.formula.uses)
	_, kind, err = b.build(n)
	if err != nil {
		return 0, 0, err
	}
	_, plain := n.(*ast.IdentifierNode)
	call, isCall := n.(*ast.CallNode)
	if isCall {
		callee, ok := call.Callee.(*ast.IdentifierNode)
		plain = ok && callee.Value == "col"
	}
	if !plain || len(b.formula.uses) != uses+1 {
		return 0, 0, b.wrong(n, name+"() takes columns", "make a column of it with new_columns:, and name that")
	}
	return b.formula.uses[uses], kind, nil
}
