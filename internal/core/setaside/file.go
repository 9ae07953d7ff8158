// Package setaside keeps the lines that are set aside.
//
// [Lines] are those of one input with their reasons; [Lines.Write] puts them, whole and as they stand, into a set-aside
// file. [Groups] bring reasons together by column and kind, each [Group] with the [Advice] that would solve it. A
// person corrects the lines in the file; [Correct] makes a table of which these are part.
package setaside

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/whole"
)

// columns stand before those of the input in a set-aside file.
var columns = []string{"line", "why"}

// sumMark stands in the title of a set-aside file in front of a checksum of all that is below it, inputMark in front of
// that of the files that the lines are from.
const (
	sumMark   = "checksum of the lines below:"
	inputMark = "checksum of the input:"
)

// FileName is the name of the set-aside file of an input, as the ladle file wants it.
func FileName(input string, f *ladlefile.File) string {
	if f.SetAsideAs == ladlefile.SetAsideWorkbook {
		return input + ".set-aside" + Workbook
	}
	return input + ".set-aside.csv"
}

// title is the first line of a set-aside file: how many lines of which files, whose SHA-256 is sum, and what became of
// the others.
func title(lines int64, files, sum, others string) string {
	return fmt.Sprintf("%s of %s set aside by ladle; %s; %s %s", reason.Plural(lines, "line"), files, others, inputMark,
		sum[:16])
}

// saveEdited moves a set-aside file of an earlier run out of the way when a person has worked on it.
func saveEdited(path string) (moved string, err error) {
	look := unedited
	if isWorkbook(path) {
		look = uneditedSheet
	}
	if whole, err := look(path); whole || err != nil {
		return "", err
	}
	for n := 1; ; n++ {
		moved = fmt.Sprintf("%s.edited-%d%s", strings.TrimSuffix(path, filepath.Ext(path)), n, filepath.Ext(path))
		if _, err := os.Stat(moved); errors.Is(err, os.ErrNotExist) {
			return moved, os.Rename(path, moved)
		}
	}
}

// unedited reports whether the set-aside file at path is as it was written, or not there.
func unedited(path string) (bool, error) {
	f, err := whole.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	const titleRoom = 4096 // a title is shorter; what an edit made longer is no title of ours
	in := bufio.NewReaderSize(f, titleRoom)
	title, err := in.ReadSlice('\n')
	if err != nil {
		return false, nil
	}
	said := string(title)
	sum := sha256.New()
	if _, err := io.Copy(sum, in); err != nil {
		return false, err
	}
	return strings.Contains(said, sumMark+" "+hex.EncodeToString(sum.Sum(nil)[:8])), nil
}

// FileNames names the files of a table, without their folders.
func FileNames(t source.Table) string {
	var all []string
	for i, m := range t.Files() {
		const most = 3
		if i == most {
			return fmt.Sprintf("%s and %d more", strings.Join(all, ", "), len(t.Files())-most)
		}
		all = append(all, filepath.Base(m.Name()))
	}
	return strings.Join(all, ", ")
}

// spot is where a record stands: its position, and its part of the line, where several are made of it.
type spot struct {
	position int64
	part     int
}

func spotOf(r *source.Record) spot { return spot{r.Position, r.Part} }

// partWord stands between the place of a line and the number of its part.
const partWord = " part "

// in is how a set-aside file of t names the spot: by the line, behind the file where there are several.
func (s spot) in(t source.Table) string {
	place, name := source.PlaceOf(t, s.position), ""
	if name = place.Short(); place.Alone {
		name = fmt.Sprint(place.Line)
	}
	return name + s.partWords()
}

func (s spot) partWords() string {
	if s.part == 0 {
		return ""
	}
	return partWord + fmt.Sprint(s.part)
}

// spotIn reads a spot of t as it is named there.
func spotIn(t source.Table, name string) (s spot, ok bool) {
	place, part, parted := strings.Cut(name, partWord)
	if parted {
		n, err := strconv.Atoi(strings.TrimSpace(part))
		if err != nil || n < 1 {
			return spot{}, false
		}
		s.part = n
	}
	file, number := 0, place
	if at := strings.LastIndexAny(place, ":!"); at >= 0 {
		file = slices.IndexFunc(t.Files(), func(f source.File) bool { return filepath.Base(f.Name()) == place[:at] })
		if file < 0 {
			return spot{}, false
		}
		number = place[at+1:]
	}
	n, err := strconv.ParseInt(strings.TrimSuffix(number, ".0"), 10, 64)
	s.position = source.Position(file, n)
	return s, err == nil && n > 0
}

// head is the second line of a set-aside file: the names of its columns.
func head(d source.Dialect, h source.Header) string {
	return d.Line(append(slices.Clone(columns), h.Names...)...) + "\r\n"
}
