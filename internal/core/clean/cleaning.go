package clean

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ladle/internal/core/fault"
	"ladle/internal/core/source"
	"ladle/internal/core/text"
)

// mostText is the number of bytes that a cell may have which cleanings make. One that makes more ends when it has made
// so many.
const mostText = 16 << 20

// mostMatches is the number of matches of a pattern in a cell; a cell with more counts as one that is too long.
const mostMatches = 1 << 20

// Cleaning changes the text of a cell.
type Cleaning struct {
	Change   change
	together func(*text.Cells) // does the same for cells of ASCII, which stay such; nil where each must be changed alone
	slow     bool              // it takes longer than remembering what a cell became
}

// change returns a part of cell, or what it writes to the memory of to.
type change func(to, cell []byte) []byte

// plain are the cleanings that need nothing but their name.
var plain = map[string]Cleaning{
	"trim":    {Change: text.Trim, together: (*text.Cells).Trim},
	"squeeze": {Change: text.Squeeze, together: (*text.Cells).Squeeze},
	"upper":   {Change: text.Upper, together: (*text.Cells).Upper},
	"lower":   {Change: text.Lower, together: (*text.Cells).Lower},
	"title":   {Change: text.Title, together: (*text.Cells).Title},
	"digits":  {Change: text.Digits, together: (*text.Cells).Digits},
	"letters": {Change: text.Letters, together: (*text.Cells).Letters},
	"nfc":     {Change: text.Composed, together: asTheyAre},
	"ascii":   {Change: text.ASCII, together: asTheyAre},
}

// asTheyAre leaves cells of ASCII alone.
func asTheyAre(*text.Cells) {}

// PlainNames lists the cleanings that need nothing but their name.
func PlainNames() []string { return slices.Sorted(maps.Keys(plain)) }

// Plain is the cleaning with that name, and whether there is one.
func Plain(name string) (Cleaning, bool) {
	c, ok := plain[name]
	return c, ok
}

// Without leaves out the given characters.
func Without(characters string) Cleaning { return Cleaning{Change: text.Without(characters)} }

// AddPrefix puts the given text before cells that don't start with it.
func AddPrefix(prefix string) Cleaning {
	c := Cleaning{Change: func(to, cell []byte) []byte {
		if len(cell) == 0 || bytes.HasPrefix(cell, []byte(prefix)) {
			return cell
		}
		return append(append(to[:0], prefix...), cell...)
	}}
	if text.Plain([]byte(prefix)) {
		c.together = func(cells *text.Cells) { cells.AddPrefix([]byte(prefix)) }
	}
	return c
}

// AddSuffix puts the given text behind cells that don't end with it.
func AddSuffix(suffix string) Cleaning {
	return Cleaning{Change: func(to, cell []byte) []byte {
		if len(cell) == 0 || bytes.HasSuffix(cell, []byte(suffix)) {
			return cell
		}
		return append(append(to[:0], cell...), suffix...)
	}}
}

// DropPrefix takes the given text off the start.
func DropPrefix(prefix string) Cleaning {
	return Cleaning{Change: func(_, cell []byte) []byte { return bytes.TrimPrefix(cell, []byte(prefix)) },
		together: func(cells *text.Cells) { cells.DropPrefix([]byte(prefix)) }}
}

// DropSuffix takes the given text off the end.
func DropSuffix(suffix string) Cleaning {
	return Cleaning{Change: func(_, cell []byte) []byte { return bytes.TrimSuffix(cell, []byte(suffix)) }}
}

// Replace puts texts in the place of others, each wherever it stands, one after the other.
func Replace(old, new string) Cleaning {
	c := Cleaning{Change: func(to, cell []byte) []byte {
		if old == "" || !bytes.Contains(cell, []byte(old)) {
			return cell
		}
		to = to[:0]
		for {
			at := bytes.Index(cell, []byte(old))
			if at < 0 || len(to) > mostText {
				return append(to, cell...)
			}
			to = append(append(to, cell[:at]...), new...)
			cell = cell[at+len(old):]
		}
	}}
	if old != "" && text.Plain([]byte(new)) {
		c.together = func(cells *text.Cells) { cells.Replace([]byte(old), []byte(new)) }
	}
	return c
}

// Pad puts fill before cells until they have width characters; blank cells stay so.
func Pad(width int, fill rune) Cleaning {
	return Cleaning{Change: func(to, cell []byte) []byte {
		if len(cell) == 0 {
			return cell
		}
		return text.Padded(to, cell, width, fill)
	}}
}

// Part keeps one of the parts between which at stands, from 1, without the blanks around it; -1 is the last. A cell
// without that part becomes blank.
func Part(number int, at string) Cleaning {
	return Cleaning{Change: func(_, cell []byte) []byte {
		if number < 0 {
			parts := bytes.Count(cell, []byte(at)) + 1
			return nth(cell, at, parts+1+number)
		}
		return nth(cell, at, number)
	}}
}

func nth(cell []byte, at string, number int) []byte {
	for ; number > 1; number-- {
		_, rest, more := bytes.Cut(cell, []byte(at))
		if !more {
			return nil
		}
		cell = rest
	}
	if number < 1 {
		return nil
	}
	part, _, _ := bytes.Cut(cell, []byte(at))
	return text.Trim(nil, part)
}

