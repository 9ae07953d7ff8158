package condition

import (
	"slices"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// parser reads comparisons, BETWEEN, IN, IS NULL and lengths, joined by AND, OR and NOT, in the forms in which databases
// give them back.
type parser struct {
	words   []word
	at      int
	table   *schema.Table
	columns []string
	depth   int
	texts   []string // of the last list
	limits  []Limit  // of all comparisons with numbers
}

// deepest is how deep conditions and brackets may stand in each other.
const deepest = 100

func (p *parser) whole() (judge, error) {
	j, err := p.or()
	if err == nil && p.at < len(p.words) {
		err = errOdd
	}
	return j, err
}

func (p *parser) peek() word {
	if p.at < len(p.words) {
		return p.words[p.at]
	}
	return word{kind: sign}
}

func (p *parser) next() word {
	w := p.peek()
	p.at++
	return w
}

// takes goes past words, if they stand here.
func (p *parser) takes(words ...string) bool {
	for i, text := range words {
		if p.at+i >= len(p.words) || !p.words[p.at+i].is(text) {
			return false
		}
	}
	p.at += len(words)
	return true
}

func (p *parser) or() (judge, error) { return p.joined("OR", isTrue, p.and) }

func (p *parser) and() (judge, error) { return p.joined("AND", isFalse, p.not) }

// joined reads conditions that a word joins, of which one that is decides.
func (p *parser) joined(by string, decides truth, read func() (judge, error)) (judge, error) {
	if p.depth++; p.depth > deepest {
		return nil, errOdd
	}
	defer func() { p.depth-- }()
	first, err := read()
	if err != nil || !p.peek().is(by) {
		return first, err
	}
	all := []judge{first}
	for p.takes(by) {
		next, err := read()
		if err != nil {
			return nil, err
		}
		all = append(all, next)
	}
	return func(columns []*value.Column, i int) truth {
		says := isTrue + isFalse - decides
		for _, j := range all {
			t := j(columns, i)
			if t == decides {
				return t
			}
			says = max(says, t)
		}
		return says
	}, nil
}

func (p *parser) not() (judge, error) {
	if !p.takes("NOT") {
		return p.predicate()
	}
	inner, err := p.not()
	return negated(inner), err
}

func negated(inner judge) judge {
	return func(columns []*value.Column, i int) truth {
		switch t := inner(columns, i); t {
		case isTrue:
			return isFalse
		case isFalse:
			return isTrue
		default:
			return t
		}
	}
}

// predicate reads a comparison, or a condition in brackets.
func (p *parser) predicate() (judge, error) {
	if p.peek().is("(") {
		start := p.at
		p.at++
		inner, err := p.or()
		if err == nil && p.takes(")") && !p.continues() {
			return inner, nil
		}
		p.at = start // the brackets are those of an operand
	}
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	return p.compared(left)
}

// continues reports whether what was read was only the left side of something.
func (p *parser) continues() bool {
	w := p.peek()
	return w.kind == sign && w.text != "" && w.text != ")" || w.is("IS") || w.is("IN") || w.is("BETWEEN") ||
		w.is("LIKE") || w.is("NOT")
}

// compared reads what stands behind the left side of a comparison.
func (p *parser) compared(left operand) (judge, error) {
	switch {
	case p.takes("IS", "NULL"), p.takes("ISNULL"):
		return nullness(left, isTrue)
	case p.takes("IS", "NOT", "NULL"), p.takes("NOTNULL"), p.takes("NOT", "NULL"):
		return nullness(left, isFalse)
	case p.takes("BETWEEN"):
		return p.between(left)
	case p.takes("NOT", "BETWEEN"):
		return negate(p.between(left))
	case p.takes("IN", "("):
		return p.among(left, ")")
	case p.takes("NOT", "IN", "("):
		return negate(p.among(left, ")"))
	}
	compares, known := comparisons[p.peek().text]
	if p.peek().kind != sign || !known {
		if left.kind() == value.Bool && left.column >= 0 && !p.continues() {
			return compare(left, numberOf("1"), comparisons["="])
		}
		return nil, errOdd
	}
	equal := p.next().text
	switch {
	case p.takes("ANY", "("), p.takes("ALL", "("):
		all := p.words[p.at-2].is("ALL")
		if all != (equal == "<>" || equal == "!=") || !all && equal != "=" {
			return nil, errOdd
		}
		listed, err := p.array(left)
		if all {
			return negate(listed, err)
		}
		return listed, err
	}
	right, err := p.operand()
	if err != nil {
		return nil, err
	}
	p.limit(left, equal, right)
	return compare(left, right, compares)
}

func negate(j judge, err error) (judge, error) {
	if err != nil {
		return nil, err
	}
	return negated(j), nil
}

// nullness is whether an operand is NULL; null is what it then is.
func nullness(o operand, null truth) (judge, error) {
	if o.column < 0 {
		return nil, errOdd
	}
	return func(columns []*value.Column, i int) truth {
		if columns[o.column].States[i] == value.Null {
			return null
		}
		return isTrue + isFalse - null
	}, nil
}

func (p *parser) between(left operand) (judge, error) {
	least, err := p.operand()
	if err != nil || !p.takes("AND") {
		return nil, errOdd
	}
	most, err := p.operand()
	if err != nil {
		return nil, err
	}
	p.limit(left, ">=", least)
	p.limit(left, "<=", most)
	above, err := compare(left, least, comparisons[">="])
	if err != nil {
		return nil, err
	}
	below, err := compare(left, most, comparisons["<="])
	if err != nil {
		return nil, err
	}
	return func(columns []*value.Column, i int) truth {
		a, b := above(columns, i), below(columns, i)
		if a == isFalse || b == isFalse {
			return isFalse
		}
		return max(a, b)
	}, nil
}

// among reads a list up to its end.
func (p *parser) among(left operand, end string) (judge, error) {
	var all []judge
	p.texts = nil
	for {
		o, err := p.operand()
		if err != nil {
			return nil, err
		}
		j, err := compare(left, o, comparisons["="])
		if err != nil {
			return nil, err
		}
		all = append(all, j)
		if o.constant == textConstant {
			p.texts = append(p.texts, o.text)
		}
		switch {
		case p.takes(","):
		case p.takes(end):
			return func(columns []*value.Column, i int) truth {
				says := isFalse
				for _, j := range all {
					t := j(columns, i)
					if t == isTrue {
						return t
					}
					says = max(says, t)
				}
				return says
			}, nil
		default:
			return nil, errOdd
		}
	}
}

// array reads ARRAY[…] in as many brackets and casts as PostgreSQL puts around it.
func (p *parser) array(left operand) (judge, error) {
	open := 1
	for p.takes("(") {
		open++
	}
	if !p.takes("ARRAY", "[") {
		return nil, errOdd
	}
	listed, err := p.among(left, "]")
	for err == nil && open > 0 {
		switch {
		case p.takes(")"):
			open--
		case p.takes("::"):
			_, err = p.typeName()
		default:
			err = errOdd
		}
	}
	return listed, err
}

// operand reads a column, a constant or a length.
func (p *parser) operand() (o operand, err error) {
	if p.depth++; p.depth > deepest {
		return o, errOdd
	}
	defer func() { p.depth-- }()
	switch w := p.next(); {
	case w.is("("):
		if o, err = p.operand(); err == nil && !p.takes(")") {
			err = errOdd
		}
	case w.is("-") && p.peek().kind == number:
		o = numberOf("-" + p.next().text)
	case w.kind == number:
		o = numberOf(w.text)
	case w.kind == literal:
		o = operand{column: -1, text: w.text, constant: textConstant}
	case w.is("true"):
		o = numberOf("1")
	case w.is("false"):
		o = numberOf("0")
	case (w.is("length") || w.is("char_length") || w.is("character_length")) && p.takes("("):
		if o, err = p.operand(); err == nil && (o.column < 0 || o.kind() != value.Text || !p.takes(")")) {
			err = errOdd
		}
		o.length = true
	case w.kind == name || w.kind == quoted:
		c := columnCalled(p.table, w)
		if c == nil || p.peek().is("(") {
			return o, errOdd
		}
		o = operand{column: slices.Index(p.columns, c.Name), of: c.Type}
	default:
		err = errOdd
	}
	for err == nil && p.takes("::") {
		o, err = p.cast(o)
	}
	return o, err
}

// families are the types to which values of a kind may be cast without a change.
var families = map[string][]value.Kind{
	"text": {value.Text}, "character varying": {value.Text}, "varchar": {value.Text}, "bpchar": {value.Text},
	"smallint": {value.Int}, "integer": {value.Int}, "bigint": {value.Int},
	"numeric":          {value.Int, value.Fixed, value.Decimal},
	"double precision": {value.Int, value.Float}, "date": {value.Date},
	"timestamp without time zone": {value.DateTime}, "timestamp with time zone": {value.DateTime},
	"time without time zone": {value.Time},
}

// cast reads the type that an operand is cast to. A constant is cast to the type of what it is compared with.
func (p *parser) cast(o operand) (operand, error) {
	to, err := p.typeName()
	if err != nil || o.column >= 0 && !slices.Contains(families[to], o.kind()) {
		return o, errOdd
	}
	if o.column < 0 && families[to] == nil {
		return o, errOdd
	}
	return o, nil
}

// typeName reads the name of a type, without the brackets of an array.
func (p *parser) typeName() (string, error) {
	var names []string
	for p.peek().kind == name && !slices.Contains([]string{"AND", "OR", "IS", "IN", "NOT", "BETWEEN"},
		strings.ToUpper(p.peek().text)) {
		names = append(names, strings.ToLower(p.next().text))
	}
	if len(names) == 0 {
		return "", errOdd
	}
	p.takes("[", "]")
	return strings.Join(names, " "), nil
}
