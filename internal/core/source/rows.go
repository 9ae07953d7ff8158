package source

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"strconv"

	"ladle/internal/core/fault"
	"ladle/internal/core/whole"
)

// Rows opens rows that stand in no file, such as the answer to a query. each gives them to take, one after the other; it
// is given the names of the columns first, with a nil row, and nil stands for a blank cell. They are kept in a temporary
// file without a name as long as the table is open. A row is known by its number, from 1. Two columns of one name are an
// error, a *fault.Fault.
func Rows(name string, each func(take func(columns []string, row []*string) error) error) (Table, error) {
	disk, err := whole.Nameless("")
	if err != nil {
		return nil, unkept(name, err)
	}
	w := &rowWriter{name: name, buf: bufio.NewWriterSize(disk, 1<<20)}
	w.csv = csv.NewWriter(w.buf)
	err = each(w.take)
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
	names := tables[0].Header().Names[1:]
	numbered := Map(tables[0], Header{Names: names}, func(*Chunk) Mapping { return rowNumbers{} })
	return &rowTable{numbered, name}, nil
}

func unkept(name string, err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{File: name, What: "its rows can't be kept: " + fault.OfSystem(err),
		Do: "check the free disk space of the folder for temporary files"})
}

// rowWriter writes rows to a file, behind their numbers.
type rowWriter struct {
	name  string
	buf   *bufio.Writer
	csv   *csv.Writer
	cells []string
	n     int64
}

func (w *rowWriter) take(columns []string, row []*string) error {
	if row == nil {
		return w.begin(columns)
	}
	w.n++
	w.cells = append(w.cells[:0], strconv.FormatInt(w.n, 10))
	for _, c := range row {
		if c == nil {
			w.cells = append(w.cells, "")
			continue
		}
		w.cells = append(w.cells, *c)
	}
	if err := w.csv.Write(w.cells); err != nil {
		return unkept(w.name, err)
	}
	return nil
}

// begin writes the names of the columns, each of which must be told apart.
func (w *rowWriter) begin(columns []string) error {
	seen := map[string]bool{}
	for _, c := range columns {
		if c == "" || seen[FoldName(c)] {
			return fault.At(fault.Wrong, fault.Problem{File: w.name, What: fmt.Sprintf("two of its columns are called %q", c),
				Do: "give one of them another name in the query, with AS"})
		}
		seen[FoldName(c)] = true
	}
	return w.csv.Write(append([]string{"row"}, columns...))
}

// rowNumbers takes the number of a row off its cells, and makes it its place.
type rowNumbers struct{}

func (rowNumbers) Map(r *Record) bool {
	n, err := strconv.ParseInt(string(r.Fields[0]), 10, 64)
	if err != nil {
		return false
	}
	r.Position, r.Fields = Position(0, n), r.Fields[1:]
	for i := range r.Faults {
		r.Faults[i].Field--
	}
	return true
}

// rowTable is a table of rows of a query.
type rowTable struct {
	Table
	name string
}

func (t *rowTable) Files() []File { return []File{{Path: t.name, Query: true}} }

// Behind is the table that the rows are kept in.
func (t *rowTable) Behind() Table { return t.Table }
