package clean

import (
	"bytes"
	"time"

	"ladle/internal/core/formula"
	"ladle/internal/core/notation"
	"ladle/internal/core/value"
)

// Located is something that the ladle file says, and where it stands there, both counted from 1.
type Located struct {
	Text         string
	Line, Column int
}

// Rule says what is done with the cells of one column, in the order of its parts.
type Rule struct {
	BlankIs   WordSet    // cells that mean nothing, before the cleanings and behind them
	Clean     []Cleaning // in this order
	Recode    *Recode
	Split     *Split // the cleaned cell in parts
	Number    *notation.Numbers
	Dates     *notation.Dates
	Truths    *YesNo
	IfBlank   []Fill   // the first that gives something counts
	Default   *Located // what a blank cell is, then
	Rounded   bool
	Round     int // digits behind the point
	ShortenTo int // characters; 0 for all

	Zone *time.Location // of times that don't say theirs; nil for none
}

// Fill says what stands for a blank cell: exactly one of its parts is used.
type Fill struct {
	Formula Located
	Same    []Located // the columns by which lines belong together
	Above   Located   // the value of the line above
}

// DerivedColumn is a column that the file doesn't have: a formula's, or others joined.
type DerivedColumn struct {
	Name    Located
	Formula Located
	Join    []Located // when not empty
	Between string
	Rule    Rule
}

// NamedRule is a rule for the cells of the column that goes by a name.
type NamedRule struct {
	Name Located
	Rule Rule
}

// Split makes columns of the parts of a cell.
type Split struct {
	At      string
	Columns []Located
}

// WordSet are cells with a meaning, whatever the case of their letters.
type WordSet map[string]bool

// NewWords makes words of a list.
func NewWords(list ...string) WordSet {
	w := WordSet{}
	for _, s := range list {
		w[folded([]byte(s))] = true
	}
	return w
}

func folded(cell []byte) string { return string(bytes.ToLower(cell)) }

// has reports whether the cell is one of the words.
func (w WordSet) has(cell []byte) bool {
	if len(w) == 0 {
		return false
	}
	if w[string(cell)] {
		return true
	}
	var buf [64]byte
	low := buf[:0]
	if len(cell) > len(buf) {
		return w[folded(cell)]
	}
	for _, c := range cell {
		if c >= 0x80 {
			return w[folded(cell)]
		}
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		low = append(low, c)
	}
	return w[string(low)]
}

// YesNo are the words for yes and for no.
type YesNo struct {
	Yes, No WordSet
	refusal error
}

// form is what the cells of a column are once they are cleaned.
func (r *Rule) form() formula.Kind {
	switch {
	case r.Number != nil || r.Rounded:
		return formula.Number
	case r.Dates != nil:
		return formula.Moment
	case r.Truths != nil:
		return formula.Truth
	}
	return formula.Text
}

// constant makes a cell of what is written in the ladle file, in its plain form or as the column writes it.
func (r *Rule) constant(text string) (cell, error) {
	c := cell{state: value.Given, form: formula.Text, text: []byte(text)}
	if text == "" {
		return cell{}, nil
	}
	switch r.form() {
	case formula.Number:
		d, err := value.ScanNumber(c.text)
		if err != nil && r.Number != nil {
			d, _, err = r.Number.Scan(nil, c.text)
		}
		return cell{state: value.Given, form: formula.Number, digits: d}, err
	case formula.Moment:
		m, ok := value.ScanMoment(c.text)
		if !ok {
			var err error
			if m, err = r.Dates.Scan(c.text); err != nil {
				return c, err
			}
		}
		return cell{state: value.Given, form: formula.Moment, moment: m}, nil
	case formula.Truth:
		if text == "true" || text == "false" {
			return cell{state: value.Given, form: formula.Truth, truth: text == "true"}, nil
		}
		truth, err := r.Truths.scan(c.text)
		return cell{state: value.Given, form: formula.Truth, truth: truth}, err
	}
	return c, nil
}
