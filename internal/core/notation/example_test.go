package notation_test

import (
	"fmt"

	"ladle/internal/core/notation"
)

// Numbers are read as an example is written, and in no other way.
func ExampleNumberLike() {
	number, _ := notation.NumberLike("1.234,56")
	for _, cell := range []string{"-12.000,5", "12,000.5"} {
		digits, _, err := number.Scan(nil, []byte(cell))
		if err != nil {
			fmt.Println(cell, err)
			continue
		}
		fmt.Println(cell, "is", string(digits.Append(nil)))
	}
	// Output:
	// -12.000,5 is -12000.5
	// 12,000.5 is not a number like 1.234,56
}

// Dates are read by a pattern of Unicode.
func ExampleNewPattern() {
	pattern, _ := notation.NewPattern("d MMM yy", 1950)
	dates := notation.NewDates(pattern)
	for _, cell := range []string{"3 Feb 26", "30 Feb 26", "3/2/26"} {
		moment, err := dates.Scan([]byte(cell))
		if err != nil {
			fmt.Println(cell, err)
			continue
		}
		fmt.Println(cell, "is", moment.Days, "days after 1970-01-01")
	}
	// Output:
	// 3 Feb 26 is 20487 days after 1970-01-01
	// 30 Feb 26 is a day or time that doesn't exist
	// 3/2/26 is not a date like d MMM yy
}
