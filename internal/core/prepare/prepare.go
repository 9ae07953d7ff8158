// Package prepare cleans the inputs of a ladle file and writes them to files, without a database.
package prepare

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/formula"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/reshape"
	"ladle/internal/core/setaside"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/whole"
)

// Options say what is written where.
type Options struct {
	Folder  string
	Format  Format
	Replace bool     // files that are there
	Columns []string // those that are written, in this order; nil for all
	Renames []Rename // of what is written
	// Progress hears of the bytes of an input that are done; nil when nobody listens.
	Progress func(input string, done, of int64)

	file *ladlefile.File
}

// Format is that of the prepared files.
type Format string

const (
	CSV  Format = "csv"
	XLSX Format = "xlsx"
)

// Report is the account of a preparation.
type Report struct {
	LadleFile string           `json:"ladle_file"`
	Inputs    []InputReport    `json:"inputs"`
	Groups    []setaside.Group `json:"reasons"` // why lines are set aside
}

// InputReport is the account of an input.
type InputReport struct {
	Input        string `json:"name"`
	Files        string `json:"file"`
	Tally        Tally  `json:"tally"`
	Output       string `json:"output"`
	SetAsideFile string `json:"set_aside_file,omitempty"`
	Moved        string `json:"older_set_aside_file,omitempty"` // where an edited set-aside file went
	// cells with an apostrophe put before them, so that nothing runs them as a formula
	Guarded int64    `json:"guarded_cells"`
	Notes   []string `json:"notes"` // what to know of the corrected lines
}

// Tally is the account of the lines of an input: Read is the sum of the others.
type Tally struct {
	Read     int64 `json:"read"`
	Written  int64 `json:"written"`
	LeftOut  int64 `json:"left_out"`
	SetAside int64 `json:"set_aside"`
}

// SetAside is the number of lines that were set aside.
func (r *Report) SetAside() (n int64) {
	for _, in := range r.Inputs {
		n += in.Tally.SetAside
	}
	return n
}

// Input is an input of a ladle file, opened, with what is done to it.
type Input struct {
	Name   string
	Table  source.Table
	Recipe *clean.Recipe

	kept *setaside.Kept
}

// Notes are what to know of the corrected lines of the input, once it was read.
func (in *Input) Notes() []string { return in.kept.Said(false) }

// Rows opens the rows of an input that comes from a database.
type Rows func(context.Context, *ladlefile.Input) (source.Table, error)

// Open opens the inputs of a ladle file.
func Open(ctx context.Context, f *ladlefile.File, rows Rows) ([]*Input, error) {
	var all []*Input
	var failed []error
	day := time.Now()
	for _, in := range f.Inputs {
		t, err := open(ctx, f, in, rows)
		if err != nil {
			failed = append(failed, source.OfInput(err, in.Name.Value))
			continue
		}
		kept, err := setaside.ReadKept(setaside.KeptPath(f.Kept, in.Name.Value), t)
		if err == nil && kept.Any() {
			t = kept.In(t)
		}
		recipe, err2 := plan.Recipe(f.Path, in, t.Header())
		if err2 == nil {
			recipe.Tell(clean.Provenance{Files: t.Files(), Day: day})
		}
		all, failed = append(all, &Input{in.Name.Value, t, recipe, kept}), append(failed, err, err2)
	}
	if err := errors.Join(failed...); err != nil {
		Close(all)
		return nil, source.Together(err)
	}
	return all, nil
}

// open opens an input and gives its lines their shape.
func open(ctx context.Context, f *ladlefile.File, in *ladlefile.Input, rows Rows) (source.Table, error) {
	if !in.FromDatabase() {
		return reshape.Open(in.Paths, in.Asked, in.Shape, f.Path)
	}
	t, err := rows(ctx, in)
	if err != nil {
		return nil, err
	}
	shaped, err := reshape.Of(t, in.Shape, f.Path)
	if err != nil {
		t.Close()
	}
	return shaped, err
}

// Close closes inputs.
func Close(all []*Input) {
	for _, in := range all {
		in.Table.Close()
		if in.Recipe != nil {
			in.Recipe.Close()
		}
	}
}

// Cleaned returns the rows of inputs as the ladle file cleans them.
func Cleaned(ctx context.Context, all []*Input, progress func(input string, done, of int64)) ([]source.Table, error) {
	var tables []source.Table
	for _, in := range all {
		t, err := in.Recipe.Gather(ctx, in.Table, in.told(progress))
		if err != nil {
			return nil, source.OfInput(err, in.Name)
		}
		tables = append(tables, in.Recipe.Table(t))
	}
	return tables, nil
}

func (in *Input) told(progress func(string, int64, int64)) func(int64) {
	if progress == nil {
		return nil
	}
	return func(done int64) { progress(in.Name, done, in.Table.Size()) }
}

