// Package aside keeps what is set aside: the file of lines that can't be used, whole or absent, the reasons in groups with
// what would solve each, and the lines that come back mended.
package aside

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

	"ladle/internal/core/source"
	"ladle/internal/core/whole"
)

// Columns stand before those of the input in a set-aside file.
var Columns = []string{"line", "why"}

// sumMark stands in the title of a set-aside file in front of a checksum of all that is below it, inputMark in front of
// that of the files that the lines are from.
const (
	sumMark   = "unedited as long as its sum is"
	inputMark = "of the input with the sum"
)

// Title is the first line of a set-aside file: how many lines of which files, whose SHA-256 is sum, and what became of the
// others.
func Title(lines int64, files, sum, others string) string {
	what := fmt.Sprintf("%d lines", lines)
	if lines == 1 {
		what = "1 line"
	}
	return fmt.Sprintf("%s of %s that ladle set aside, %s %s; %s", what, files, inputMark, sum[:16], others)
}

// Place writes a set-aside file under a title in the dialect d. It is there whole or not at all. A file of an earlier run
// that a person has edited is moved out of the way.
func Place(path, title string, d source.Dialect, write func(io.Writer) error) (moved string, err error) {
	f, err := whole.Create(path)
	if err != nil {
		return "", err
	}
	defer f.Discard()
	titled := func(sum []byte) string { return d.Line(fmt.Sprintf("%s (%s %x)", title, sumMark, sum[:8])) + "\r\n" }
	out, sum := bufio.NewWriterSize(f, 64<<10), sha256.New()
	if _, err := out.WriteString(titled(make([]byte, sha256.Size))); err != nil {
		return "", err
	}
	if err := errors.Join(write(io.MultiWriter(out, sum)), out.Flush()); err != nil {
		return "", err
	}
	if _, err := f.WriteAt([]byte(titled(sum.Sum(nil))), 0); err != nil { // over the one that was written
		return "", err
	}
	if err := f.Finish(); err != nil {
		return "", err
	}
	if moved, err = saveEdited(path); err != nil {
		return "", err
	}
	return moved, f.Place()
}

// saveEdited moves a set-aside file of an earlier run out of the way when a person has worked on it.
func saveEdited(path string) (moved string, err error) {
	if whole, err := unedited(path); whole || err != nil {
		return "", err
	}
	for n := 1; ; n++ {
		moved = fmt.Sprintf("%s.edited-%d.csv", strings.TrimSuffix(path, ".csv"), n)
		if _, err := os.Stat(moved); errors.Is(err, os.ErrNotExist) {
			return moved, os.Rename(path, moved)
		}
	}
}

// unedited tells whether the set-aside file at path is as it was written, or not there.
func unedited(path string) (bool, error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && !info.Mode().IsRegular() {
		return false, fmt.Errorf("%s is not a file", path)
	}
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

// PlaceOf is how a set-aside file of t names the place of a record: its line, behind the file where there are several.
func PlaceOf(t source.Table, position int64) string {
	spot := source.SpotOf(t, position)
	if len(t.Files()) > 1 {
		return spot.Short()
	}
	return fmt.Sprint(spot.Line)
}

// Head is the second line of a set-aside file: the names of its columns.
func Head(d source.Dialect, h source.Header) string {
	return d.Line(append(slices.Clone(Columns), h.Names...)...) + "\r\n"
}

// Line is a line of a set-aside file: the place of a record, what is wrong with it, and the record as it stands in its file.
func Line(t source.Table, d source.Dialect, r *source.Record, problems []Problem) string {
	return d.Line(PlaceOf(t, r.Position), strings.Join(Reasons(problems), " | ")) + string(d.Delimiter) + d.Record(t, r) + "\r\n"
}

// Reasons are problems in words.
func Reasons(problems []Problem) []string {
	all := make([]string, len(problems))
	for i, p := range problems {
		all[i] = p.String()
	}
	return all
}
