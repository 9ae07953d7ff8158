package formula

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/cockroachdb/apd/v3"
	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/parser"

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
	text   string
	kind   Kind
	uses   []int // columns
	asks   []Provenance
	across []Across
	result node
	calls  int // of operators and functions
	parts  int // that need memory in a Block

	divides bool // it is a division, whose part is the last one
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
	b := &builder{formula: f, columns: columns, source: []rune(text)}
	quotient, binary := tree.Node.(*ast.BinaryNode)
	f.divides = binary && quotient.Operator == "/"
	if f.result, f.kind, err = b.build(tree.Node); err != nil {
		return nil, err
	}
	slices.Sort(f.uses)
	f.uses = slices.Compact(f.uses)
	return f, nil
}

// misread says that the text is no formula, where nothing better is known.
func misread(text string, err error) error {
	return wrongAt(text, positionOf(err), "it can't be understood from here on",
		"formulas are made of columns, numbers, texts in quotes, operators and functions: docs/cleaning.md")
}

// blankWord is the word for no value.
const blankWord = "blank"

// builder makes functions of the nodes of a formula, and says what each part of it is.
type builder struct {
	formula *Formula
	columns []Column
	source  []rune
}

func (b *builder) wrong(n ast.Node, what, do string) error {
	return fault.InvalidValue{What: fmt.Sprintf("can't be computed: %s (at character %d of %s)", what,
		n.Location().From+1, b.formula.text), Do: do}
}

// build returns what computes a node, and the kind of its values.
func (b *builder) build(n ast.Node) (node, Kind, error) {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		if n.Value == blankWord {
			return b.constant(&Value{Blank: true}), Any, nil
		}
		return b.column(n, n.Value, true)
	case *ast.StringNode:
		return b.constant(&Value{Kind: Text, Text: n.Value, Blank: n.Value == ""}), Text, nil
	case *ast.BoolNode:
		return b.constant(&Value{Kind: Truth, Truth: n.Value}), Truth, nil
	case *ast.IntegerNode, *ast.FloatNode:
		return b.number(n)
	case *ast.UnaryNode:
		name := n.Operator
		if name == "-" || name == "+" {
			name = "unary " + name
		}
		return b.operation(n, name, n.Node)
	case *ast.BinaryNode:
		return b.binary(n)
	case *ast.CallNode:
		callee, ok := n.Callee.(*ast.IdentifierNode)
		if !ok {
			return node{}, 0, b.wrong(n, "only functions can be called", "")
		}
		return b.call(n, callee.Value)
	}
	return node{}, 0, b.wrong(n, "formulas have no such expression",
		`use columns, numbers, texts in quotes, operators and functions; col("Reg. No.") is a column with such a name`)
}

// column is a node for the column that goes by name; by its plain name, or else as in the file.
func (b *builder) column(n ast.Node, name string, plain bool) (node, Kind, error) {
	var at []int
	var names []string
	for i, c := range b.columns {
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
		return node{}, 0, b.wrong(n, fmt.Sprintf("%s is a function", name), "write its arguments in brackets after it")
	case len(at) == 0:
		return node{}, 0, b.wrong(n, fmt.Sprintf("there is no column %q", name), fault.DidYouMean(name, names))
	case len(at) > 1:
		return node{}, 0, b.wrong(n, fmt.Sprintf("%q is the name of several columns: %s", name, b.list(at)),
			`write col("...") with the name as it stands in the file`)
	}
	i := at[0]
	b.formula.uses = append(b.formula.uses, i)
	return node{func(m *Machine) (*Value, error) { return m.cells[i], nil }, func(m *Block) *Vector { return m.cells[i] }},
		b.columns[i].Kind, nil
}

func (b *builder) list(at []int) string {
	names := make([]string, len(at))
	for i, c := range at {
		names[i] = b.columns[c].Name
	}
	return strings.Join(names, ", ")
}

// number is the number as it is written, not as a float.
func (b *builder) number(n ast.Node) (node, Kind, error) {
	from := n.Location().From
	to := from
	for to < len(b.source) && strings.ContainsRune("0123456789._", b.source[to]) {
		to++
	}
	text := strings.ReplaceAll(string(b.source[from:to]), "_", "")
	d, err := value.ScanNumber([]byte(strings.TrimSuffix(text, ".")))
	if to < len(b.source) && isLetterOrDigit(b.source[to]) {
		err = errors.New("has letters in it")
	}
	if err != nil {
		return node{}, 0, b.wrong(n, fmt.Sprintf("the number %s", err), "write it like 1234.5")
	}
	v := &Value{}
	v.SetNumber(d)
	return b.constant(v), Number, nil
}

