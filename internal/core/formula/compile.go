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
	asks    []Provenance
	across  []Across
	program *vm.Program
}

// Kind is that of the result; Any when it is always blank.
func (f *Formula) Kind() Kind { return f.kind }

// Uses are the columns that the formula needs, each once.
func (f *Formula) Uses() []int { return f.uses }

func (f *Formula) String() string { return f.text }

// Compile makes a formula over columns. Its error is a fault.InvalidValue.
func Compile(text string, columns []Column) (*Formula, error) {
	if err := grammar(text); err != nil {
		return nil, err
	}
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

// misread says that the text is no formula, where nothing better is known.
func misread(text string, err error) error {
	return wrongAt(text, positionOf(err), "it can't be understood from here on",
		"formulas are made of columns, numbers, texts in quotes, operators and functions: docs/cleaning.md")
}

// blankWord is the word for no value.
const blankWord = "blank"

// rewriter makes calls of our own functions of all operators, and says what each part of a formula is.
type rewriter struct {
	formula *Formula
	columns []Column
	config  *conf.Config
	source  []rune
}

func (r *rewriter) wrong(n ast.Node, what, do string) error {
	return fault.InvalidValue{What: fmt.Sprintf("can't be computed: %s (at character %d of %s)", what,
		n.Location().From+1, r.formula.text), Do: do}
}

// rewrite returns a node in terms of our functions, and the kind of its values.
func (r *rewriter) rewrite(n ast.Node) (ast.Node, Kind, error) {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		if n.Value == blankWord {
			return constant(&Value{Blank: true}), Any, nil
		}
		return r.column(n, n.Value, true)
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
	case *ast.CallNode:
		callee, ok := n.Callee.(*ast.IdentifierNode)
		if !ok {
			return nil, 0, r.wrong(n, "only functions can be called", "")
		}
		return r.call(n, callee.Value)
	}
	return nil, 0, r.wrong(n, "formulas have no such expression",
		`use columns, numbers, texts in quotes, operators and functions; col("Reg. No.") is a column with such a name`)
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
		return nil, 0, r.wrong(n, fmt.Sprintf("%s is a function", name), "write its arguments in brackets after it")
	case len(at) == 0:
		return nil, 0, r.wrong(n, fmt.Sprintf("there is no column %q", name), fault.DidYouMean(name, names))
	case len(at) > 1:
		return nil, 0, r.wrong(n, fmt.Sprintf("%q is the name of several columns: %s", name, r.list(at)),
			`write col("...") with the name as it stands in the file`)
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
	operands := []ast.Node{n.Left, n.Right}
	switch {
	case n.Operator == "in" && isList:
		operands = append([]ast.Node{n.Left}, list.Nodes...)
	case n.Operator == "in":
		return nil, 0, r.wrong(n, "in needs a list", `write it like: status in ["cancelled", "test"]`)
	}
	if comparing[n.Operator] {
		for _, o := range operands {
			if isBlank(o) {
				return nil, 0, r.wrong(o, "a comparison with a blank is always blank",
					"use is_blank(x), or not is_blank(x)")
			}
		}
	}
	return r.operation(n, n.Operator, operands...)
}

// comparing are the operators that are blank where one of their sides is.
var comparing = map[string]bool{"==": true, "!=": true, "<": true, "<=": true, ">": true, ">=": true, "in": true}

// isBlank reports whether a node is a blank for all rows.
func isBlank(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		return n.Value == blankWord
	case *ast.StringNode:
		return n.Value == ""
	}
	return false
}

