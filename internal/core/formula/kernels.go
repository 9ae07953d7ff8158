package formula

import (
	"unicode/utf8"

	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// kernel computes a function for the rows of a block in which all that it needs is given: those whose state is Given in the
// result. It gives the result, or an argument that is the same.
type kernel func(*piece) *Vector

// eachRow makes a kernel of what computes a row; false leaves that to a Machine.
func eachRow(do func(p *piece, row int) bool) kernel {
	return func(p *piece) *Vector {
		for row, s := range p.result.States {
			if s == Given && !do(p, row) {
				p.result.States[row] = Alone
			}
		}
		return &p.result
	}
}

// ofNumbers is the kernel of an operator between two numbers.
func ofNumbers(do func(x, y Scaled) (Scaled, bool)) kernel {
	return func(p *piece) *Vector {
		if p.arguments[0].Kind != Number || p.arguments[1].Kind != Number {
			return p.result.leave()
		}
		x, y := p.arguments[0].Numbers, p.arguments[1].Numbers
		for row, s := range p.result.States {
			if s != Given {
				continue
			}
			var ok bool
			if p.result.Numbers[row], ok = do(x[row], y[row]); !ok {
				p.result.States[row] = Alone
			}
		}
		return &p.result
	}
}

// ofNumber is the kernel of what makes a number of another.
func ofNumber(do func(Scaled) Scaled) kernel {
	return eachRow(func(p *piece, row int) bool {
		p.result.Numbers[row] = do(p.arguments[0].Numbers[row])
		return true
	})
}

func comparedTogether(holds func(int) bool) kernel {
	return eachRow(func(p *piece, row int) bool {
		n, ok := compareAt(p.arguments[0], p.arguments[1], row)
		p.result.Truths[row] = holds(n)
		return ok
	})
}

func amongTogether(p *piece, row int) bool {
	one := p.arguments[0]
	blank := one.States[row] == Blank
	for _, o := range p.arguments[1:] {
		if one.States[row] == Blank || o.States[row] == Blank {
			blank = true
			continue
		}
		switch n, ok := compareAt(one, o, row); {
		case !ok:
			return false
		case n == 0:
			p.result.Truths[row] = true
			return true
		}
	}
	if p.result.Truths[row] = false; blank {
		p.result.States[row] = Blank
	}
	return true
}

// decidedTogether is the kernel of and, or or: one truth decides, and else a blank.
func decidedTogether(decides bool) kernel {
	return eachRow(func(p *piece, row int) bool {
		blank := false
		for _, a := range p.arguments {
			if a.States[row] == Blank {
				blank = true
			} else if a.Truths[row] == decides {
				p.result.Truths[row] = decides
				return true
			}
		}
		if p.result.Truths[row] = !decides; blank {
			p.result.States[row] = Blank
		}
		return true
	})
}

func notTogether(p *piece, row int) bool {
	p.result.Truths[row] = !p.arguments[0].Truths[row]
	return true
}

func isBlankTogether(p *piece, row int) bool {
	p.result.Truths[row] = p.arguments[0].States[row] == Blank
	return true
}

func firstGivenTogether(p *piece, row int) bool {
	p.result.States[row] = Blank
	for _, a := range p.arguments {
		if a.States[row] == Given {
			p.result.Take(row, a)
			break
		}
	}
	return true
}

func itselfTogether(p *piece) *Vector { return p.arguments[0] }

func askedTogether(holds func(text, part string) bool) kernel {
	return eachRow(func(p *piece, row int) bool {
		p.result.Truths[row] = holds(p.arguments[0].Texts[row], p.arguments[1].Texts[row])
		return true
	})
}

func textsTogether(do func(to, cell []byte) []byte) kernel {
	return eachRow(func(p *piece, row int) bool {
		cell := text.Bytes(p.arguments[0].Texts[row])
		made := do(p.one[:0], cell)
		if text.Inside(made, cell) {
			p.put(row, text.Of(made))
			return true
		}
		p.one = made
		p.write(row, append(p.texts, made...))
		return true
	})
}

func asTextTogether(p *piece, row int) bool {
	if a := p.arguments[0]; a.Kind == Text {
		p.put(row, a.Texts[row])
	} else {
		p.write(row, a.AppendTo(p.texts, row))
	}
	return true
}

func joinTogether(p *piece, row int) bool {
	made, from := p.texts, len(p.texts)
	first := true
	for _, a := range p.arguments[1:] {
		if a.States[row] == Blank {
			continue
		}
		if !first && p.arguments[0].States[row] == Given {
			made = append(made, p.arguments[0].Texts[row]...)
		}
		first = false
		if made = a.AppendTo(made, row); len(made)-from > mostText {
			return false
		}
	}
	p.write(row, made)
	return true
}

func lengthTogether(p *piece, row int) bool {
	p.result.Numbers[row] = Scaled{Units: int64(utf8.RuneCountInString(p.arguments[0].Texts[row]))}
	return true
}

func roundTogether(p *piece, row int) bool {
	places := p.arguments[1].Numbers[row]
	if places.Places != 0 || places.Units < 0 || places.Units > mostPlaces {
		return false
	}
	p.result.Numbers[row], _ = p.arguments[0].Numbers[row].Rounded(int(places.Units))
	return true
}

func fieldTogether(of func(value.Moment) int64) kernel {
	return eachRow(func(p *piece, row int) bool {
		m := &p.arguments[0].Moments[row]
		p.result.Numbers[row] = Scaled{Units: of(*m)}
		return m.Dated
	})
}

func dateOnlyTogether(p *piece, row int) bool {
	m := &p.arguments[0].Moments[row]
	p.result.Moments[row] = value.Moment{Days: m.Days, Dated: true}
	return m.Dated
}

func daysBetweenTogether(p *piece, row int) bool {
	from, to := &p.arguments[0].Moments[row], &p.arguments[1].Moments[row]
	p.result.Numbers[row] = Scaled{Units: to.Days - from.Days}
	return from.Dated && to.Dated
}
