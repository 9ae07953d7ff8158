package notation

import (
	"bytes"
	"slices"

	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// Numbers are notations that are tried in order. A cell that two of them read as different numbers is refused.
type Numbers struct {
	all     []*Number
	refusal error
}

// NewNumbers makes one notation of several, of which there must be at least one.
func NewNumbers(all ...*Number) *Numbers {
	names := make([]string, len(all))
	for i, n := range all {
		names[i] = n.example
	}
	return &Numbers{all, reason.Because(reason.Why{Kind: reason.NotNumberLike, List: reason.List(names...)})}
}

// Scan reads a cell that is not empty; see Number.Scan.
func (n *Numbers) Scan(buf, cell []byte) (value.Digits, []byte, error) {
	first, buf, err := n.all[0].Scan(buf, cell)
	if len(n.all) == 1 {
		return first, buf, err
	}
	by := 0
	for i, o := range n.all[1:] {
		d, room, err2 := o.Scan(nil, cell)
		switch {
		case err2 != nil:
		case err != nil:
			first, buf, err, by = d, room, nil, i+1
		case !same(first, d):
			return first, buf, reason.Because(reason.Why{Kind: reason.TwoNumbers,
				List: reason.List(plain(first), n.all[by].example, plain(d), o.example)})
		}
	}
	if err != nil {
		err = n.refusal
	}
	return first, buf, err
}

// ScanPlain reads the cells that are written most, as Number.ScanPlain does; not ok where Scan must look.
func (n *Numbers) ScanPlain(cell []byte) (scaled int64, fraction int, ok bool) {
	if len(n.all) > 1 {
		return 0, 0, false
	}
	return n.all[0].ScanPlain(cell)
}

// Examples are the notations.
func (n *Numbers) Examples() []string {
	var all []string
	for _, o := range n.all {
		all = append(all, o.example)
	}
	return all
}

func same(a, b value.Digits) bool {
	return bytes.Equal(a.Whole, b.Whole) && a.Negative == b.Negative &&
		bytes.Equal(bytes.TrimRight(a.Fraction, "0"), bytes.TrimRight(b.Fraction, "0"))
}

func plain(d value.Digits) string {
	s := string(d.Whole)
	if d.Negative {
		s = "-" + s
	}
	if len(d.Fraction) > 0 {
		s += "." + string(d.Fraction)
	}
	return s
}

// Plain is the example of numbers that need no notation.
const Plain = "1234.5"

// CoveringNumbers returns notations, at most most of them, that together read as many cells as possible: the first
// reads most, each other one most of those that are left; Plain before others. likely are examples that are tried too.
// covered is how many cells they read; a cell that two of them read as different numbers counts as none.
func CoveringNumbers(cells []string, most int, likely ...string) (examples []string, covered int) {
	cells = slices.DeleteFunc(slices.Clone(cells), func(c string) bool { return c == "" })
	candidates := []*Number{}
	try := func(example string) {
		if n, err := NumberLike(example); err == nil {
			candidates = append(candidates, n)
		}
	}
	try(Plain)
	for _, example := range likely {
		try(example)
	}
	for _, c := range cells {
		if !slices.ContainsFunc(candidates, func(n *Number) bool { return n.reads(c) }) &&
			len(candidates) < mostNumbers {
			try(Guess(c))
		}
	}
	var chosen []*Number
	left := cells
	for len(chosen) < most && len(left) > 0 {
		var best *Number
		bestRead := 0
		for _, n := range candidates {
			count := 0
			for _, c := range left {
				if n.reads(c) {
					count++
				}
			}
			if count > bestRead {
				best, bestRead = n, count
			}
		}
		if best == nil {
			break
		}
		chosen = append(chosen, best)
		left = slices.DeleteFunc(slices.Clone(left), best.reads)
	}
	if chosen == nil {
		return nil, 0
	}
	all := NewNumbers(chosen...)
	for _, c := range cells {
		if _, _, err := all.Scan(nil, []byte(c)); err == nil {
			covered++
		}
	}
	return all.Examples(), covered
}

// mostNumbers is the number of notations that are tried on cells.
const mostNumbers = 20

// reads reports whether a cell is written like the example.
func (n *Number) reads(cell string) bool {
	_, _, err := n.Scan(nil, []byte(cell))
	return err == nil
}