// operation is an operator with its operands.
func (r *rewriter) operation(n ast.Node, operator string, operands ...ast.Node) (ast.Node, Kind, error) {
	f, known := operators[operator]
	if !known {
		return nil, 0, noOperator(r.formula.text, strings.TrimPrefix(operator, "unary "), n.Location().From)
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
	if node, kind, err := r.ask(n, name); node != nil || err != nil {
		return node, kind, err
	}
	if node, kind, err := r.lines(n, name); node != nil || err != nil {
		return node, kind, err
	}
	switch name {
	case "choose":
		return r.choose(n)
	case "fits":
		return r.fits(n)
	}
	f, known := functions[name]
	if !known {
		do := fault.DidYouMean(name, functionNames)
		if ours := elsewhere[strings.ToLower(name)]; ours != "" {
			do = "use " + ours
		}
		return nil, 0, r.wrong(n, fmt.Sprintf("there is no function %q", name), do)
	}
	return r.apply(n, name+"()", f, n.Arguments)
}

// elsewhere are functions of spreadsheets and SQL by the names that people know, and ours.
var elsewhere = map[string]string{"left": "start(x, 3)", "right": "end(x, 3)", "first": "start(x, 3)",
	"last": "end(x, 3)", "len": "length(x)", "if": "choose(condition, one, other)",
	"iif": "choose(condition, one, other)", "case": "choose(condition, one, other)", "blank": "is_blank(x)",
	"isblank": "is_blank(x)", "isnull": "is_blank(x)", "ifnull": "coalesce(x, y)", "nvl": "coalesce(x, y)",
	"concat": `join("", x, y)`, "contains": `has(x, "-")`, "startswith": `starts(x, "N")`, "endswith": `ends(x, "N")`,
	"matches": "fits(x, `^N`)", "regexp": "fits(x, `^N`)", "min": "least(x, y)", "max": "greatest(x, y)",
	"datediff": "days_between(from, to)", "day_of": "date_only(x)", "substitute": "replace(x, old, new)",
	"now": "today()", "current_date": "today()", "filename": "file_name()", "ucase": "upper(x)", "lcase": "lower(x)",
	"cast": "number(x), date(x) or text(x)"}

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
		var buf [4]*Value
		values := buf[:0]
		for _, p := range params {
			values = append(values, p.(*Value))
		}
		return do(values)
	})(r.config)
	return &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: arguments}
}

// choose is choose(condition, one, other), of which only the chosen one is computed. A blank condition makes it blank.
func (r *rewriter) choose(n *ast.CallNode) (ast.Node, Kind, error) {
	if len(n.Arguments) != 3 {
		return nil, 0, r.wrong(n, fmt.Sprintf("choose() takes 3 arguments, not %d", len(n.Arguments)),
			"write choose(condition, one, other)")
	}
	var nodes [3]ast.Node
	var kinds [3]Kind
	for i, a := range n.Arguments {
		var err error
		if nodes[i], kinds[i], err = r.rewrite(a); err != nil {
			return nil, 0, err
		}
	}
	condition, one, other := kinds[0], kinds[1], kinds[2]
	if condition != Truth && condition != Any {
		return nil, 0, r.wrong(n.Arguments[0], fmt.Sprintf("what choose() takes first is a %s, not a condition",
			condition), "")
	}
	if one == Any {
		one = other
	}
	if other != one && other != Any {
		return nil, 0, r.wrong(n, fmt.Sprintf("one outcome is a %s and the other a %s", one, other),
			"text(), number() and date() convert one to the other")
	}
	blank := r.test(nodes[0], func(v *Value) bool { return v.Blank })
	holds := r.test(nodes[0], func(v *Value) bool { return v.Truth })
	chosen := &ast.ConditionalNode{Ternary: true, Cond: holds, Exp1: nodes[1], Exp2: nodes[2]}
	return &ast.ConditionalNode{Ternary: true, Cond: blank, Exp1: constant(&Value{Kind: one, Blank: true}),
			Exp2: chosen},
		one, nil
}

// test is a condition of the library: whether the value of a node is so.
func (r *rewriter) test(n ast.Node, is func(*Value) bool) ast.Node {
	name := fmt.Sprintf("f%d", len(r.config.Functions))
	expr.Function(name, func(params ...any) (any, error) {
		v := params[0].(*Value)
		if v.Bad {
			return nil, ErrCell
		}
		return is(v), nil
	}, new(func(*Value) bool))(r.config)
	return &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: []ast.Node{n}}
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

// Set gives column i of the row its cell. The machine holds on to v.
func (m *Machine) Set(i int, v *Value) { m.cells[m.names[i]] = v }

// Run computes f for the row whose cells were set. Its error is ErrCell or a NoResult.
func (m *Machine) Run(f *Formula) (*Value, error) {
	out, err := m.vm.Run(f.program, m.cells)
	if err != nil {
		return nil, reason(err)
	}
	v, ok := out.(*Value)
	if !ok {
		return nil, NoResult(fmt.Sprintf("the formula results in a %s", reflect.TypeOf(out)))
	}
	if v.Bad {
		return nil, ErrCell
	}
	return v, nil
}

// reason takes the words of the library off an error of ours.
func reason(err error) error {
	var refused NoResult
	switch {
	case errors.Is(err, ErrCell):
		return ErrCell
	case errors.As(err, &refused):
		return refused
	}
	return NoResult(err.Error())
}
