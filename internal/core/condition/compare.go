package condition

import (
	"bytes"
	"cmp"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"ladle/internal/core/value"
)

// operand is one side of a comparison.
type operand struct {
	column   int // of the condition; -1 for a constant
	of       value.Type
	length   bool // the number of characters of the column
	constant constant
	text     string // of a constant
}

type constant uint8

const (
	noConstant constant = iota
	numberConstant
	textConstant
)

func numberOf(text string) operand { return operand{column: -1, text: text, constant: numberConstant} }

// kind is that of the values of a column.
func (o operand) kind() value.Kind {
	if o.length {
		return value.Int
	}
	return o.of.Kind
}

// comparison says by how a value stands to another one, -1, 0 or 1, whether a comparison is true.
type comparison func(order int) bool

var comparisons = map[string]comparison{
	"=":  func(order int) bool { return order == 0 },
	"==": func(order int) bool { return order == 0 },
	"<>": func(order int) bool { return order != 0 },
	"!=": func(order int) bool { return order != 0 },
	"<":  func(order int) bool { return order < 0 },
	"<=": func(order int) bool { return order <= 0 },
	">":  func(order int) bool { return order > 0 },
	">=": func(order int) bool { return order >= 0 },
}

// compare is the comparison of two operands, one of which is a column.
func compare(left, right operand, is comparison) (judge, error) {
	if left.column < 0 && right.column < 0 {
		return nil, errOdd
	}
	if left.column < 0 {
		return compare(right, left, func(order int) bool { return is(-order) })
	}
	order, err := orderOf(left, right)
	if err != nil {
		return nil, err
	}
	if left.kind() == value.Text && is(different) != is(-different) { // which comes first, only a collation knows
		return nil, errOdd
	}
	return func(columns []*value.Column, i int) truth {
		for _, o := range [2]operand{left, right} {
			if o.column < 0 {
				continue
			}
			switch columns[o.column].States[i] {
			case value.Null:
				return isNull
			case value.Given:
			default:
				return isUnknown
			}
		}
		by, known := order(columns, i)
		switch {
		case !known:
			return isUnknown
		case is(by):
			return isTrue
		}
		return isFalse
	}, nil
}

// order says how one value stands to another in row i; what only a collation or a database knows is not known.
type order func(columns []*value.Column, i int) (by int, known bool)

func orderOf(left, right operand) (order, error) {
	kind := left.kind()
	switch {
	case kind == value.Text && right.constant == textConstant:
		return textOrder(left, []byte(right.text)), nil
	case kind == value.Float && right.constant == numberConstant:
		limit, err := strconv.ParseFloat(right.text, 64)
		return func(columns []*value.Column, i int) (int, bool) {
			f := columns[left.column].Float(i)
			return cmp.Compare(f, limit), !math.IsNaN(f)
		}, err
	case (exact(kind) || kind == value.Bool) && right.constant == numberConstant:
		n, scale, ok := decimal([]byte(right.text))
		if !ok {
			return nil, errOdd
		}
		return func(columns []*value.Column, i int) (int, bool) {
			m, s, ok := left.number(columns, i)
			by, known := compareExact(m, s, n, scale)
			return by, ok && known
		}, nil
	case exact(kind) && right.column >= 0 && exact(right.kind()):
		return func(columns []*value.Column, i int) (int, bool) {
			m, s, ok := left.number(columns, i)
			n, scale, also := right.number(columns, i)
			by, known := compareExact(m, s, n, scale)
			return by, ok && also && known
		}, nil
	case moment(kind) && right.constant == textConstant:
		var at value.Column
		at.Kind = kind
		if err := value.Parse(&at, value.Type{Kind: kind}, []byte(right.text)); err != nil || right.text == "" {
			return nil, errOdd
		}
		return func(columns []*value.Column, i int) (int, bool) {
			return cmp.Compare(columns[left.column].Nums[i], at.Nums[0]), true
		}, nil
	case (moment(kind) || kind == value.Float) && right.column >= 0 && right.kind() == kind &&
		right.of.Zoned == left.of.Zoned:
		return func(columns []*value.Column, i int) (int, bool) {
			return value.Compare(columns[left.column], i, columns[right.column], i), true
		}, nil
	}
	return nil, errOdd
}

func exact(k value.Kind) bool { return k == value.Int || k == value.Fixed || k == value.Decimal }

func moment(k value.Kind) bool { return k == value.Date || k == value.Time || k == value.DateTime }

// number is the exact number n / 10^scale that a column holds in row i.
func (o operand) number(columns []*value.Column, i int) (n int64, scale int, ok bool) {
	c := columns[o.column]
	switch {
	case o.length:
		text := c.Bytes(i)
		return int64(len(text)), 0, isASCII(text)
	case c.Kind == value.Decimal:
		return decimal(c.Bytes(i))
	}
	return c.Nums[i], c.Scale, true
}

// decimal reads a decimal number of at most 18 digits.
func decimal(text []byte) (n int64, scale int, ok bool) {
	whole, fraction, _ := strings.Cut(string(text), ".")
	n, err := strconv.ParseInt(whole+fraction, 10, 64)
	return n, len(fraction), err == nil && len(text) <= 18
}

// compareExact compares numbers of different scales; not those of too many digits.
func compareExact(m int64, scale int, n int64, other int) (by int, known bool) {
	for scale < other {
		if m > math.MaxInt64/10 || m < math.MinInt64/10 {
			return 0, false
		}
		m, scale = m*10, scale+1
	}
	for other < scale {
		if n > math.MaxInt64/10 || n < math.MinInt64/10 {
			return 0, false
		}
		n, other = n*10, other+1
	}
	return cmp.Compare(m, n), true
}

// textOrder says whether a text equals a constant: known where their bytes do, or where no collation could take them for
// equal.
func textOrder(left operand, constant []byte) order {
	return func(columns []*value.Column, i int) (int, bool) {
		text := columns[left.column].Bytes(i)
		switch {
		case bytes.Equal(text, constant):
			return 0, true
		case len(constant) == 0:
			return different, bytes.ContainsFunc(text, func(r rune) bool { return r < utf8.RuneSelf && isAlnum(byte(r)) })
		}
		return different, isPlain(text) && isPlain(constant) && !bytes.EqualFold(bytes.TrimRight(text, " "),
			bytes.TrimRight(constant, " "))
	}
}

// different is the order of texts of which it is known only that they differ.
const different = 1

func isASCII(text []byte) bool {
	for _, c := range text {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// isPlain reports whether a text has nothing but letters and digits of ASCII, and blanks.
func isPlain(text []byte) bool {
	for _, c := range text {
		if !isAlnum(c) && c != ' ' {
			return false
		}
	}
	return true
}

func isAlnum(c byte) bool { return isDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'z' }