// Run writes the cleaned rows of all inputs of f into a folder, and beside them those that are set aside. Each file is
// there whole or not at all. The error is a *fault.Fault or of the context.
func Run(ctx context.Context, f *ladlefile.File, rows Rows, o Options) (*Report, error) {
	inputs, err := Open(ctx, f, rows)
	if err != nil {
		return nil, err
	}
	defer Close(inputs)
	o.file = f
	if err := mayWrite(f, inputs, o); err != nil {
		return nil, err
	}
	selections, err := o.selectAll(inputs)
	if err != nil {
		return nil, err
	}
	r := &Report{LadleFile: f.Path, Inputs: []InputReport{}}
	groups := setaside.Groups{File: f}
	for i, in := range inputs {
		w := &inputWriter{Input: in, Options: o, selection: selections[i]}
		if err := w.run(ctx, &groups); err != nil {
			return nil, source.OfInput(err, in.Name)
		}
		r.Inputs = append(r.Inputs, w.report)
	}
	r.Groups = groups.List()
	return r, nil
}

func (o Options) output(input string) string {
	return filepath.Join(o.Folder, input+"."+string(o.Format))
}

func (o Options) setAsidePath(input string) string {
	return filepath.Join(o.Folder, setaside.FileName(input, o.file))
}

// collisions are inputs that would be written to the same file, on some file system at least.
func (o Options) collisions(inputs []*Input) (problems []fault.Problem) {
	of := map[string]string{}
	for _, in := range inputs {
		for _, path := range []string{o.output(in.Name), o.setAsidePath(in.Name)} {
			low := strings.ToLower(path)
			if other, taken := of[low]; taken && other != in.Name {
				problems = append(problems, fault.Problem{File: path,
					What: fmt.Sprintf("the inputs %s and %s would both be written to this file", other, in.Name),
					Do:   "rename one of them in the ladle file"})
			}
			of[low] = in.Name
		}
	}
	return problems
}

// mayWrite refuses to write over a file of an input, and over others unless that is said.
func mayWrite(f *ladlefile.File, inputs []*Input, o Options) error {
	if err := os.MkdirAll(o.Folder, 0o777); err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: o.Folder,
			What: "the folder can't be created: " + fault.OfSystem(err)})
	}
	problems := o.collisions(inputs)
	for _, in := range inputs {
		path := o.output(in.Name)
		there, err := os.Stat(path)
		if err != nil {
			continue
		}
		same := func(p string) bool { i, err := os.Stat(p); return err == nil && os.SameFile(i, there) }
		isInput := slices.ContainsFunc(inputs, func(x *Input) bool {
			return slices.ContainsFunc(x.Table.Files(), func(f source.File) bool { return same(f.Path) })
		})
		switch {
		case isInput || same(f.Path):
			problems = append(problems, fault.Problem{File: path,
				What: "this is one of the input files, so it can't be replaced", Do: "give another folder"})
		case !o.Replace:
			problems = append(problems, fault.Problem{File: path, What: "the file exists already",
				Do: "give another folder", Hint: fault.Replace})
		}
	}
	if problems != nil {
		return fault.At(fault.Wrong, problems...)
	}
	return nil
}

// inputWriter is the preparation of one input.
type inputWriter struct {
	*Input
	Options
	selection
	report   InputReport
	read     chunks
	problems *spool.Problems
	setAside spool.RowSet
}

// chunks are the lines that were read, chunk by chunk.
type chunks struct {
	origins []source.Origin
	firsts  []int64 // the number of the first line of each
	lines   int64
}

func (c *chunks) add(o source.Origin, lines int64) {
	c.origins, c.firsts = append(c.origins, o), append(c.firsts, c.lines)
	c.lines += lines
}

// Batches is the number of chunks.
func (c *chunks) Batches() int { return len(c.origins) }

// Origin is where a chunk stands in its file.
func (c *chunks) Origin(i int) source.Origin { return c.origins[i] }

// Span returns the number of the first line of a chunk, and how many it has.
func (c *chunks) Span(i int) (first int64, n int) {
	end := c.lines
	if i+1 < len(c.firsts) {
		end = c.firsts[i+1]
	}
	return c.firsts[i], int(end - c.firsts[i])
}

// sink takes prepared rows.
type sink interface {
	row(cells []cell) error
	finish() error
}

// cell is a prepared cell in its canonical text.
type cell struct {
	text []byte
	form formula.Kind // of one that is not blank
}

// chunkResult is what becomes of a chunk.
type chunkResult struct {
	text     []byte // of the cells, one row behind the other
	ends     []int
	forms    []formula.Kind
	lines    int64 // in all
	leftOut  int64
	problems []spool.Problem // of lines that are set aside, by their numbers in the chunk
}

func (w *inputWriter) run(ctx context.Context, groups *setaside.Groups) error {
	w.report = InputReport{Input: w.Name, Files: setaside.FileNames(w.Table), Output: w.output(w.Name),
		Notes: []string{}}
	w.problems = spool.NewProblems("")
	defer w.problems.Close()
	t, err := w.Recipe.Gather(ctx, w.Table, w.told(w.Progress))
	if err != nil {
		return err
	}
	f, err := whole.Create(w.report.Output)
	if err != nil {
		return w.failed(w.Folder, err)
	}
	defer f.Discard()
	if err := w.write(ctx, t, f.File); err != nil {
		return err
	}
	if err := f.Finish(); err != nil {
		return w.failed(w.report.Output, err)
	}
	w.report.Notes = append(w.report.Notes, w.kept.Said(false)...)
	if err := w.placeSetAside(groups); err != nil {
		return err
	}
	if err := f.Place(); err != nil {
		return w.failed(w.report.Output, err)
	}
	return nil
}

