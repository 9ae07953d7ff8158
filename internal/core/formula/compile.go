package formula

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/checker"
	"github.com/expr-lang/expr/compiler"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/vm"

	"ladle/internal/core/fault"
	"ladle/internal/core/value"
)

// Column is a column that formulas may use.
type Column struct {
	Name  string // as it stands in the file
	Plain string // by which formulas call it
	Kind  Kind
}

// PlainName is the name by which a formula calls a column: lower case, its words joined by _; all that is neither a
// letter nor a digit parts words.
func PlainName(name string) string {
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return !isLetterOrDigit(r) })
	plain := strings.Join(words, "_")
	if plain != "" && plain[0] >= '0' && plain[0] <= '9' {
		plain = "_" + plain
	}
	return plain
}

// Formula is a compiled formula. Several Machines can run it at a time.
type Formula struct {
	text    string
	kind    Kind
	uses    []int // columns
	program *vm.Program
}

// Kind is that of the result; Any when it is always blank.
func (f *Formula) Kind() Kind { return f.kind }

// Uses are the columns that the formula needs, each once.
func (f *Formula) Uses() []int { return f.uses }

func (f *Formula) String() string { return f.text }

// Compile makes a formula over columns. Its error is a fault.Advised.
func Compile(text string, columns []Column) (*Formula, error) {
	config := conf.CreateNew()
	expr.DisableAllBuiltins()(config)
	for name := range config.Disabled {
		delete(config.Builtins, name)
	}
	config.Strict, config.Optimize = false, false
	tree, err := parser.ParseWithConfig(text, config)
	if err != nil {
		return nil, misread(text, err)
	}
	f := &Formula{text: text}
	r := &rewriter{formula: f, columns: columns, config: config, source: []rune(text)}
	if tree.Node, f.kind, err = r.rewrite(tree.Node); err != nil {
		return nil, err
	}
	slices.Sort(f.uses)
	f.uses = slices.Compact(f.uses)
	if _, err := checker.Check(tree, config); err != nil {
		return nil, misread(text, err)
	}
	if f.program, err = compiler.Compile(tree, config); err != nil {
		return nil, misread(text, err)
	}
	return f, nil
}

// misread says where the text is no formula.
func misread(text string, err error) error {
	what := err.Error()
	var at *file.Error
	if errors.As(err, &at) {
		what = fmt.Sprintf("%s (character %d)", at.Message, at.Column+1)
	}
	return fault.Advised{What: fmt.Sprintf("is not a formula: %s: %s", text, what), Do: "formulas are made of columns, numbers, texts in quotes, operators and functions: docs/cleaning.md"}
}

// rewriter makes calls of our own functions of all operators, and says what each part of a formula is.
type rewriter struct {
	formula *Formula
	columns []Column
	config  *conf.Config
	source  []rune
}

func (r *rewriter) wrong(n ast.Node, what, do string) error {
	return fault.Advised{What: fmt.Sprintf("can't be computed: %s (at character %d of %s)", what, n.Location().From+1, r.formula.text), Do: do}
}

// rewrite gives a node in terms of our functions, and the kind of its values.
func (r *rewriter) rewrite(n ast.Node) (ast.Node, Kind, error) {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		return r.column(n, n.Value, true)
	case *ast.NilNode:
		return constant(&Value{Blank: true}), Any, nil
	case *ast.StringNode:
		return constant(&Value{Kind: Text, Text: n.Value, Blank: n.Value == ""}), Text, nil
	case *ast.BoolNode:
		return constant(&Value{Kind: Truth, Truth: n.Value}), Truth, nil
	case *ast.IntegerNode, *ast.FloatNode:
		return r.number(n)
	case *ast.UnaryNode:
		name := n.Operator
		if name == "-" || name == "+" {
			name = "unary " + name
		}
		return r.operation(n, name, n.Node)
	case *ast.BinaryNode:
		return r.binary(n)
	case *ast.ConditionalNode:
		return r.choice(n)
	case *ast.CallNode:
		callee, ok := n.Callee.(*ast.IdentifierNode)
		if !ok {
			return nil, 0, r.wrong(n, "only functions can be called", "")
		}
		return r.call(n, callee.Value)
	}
	return nil, 0, r.wrong(n, "formulas have nothing of this kind", "use columns, numbers, texts in quotes, operators and functions")
}

