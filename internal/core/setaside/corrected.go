package setaside

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
)

// given is a set-aside file that a person has corrected.
type given struct {
	path  string
	lines []*givenLine
	all   int64 // lines that were set aside, as its title says
}

// givenLine is a line of it.
type givenLine struct {
	position int64 // of the line that it stands for; 0 where only its content tells
	at       int64 // in the file
	dropped  bool
	fields   [][]byte
	problem  *reason.Cause // why its fields can't be trusted
	met      bool          // the input has the line
}

func refuse(path string, line int64, what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: path, Line: int(line), What: what, Do: do})
}

var (
	sumOfInput = regexp.MustCompile(inputMark + ` ([0-9a-f]{16})`)
	linesAside = regexp.MustCompile(`^([0-9,]+) lines? of `)
)

// dropWord stands in front of the place of a line that is to be left out, or in its place.
const dropWord = "drop"

// readGiven reads a set-aside file of t at path. sum is that of the files of t, which must be those that the lines are
// from. Its error is a *fault.Fault.
func readGiven(t source.Table, path, sum string) (*given, error) {
	file, err := openLines(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	g := &given{path: path}
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
			line.fields = append(line.fields, unguarded(bytes.Clone(f)))
		}
		place, line.dropped = withoutDrop(place)
		if place != "" || !line.dropped {
			var ok bool
			if line.position, ok = positionOf(place, t); !ok {
				return refuse(path, at, fmt.Sprintf("%q is not a line of %s", r.Fields[0], FileNames(t)),
					"leave the first column as it was, or write drop in front of it to leave the line out")
			}
			if slices.ContainsFunc(g.lines, func(o *givenLine) bool { return o.position == line.position }) {
				return refuse(path, 0, fmt.Sprintf("it has %s twice", source.PlaceOf(t, line.position).Words()),
					"leave one of them")
			}
		}
		g.lines = append(g.lines, line)
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

// withoutDrop takes the word off a place that says that a line is left out.
func withoutDrop(place string) (rest string, dropped bool) {
	word, rest, _ := strings.Cut(place, " ")
	if !strings.EqualFold(word, dropWord) {
		return place, false
	}
	return strings.TrimSpace(rest), true
}

// positionOf reads the place of a line of t as placeOf writes it.
func positionOf(place string, t source.Table) (int64, bool) {
	file, number := 0, place
	if at := strings.LastIndexAny(place, ":!"); at >= 0 {
		file = slices.IndexFunc(t.Files(), func(f source.File) bool { return filepath.Base(f.Name()) == place[:at] })
		if file < 0 {
			return 0, false
		}
		number = place[at+1:]
	}
	n, err := strconv.ParseInt(strings.TrimSuffix(number, ".0"), 10, 64)
	return source.Position(file, n), err == nil && n > 0
}

// TakeIn takes the lines that a person has corrected in a set-aside file of t at path into those that are kept, once
// all of t was read for them. It returns t once more, to be read. Lines that were left as they were are not kept. sum is
// that of the files of t. Its error is a *fault.Fault, or of the context.
func (k *Kept) TakeIn(ctx context.Context, t source.Table, path, sum string) (source.Table, error) {
	g, err := readGiven(t, path, sum)
	if err != nil {
		return nil, err
	}
	finder := newFinder(g)
	var origins []source.Origin
	err = source.Each(ctx, t, finder.find, func(c *source.Chunk, found []foundLine) error {
		origins = append(origins, c.Origin)
		for _, f := range found {
			if err := k.take(t, g, f); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, line := range g.lines {
		switch {
		case line.met:
		case line.position == 0:
			return nil, refuse(path, line.at, "it is not clear which line is to be dropped: the input has no line like "+
				"this, or several", "write drop and the number of the line")
		default:
			return nil, refuse(path, 0, fmt.Sprintf("its line refers to %s, but the input has no such line",
				source.PlaceOf(t, line.position).Short()), "leave the first column as it was")
		}
	}
	if left := g.all - int64(len(g.lines)); left > 0 {
		k.Notes = append(k.Notes, fmt.Sprintf("%s: of the %s that were set aside, the file lacks %s; what the input has "+
			"there stays as it is", filepath.Base(path), reason.Plural(g.all, "line"), reason.Count(left)))
	}
	return source.Replay(t, origins), nil
}

// foundLine is a line of the input that a given line may stand for.
type foundLine struct {
	position int64
	hash     string
	fields   [][]byte
	problem  bool
}

// finder looks for the lines of an input that the lines of a file stand for.
type finder struct {
	positions map[int64]bool
	contents  map[string]bool // hashes of lines that only their content tells
}

func newFinder(g *given) *finder {
	f := &finder{map[int64]bool{}, map[string]bool{}}
	for _, line := range g.lines {
		if line.position != 0 {
			f.positions[line.position] = true
		} else {
			f.contents[hashOf(line.fields)] = true
		}
	}
	return f
}

func (f *finder) find(chunk *source.Chunk) (found []foundLine) {
	chunk.Seal()
	var r source.Record
	for chunk.Next(&r) {
		if !f.positions[r.Position] && len(f.contents) == 0 {
			continue
		}
		hash := hashOfRecord(&r)
		if !f.positions[r.Position] && !f.contents[hash] {
			continue
		}
		line := foundLine{position: r.Position, hash: hash, problem: r.Problem != nil}
		for _, field := range r.Fields {
			line.fields = append(line.fields, bytes.Clone(field))
		}
		found = append(found, line)
	}
	return found
}

// take keeps what was made of a line.
func (k *Kept) take(t source.Table, g *given, f foundLine) error {
	for _, line := range g.lines {
		switch {
		case line.position == f.position:
		case line.position == 0 && hashOf(line.fields) == f.hash && !line.met:
			line.position = f.position
		case line.position == 0 && hashOf(line.fields) == f.hash:
			return refuse(g.path, line.at, "it is not clear which line is to be dropped: the input has several like this",
				"write drop and the number of the line")
		default:
			continue
		}
		line.met = true
		k.keep(placeOf(t, f.position), f, line)
		return nil
	}
	return nil
}
