package source

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/source/sheet"
)

// sheetTable is a table in a sheet.
type sheetTable struct {
	*file
	book   sheet.Book
	number int // of the sheet, from 0
	area   sheet.Area
	format Format
	header Header
	left   int // the column of the first field
	width  int
	first  int // the first row that is a record

	rows    *sheet.Rows
	seed    maphash.Seed
	second  *sheet.Rows
	place   int // the block that second gives next
	ahead   []*sheet.Block
	last    int64 // the last row with a record
	records int64 // records
}

// openSheets opens the sheets of a workbook: each one with every, else the one that is asked for, or the only one.
func openSheets(f *file, z *zip.Reader, asked ReadOptions, every bool) ([]Table, error) {
	if asked.Encoding != "" || asked.Delimiter != "" || asked.Quote != "" || asked.Footer != 0 ||
		asked.Escape != "" || asked.Comment != "" || asked.Widths != "" || asked.ShortLines || asked.Member != "" {
		return nil, f.odd("this is a workbook; how a text is read (encoding, delimiter, quote, escape, comment, "+
			"widths, short "+
			"lines, footer) or JSON (member) doesn't apply to it", "delete that; range: sets where rows end")
	}
	book, err := sheet.Open(z)
	if err != nil {
		return nil, f.broken(err)
	}
	wanted, err := chooseSheets(f, book, asked, every)
	if err != nil {
		return nil, errors.Join(f.broken(err), book.Close())
	}
	f.also = append(f.also, book)
	var tables []Table
	for _, w := range wanted {
		t, err := openSheet(f, book, w, asked)
		if err != nil {
			for _, t := range tables {
				t.Close()
			}
			return nil, err
		}
		if t != nil { // it is not empty
			f.uses++
			tables = append(tables, t)
		}
	}
	switch {
	case len(tables) > 0:
		return tables, nil
	case len(wanted) == 1:
		return nil, f.odd(fmt.Sprintf("sheet %q is empty", wanted[0].sheet.Name), "choose another sheet")
	}
	return nil, f.odd("all sheets of the workbook are empty", "check that this is the right file")
}

// broken says what is wrong with a workbook.
func (f *file) broken(err error) error {
	var odd sheet.Oddity
	if errors.As(err, &odd) {
		return fault.Because(fault.Refused, err, fault.Problem{File: f.path, What: odd.What, Do: odd.Do})
	}
	var known *fault.Fault
	if err == nil || errors.As(err, &known) {
		return err
	}
	return unreadable(f.path, err)
}

// openSheet opens a sheet and finds its header; nil for one that holds nothing.
func openSheet(f *file, book sheet.Book, c sheetArea, asked ReadOptions) (*sheetTable, error) {
	s := &sheetTable{file: f, book: book, number: c.number, area: c.area, seed: maphash.MakeSeed()}
	s.format = Format{File: File{Path: f.path, Sheet: c.sheet.Name}, Format: book.Format(), Range: asked.Range}
	for _, one := range c.all {
		s.format.Sheets = append(s.format.Sheets, Sheet(one))
	}
	if c.table != nil {
		s.format.Totals = c.table.Totals
	}
	if c.table != nil && asked.Header == (HeaderLines{}) {
		asked.Header = HeaderLines{First: c.area.Top, Last: c.area.Top + c.table.Header - 1, None: c.table.Header == 0}
	}
	var err error
	if s.rows, err = book.Rows(c.number); err != nil {
		return nil, f.broken(err)
	}
	sample, err := s.look(asked)
	if err == nil && len(sample) == 0 {
		return nil, s.rows.Close()
	}
	if err == nil {
		err = s.findHeader(sample, asked)
	}
	if err != nil {
		return nil, errors.Join(err, s.rows.Close())
	}
	return s, nil
}

// look reads the first rows of the area that hold something. Their blocks, and those behind them, are kept for later.
func (s *sheetTable) look(asked ReadOptions) ([]row, error) {
	const enough = 64 // blocks, when rows that hold something are few
	want := max(sampled, asked.Header.Last+sampled)
	var sample []row
	for len(sample) < want && len(s.ahead) < enough {
		b, err := s.rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, s.broken(err)
		}
		untouched := *b
		var r sheet.Row
		for len(sample) < want && b.Next(&r) {
			if one, ok := s.sampleRow(&r); ok {
				sample = append(sample, one)
			}
		}
		if b.Err() != nil {
			return nil, s.broken(b.Err())
		}
		if len(sample) > 0 {
			s.ahead = append(s.ahead, &untouched)
		}
	}
	return sample, nil
}

