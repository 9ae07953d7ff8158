package source

import (
	"fmt"
	"path/filepath"
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
	Delimiter string // one character of ASCII or several
	Quote     string // the character, or none
	Escape    string // a character of ASCII that takes the next one its meaning
	Comment   string // what lines start with that are no records
	Widths    string // of columns without a delimiter, in characters: 8, 20, 10
	Sheet     string // of a workbook: its name or number
	Range     string // of a sheet: B4:K900, or the name of a range or table

	Member string // of JSON: the member that holds the rows, such as answer.calls

	ShortLines bool // missing cells at the end of a line are blank

	// Guess has an encoding that isn't certain guessed, where otherwise the file is refused: to look at a file, never
	// to load it.
	Guess bool

	Alias Alias
}

// Alias is what people know the files in a folder by: as if they stood in Name.
type Alias struct{ Folder, Name string }

// of is the path by which people know a file.
func (a Alias) of(path string) string {
	rest, inside := strings.CutPrefix(path, a.Folder+string(filepath.Separator))
	if !inside || a.Folder == "" {
		return path
	}
	return filepath.Join(a.Name, rest)
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

// SetDelimiter takes a character or several, or the word tab.
func (a *ReadOptions) SetDelimiter(word string) error {
	const most = 8
	switch {
	case word == "tab" || word == `\t`:
		a.Delimiter = "\t"
	case word != "" && len(word) <= most && !strings.ContainsAny(word, "\"\r\n") && asciiPrefix([]byte(word)) == len(word):
		a.Delimiter = word
	default:
		return cannot(word, `write one ASCII character in quotes or several, for example ";" or "||", or tab`)
	}
	return nil
}

// SetEscape takes a character.
func (a *ReadOptions) SetEscape(word string) error {
	if len(word) != 1 || word[0] >= 0x80 || strings.Contains("\"\r\n", word) {
		return cannot(word, `write one ASCII character, for example '\'`)
	}
	a.Escape = word
	return nil
}

// SetComment takes what lines start with that are no records.
func (a *ReadOptions) SetComment(word string) error {
	if word == "" || strings.ContainsAny(word, "\r\n") {
		return cannot(word, `write what such lines start with, for example "#"`)
	}
	a.Comment = word
	return nil
}

// SetShortLines takes the word accept.
func (a *ReadOptions) SetShortLines(word string) error {
	if word != "accept" {
		return cannot(word, "write accept: missing cells at the end of a line are blank then")
	}
	a.ShortLines = true
	return nil
}

// SetWidths takes the widths of columns in characters, like 8, 20, 10.
func (a *ReadOptions) SetWidths(word string) error {
	if widthsOf(word) == nil {
		return cannot(word, "write the width of each column in characters, for example [8, 20, 10]")
	}
	a.Widths = word
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

// SetMember takes the name of a member of a JSON object.
func (a *ReadOptions) SetMember(word string) error {
	a.Member = word
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
