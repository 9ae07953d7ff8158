package setaside

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// given is a set-aside file that a person has corrected.
type given struct {
	path  string
	lines []*givenLine
	at    map[spot]*givenLine     // those that say where they stand
	like  map[string][]*givenLine // those that only their content tells, by its hash
	all   int64                   // lines that were set aside, as its title says
}

// givenLine is a line of it.
type givenLine struct {
	spot          // of the line that it stands for; none where only its content tells
	at      int64 // in the file
	dropped bool
	fields  [][]byte
	problem *reason.Cause // why its fields can't be trusted
	met     bool          // the input has the line
}

func refuse(path string, line int64, what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: path, Line: int(line), What: what, Do: do})
}

var (
	sumOfInput = regexp.MustCompile(inputMark + ` ([0-9a-f]{16})`)
	linesAside = regexp.MustCompile(`^([0-9,]+) lines? of `)
)

// Words that stand in front of the place of a line.
const (
	dropWord = "drop" // the line is left out
	asIsWord = "keep" // the line stays as it is; only where corrected lines are kept
)

// readGiven reads a set-aside file of t at path. sum is that of the files of t, which must be those that the lines are
// from. Its error is a *fault.Fault.
func readGiven(t source.Table, path, sum string) (*given, error) {
	file, err := openLines(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	g := &given{path: path, at: map[spot]*givenLine{}, like: map[string][]*givenLine{}}
	title := strings.Join(file.Formats()[0].SkippedTexts, " ")
	said := sumOfInput.FindStringSubmatch(title)
	switch {
	case said == nil:
		return nil, refuse(path, 1, "this is not a set-aside file: its first line doesn't name the input of its lines",
			"give the file that was written beside the ladle file, with its first two lines as they were")
	case said[1] != sum[:16]:
		return nil, refuse(path, 1, fmt.Sprintf("%s has changed since these lines were set aside", FileNames(t)),
			"load without these corrected lines, and correct the new set-aside file")
	}
	if m := linesAside.FindStringSubmatch(title); m != nil {
		g.all, _ = strconv.ParseInt(strings.ReplaceAll(m[1], ",", ""), 10, 64)
	}
	if err := sameColumns(file, path, columns, t, "leave the second line as it was"); err != nil {
		return nil, err
	}
	err = eachLine(file, path, func(place string, at int64, r *source.Record) error {
		line := &givenLine{at: at, problem: r.Problem}
		for _, f := range r.Fields[len(columns):] {
			line.fields = append(line.fields, value.Unguarded(bytes.Clone(f)))
		}
		g.lines = append(g.lines, line)
		if place, line.dropped = withoutWord(place, dropWord); place == "" && line.dropped {
			hash := hashOf(line.fields)
			g.like[hash] = append(g.like[hash], line)
			return nil
		}
		var ok bool
		if line.spot, ok = spotIn(t, place); !ok {
			return refuse(path, at, fmt.Sprintf("%q is not a line of %s", r.Fields[0], FileNames(t)),
				"leave the first column as it was, or write drop in front of it to leave the line out")
		}
		if g.at[line.spot] != nil {
			return refuse(path, 0, fmt.Sprintf("it has %s%s twice", source.PlaceOf(t, line.position).Words(),
				line.partWords()), "leave one of them")
		}
		g.at[line.spot] = line
		return nil
	})
	return g, err
}

// openLines opens a file of lines of an input, below a title.
func openLines(path string) (source.Table, error) {
	return source.Open([]string{path}, source.ReadOptions{Header: source.HeaderLines{First: 2, Last: 2}})
}

// sameColumns refuses a file whose columns are not some of its own and those of the input.
func sameColumns(file source.Table, path string, own []string, t source.Table, do string) error {
	have, want := file.Header().Names, append(slices.Clone(own), t.Header().Names...)
	const unnamed = "column " // a name that occurs twice, or none, is called by its position, which differs
	same := slices.EqualFunc(have, want, func(a, b string) bool {
		return source.FoldName(a) == source.FoldName(b) || strings.HasPrefix(a, unnamed) &&
			strings.HasPrefix(b, unnamed)
	})
	if !same {
		return refuse(path, 2, fmt.Sprintf("its columns are %s, not %s", strings.Join(have, ", "),
			strings.Join(want, ", ")), do)
	}
	return nil
}

// eachLine gives take each line of a file of lines: its first cell, where it stands, and all of it.
func eachLine(file source.Table, path string, take func(place string, at int64, r *source.Record) error) error {
	width := len(file.Header().Names)
	for {
		chunk, err := file.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		chunk.Seal()
		var r source.Record
		for chunk.Next(&r) {
			_, at := source.PositionIn(r.Position)
			if why := source.Misshapen(&r, width); why != nil && len(r.Fields) < len(columns) {
				return refuse(path, at, why.Words(), "correct the line")
			}
			if err := take(string(bytes.TrimSpace(r.Fields[0])), at, &r); err != nil {
				return err
			}
		}
		if err := chunk.Err(); err != nil {
			return err
		}
	}
}

// withoutWord takes a word off the front of a place.
func withoutWord(place, word string) (rest string, has bool) {
	front, rest, _ := strings.Cut(place, " ")
	if !strings.EqualFold(front, word) {
		return place, false
	}
	return strings.TrimSpace(rest), true
}

// lineFor is the given line that stands for a line of the input; nil where there is none.
func (g *given) lineFor(f foundLine) (*givenLine, error) {
	if line := g.at[f.spot]; line != nil {
		line.met = true
		return line, nil
	}
	like := g.like[f.hash]
	for _, line := range like {
		if !line.met {
			line.met = true
			return line, nil
		}
	}
	if like != nil {
		return nil, refuse(g.path, like[0].at, "it is not clear which line is to be dropped: the input has several like "+
			"this", "write drop and the number of the line")
	}
	return nil, nil
}

// allMet refuses lines that stand for no line of t.
func (g *given) allMet(t source.Table) error {
	for _, line := range g.lines {
		switch {
		case line.met:
		case line.position == 0:
			return refuse(g.path, line.at, "it is not clear which line is to be dropped: the input has no line like this",
				"write drop and the number of the line")
		default:
			return refuse(g.path, 0, fmt.Sprintf("its line refers to %s, but the input has no such line",
				source.PlaceOf(t, line.position).Short()+line.partWords()), "leave the first column as it was")
		}
	}
	return nil
}
