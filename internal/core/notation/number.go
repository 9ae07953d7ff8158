// Package notation reads numbers and dates as files write them: numbers by an example, dates by a Unicode pattern. What
// is written in another way is refused, never guessed.
package notation

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// Number is a way of writing numbers, fixed by an example: "1.234,56", "(1,234.50)", "12,5 %".
type Number struct {
	example  string
	before   []byte   // what may stand before a number
	behind   []byte   // what may stand behind it
	groups   [][]byte // the mark between groups of digits, in all its forms; nil for none
	sizes    [2]int   // digits of the last group, and of those before it
	point    byte     // before the fraction; 0 where there is none
	brackets bool     // a negative number stands in brackets
	trailing bool     // its minus stands behind
	plus     bool     // a positive number may have a plus
	zeros    bool     // zeros may stand before the first digit
	scripts  bool     // digits may be those of other scripts
	mark     byte     // the plainest of groups; 0 for none
	refusal  error
}

// marks between groups of digits, which look alike.
var groupMarks = [][][]byte{
	{[]byte(" "), []byte("\u00a0"), []byte("\u202f"), []byte("\u2009")},
	{[]byte("'"), []byte("\u2019")},
	{[]byte(",")},
	{[]byte(".")},
}

// NumberLike makes a notation of an example. Its error is a fault.InvalidValue.
func NumberLike(example string) (*Number, error) {
	example = strings.TrimSpace(example)
	n := &Number{example: example, refusal: reason.Because(reason.Why{Kind: reason.NotNumberLike,
		List: reason.List(example)})}
	body := plainDigits([]byte(example))
	n.scripts = string(body) != example
	if inner, ok := bracketed(body); ok {
		body, n.brackets = inner, true
	}
	first, last := bytes.IndexAny(body, "0123456789"), bytes.LastIndexAny(body, "0123456789")
	if first < 0 {
		return nil, fault.InvalidValue{What: fmt.Sprintf("can't be %q: it has no digits", example),
			Do: "write a number as the file does, for example 1,234.50"}
	}
	before, behind := body[:first], body[last+1:]
	n.plus = bytes.ContainsRune(before, '+')
	n.before = bytes.TrimFunc(bytes.Trim(cutMinus(before), "+"), unicode.IsSpace)
	if rest := cutMinus(behind); len(rest) < len(behind) {
		behind, n.trailing = rest, true
	}
	n.behind = bytes.TrimFunc(behind, unicode.IsSpace)
	if err := n.separators(body[first : last+1]); err != nil {
		return nil, err
	}
	if _, _, err := n.Scan(nil, []byte(example)); err != nil {
		return nil, n.unclear()
	}
	return n, nil
}

func (n *Number) unclear() fault.InvalidValue {
	return fault.InvalidValue{What: fmt.Sprintf("can't be %q", n.example),
		Do: "write a number with thousands and a fraction as the file does, for example 1,234.50 or 1.234,50"}
}

func cutMinus(b []byte) []byte {
	return bytes.ReplaceAll(bytes.ReplaceAll(b, []byte("-"), nil), []byte(minus), nil)
}

const minus = "\u2212"

func bracketed(b []byte) ([]byte, bool) {
	if len(b) > 2 && b[0] == '(' && b[len(b)-1] == ')' {
		return b[1 : len(b)-1], true
	}
	return b, false
}

// separators finds what stands between the digits of an example.
func (n *Number) separators(body []byte) error {
	fields := bytes.FieldsFunc(body, func(r rune) bool { return r >= '0' && r <= '9' })
	widths := bytes.FieldsFunc(body, func(r rune) bool { return r < '0' || r > '9' })
	n.zeros = len(widths[0]) > 1 && widths[0][0] == '0'
	if len(fields) == 0 {
		return nil
	}
	unclear := n.unclear()
	mark, tail := fields[len(fields)-1], len(widths[len(widths)-1])
	groups := fields
	switch {
	case len(fields) > 1 && !bytes.Equal(fields[0], mark), len(fields) == 1 && (tail != 3 || len(widths[0]) > 3) &&
		(mark[0] == '.' || mark[0] == ','):
		if len(mark) != 1 || mark[0] != '.' && mark[0] != ',' {
			return unclear
		}
		n.point, groups, widths = mark[0], fields[:len(fields)-1], widths[:len(widths)-1]
	case len(fields) == 1 && (mark[0] == '.' || mark[0] == ','):
		unclear.What += fmt.Sprintf(": it is not clear whether %q separates thousands or decimals", mark)
		return unclear
	}
	return n.grouping(groups, widths, unclear)
}

