package source

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	plaintext "ladle/internal/core/text"
	"ladle/internal/core/whole"
)

// RowPart is rows that stand in no file: the answer to a query, or the rows of a table.
type RowPart struct {
	File File // what they are called; its Query is true
	// Each gives the rows to take, one after the other, each good until that returns; before, it gives the names of the columns
	// with a nil row. nil stands for a blank cell.
	Each func(take func(columns []string, row [][]byte) error) error
}

// Rows opens rows that stand in no file as one table. They are kept in a temporary file without a name as long as it is
// open. A row is identified by its number in its part, from 1. Two columns of one name are an error, a *fault.Fault, and so
// are parts with other columns than the first.
func Rows(parts ...RowPart) (Table, error) {
	name := parts[0].File.Path
	disk, err := whole.Nameless("")
	if err != nil {
		return nil, unkept(name, err)
	}
	w := &rowWriter{buf: bufio.NewWriterSize(disk, 1<<20)}
	w.csv = csv.NewWriter(w.buf)
	for i, p := range parts {
		w.part, w.name, w.n = i, p.File.Path, 0
		if err = p.Each(w.take); err != nil {
			break
		}
	}
	w.csv.Flush()
	if err == nil {
		err = errors.Join(w.csv.Error(), w.buf.Flush())
	}
	info, err2 := disk.Stat()
	if err = errors.Join(err, err2); err != nil {
		disk.Close()
		return nil, err
	}
	f := &file{path: name, disk: disk, info: info, uses: 1}
	defer f.release()
	contents, _, err := f.contents()
	if err != nil {
		return nil, err
	}
	tables, err := openTexts(f, contents, ReadOptions{Header: HeaderLines{First: 1, Last: 1}, Encoding: "utf-8",
		Delimiter: ",", Quote: `"`})
	if err != nil {
		return nil, err
	}
	names := tables[0].Header().Names[rowMarks:]
	made := &rowTable{Table: Map(tables[0], Header{Names: names}, func(*Chunk) Mapping { return rowNumbers{} })}
	for _, p := range parts {
		made.files = append(made.files, p.File)
	}
	return made, nil
}

// rowMarks is the number of columns before those of a row: that of its part, and its own number.
const rowMarks = 2

func unkept(name string, err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{File: name, What: "its rows can't be kept: " +
		fault.OfSystem(err),
		Do: "check the free disk space of the folder for temporary files"})
}

// rowWriter writes rows to a file, behind the numbers of their parts and their own.
type rowWriter struct {
	buf     *bufio.Writer
	csv     *csv.Writer
	part    int
	name    string   // of the part
	n       int64    // rows of the part
	columns []string // of the first part
	order   []int    // where the columns stand in the rows of this part
	cells   []string
}

func (w *rowWriter) take(columns []string, row [][]byte) error {
	if row == nil {
		return w.begin(columns)
	}
	w.n++
	w.cells = append(w.cells[:0], strconv.Itoa(w.part), strconv.FormatInt(w.n, 10))
	for _, at := range w.order {
		w.cells = append(w.cells, plaintext.Of(row[at])) // which is written before the row is over
	}
	if err := w.csv.Write(w.cells); err != nil {
		return unkept(w.name, err)
	}
	return nil
}

// begin writes the names of the columns, each of which must be told apart, or finds those of the first part among them.
func (w *rowWriter) begin(columns []string) error {
	seen := map[string]int{}
	for i, c := range columns {
		if _, twice := seen[FoldName(c)]; c == "" || twice {
			what := fmt.Sprintf("two of its columns are called %q", c)
			if c == "" {
				what = "one of its columns has no name, or that of another one"
			}
			return fault.At(fault.Wrong, fault.Problem{File: w.name, What: what,
				Do: "give it another name in the query, with AS"})
		}
		seen[FoldName(c)] = i
	}
	w.order = w.order[:0]
	if w.part == 0 {
		w.columns = columns
		for i := range columns {
			w.order = append(w.order, i)
		}
		return w.csv.Write(append([]string{"part", "row"}, columns...))
	}
	for _, c := range w.columns {
		at, there := seen[FoldName(c)]
		if !there || len(columns) != len(w.columns) {
			return fault.At(fault.Wrong, fault.Problem{File: w.name,
				What: fmt.Sprintf("its columns are %s, those of the first "+
					"table %s", strings.Join(columns, ", "), strings.Join(w.columns, ", ")),
				Do: "make it an input of its own, or write a query"})
		}
		w.order = append(w.order, at)
	}
	return nil
}

// rowNumbers takes the numbers of a part and a row off its cells, and makes them its place.
type rowNumbers struct{}

func (rowNumbers) Map(r *Record) bool {
	part, err := strconv.Atoi(string(r.Fields[0]))
	n, err2 := strconv.ParseInt(string(r.Fields[1]), 10, 64)
	if err != nil || err2 != nil {
		return false
	}
	r.Position, r.Fields, r.Raw = Position(part, n), r.Fields[rowMarks:], nil
	for i := range r.Faults {
		r.Faults[i].Field -= rowMarks
	}
	return true
}

// rowTable is a table of rows that stand in no file.
type rowTable struct {
	Table
	files []File
}

func (t *rowTable) Files() []File { return t.files }

// formatRows is the format of rows that stand in no file.
const formatRows = "rows"

// Formats says of each part no more than that it is none.
func (t *rowTable) Formats() (all []Format) {
	for _, f := range t.files {
		all = append(all, Format{File: f, Format: formatRows})
	}
	return all
}

// Behind is the table that the rows are kept in.
func (t *rowTable) Behind() Table { return t.Table }