// sampleRow returns the cells of a row that lie in the area, from its left column on.
func (s *sheetTable) sampleRow(r *sheet.Row) (row, bool) {
	one := row{line: int64(r.Number)}
	if r.Number < s.area.Top || s.area.Bottom > 0 && r.Number > s.area.Bottom {
		return one, false
	}
	for _, c := range r.Cells {
		if c.Column < s.area.Left || s.area.Right > 0 && c.Column > s.area.Right {
			continue
		}
		i := c.Column - s.area.Left
		for len(one.cells) <= i {
			one.cells, one.typed = append(one.cells, ""), append(one.typed, false)
		}
		one.cells[i] = string(bytes.TrimSpace(c.Text))
		one.typed[i] = c.Kind == sheet.Number || c.Kind == sheet.Moment || c.Kind == sheet.Truth
	}
	return one, len(one.cells) > 0
}

// findHeader finds the header in the sample, and with it the columns.
func (s *sheetTable) findHeader(sample []row, asked ReadOptions) error {
	found := headerGuess{-1, -1, 1}
	switch lines := asked.Header; {
	case lines.None:
	case lines.First > 0:
		found.first = slices.IndexFunc(sample, func(r row) bool {
			return r.line >= int64(lines.First) &&
				r.line <= int64(lines.Last)
		})
		for found.last = found.first; found.last >= 0 && found.last+1 < len(sample) &&
			sample[found.last+1].line <= int64(lines.Last); {
			found.last++
		}
		if found.first < 0 {
			return refused(s.format.File, int64(lines.First), "there is no header on this line",
				"correct header: in the ladle file")
		}
	default:
		found = judgeHeader(sample)
	}
	s.format.Header = found.guess(sample, asked.Header)
	data := sample
	if found.first >= 0 {
		data = sample[found.last+1:]
		s.header.Line = sample[found.last].line
		s.first = int(s.header.Line) + 1
		for _, r := range sample[:found.first] {
			s.format.SkippedLines++
			if len(s.format.SkippedTexts) < fewTitles {
				s.format.SkippedTexts = append(s.format.SkippedTexts,
					strings.Join(strings.Fields(strings.Join(r.cells, " ")), " "))
			}
		}
	}
	from, to := extent(sample[max(0, found.first):found.last+1], data)
	s.left, s.width = s.area.Left+from, to-from
	if s.area.Right > 0 && asked.Range != "" {
		s.left, s.width, from = s.area.Left, s.area.Right-s.area.Left+1, 0
	}
	var titles []row
	if found.first >= 0 {
		for _, r := range sample[found.first : found.last+1] {
			r.cells = r.cells[min(from, len(r.cells)):]
			titles = append(titles, r)
		}
	}
	s.header.Names = names(titles, s.width, func(i int) string { return "column " + sheet.ColumnName(s.left+i) })
	return nil
}

// extent is the run of columns that have a name, or a value in half of the rows.
func extent(titles, data []row) (from, to int) {
	filled := map[int]int{}
	last := 0
	for _, r := range data {
		for i := range r.cells {
			if !r.blank(i) {
				filled[i]++
				last = max(last, i+1)
			}
		}
	}
	for _, r := range titles {
		for i := range r.cells {
			if !r.blank(i) {
				filled[i] += len(data) + 1
				last = max(last, i+1)
			}
		}
	}
	from = -1
	for i := range last {
		if enough := filled[i]*2 >= len(data); filled[i] > 0 && (enough || titles == nil) {
			if from < 0 {
				from = i
			}
			to = i + 1
		}
	}
	return max(from, 0), max(to, 1)
}

// Header has the names of the columns.
func (s *sheetTable) Header() Header { return s.header }

// Files is the sheet.
func (s *sheetTable) Files() []File { return []File{s.format.File} }

// Formats returns how the sheet is read.
func (s *sheetTable) Formats() []Format {
	f := s.format
	about := s.rows.About()
	f.HiddenColumns = nil
	for _, span := range about.HiddenColumns {
		for c := max(span.First, s.left); c <= span.Last && c < s.left+s.width; c++ {
			f.HiddenColumns = append(f.HiddenColumns, sheet.ColumnName(c))
		}
	}
	if about.MergedCount > 0 {
		f.Merged = 0
		for _, a := range about.Merged {
			if int64(a.Bottom) > s.header.Line && a.Bottom >= s.area.Top && a.Left < s.left+s.width {
				f.Merged++
				for c := a.Left; c <= a.Right && a.Bottom > a.Top; c++ {
					if c >= s.left && c < s.left+s.width {
						f.MergedDown = withColumns(f.MergedDown, c-s.left)
					}
				}
			}
		}
	}
	if s.last > 0 {
		f.Blank = s.last - max(s.header.Line, int64(s.area.Top)-1) - s.records
	}
	return []Format{f}
}

// Size is the bytes of the file.
func (s *sheetTable) Size() int64 { return s.info.Size() }

// Sum is the SHA-256 of the file.
func (s *sheetTable) Sum() (string, error) { return s.sum() }

func (s *sheetTable) count(c *Chunk) {
	s.format.count(c)
	s.last, s.records = max(s.last, c.Counts.last), s.records+c.Counts.Records
}