// grouping takes the marks between groups of digits, and the sizes of these.
func (n *Number) grouping(groups, widths [][]byte, unclear error) error {
	if len(groups) == 0 {
		return nil
	}
	for _, g := range groups {
		if !bytes.Equal(g, groups[0]) {
			return unclear
		}
	}
	at := slices.IndexFunc(groupMarks, func(same [][]byte) bool {
		return slices.ContainsFunc(same, func(m []byte) bool { return bytes.Equal(m, groups[0]) })
	})
	if at < 0 || groups[0][0] == n.point {
		return unclear
	}
	n.groups, n.mark = groupMarks[at], groupMarks[at][0][0]
	n.sizes = [2]int{len(widths[len(widths)-1]), len(widths[len(widths)-1])}
	if len(widths) > 2 {
		n.sizes[1] = len(widths[len(widths)-2])
	}
	for i, w := range widths[1:] {
		if size := n.sizes[min(1, len(widths)-2-i)]; len(w) != size || size < 2 {
			return unclear
		}
	}
	if len(widths[0]) > n.sizes[1] {
		return unclear
	}
	return nil
}

func (n *Number) String() string { return n.example }

// Scan reads a cell that is not empty. Digits that don't stand beside each other are brought together in buf, whose
// memory comes back to be used again; the others stand in the cell. The error is a reason.Cause.
func (n *Number) Scan(buf, cell []byte) (value.Digits, []byte, error) {
	if n.scripts {
		cell = plainDigits(cell)
	}
	body, d := cell, value.Digits{}
	if c := cell[0]; c < '0' || c > '9' {
		body = n.head(body, &d)
	}
	if len(body) > 0 {
		if c := body[len(body)-1]; c < '0' || c > '9' {
			body = n.tail(body, &d)
		}
	}
	whole := body
	if n.point != 0 {
		if at := bytes.IndexByte(body, n.point); at >= 0 {
			whole, d.Fraction = body[:at], body[at+1:]
			if len(d.Fraction) == 0 || !value.AllDigits(d.Fraction) {
				return d, buf, n.refusal
			}
		}
	}
	if value.AllDigits(whole) {
		d.Whole = whole
	} else if n.groups == nil {
		return d, buf, n.refusal
	} else {
		var ok bool
		if buf, ok = n.ungroup(buf[:0], whole); !ok {
			return d, buf, n.refusal
		}
		d.Whole = buf
	}
	switch {
	case len(d.Whole) == 0 && len(d.Fraction) == 0:
		return d, buf, n.refusal
	case len(d.Whole) > 1 && d.Whole[0] == '0':
		if !n.zeros {
			return d, buf, errZero
		}
		d.Whole = bytes.TrimLeft(d.Whole, "0")
	}
	return d, buf, nil
}

// ScanPlain reads the cells that are written most: of at most 15 digits, without brackets, trailing minus or odd
// blanks. It gives the number times 10 to the power of fraction; not ok where Scan must look.
func (n *Number) ScanPlain(cell []byte) (scaled int64, fraction int, ok bool) {
	negative := false
	if c := cell[0]; c < '0' || c > '9' {
		if cell, negative, ok = n.plainHead(cell); !ok {
			return 0, 0, false
		}
	}
	if c := cell[len(cell)-1]; c < '0' || c > '9' {
		end := len(cell) - len(n.behind)
		if len(n.behind) == 0 || end < 1 || string(cell[end:]) != string(n.behind) {
			return 0, 0, false
		}
		if cell = cell[:end]; cell[end-1] == ' ' {
			cell = cell[:end-1]
		}
		if len(cell) == 0 {
			return 0, 0, false
		}
	}
	if len(cell) > 20 || cell[0] == '0' && len(cell) > 1 && cell[1] != n.point {
		return 0, 0, false
	}
	scaled, fraction, ok = n.plainDigits(cell)
	if negative {
		scaled = -scaled
	}
	return scaled, fraction, ok
}

