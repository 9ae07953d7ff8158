package setaside

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
)

// Corrected is a table with some of its lines replaced by those of a set-aside file that a person has corrected. Its
// Sum is still that of the input: it is the same input that must not be loaded twice where rows have no key.
type Corrected struct {
	source.Table               // with the lines replaced
	original     source.Table  // without
	file         source.Table  // the corrected lines
	lines        []line        // by position
	used         []atomic.Bool // of lines
	origins      []source.Origin
	mutex        sync.Mutex
	chunk        int // whose records are in rows; -1 for none
	rows         []correctedRow
}

// line is a corrected line: which one it is, and where it stands in the file of corrected lines.
type line struct {
	position int64
	chunk    int
	row      int
}

// Correct opens a set-aside file of t at path. sum is that of the files of t, which must be those that the lines are
// from.
func Correct(t source.Table, path, sum string) (*Corrected, error) {
	asked := source.ReadOptions{Header: source.HeaderLines{First: 2, Last: 2}}
	file, err := source.Open([]string{path}, asked)
	if err != nil {
		return nil, err
	}
	m := &Corrected{original: t, file: file, chunk: -1}
	if err := m.open(path, sum); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	m.Table = source.Map(t, t.Header(), func() source.Mapping { return m })
	return m, nil
}

func refuse(path string, line int64, what, do string) error {
	return fault.At(fault.Refused, fault.Problem{File: path, Line: int(line), What: what, Do: do})
}

var sumOfInput = regexp.MustCompile(inputMark + ` ([0-9a-f]{16})`)

// open holds the file against the table, and finds its lines.
func (m *Corrected) open(path, sum string) error {
	title := strings.Join(m.file.Formats()[0].SkippedTexts, " ")
	said := sumOfInput.FindStringSubmatch(title)
	switch {
	case said == nil:
		return refuse(path, 1, "this is not a set-aside file: its first line doesn't name the input of its lines",
			"give the file that was written beside the ladle file, with its first two lines as they were")
	case said[1] != sum[:16]:
		return refuse(path, 1, fmt.Sprintf("%s has changed since these lines were set aside", FileNames(m.original)),
			"load without these corrected lines, and correct the new set-aside file")
	}
	have, want := m.file.Header().Names, append(slices.Clone(columns), m.original.Header().Names...)
	const unnamed = "column " // a name that occurs twice, or none, is called by its position, which differs
	same := slices.EqualFunc(have, want, func(a, b string) bool {
		return source.FoldName(a) == source.FoldName(b) || strings.HasPrefix(a, unnamed) &&
			strings.HasPrefix(b, unnamed)
	})
	if !same {
		return refuse(path, 2, fmt.Sprintf("its columns are %s, not %s", strings.Join(have, ", "),
			strings.Join(want, ", ")), "leave the second line as it was")
	}
	return m.index(path)
}

// index reads the file once, for the places of its lines.
func (m *Corrected) index(path string) error {
	files := map[string]int{}
	for i, f := range m.original.Files() {
		files[filepath.Base(f.Name())] = i
	}
	width := len(m.file.Header().Names)
	for {
		chunk, err := m.file.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		chunk.Seal()
		var r source.Record
		for row := 0; chunk.Next(&r); row++ {
			_, at := source.PositionIn(r.Position)
			if why := source.Misshapen(&r, width); why != nil && len(r.Fields) < len(columns) {
				return refuse(path, at, why.Words(), "correct the line")
			}
			position, ok := positionOf(string(bytes.TrimSpace(r.Fields[0])), files)
			if !ok {
				return refuse(path, at, fmt.Sprintf("%q is not a line of %s", r.Fields[0], FileNames(m.original)),
					"leave the first column as it was")
			}
			m.lines = append(m.lines, line{position, len(m.origins), row})
		}
		m.origins = append(m.origins, chunk.Origin)
		if err := chunk.Err(); err != nil {
			return err
		}
	}
	slices.SortStableFunc(m.lines, func(a, b line) int { return cmp.Compare(a.position, b.position) })
	for i := 1; i < len(m.lines); i++ {
		if m.lines[i].position == m.lines[i-1].position {
			return refuse(path, 0, fmt.Sprintf("it has %s twice",
				source.PlaceOf(m.original, m.lines[i].position).Words()), "leave one of them")
		}
	}
	m.used = make([]atomic.Bool, len(m.lines))
	return nil
}

// positionOf reads the place of a line as placeOf writes it.
func positionOf(place string, files map[string]int) (int64, bool) {
	file, number := 0, place
	if at := strings.LastIndexAny(place, ":!"); at >= 0 {
		known := false
		if file, known = files[place[:at]]; !known {
			return 0, false
		}
		number = place[at+1:]
	}
	n, err := strconv.ParseInt(strings.TrimSuffix(number, ".0"), 10, 64)
	return source.Position(file, n), err == nil && n > 0
}

// Map puts the corrected line in the place of a record.
func (m *Corrected) Map(r *source.Record) bool {
	i, found := slices.BinarySearchFunc(m.lines, r.Position,
		func(l line, p int64) int { return cmp.Compare(l.position, p) })
	if !found {
		return true
	}
	m.used[i].Store(true)
	row, err := m.row(m.lines[i])
	if err != nil {
		r.Problem = reason.Fault(reason.Unreadable, "the corrected line can't be read: "+err.Error())
		return true
	}
	kinds := slices.Clone(r.Stored)
	if r.Problem != nil || len(r.Fields) != len(row.fields) {
		kinds = nil
	}
	for k := range kinds { // what was left as it was is still what the workbook stores
		if !bytes.Equal(row.fields[k], r.Fields[k]) {
			kinds[k] = source.StoredText
		}
	}
	r.Fields, r.Raw, r.Problem, r.Faults, r.Stored = slices.Clone(row.fields), nil, row.problem, nil, kinds
	return true
}

// correctedRow is what stands on a corrected line.
type correctedRow struct {
	fields  [][]byte
	problem *reason.Cause
}

// row reads a corrected line. The chunk that was read last is kept.
func (m *Corrected) row(l line) (correctedRow, error) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if m.chunk != l.chunk {
		chunk, err := m.file.Again(m.origins[l.chunk])
		if err != nil {
			return correctedRow{}, err
		}
		m.rows = nil
		var r source.Record
		for chunk.Next(&r) {
			row := correctedRow{problem: r.Problem}
			for _, f := range r.Fields[len(columns):] {
				row.fields = append(row.fields, bytes.Clone(f))
			}
			m.rows = append(m.rows, row)
		}
		m.chunk = l.chunk
	}
	return m.rows[l.row], nil
}

// Path is that of the corrected lines.
func (m *Corrected) Path() string { return m.file.Files()[0].Path }

// Behind is the input as it stands in its files.
func (m *Corrected) Behind() source.Table { return m.original }

// Unused returns the first corrected line that stands for no line of the input; call it when the input was read. Its
// error is a *fault.Fault.
func (m *Corrected) Unused() error {
	for i := range m.used {
		if !m.used[i].Load() {
			at := source.PlaceOf(m.original, m.lines[i].position)
			return refuse(m.file.Files()[0].Path, 0, fmt.Sprintf("its line refers to %s, but the input has no such "+
				"line", at.Short()),
				"leave the first column as it was")
		}
	}
	return nil
}

// Close closes the input and the file.
func (m *Corrected) Close() error { return errors.Join(m.original.Close(), m.file.Close()) }