// Next returns the next chunk; io.EOF at the end of the sheet.
func (s *sheetTable) Next() (*Chunk, error) {
	var b *sheet.Block
	if len(s.ahead) > 0 {
		b, s.ahead = s.ahead[0], s.ahead[1:]
	} else {
		var err error
		if b, err = s.rows.Next(); err == io.EOF {
			return nil, err
		} else if err != nil {
			return nil, s.broken(err)
		}
	}
	o := Origin{Offset: int64(b.Number), Length: len(b.Raw), Done: int64(float64(s.Size()) * s.rows.Progress())}
	return s.chunk(b, o), nil
}

func (s *sheetTable) chunk(b *sheet.Block, o Origin) *Chunk {
	return &Chunk{Raw: b.Raw, Origin: o, rows: &sheetRows{of: s, block: b}, seed: s.seed}
}

// Again reads the chunk with origin o a second time. It is an error when the file has changed since.
func (s *sheetTable) Again(o Origin) (*Chunk, error) {
	if s.second == nil || int64(s.place) > o.Offset {
		if s.second != nil {
			s.second.Close()
		}
		var err error
		if s.second, err = s.book.Rows(s.number); err != nil {
			return nil, s.broken(err)
		}
		s.place = 0
	}
	for {
		b, err := s.second.Next()
		if err == io.EOF {
			return nil, changed(s.path)
		}
		if err != nil {
			return nil, s.broken(err)
		}
		s.place++
		if int64(b.Number) == o.Offset {
			if maphash.Bytes(s.seed, b.Raw) != o.sum {
				return nil, changed(s.path)
			}
			return s.chunk(b, o), nil
		}
	}
}

// Close closes the sheet. Its file is closed with the last one.
func (s *sheetTable) Close() error {
	errs := []error{s.rows.Close()}
	if s.second != nil {
		errs = append(errs, s.second.Close())
	}
	return errors.Join(append(errs, s.release())...)
}

// sheetRows reads records from a block of a sheet.
type sheetRows struct {
	of    *sheetTable
	block *sheet.Block
	row   sheet.Row
}

func (s *sheetRows) next(c *Chunk, r *Record) bool {
	s.row.Keep = r.Keep
	for s.block.Next(&s.row) {
		if n := s.row.Number; n < s.of.first || n < s.of.area.Top || s.of.area.Bottom > 0 && n > s.of.area.Bottom {
			continue
		}
		if !s.fill(r) {
			continue
		}
		if s.row.Hidden {
			c.Counts.Hidden++
		}
		c.Counts.Formulas += int64(s.row.Formulas)
		c.Counts.Merged += int64(s.row.Merged)
		for _, column := range s.row.Down {
			if at := column - s.of.left; at >= 0 && at < s.of.width {
				c.Counts.Down = withColumns(c.Counts.Down, at)
			}
		}
		c.Counts.last = int64(s.row.Number)
		return true
	}
	if err := s.block.Err(); err != nil {
		c.err = s.of.broken(err)
	}
	return false
}

// fill makes a record of the row; false when it holds nothing in the columns of the table.
func (s *sheetRows) fill(r *Record) bool {
	t := s.of
	r.Position, r.Raw = int64(s.row.Number), nil
	r.Fields, r.Stored = blank(r.Fields, t.width), blank(r.Stored, t.width)
	held := false
	for i := range s.row.Cells {
		cell := &s.row.Cells[i]
		at := cell.Column - t.left
		if at < 0 || at >= t.width {
			if cell.Column >= t.area.Left && (t.area.Right == 0 || cell.Column <= t.area.Right) &&
				len(bytes.TrimSpace(cell.Text)) > 0 {
				r.Problem = &reason.Cause{Why: reason.Why{Kind: reason.OutsideArea},
					Detail: reason.Detail{Value: sheet.CellName(cell.Column, s.row.Number),
						Theirs: shortened(cell.Text)}}
			}
			continue
		}
		held = true
		r.Fields[at], r.Stored[at] = cell.Text, stored[cell.Kind]
		if cell.Kind == sheet.Faulty {
			r.Faults = append(r.Faults, Fault{at, cell.Fault})
		}
	}
	return held || r.Problem != nil
}

var stored = [...]Stored{sheet.Text: StoredText, sheet.Number: StoredNumber, sheet.Moment: StoredMoment,
	sheet.Truth: StoredTruth, sheet.Faulty: StoredFault}

// blank returns n slots that hold nothing.
func blank[T any](buf []T, n int) []T {
	if cap(buf) < n {
		return make([]T, n)
	}
	buf = buf[:n]
	clear(buf)
	return buf
}

func shortened(b []byte) string {
	const most = 40
	if r := []rune(string(b)); len(r) > most {
		return string(r[:most]) + "…"
	}
	return string(b)
}
