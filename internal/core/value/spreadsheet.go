package value

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Bounds of a sheet of a workbook (ECMA-376, and what programs for it hold).
const (
	SheetRows = 1 << 20
	CellUnits = 32_767 // UTF-16 code units of the text of a cell
)

// InCell is nil where a cell of a workbook holds a text as it is. The error says why it doesn't.
func InCell(text string) error {
	if len(text) > CellUnits { // no character has more UTF-16 code units than bytes
		units := 0
		for _, c := range text {
			if units++; c > 0xFFFF {
				units++
			}
		}
		if units > CellUnits {
			return fmt.Errorf("a cell of a workbook has no room for more than %d characters", CellUnits)
		}
	}
	if !utf8.ValidString(text) || strings.ContainsFunc(text, unwritable) {
		return fmt.Errorf("a cell of a workbook can't hold the characters of %.40q", text)
	}
	return nil
}

// unwritable are the characters that no XML document holds (XML 1.0, §2.2), and CR, which one reads as LF.
func unwritable(c rune) bool {
	return c < ' ' && c != '\t' && c != '\n' || c == 0xFFFE || c == 0xFFFF
}

// Runs reports whether a spreadsheet would run a text as a formula (OWASP, CSV injection). A number is none.
func Runs(text []byte) bool {
	if len(text) == 0 || strings.IndexByte("=+-@\t\r", text[0]) < 0 {
		return false
	}
	_, err := ScanNumber(text)
	return err != nil
}

// Guarded puts an apostrophe before a text that a spreadsheet would run as a formula, and before one that has such an
// apostrophe already; [Unguarded] is its inverse.
func Guarded(text []byte) []byte {
	if Runs(bytes.TrimLeft(text, "'")) {
		return append([]byte{'\''}, text...)
	}
	return text
}

// Unguarded takes the apostrophe off that [Guarded] has put before a text.
func Unguarded(text []byte) []byte {
	if bytes.HasPrefix(text, []byte("'")) && Runs(bytes.TrimLeft(text, "'")) {
		return text[1:]
	}
	return text
}
