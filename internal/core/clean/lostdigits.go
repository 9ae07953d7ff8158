package clean

import (
	"bytes"

	"ladle/internal/core/formula"
	"ladle/internal/core/value"
)

// LostDigits is a cell for a column of texts that looks like a long number whose last digits a spreadsheet has dropped.
type LostDigits struct {
	Column int    // of the recipe
	Cell   string // as it is cleaned
}

// HasLostDigits reports whether a text looks like a number that a spreadsheet shows in few digits: 4.47912E+11.
func HasLostDigits(text []byte) bool {
	n := len(text)
	return n >= 5 && text[n-4] == 'E' && isShortened(text)
}

// isShortened is HasLostDigits for a text with an E where it stands then.
func isShortened(text []byte) bool {
	n := len(text)
	if n > 16 || text[n-3] != '+' {
		return false
	}
	mantissa := bytes.TrimPrefix(text[:n-4], []byte("-"))
	whole, fraction, _ := bytes.Cut(bytes.Replace(mantissa, []byte(","), []byte("."), 1), []byte("."))
	return len(whole) == 1 && value.AllDigits(whole) && value.AllDigits(fraction) && value.AllDigits(text[n-2:])
}

// noteLostDigits notes the first such cell of each column in a chunk.
func (k *rowCleaner) noteLostDigits(c *cell, t *value.Type, i int) {
	if c.form != formula.Text || t.Kind != value.Text || !HasLostDigits(c.text) || k.short == nil {
		return
	}
	if _, noted := k.short[i]; !noted {
		k.short[i] = string(c.text)
	}
}