// Regex puts becomes in the place of all that a pattern matches (RE2, github.com/google/re2/wiki/Syntax). In becomes,
// $1 is what the first group of the pattern holds, ${name} that of a name, and $$ a dollar sign. Its error is a
// fault.InvalidValue.
func Regex(pattern, becomes string) (Cleaning, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return Cleaning{}, fault.InvalidValue{What: fmt.Sprintf("can't be %q: %s", pattern, fault.OfPattern(err)),
			Do: "patterns are those of RE2; put them in single quotes"}
	}
	pieces, err := template(becomes, re)
	if err != nil {
		return Cleaning{}, err
	}
	replace := change(func(to, cell []byte) []byte {
		if !re.Match(cell) {
			return cell
		}
		to = to[:0]
		done := 0
		matches := re.FindAllSubmatchIndex(cell, mostMatches+1)
		if len(matches) > mostMatches {
			return append(to, make([]byte, mostText+1)...)
		}
		for _, m := range matches {
			if len(to) > mostText {
				break
			}
			to, done = appendPieces(append(to, cell[done:m[0]]...), pieces, cell, m), m[1]
		}
		return append(to, cell[done:]...)
	})
	if straight := text.StraightOf(pattern); straight != nil {
		return Cleaning{Change: inStraight(straight, pieces, replace)}, nil
	}
	return Cleaning{Change: replace, slow: true}, nil
}

// longestStraight is the length of the cells up to which a straight pattern is tried at each place.
const longestStraight = 1 << 10

// inStraight replaces the matches of a straight pattern in cells of ASCII; others is for other cells.
func inStraight(pattern *text.Straight, pieces []piece, others change) change {
	return func(to, cell []byte) []byte {
		if len(cell) > longestStraight || !text.Plain(cell) {
			return others(to, cell)
		}
		var g text.Groups
		found := pattern.Match(cell, 0, &g)
		if !found {
			return cell
		}
		to = to[:0]
		done := 0
		for found {
			to, done = appendPieces(append(to, cell[done:g[0]]...), pieces, cell, g[:]), g[1]
			if g[0] == g[1] { // nothing, in a cell of which nothing else could be matched
				break
			}
			found = pattern.Match(cell, done, &g)
		}
		return append(to, cell[done:]...)
	}
}

// appendPieces adds what stands in the place of a match.
func appendPieces(to []byte, pieces []piece, cell []byte, match []int) []byte {
	for _, p := range pieces {
		if p.group < 0 {
			to = append(to, p.literal...)
		} else if match[2*p.group] >= 0 {
			to = append(to, cell[match[2*p.group]:match[2*p.group+1]]...)
		}
	}
	return to
}

// piece is a literal, or what a group holds.
type piece struct {
	literal string
	group   int // -1 for a literal
}

// template reads the replacement of a pattern.
func template(with string, re *regexp.Regexp) ([]piece, error) {
	var pieces []piece
	for with != "" {
		before, rest, dollar := strings.Cut(with, "$")
		pieces = append(pieces, piece{before, -1})
		if !dollar {
			break
		}
		name, after := "", rest
		if inner, ok := strings.CutPrefix(rest, "{"); ok {
			name, after, _ = strings.Cut(inner, "}")
		} else if strings.HasPrefix(rest, "$") {
			pieces, with = append(pieces, piece{"$", -1}), rest[1:]
			continue
		} else if rest != "" && unicode.IsDigit(rune(rest[0])) {
			name, after = rest[:1], rest[1:]
		}
		group := re.SubexpIndex(name)
		if len(name) == 1 && name[0] >= '0' && name[0] <= '9' {
			group = int(name[0] - '0')
		}
		if name == "" || group < 0 || group > re.NumSubexp() {
			return nil, fault.InvalidValue{What: fmt.Sprintf("uses a group that the pattern doesn't have: $%s",
				rest), Do: "write $1 for the first group in brackets, and $$ for a dollar sign"}
		}
		pieces, with = append(pieces, piece{"", group}), after
	}
	return pieces, nil
}

// Others says what becomes of cells that a Recode doesn't know.
type Others string

const (
	KeepOthers     Others = "keep"
	SetAsideOthers Others = "set_aside"
	BlankOthers    Others = "blank"
)

// Recode puts values in the place of others.
type Recode struct {
	Values map[string]string
	File   Located // a file with more of them; Path is where it is
	Path   string
	Others Others
}

// RecodeFile reads pairs from the two columns of a file, from its first line to its last.
func RecodeFile(path string) (map[string]string, error) {
	asked := source.ReadOptions{Header: source.HeaderLines{None: true}}
	t, err := source.Open([]string{path}, asked)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	if n := len(t.Header().Names); n != 2 {
		return nil, fault.At(fault.Wrong, fault.Problem{File: path, What: fmt.Sprintf("it has %d columns", n),
			Do: "a file for recode_file: has two: the value in the input, and what it becomes"})
	}
	values, places := map[string]string{}, map[string]int64{}
	for {
		chunk, err := t.Next()
		if err != nil {
			return values, ended(err)
		}
		var r source.Record
		for chunk.Next(&r) {
			_, line := source.PositionIn(r.Position)
			if why := source.Misshapen(&r, 2); why != nil {
				return nil, fault.At(fault.Wrong, fault.Problem{File: path, Line: int(line), What: why.Words(),
					Do: "correct the line"})
			}
			old, new := string(r.Fields[0]), string(r.Fields[1])
			if before, there := values[old]; there && before != new {
				return nil, fault.At(fault.Wrong, fault.Problem{File: path, Line: int(line),
					What: fmt.Sprintf("%q becomes %q here, and %q on line %d", old, new, before, places[old]),
					Do:   "keep one of the lines"})
			}
			values[old], places[old] = new, line
		}
		if err := chunk.Err(); err != nil {
			return nil, err
		}
	}
}

// ended takes the end of a file for none.
func ended(err error) error {
	if err == io.EOF {
		return nil
	}
	return err
}

// FirstOf is the first character of a text that should have no more.
func FirstOf(s string) (rune, bool) {
	r, size := utf8.DecodeRuneInString(s)
	return r, size > 0 && size == len(s)
}
