package source

import (
	"fmt"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/source/charset"
)

// ReadOptions is what is said about how a file is to be read. What is left zero is detected.
type ReadOptions struct {
	Header    HeaderLines
	Footer    int    // lines at the end that are no rows
	Encoding  string // a name of the IANA registry of character sets
	Delimiter byte
	Quote     string // the character, or none
	Sheet     string // of a workbook: its name or number
	Range     string // of a sheet: B4:K900, or the name of a range or table

	// Guess has an encoding that isn't certain guessed, where otherwise the file is refused: to look at a file, never
	// to load it.
	Guess bool
}

// HeaderLines says on which lines the names of the columns stand.
type HeaderLines struct {
	First, Last int // from 1; 0 when not said
	None        bool
}

// Given reports whether the lines are known.
func (l HeaderLines) Given() bool { return l.None || l.First > 0 }

func cannot(word, advice string) error {
	return fault.InvalidValue{What: fmt.Sprintf("can't be %q", word), Do: advice}
}

// SetHeader takes a line, lines like 3-4, or none. Its error, as those of the others, is a fault.InvalidValue.
func (a *ReadOptions) SetHeader(word string) error {
	if word == "none" {
		a.Header = HeaderLines{None: true}
		return nil
	}
	first, last, several := strings.Cut(word, "-")
	if !several {
		last = first
	}
	from, err := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	const most = 10
	if err != nil || err2 != nil || from < 1 || to < from || to >= from+most {
		return cannot(word, "write the number of the line with the column names, from 1; lines like 3-4; or none")
	}
	a.Header = HeaderLines{First: from, Last: to}
	return nil
}

// SetFooter takes a number of lines.
func (a *ReadOptions) SetFooter(word string) error {
	n, err := strconv.Atoi(word)
	const most = 100
	if err != nil || n < 0 || n > most {
		return cannot(word, "write the number of lines at the end that are not rows, at most 100")
	}
	a.Footer = n
	return nil
}

// SetEncoding takes the name of an encoding.
func (a *ReadOptions) SetEncoding(word string) error {
	if _, err := charset.Named(word); err != nil {
		return cannot(word, "write its name in the IANA registry, for example UTF-8, UTF-16LE, windows-1252, "+
			"ISO-8859-2 or Shift_JIS")
	}
	a.Encoding = word
	return nil
}

// SetDelimiter takes a character, or the word tab.
func (a *ReadOptions) SetDelimiter(word string) error {
	switch {
	case word == "tab" || word == `\t`:
		a.Delimiter = '\t'
	case len(word) == 1 && word[0] < 0x80 && !strings.Contains("\"\r\n", word):
		a.Delimiter = word[0]
	default:
		return cannot(word, `write one ASCII character in quotes, for example ";", or tab`)
	}
	return nil
}

// SetQuote takes a character, or none.
func (a *ReadOptions) SetQuote(word string) error {
	if word != "none" && (len(word) != 1 || word[0] >= 0x80) {
		return cannot(word, `write one ASCII character, for example '"', or none`)
	}
	a.Quote = word
	return nil
}

// SetSheet takes the name or number of a sheet.
func (a *ReadOptions) SetSheet(word string) error {
	a.Sheet = word
	return nil
}

// SetRange takes an area of cells, or the name of one.
func (a *ReadOptions) SetRange(word string) error {
	a.Range = word
	return nil
}
