// Package prepare cleans the inputs of a ladle file and writes them to files, without a database.
package prepare

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/aside"
	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/formula"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
	"ladle/internal/core/whole"
)

// Options say what is written where.
type Options struct {
	Folder  string
	Format  Format
	Replace bool // files that are there
	Tell    func(what string, done, of int64)
}

// Format is that of the prepared files.
type Format string

const (
	CSV  Format = "csv"
	XLSX Format = "xlsx"
)

// Report is the account of a preparation.
type Report struct {
	LadleFile string        `json:"ladle_file"`
	Inputs    []InputReport `json:"inputs"`
	Groups    []aside.Group `json:"groups,omitempty"` // why rows are set aside
}

// InputReport is the account of an input: Read is the sum of Written, LeftOut and SetAside.
type InputReport struct {
	Input        string `json:"input"`
	Files        string `json:"files"`
	Read         int64  `json:"read"`
	Written      int64  `json:"written"`
	LeftOut      int64  `json:"left_out"`
	SetAside     int64  `json:"set_aside"`
	Output       string `json:"output"`
	SetAsideFile string `json:"set_aside_file,omitempty"`
	Moved        string `json:"moved,omitempty"`   // where an edited set-aside file went
	Guarded      int64  `json:"guarded,omitempty"` // cells with an apostrophe put before them, so that nothing runs them as a formula
}

// SetAside is the number of rows that were set aside.
func (r *Report) SetAside() (n int64) {
	for _, in := range r.Inputs {
		n += in.SetAside
	}
	return n
}

// Input is an input of a ladle file, opened, with what is done to it.
type Input struct {
	Name   string
	Table  source.Table
	Recipe *clean.Recipe
}

// Open opens the inputs of a ladle file.
func Open(f *ladlefile.File) ([]*Input, error) {
	var all []*Input
	var failed []error
	for _, in := range f.Inputs {
		t, err := source.Open(in.Paths, in.Asked)
		if err != nil {
			failed = append(failed, err)
			continue
		}
		recipe, err := in.Recipe(f.Path, t.Header())
		all, failed = append(all, &Input{in.Name.Value, t, recipe}), append(failed, err)
	}
	if err := errors.Join(failed...); err != nil {
		Close(all)
		return nil, source.Together(err)
	}
	return all, nil
}

// Close closes inputs.
func Close(all []*Input) {
	for _, in := range all {
		in.Table.Close()
	}
}

// Cleaned gives the rows of inputs as the ladle file cleans them.
func Cleaned(ctx context.Context, all []*Input, tell func(what string, done, of int64)) ([]source.Table, error) {
	var tables []source.Table
	for _, in := range all {
		t, err := in.Recipe.Gather(ctx, in.Table, in.told(tell))
		if err != nil {
			return nil, err
		}
		tables = append(tables, in.Recipe.Table(t))
	}
	return tables, nil
}

func (in *Input) told(tell func(string, int64, int64)) func(int64) {
	if tell == nil {
		return nil
	}
	return func(done int64) { tell(in.Name, done, in.Table.Size()) }
}

// Run writes the cleaned rows of all inputs of f into a folder, and beside them those that are set aside. Each file is
// there whole or not at all. The error is a *fault.Fault or of the context.
func Run(ctx context.Context, f *ladlefile.File, o Options) (*Report, error) {
	inputs, err := Open(f)
	if err != nil {
		return nil, err
	}
	defer Close(inputs)
	if err := mayWrite(f, inputs, o); err != nil {
		return nil, err
	}
	r := &Report{LadleFile: f.Path}
	var groups aside.Groups
	for _, in := range inputs {
		w := &writing{Input: in, Options: o, groups: &groups, log: spool.NewLog("")}
		if err := w.run(ctx); err != nil {
			return nil, errors.Join(err, w.log.Close())
		}
		if err := w.log.Close(); err != nil {
			return nil, err
		}
		r.Inputs = append(r.Inputs, w.report)
	}
	r.Groups = groups.List()
	return r, nil
}

func (o Options) output(input string) string {
	return filepath.Join(o.Folder, input+"."+string(o.Format))
}

// mayWrite refuses to write over a file of an input, and over others unless that is said.
func mayWrite(f *ladlefile.File, inputs []*Input, o Options) error {
	if err := os.MkdirAll(o.Folder, 0o755); err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: o.Folder, What: "the folder can't be made: " + err.Error()})
	}
	var problems []fault.Problem
	for _, in := range inputs {
		path := o.output(in.Name)
		there, err := os.Stat(path)
		if err != nil {
			continue
		}
		same := func(p string) bool { i, err := os.Stat(p); return err == nil && os.SameFile(i, there) }
		isInput := slices.ContainsFunc(inputs, func(x *Input) bool {
			return slices.ContainsFunc(x.Table.Files(), func(m *source.Manner) bool { return same(m.Path) })
		})
		switch {
		case isInput || same(f.Path):
			problems = append(problems, fault.Problem{File: path, What: "this is a file that is read, so it can't be written over", Do: "give another folder with -o"})
		case !o.Replace:
			problems = append(problems, fault.Problem{File: path, What: "there is such a file already", Do: "give another folder with -o, or --replace"})
		}
	}
	if problems != nil {
		return fault.At(fault.Wrong, problems...)
	}
	return nil
}

