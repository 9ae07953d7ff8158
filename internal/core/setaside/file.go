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

// placeOf is how a set-aside file of t names the place of a record: its line, behind the file where there are several.
func placeOf(t source.Table, position int64) string {
	place := source.PlaceOf(t, position)
	if place.Alone {
		return fmt.Sprint(place.Line)
	}
	return place.Short()
}

// head is the second line of a set-aside file: the names of its columns.
func head(d source.Dialect, h source.Header) string {
	return d.Line(append(slices.Clone(columns), h.Names...)...) + "\r\n"
}