func (w *inputWriter) failed(path string, err error) error {
	var known *fault.Fault
	if errors.As(err, &known) {
		return err
	}
	return fault.Because(fault.Failed, err, fault.Problem{File: path,
		What: "the prepared file can't be written: " + fault.OfSystem(err),
		Do:   "check the folder's permissions and free disk space"})
}

// write writes all good rows to a file.
func (w *inputWriter) write(ctx context.Context, t source.Table, to *os.File) error {
	var out sink
	var err error
	if w.Format == XLSX {
		out, err = newWorkbook(to, w.Name, w.names)
	} else {
		out, err = newText(to, w.names, &w.report.Guarded)
	}
	if err != nil {
		return w.failed(w.report.Output, err)
	}
	row := make([]cell, len(w.Recipe.Names()))
	work := func(c *source.Chunk) *chunkResult {
		c.Seal()
		return w.chunk(t, c)
	}
	err = source.Each(ctx, t, work, func(c *source.Chunk, p *chunkResult) error {
		if w.Progress != nil {
			w.Progress(w.Name, c.Origin.Done, w.Table.Size())
		}
		if err := w.rows(out, row, p); err != nil {
			return w.failed(w.report.Output, err)
		}
		return w.note(c.Origin, p)
	})
	if err == nil {
		if err = out.finish(); err != nil {
			err = w.failed(w.report.Output, err)
		}
	}
	return err
}

// rows writes the rows of a chunk, with the memory of row.
func (w *inputWriter) rows(out sink, row []cell, p *chunkResult) error {
	start, width := 0, len(row)
	written := make([]cell, len(w.fields))
	for i, end := range p.ends {
		row[i%width] = cell{p.text[start:end], p.forms[i]}
		if start = end; i%width < width-1 {
			continue
		}
		for k, field := range w.fields {
			written[k] = row[field]
		}
		if err := out.row(written); err != nil {
			return err
		}
		w.report.Tally.Written++
	}
	return nil
}

// chunk cleans the lines of a chunk.
func (w *inputWriter) chunk(t source.Table, c *source.Chunk) *chunkResult {
	p, cells := &chunkResult{}, w.Recipe.NewCells()
	fields, width := len(t.Header().Names), len(w.Recipe.Names())
	cells.Begin(c)
	var r source.Record
	for ; c.Next(&r); p.lines++ {
		cells.Pass(&r)
		if r.Dropped {
			p.leftOut++
			continue
		}
		if why := source.Misshapen(&r, fields); why != nil {
			cells.Unread()
			p.problems = append(p.problems, spool.Problem{Row: p.lines, Column: spool.WholeLine, Why: *why})
			continue
		}
		if !cells.Clean(&r) {
			p.leftOut++
			continue
		}
		if bad := cells.Bad(); bad != nil {
			for _, b := range bad {
				p.problems = append(p.problems, spool.Problem{Row: p.lines, Column: b.Column, Cell: b.Cell, Why: b.Why})
			}
			continue
		}
		for i := range width {
			var form formula.Kind
			p.text, form, _ = cells.Append(p.text, i)
			p.ends, p.forms = append(p.ends, len(p.text)), append(p.forms, form)
		}
	}
	return p
}

// note brings what was set aside and left out of a chunk into the report.
func (w *inputWriter) note(o source.Origin, p *chunkResult) error {
	for _, x := range p.problems {
		x.Row += w.read.lines
		w.setAside.Add(x.Row)
		if err := w.problems.Append(x); err != nil {
			return err
		}
	}
	w.read.add(o, p.lines)
	w.report.Tally.LeftOut += p.leftOut
	w.report.Tally.SetAside, w.report.Tally.Read = w.setAside.Len(), w.read.lines
	return nil
}

// placeSetAside writes the lines that were set aside into a file beside the prepared one.
func (w *inputWriter) placeSetAside(groups *setaside.Groups) (err error) {
	if w.report.Tally.SetAside == 0 {
		return nil
	}
	w.report.SetAsideFile = w.Options.setAsidePath(w.Name)
	l := &setaside.Lines{Input: w.Name, Table: w.Table, Original: w.Table, Read: &w.read, Set: w.setAside,
		Logs: []setaside.Log{setaside.FromCells(w.problems, w.Recipe.Name, w.Recipe.Field)}}
	w.report.Moved, err = l.Write(w.report.SetAsideFile, fmt.Sprintf("the others are in %s",
		filepath.Base(w.report.Output)), groups, nil)
	if err != nil {
		return w.failed(w.report.SetAsideFile, err)
	}
	return nil
}
