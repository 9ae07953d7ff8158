package engine

import (
	"slices"
	"strings"

	"ladle/internal/core/fault"
)

// LongestAnswer is the number of bytes that a cell of the answer to a person's query may have.
const LongestAnswer = 16 << 20

// TooLong is an error for a cell of an answer that is longer than that.
func TooLong(cell []byte) error {
	if len(cell) <= LongestAnswer {
		return nil
	}
	return fault.New(fault.Wrong, "a cell of its answer has more than 16 MB", "select less")
}

// IsQuery is an error for a statement of a person that does not begin as a query does: SELECT, WITH, VALUES or TABLE,
// perhaps behind comments and brackets. What begins so may still write; that the database must see to.
func IsQuery(statement string) error {
	for rest := statement; ; {
		rest = strings.TrimLeft(rest, " \t\r\n(")
		mark, end := "", ""
		switch {
		case strings.HasPrefix(rest, "--"), strings.HasPrefix(rest, "#"):
			mark, end = rest[:1], "\n"
		case strings.HasPrefix(rest, "/*"):
			mark, end = "/*", "*/"
		}
		if mark == "" {
			word := rest[:len(rest)-len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"))]
			if slices.Contains([]string{"select", "with", "values", "table"}, strings.ToLower(word)) {
				return nil
			}
			return fault.New(fault.Wrong, "it is not a query", "write one SELECT")
		}
		_, rest, _ = strings.Cut(rest[len(mark):], end)
	}
}
