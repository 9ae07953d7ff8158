package load

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

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
)

// placeAside writes the set-aside file of each input that has lines set aside; loaded says whether the other lines
// are in the database. A file is there whole or not at all.
func (r *run) placeAside(j *judgement, loaded bool) error {
	r.report.SetAside = nil
	for i := range r.plan.Feeds {
		in := &r.report.Inputs[i]
		if in.SetAside == 0 {
			continue
		}
		in.SetAsideFile = filepath.Join(filepath.Dir(r.file.Path), in.Input+".set-aside.csv")
		if err := r.placeFile(j, i, in, loaded); err != nil {
			return fault.Because(fault.Failed, err, fault.Problem{File: in.SetAsideFile,
				What: "the lines that were set aside can't be written: " + err.Error(), Do: "check the rights of its folder"})
		}
	}
	return nil
}

func (r *run) placeFile(j *judgement, feed int, in *InputReport, loaded bool) (err error) {
	f, err := os.CreateTemp(filepath.Dir(in.SetAsideFile), ".ladle-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name()) // it was not whole
		}
	}()
	title := fmt.Sprintf("%d lines of %s that ladle set aside; ", in.SetAside, fileNames(r.sources[feed]))
	if loaded {
		title += "the others are loaded"
	} else {
		title += "NOT LOADED: nothing was changed"
	}
	out := bufio.NewWriterSize(f, 64<<10)
	sum := sha256.New()
	d := source.DialectOf(r.sources[feed])
	titled := func(sum []byte) string { return d.Line(fmt.Sprintf("%s (%s %x)", title, sumMark, sum[:8])) + "\r\n" }
	if _, err := out.WriteString(titled(make([]byte, sha256.Size))); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := r.writeAside(j, feed, io.MultiWriter(out, sum)); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := out.Flush(); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := finish(f, titled(sum.Sum(nil))); err != nil {
		return err
	}
	if in.Moved == "" {
		if in.Moved, err = saveEdited(in.SetAsideFile); err != nil {
			return err
		}
	}
	return os.Rename(f.Name(), in.SetAsideFile)
}