// plainHead takes a minus and what may stand before a number off.
func (n *Number) plainHead(cell []byte) (rest []byte, negative, ok bool) {
	if cell[0] == '-' && !n.brackets && !n.trailing {
		cell, negative = cell[1:], true
	}
	if k := len(n.before); k > 0 && len(cell) > k && string(cell[:k]) == string(n.before) {
		if cell = cell[k:]; cell[0] == ' ' {
			cell = cell[1:]
		}
	}
	return cell, negative, len(cell) > 0 && cell[0] >= '0' && cell[0] <= '9'
}

// plainDigits reads digits with marks between groups and a point.
func (n *Number) plainDigits(cell []byte) (scaled int64, fraction int, ok bool) {
	size, marked, digits := 0, false, 0 // of the group that is read
	for i, c := range cell {
		if d := c - '0'; d <= 9 {
			scaled, size, digits = scaled*10+int64(d), size+1, digits+1
			continue
		}
		if c == n.point && c != 0 {
			for _, c := range cell[i+1:] {
				d := c - '0'
				if d > 9 {
					return 0, 0, false
				}
				scaled, fraction = scaled*10+int64(d), fraction+1
			}
			ok = fraction > 0
			break
		}
		if c != n.mark || c == 0 || size == 0 || size > n.sizes[1] || marked && size != n.sizes[1] {
			return 0, 0, false
		}
		size, marked = 0, true
	}
	ok = ok || fraction == 0 && cell[len(cell)-1] != n.point
	return scaled, fraction, ok && digits > 0 && digits+fraction <= 15 && (!marked || size == n.sizes[0])
}

var errZero error = reason.New(reason.LeadingZero)

// head takes off what stands before the digits.
func (n *Number) head(body []byte, d *value.Digits) []byte {
	if inner, ok := bracketed(body); ok && n.brackets {
		body, d.Negative = inner, true
	}
	signed := d.Negative || n.brackets || n.trailing
	body, signed = n.sign(body, d, signed)
	if rest, ok := bytes.CutPrefix(body, n.before); ok && len(n.before) > 0 {
		body, _ = n.sign(bytes.TrimLeftFunc(rest, unicode.IsSpace), d, signed)
	}
	return body
}

// sign takes a sign off, unless there was one.
func (n *Number) sign(body []byte, d *value.Digits, signed bool) ([]byte, bool) {
	switch {
	case signed || len(body) == 0:
	case body[0] == '-':
		d.Negative = true
		return body[1:], true
	case bytes.HasPrefix(body, []byte(minus)):
		d.Negative = true
		return body[len(minus):], true
	case body[0] == '+' && n.plus:
		return body[1:], true
	}
	return body, signed
}

// tail takes off what stands behind the digits.
func (n *Number) tail(body []byte, d *value.Digits) []byte {
	body = n.trailingMinus(body, d)
	if rest, ok := bytes.CutSuffix(body, n.behind); ok && len(n.behind) > 0 {
		body = bytes.TrimRightFunc(rest, unicode.IsSpace)
		body = n.trailingMinus(body, d)
	}
	return body
}

func (n *Number) trailingMinus(body []byte, d *value.Digits) []byte {
	if !n.trailing || d.Negative {
		return body
	}
	for _, m := range []string{"-", minus} {
		if rest, ok := bytes.CutSuffix(body, []byte(m)); ok {
			d.Negative = true
			return rest
		}
	}
	return body
}

// ungroup takes the marks out from between groups of the right size.
func (n *Number) ungroup(buf, whole []byte) ([]byte, bool) {
	size := 0 // of the group that is read
	first := true
	var mark []byte
	for i := 0; i < len(whole); {
		if c := whole[i]; c >= '0' && c <= '9' {
			buf, size = append(buf, c), size+1
			i++
			continue
		}
		if mark == nil {
			for _, m := range n.groups {
				if bytes.HasPrefix(whole[i:], m) {
					mark = m
				}
			}
		}
		if mark == nil || !bytes.HasPrefix(whole[i:], mark) || size == 0 || size > n.sizes[1] || !first &&
			size != n.sizes[1] {
			return buf, false
		}
		first, size = false, 0
		i += len(mark)
	}
	return buf, first || size == n.sizes[0]
}