// constant is a node that always has the same value.
func constant(v *Value) ast.Node { return &ast.ConstantNode{Value: v} }

// column is a node for the column that goes by name; by its plain name, or else as in the file.
func (r *rewriter) column(n ast.Node, name string, plain bool) (ast.Node, Kind, error) {
	var at []int
	var names []string
	for i, c := range r.columns {
		same := c.Plain == PlainName(name)
		if !plain {
			same = strings.EqualFold(strings.Join(strings.Fields(c.Name), " "), strings.Join(strings.Fields(name), " "))
		}
		if same && (!plain || name == c.Plain || strings.ToLower(name) == c.Plain) {
			at = append(at, i)
		}
		if plain {
			names = append(names, c.Plain)
		} else {
			names = append(names, c.Name)
		}
	}
	switch {
	case len(at) == 0 && slices.Contains(functionNames, name):
		return nil, 0, r.wrong(n, fmt.Sprintf("%s is a function", name), "write its arguments behind it, in brackets")
	case len(at) == 0:
		return nil, 0, r.wrong(n, fmt.Sprintf("there is no column %q", name), fault.DidYouMean(name, names))
	case len(at) > 1:
		return nil, 0, r.wrong(n, fmt.Sprintf("%q is the name of several columns: %s", name, r.list(at)), `write col("...") with the name as it stands in the file`)
	}
	r.formula.uses = append(r.formula.uses, at[0])
	return &ast.IdentifierNode{Value: cellName(at[0])}, r.columns[at[0]].Kind, nil
}

func (r *rewriter) list(at []int) string {
	names := make([]string, len(at))
	for i, c := range at {
		names[i] = r.columns[c].Name
	}
	return strings.Join(names, ", ")
}

// number is the number as it is written, not as a float.
func (r *rewriter) number(n ast.Node) (ast.Node, Kind, error) {
	from := n.Location().From
	to := from
	for to < len(r.source) && strings.ContainsRune("0123456789._", r.source[to]) {
		to++
	}
	text := strings.ReplaceAll(string(r.source[from:to]), "_", "")
	d, err := value.ScanNumber([]byte(strings.TrimSuffix(text, ".")))
	if to < len(r.source) && isLetterOrDigit(r.source[to]) {
		err = errors.New("has letters in it")
	}
	if err != nil {
		return nil, 0, r.wrong(n, fmt.Sprintf("the number %s", err), "write it like 1234.5")
	}
	v := &Value{}
	v.SetNumber(d)
	return constant(v), Number, nil
}

// binary is an operator between two nodes.
func (r *rewriter) binary(n *ast.BinaryNode) (ast.Node, Kind, error) {
	list, isList := n.Right.(*ast.ArrayNode)
	switch {
	case n.Operator == "in" && isList:
		return r.operation(n, "in", append([]ast.Node{n.Left}, list.Nodes...)...)
	case n.Operator == "in":
		return nil, 0, r.wrong(n, "in needs a list", `write it like: status in ["cancelled", "test"]`)
	case n.Operator == "matches":
		pattern, ok := n.Right.(*ast.StringNode)
		if !ok {
			return nil, 0, r.wrong(n.Right, "matches needs a pattern in quotes", "")
		}
		return r.matches(n, pattern.Value)
	}
	return r.operation(n, n.Operator, n.Left, n.Right)
}

// operation is an operator with its operands.
func (r *rewriter) operation(n ast.Node, operator string, operands ...ast.Node) (ast.Node, Kind, error) {
	f, known := operators[operator]
	if !known {
		return nil, 0, r.wrong(n, fmt.Sprintf("there is no operator %s", strings.TrimPrefix(operator, "unary ")), "the operators are + - * / == != < <= > >= and or not in contains startsWith endsWith matches ?? and ? :")
	}
	return r.apply(n, operator, f, operands)
}

// call is a function with its arguments.
func (r *rewriter) call(n *ast.CallNode, name string) (ast.Node, Kind, error) {
	if name == "col" {
		if len(n.Arguments) == 1 {
			if s, ok := n.Arguments[0].(*ast.StringNode); ok && s.Value != "" {
				return r.column(n, s.Value, false)
			}
		}
		return nil, 0, r.wrong(n, "col needs the name of a column in quotes", "")
	}
	f, known := functions[name]
	if !known {
		return nil, 0, r.wrong(n, fmt.Sprintf("there is no function %q", name), fault.DidYouMean(name, functionNames))
	}
	return r.apply(n, name+"()", f, n.Arguments)
}