// fileNames names the files of a table, without their folders.
func fileNames(t source.Table) string {
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

// sumMark stands in the title of a set-aside file in front of a checksum of all that is below it.
const sumMark = "unedited as long as its sum is"

// finish puts the title, now with its sum, over the one that was written, and sees the file to the disk.
func finish(f *os.File, title string) error {
	if _, err := f.WriteAt([]byte(title), 0); err != nil {
		return errors.Join(err, f.Close())
	}
	return errors.Join(f.Sync(), f.Chmod(0o644), f.Close())
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

// writeAside writes the header, then each line as it stands in its file behind its number and the reasons.
func (r *run) writeAside(j *judgement, feed int, out io.Writer) error {
	reasons, err := r.reasons(j, feed)
	if err != nil {
		return err
	}
	table := r.sources[feed]
	d := source.DialectOf(table)
	titles := append([]string{"line", "why"}, r.plan.Feeds[feed].Header.Names...)
	if _, err := io.WriteString(out, d.Line(titles...)+"\r\n"); err != nil {
		return err
	}
	return r.eachAside(j, feed, func(row int64, record *source.Record) error {
		why, err := reasons.of(row, func(field int) string { return source.CellName(table, record.Position, field) })
		if err != nil {
			return err
		}
		spot := source.SpotOf(table, record.Position)
		if len(r.report.SetAside) < shownAsides {
			r.report.SetAside = append(r.report.SetAside, AsideReport{File: spot.File, Line: spot.Line, Place: spot.Short(), Reasons: why})
		}
		place := fmt.Sprint(spot.Line)
		if len(table.Files()) > 1 {
			place = spot.Short()
		}
		line := d.Line(place, strings.Join(why, " | ")) + string(d.Delimiter) + d.Record(table, record) + "\r\n"
		_, err = io.WriteString(out, line)
		return err
	})
}

// spotWords says where a row of a feed stands: line 12, row 12 of a sheet, or with the file where there are several.
func (r *run) spotWords(feed int, position int64) string {
	spot := source.SpotOf(r.sources[feed], position)
	if len(r.sources[feed].Files()) > 1 {
		return spot.Short()
	}
	return spot.Words()
}

// eachAside reads the chunks of the file that have lines set aside a second time.
func (r *run) eachAside(j *judgement, feed int, take func(row int64, record *source.Record) error) error {
	rows := r.rows[feed]
	var record source.Record
	for i := range rows.Spool.Batches() {
		first := rows.Spool.First(i)
		if !j.asides[feed].any(first, rows.Spool.Len(i)) {
			continue
		}
		chunk, err := r.sources[feed].Again(rows.Origins[i])
		if err != nil {
			return err
		}
		for row := first; chunk.Next(&record); row++ {
			if !j.asides[feed].has(row) {
				continue
			}
			if err := take(row, &record); err != nil {
				return err
			}
		}
	}
	return nil
}

// reasons brings the problems of the cells and of all steps together by row.
type reasons struct {
	readers []*reasonReader
}

// reasonReader reads one log of problems.
type reasonReader struct {
	log   *spool.LogReader
	label func(column int) (name string, field int)
	row   int64
	field int // of the cell, or -1
	name  string
	cell  string
	why   string
	ended bool
}

func (r *run) reasons(j *judgement, feed int) (*reasons, error) {
	recipe, columns := r.plan.Feeds[feed].Recipe, r.plan.Feeds[feed].Columns
	all := &reasons{}
	add := func(log *spool.Log, label func(int) (string, int)) error {
		reader := &reasonReader{log: log.Reader(), label: label}
		all.readers = append(all.readers, reader)
		return reader.next()
	}
	err := add(r.rows[feed].Problems, func(c int) (string, int) { return recipe.Name(c), recipe.Field(c) })
	for _, s := range j.steps {
		for _, log := range s.problems {
			if s.feed == feed && err == nil {
				err = add(log, func(c int) (string, int) { return s.label(c, recipe, columns) })
			}
		}
	}
	return all, err
}

// label is how a column of the step is called in the input, and the field that alone feeds it, or -1.
func (s *judged) label(column int, recipe *clean.Recipe, columns []clean.Column) (name string, field int) {
	v := s.Columns[column].Value
	for v.Find != nil && len(v.Find.By) == 1 {
		v = v.Find.By[0].Value
	}
	if v.Find == nil && v.Constant == nil {
		return v.Label(), recipe.Field(columns[v.Cell].Of)
	}
	return s.Columns[column].Value.Label(), -1
}

func (r *reasonReader) next() error {
	var numbers [2]int64
	var texts [2]string
	more, err := r.log.Next(numbers[:], texts[:])
	if err != nil || !more {
		r.ended = true
		return err
	}
	r.row, r.name, r.field = numbers[0], "", -1
	r.cell, r.why = shorten(texts[0]), texts[1]
	if numbers[1] != clean.WholeRow {
		r.name, r.field = r.label(int(numbers[1]))
	}
	return nil
}

// words say what is wrong; at names the cell of a field where cells have names.
func (r *reasonReader) words(at func(field int) string) string {
	name := r.name
	if r.field >= 0 {
		if cell := at(r.field); cell != "" {
			name += " (" + cell + ")"
		}
	}
	switch {
	case name == "":
		return r.why
	case r.cell == "":
		return name + " " + r.why
	}
	return fmt.Sprintf("%s %q %s", name, r.cell, r.why)
}

// shorten keeps a reason readable when the cell is not.
func shorten(cell string) string {
	const most = 80
	if r := []rune(cell); len(r) > most {
		return string(r[:most]) + "…"
	}
	return cell
}

// of lists the reasons of a row; rows are asked for in ascending order. at names the cell of a field in it.
func (r *reasons) of(row int64, at func(field int) string) ([]string, error) {
	var all []string
	for _, reader := range r.readers {
		for !reader.ended && reader.row <= row {
			if words := reader.words(at); reader.row == row && !slices.Contains(all, words) {
				all = append(all, words)
			}
			if err := reader.next(); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}
