package value

import "strings"

// Runs reports whether a spreadsheet would run a text as a formula (OWASP, CSV injection). A number is none.
func Runs(text []byte) bool {
	if len(text) == 0 || strings.IndexByte("=+-@\t\r", text[0]) < 0 {
		return false
	}
	_, err := ScanNumber(text)
	return err != nil
}