// apply calls f with operands, when they are what it takes.
func (r *rewriter) apply(n ast.Node, name string, f function, operands []ast.Node) (ast.Node, Kind, error) {
	nodes, kinds := make([]ast.Node, len(operands)), make([]Kind, len(operands))
	for i, o := range operands {
		var err error
		if nodes[i], kinds[i], err = r.rewrite(o); err != nil {
			return nil, 0, err
		}
	}
	takes, result, odd := f.resolve(kinds)
	if odd != "" {
		return nil, 0, r.wrong(n, strings.TrimPrefix(name, "unary ")+" "+odd, f.advice)
	}
	return r.calling(f.bound(takes, result), nodes), result, nil
}

// calling is a node that calls do with arguments.
func (r *rewriter) calling(do func([]*Value) (*Value, error), arguments []ast.Node) ast.Node {
	name := fmt.Sprintf("f%d", len(r.config.Functions))
	expr.Function(name, func(params ...any) (any, error) {
		var room [4]*Value
		values := room[:0]
		for _, p := range params {
			values = append(values, p.(*Value))
		}
		return do(values)
	})(r.config)
	return &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: arguments}
}

// choice is condition ? one : other. A blank condition chooses the other.
func (r *rewriter) choice(n *ast.ConditionalNode) (ast.Node, Kind, error) {
	cond, is, err := r.rewrite(n.Cond)
	if err != nil {
		return nil, 0, err
	}
	if is != Truth && is != Any {
		return nil, 0, r.wrong(n.Cond, fmt.Sprintf("what stands before ? is a %s, not a condition", is), "")
	}
	one, kind, err := r.rewrite(n.Exp1)
	if err != nil {
		return nil, 0, err
	}
	other, otherKind, err := r.rewrite(n.Exp2)
	if err != nil {
		return nil, 0, err
	}
	if kind == Any {
		kind = otherKind
	}
	if otherKind != kind && otherKind != Any {
		return nil, 0, r.wrong(n, fmt.Sprintf("one outcome is a %s and the other a %s", kind, otherKind), "text(), number() and date() make one of the other")
	}
	name := fmt.Sprintf("f%d", len(r.config.Functions))
	expr.Function(name, func(params ...any) (any, error) {
		v := params[0].(*Value)
		if v.Bad {
			return nil, ErrCell
		}
		return v.Truth && !v.Blank, nil
	}, new(func(*Value) bool))(r.config)
	test := &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: []ast.Node{cond}}
	return &ast.ConditionalNode{Ternary: true, Cond: test, Exp1: one, Exp2: other}, kind, nil
}

// cellName is how the column i is called in the compiled formula.
func cellName(i int) string { return fmt.Sprintf("c%d", i) }

// Machine runs formulas over rows, one after the other.
type Machine struct {
	vm    vm.VM
	cells map[string]any
	names []string
}

// NewMachine makes a machine for formulas over so many columns.
func NewMachine(columns int) *Machine {
	m := &Machine{cells: make(map[string]any, columns), names: make([]string, columns)}
	for i := range m.names {
		m.names[i] = cellName(i)
	}
	return m
}

// Set gives the cell of column i of the row. The machine holds on to v.
func (m *Machine) Set(i int, v *Value) { m.cells[m.names[i]] = v }

// Run computes f for the row whose cells were set. Its error is ErrCell or Refused.
func (m *Machine) Run(f *Formula) (*Value, error) {
	out, err := m.vm.Run(f.program, m.cells)
	if err != nil {
		return nil, reason(err)
	}
	v, ok := out.(*Value)
	if !ok {
		return nil, Refused(fmt.Sprintf("the formula gave a %s", reflect.TypeOf(out)))
	}
	if v.Bad {
		return nil, ErrCell
	}
	return v, nil
}

// reason takes the words of the library off an error of ours.
func reason(err error) error {
	var refused Refused
	switch {
	case errors.Is(err, ErrCell):
		return ErrCell
	case errors.As(err, &refused):
		return refused
	}
	return Refused(err.Error())
}