// writing is the preparation of one input.
type writing struct {
	*Input
	Options
	report InputReport
	groups *aside.Groups
	log    *spool.Log // lines of the set-aside file
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

// prepared is what becomes of a chunk.
type prepared struct {
	text     []byte // of the cells, one row behind the other
	ends     []int
	forms    []formula.Kind
	leftOut  int64
	setAside []asideLine
}

type asideLine struct {
	place    string // in messages
	line     string // of the set-aside file
	problems []aside.Problem
}

func (w *writing) run(ctx context.Context) error {
	w.report = InputReport{Input: w.Name, Files: aside.FileNames(w.Table), Output: w.output(w.Name)}
	t, err := w.Recipe.Gather(ctx, w.Table, w.told(w.Tell))
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
	if err := w.placeAside(); err != nil {
		return err
	}
	if err := f.Place(); err != nil {
		return w.failed(w.report.Output, err)
	}
	return nil
}

func (w *writing) failed(path string, err error) error {
	var known *fault.Fault
	if errors.As(err, &known) {
		return err
	}
	return fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the prepared rows can't be written: " + err.Error(), Do: "check the folder, its rights and its room"})
}

// write writes all good rows to a file.
func (w *writing) write(ctx context.Context, t source.Table, to *os.File) error {
	names := w.Recipe.Names()
	var out sink
	var err error
	if w.Format == XLSX {
		out, err = newWorkbook(to, w.Name, names)
	} else {
		out, err = newText(to, names, &w.report.Guarded)
	}
	if err != nil {
		return w.failed(w.report.Output, err)
	}
	width := len(names)
	work := func(c *source.Chunk) *prepared { return w.chunk(t, c) }
	row := make([]cell, width)
	err = source.Each(ctx, t, work, func(c *source.Chunk, p *prepared) error {
		if w.Tell != nil {
			w.Tell(w.Name, c.Origin.Done, w.Table.Size())
		}
		start := 0
		for i, end := range p.ends {
			row[i%width] = cell{p.text[start:end], p.forms[i]}
			if start = end; i%width == width-1 {
				if err := out.row(row); err != nil {
					return w.failed(w.report.Output, err)
				}
				w.report.Written++
			}
		}
		return w.note(p)
	})
	if err == nil {
		if err = out.finish(); err != nil {
			err = w.failed(w.report.Output, err)
		}
	}
	return err
}

// chunk cleans the rows of a chunk.
func (w *writing) chunk(t source.Table, c *source.Chunk) *prepared {
	p, cells, dialect := &prepared{}, w.Recipe.NewCells(), source.DialectOf(t)
	fields, width := len(t.Header().Names), len(w.Recipe.Names())
	var r source.Record
	for c.Next(&r) {
		if why := source.Misshapen(&r, fields); why != "" {
			p.aside(t, dialect, &r, []aside.Problem{{Why: why}})
			continue
		}
		if !cells.Clean(&r) {
			p.leftOut++
			continue
		}
		if bad := cells.Bad(); bad != nil {
			p.aside(t, dialect, &r, w.problems(t, &r, bad))
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

func (w *writing) problems(t source.Table, r *source.Record, bad []clean.Blamed) (all []aside.Problem) {
	for _, b := range bad {
		p := aside.Problem{Column: w.Recipe.Name(b.Column), Cell: b.Cell, Why: b.Why}
		if f := w.Recipe.Field(b.Column); f >= 0 {
			p.At = source.CellName(t, r.Position, f)
		}
		all = append(all, p)
	}
	return all
}

func (p *prepared) aside(t source.Table, d source.Dialect, r *source.Record, problems []aside.Problem) {
	p.setAside = append(p.setAside, asideLine{place: source.SpotOf(t, r.Position).Short(), line: aside.Line(t, d, r, problems), problems: problems})
}

// note brings what was set aside and left out of a chunk into the report.
func (w *writing) note(p *prepared) error {
	w.report.LeftOut += p.leftOut
	w.report.SetAside += int64(len(p.setAside))
	w.report.Read = w.report.Written + w.report.LeftOut + w.report.SetAside
	for _, a := range p.setAside {
		for _, x := range a.problems {
			w.groups.Add(w.Name, x, a.place)
		}
		if err := w.log.Append(nil, []string{a.line}); err != nil {
			return err
		}
	}
	return nil
}

// placeAside writes the rows that were set aside into a file beside the prepared one.
func (w *writing) placeAside() error {
	if w.report.SetAside == 0 {
		return nil
	}
	sum, err := w.Table.Sum()
	if err != nil {
		return err
	}
	d := source.DialectOf(w.Table)
	w.report.SetAsideFile = filepath.Join(w.Folder, w.Name+".set-aside.csv")
	title := aside.Title(w.report.SetAside, aside.FileNames(w.Table), sum, fmt.Sprintf("the others are in %s", filepath.Base(w.report.Output)))
	w.report.Moved, err = aside.Place(w.report.SetAsideFile, title, d, func(out io.Writer) error {
		if _, err := io.WriteString(out, aside.Head(d, w.Table.Header())); err != nil {
			return err
		}
		var line [1]string
		for r := w.log.Reader(); ; {
			more, err := r.Next(nil, line[:])
			if err != nil || !more {
				return err
			}
			if _, err := io.WriteString(out, line[0]); err != nil {
				return err
			}
		}
	})
	if err != nil {
		return w.failed(w.report.SetAsideFile, err)
	}
	return nil
}

// runs tells whether a spreadsheet would run a text as a formula (OWASP, CSV injection). A number is none.
func runs(text []byte) bool {
	if len(text) == 0 || strings.IndexByte("=+-@\t\r", text[0]) < 0 {
		return false
	}
	_, err := value.ScanNumber(text)
	return err != nil
}