// binary is an operator between two nodes.
func (b *builder) binary(n *ast.BinaryNode) (node, Kind, error) {
	list, isList := n.Right.(*ast.ArrayNode)
	operands := []ast.Node{n.Left, n.Right}
	switch {
	case n.Operator == "in" && isList:
		operands = append([]ast.Node{n.Left}, list.Nodes...)
	case n.Operator == "in":
		return node{}, 0, b.wrong(n, "in needs a list", `write it like: status in ["cancelled", "test"]`)
	}
	if comparing[n.Operator] {
		for _, o := range operands {
			if isBlank(o) {
				return node{}, 0, b.wrong(o, "a comparison with a blank is always blank",
					"use is_blank(x), or not is_blank(x)")
			}
		}
	}
	return b.operation(n, n.Operator, operands...)
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
func (b *builder) operation(n ast.Node, operator string, operands ...ast.Node) (node, Kind, error) {
	f, known := operators[operator]
	if !known {
		return node{}, 0, noOperator(b.formula.text, strings.TrimPrefix(operator, "unary "), n.Location().From)
	}
	return b.apply(n, operator, f, operands)
}

// call is a function with its arguments.
func (b *builder) call(n *ast.CallNode, name string) (node, Kind, error) {
	if name == "col" {
		if len(n.Arguments) == 1 {
			if s, ok := n.Arguments[0].(*ast.StringNode); ok && s.Value != "" {
				return b.column(n, s.Value, false)
			}
		}
		return node{}, 0, b.wrong(n, "col needs the name of a column in quotes", "")
	}
	if asked, kind, err := b.ask(n, name); asked.alone != nil || err != nil {
		return asked, kind, err
	}
	if across, kind, err := b.lines(n, name); across.alone != nil || err != nil {
		return across, kind, err
	}
	switch name {
	case "choose":
		return b.choose(n)
	case "fits":
		return b.fits(n)
	case "round":
		if quotient, places := roundedDivision(n); quotient != nil {
			return b.apply(quotient, "/", arithmetic(func(r, x, y *apd.Decimal) error {
				return divideRounded(r, x, y, places)
			}, func(x, y Scaled) (Scaled, bool) { return roundedOver(x, y, places) }, ""), []ast.Node{quotient.Left, quotient.Right})
		}
	}
	f, known := functions[name]
	if !known {
		do := fault.DidYouMean(name, functionNames)
		if ours := elsewhere[strings.ToLower(name)]; ours != "" {
			do = "use " + ours
		}
		return node{}, 0, b.wrong(n, fmt.Sprintf("there is no function %q", name), do)
	}
	return b.apply(n, name+"()", f, n.Arguments)
}

// roundedDivision is the division that round() rounds to places that are written; nil where it rounds something else.
func roundedDivision(n *ast.CallNode) (quotient *ast.BinaryNode, places int) {
	if len(n.Arguments) != 2 {
		return nil, 0
	}
	quotient, divides := n.Arguments[0].(*ast.BinaryNode)
	written, isNumber := n.Arguments[1].(*ast.IntegerNode)
	if !divides || quotient.Operator != "/" || !isNumber || written.Value < 0 {
		return nil, 0
	}
	return quotient, written.Value
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
func (b *builder) apply(n ast.Node, name string, f function, operands []ast.Node) (node, Kind, error) {
	nodes, kinds := make([]node, len(operands)), make([]Kind, len(operands))
	for i, o := range operands {
		var err error
		if nodes[i], kinds[i], err = b.build(o); err != nil {
			return node{}, 0, err
		}
	}
	takes, result, odd := f.resolve(kinds)
	if odd != "" {
		return node{}, 0, b.wrong(n, strings.TrimPrefix(name, "unary ")+" "+odd, f.advice)
	}
	for i, o := range operands {
		if s, written := o.(*ast.StringNode); written && s.Value != "" {
			v := Value{Kind: Text, Text: s.Value}
			if made, err := v.as(takes[i], &Value{}); err == nil { // else each row that needs it says what is wrong
				nodes[i] = b.constant(made)
			}
		}
	}
	b.formula.calls++
	return node{calling(b.formula.calls-1, f, takes, result, nodes), callingTogether(b.part(), f, takes, result, nodes)}, result, nil
}

// choose is choose(condition, one, other), of which only the chosen one is computed. A blank condition makes it blank.
func (b *builder) choose(n *ast.CallNode) (node, Kind, error) {
	if len(n.Arguments) != 3 {
		return node{}, 0, b.wrong(n, fmt.Sprintf("choose() takes 3 arguments, not %d", len(n.Arguments)),
			"write choose(condition, one, other)")
	}
	var nodes [3]node
	var kinds [3]Kind
	for i, a := range n.Arguments {
		var err error
		if nodes[i], kinds[i], err = b.build(a); err != nil {
			return node{}, 0, err
		}
	}
	condition, one, other := kinds[0], kinds[1], kinds[2]
	if condition != Truth && condition != Any {
		return node{}, 0, b.wrong(n.Arguments[0], fmt.Sprintf("what choose() takes first is a %s, not a condition",
			condition), "")
	}
	if one == Any {
		one = other
	}
	if other != one && other != Any {
		return node{}, 0, b.wrong(n, fmt.Sprintf("one outcome is a %s and the other a %s", one, other),
			"text(), number() and date() convert one to the other")
	}
	blank := &Value{Kind: one, Blank: true}
	return node{func(m *Machine) (*Value, error) {
		switch holds, err := nodes[0].alone(m); {
		case err != nil:
			return nil, err
		case holds.Bad:
			return nil, ErrCell
		case holds.Blank:
			return blank, nil
		case holds.Truth:
			return nodes[1].alone(m)
		}
		return nodes[2].alone(m)
	}, b.chooseTogether(nodes, one)}, one, nil
}
