package clean

import (
	"slices"

	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// quick adds what a cell is to a column, when that is plain; false, with nothing added, when it needs a closer look.
type quick func(to *value.Column, t *value.Type, cell []byte) bool

// quick is a way for cells that only must be parsed, or are texts that only go through cleanings; nil when there is more to
// do. It has memory of its own.
func (r *Rule) quick() quick {
	switch {
	case r.BlankIs != nil || r.Recode != nil || r.Rounded:
	case r.Clean != nil:
		return r.quickText()
	case r.Truths == nil && r.Split == nil && r.ShortenTo == 0 && r.Number == nil && r.Dates == nil:
		return r.quickValue
	case r.Number != nil:
		return func(to *value.Column, t *value.Type, cell []byte) bool {
			n, fraction, ok := r.Number.ScanPlain(cell)
			return ok && value.PutScaled(to, t, n, fraction)
		}
	case r.Dates != nil && r.Zone == nil:
		return func(to *value.Column, t *value.Type, cell []byte) bool {
			days, micros, ok := r.Dates.ScanPlain(cell)
			return ok && value.PutPlain(to, t, days, micros)
		}
	}
	return nil
}

// quickValue is the way for cells that are written as values are.
func (r *Rule) quickValue(to *value.Column, t *value.Type, cell []byte) bool {
	return t.Kind != value.Text && cell[0] != '#' && value.Put(to, t, cell, r.Zone)
}

// quickText is the way for cells of ASCII that go through cleanings and stay texts; nil where these are parsed, or slow.
func (r *Rule) quickText() quick {
	if slices.ContainsFunc(r.Clean, func(c Cleaning) bool { return c.slow }) || r.Number != nil || r.Dates != nil || r.Truths != nil || r.ShortenTo > 0 {
		return nil
	}
	var memory buffers
	return func(to *value.Column, t *value.Type, cell []byte) bool {
		if cell[0] == '#' || !text.Plain(cell) { // it may be the error of a spreadsheet
			return false
		}
		made := memory.through(r.Clean, cell)
		return len(made) <= mostText && !HasLostDigits(made) && value.PutText(to, t, made)
	}
}

// quickRounded is the way for the numbers of a column that are rounded, and have no other rule; nil where there is none.
func (c *cleaner) quickRounded(i int, rule *Rule) quick {
	of := c.columns[i].Of
	if !rule.isPlain() || rule.Number == nil {
		return nil
	}
	return func(to *value.Column, t *value.Type, cell []byte) bool {
		n, did, ok := rule.scaled(cell)
		counts := did != 0 && c.counts[i]
		if !ok || counts && !c.effects.known(of, did, cell) || !value.PutScaled(to, t, n.Units, int(n.Places)) {
			return false
		}
		if counts {
			c.effects.count(of, did)
		}
		return true
	}
}
