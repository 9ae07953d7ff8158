package load

import (
	"io"
	"path/filepath"
	"slices"

	"ladle/internal/core/aside"
	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/source"
	"ladle/internal/core/spool"
)

// placeAside writes the set-aside file of each input that has lines set aside; loaded says whether the other lines
// are in the database. A file is there whole or not at all.
func (r *run) placeAside(j *judgement, loaded bool) error {
	r.report.SetAside, r.groups = nil, aside.Groups{}
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
	r.report.Groups = r.groups.List()
	return nil
}

func (r *run) placeFile(j *judgement, feed int, in *InputReport, loaded bool) error {
	others := "NOT LOADED: nothing was changed"
	if loaded {
		others = "the others are loaded"
	}
	t := r.sources[feed]
	sum, err := r.originals[feed].Sum()
	if err != nil {
		return err
	}
	moved, err := aside.Place(in.SetAsideFile, aside.Title(in.SetAside, aside.FileNames(t), sum, others), source.DialectOf(t),
		func(out io.Writer) error { return r.writeAside(j, feed, out) })
	if in.Moved == "" {
		in.Moved = moved
	}
	return err
}

// writeAside writes the header, then each line as it stands in its file behind its number and the reasons.
func (r *run) writeAside(j *judgement, feed int, out io.Writer) error {
	reasons, err := r.reasons(j, feed)
	if err != nil {
		return err
	}
	table := r.sources[feed]
	d := source.DialectOf(table)
	if _, err := io.WriteString(out, aside.Head(d, r.plan.Feeds[feed].Header)); err != nil {
		return err
	}
	input := r.plan.Feeds[feed].Input.Name.Value
	return r.eachAside(j, feed, func(row int64, record *source.Record) error {
		problems, err := reasons.of(row, func(field int) string { return source.CellName(table, record.Position, field) })
		if err != nil {
			return err
		}
		spot := source.SpotOf(table, record.Position)
		for _, p := range problems {
			r.groups.Add(input, p, spot.Short())
		}
		if len(r.report.SetAside) < shownAsides {
			r.report.SetAside = append(r.report.SetAside, AsideReport{File: spot.File, Line: spot.Line, Place: spot.Short(), Reasons: aside.Reasons(problems)})
		}
		_, err = io.WriteString(out, aside.Line(table, d, record, problems))
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
	r.cell, r.why = texts[0], texts[1]
	if numbers[1] != clean.WholeRow {
		r.name, r.field = r.label(int(numbers[1]))
	}
	return nil
}

// problem is what is wrong; at names the cell of a field where cells have names.
func (r *reasonReader) problem(at func(field int) string) aside.Problem {
	p := aside.Problem{Column: r.name, Cell: r.cell, Why: r.why}
	if r.field >= 0 {
		p.At = at(r.field)
	}
	return p
}

// of lists the reasons of a row; rows are asked for in ascending order. at names the cell of a field in it.
func (r *reasons) of(row int64, at func(field int) string) ([]aside.Problem, error) {
	var all []aside.Problem
	for _, reader := range r.readers {
		for !reader.ended && reader.row <= row {
			if p := reader.problem(at); reader.row == row && !slices.Contains(all, p) {
				all = append(all, p)
			}
			if err := reader.next(); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}
